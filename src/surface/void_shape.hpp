// Voids as lists of cells: their forms, their rims, how deep a cell lies in them.
#pragma once
#include <vector>

#include "katoptra/surface/fill.hpp"

#include "membrane.hpp"

namespace katoptra {

// How a void is closed.
enum class Treatment : std::uint8_t { Leave, Mean, Distance, Membrane, Second, Smooth, Tin };
// It is solved for a whole void at once.
constexpr bool is_solved_whole(Treatment t) {
  return t == Treatment::Membrane || t == Treatment::Second || t == Treatment::Smooth || t == Treatment::Tin;
}

// The regions of a map, and where the cells of each stand in its list: those of a void in the order of its rows.
class VoidCells {
 public:
  explicit VoidCells(const VoidMap& map);
  const VoidMap& map() const { return map_; }
  // Calls body(run, number of its first cell within its region) for the runs of a row that meet [first, last).
  template <class Body>
  void for_runs(std::int64_t row, std::int64_t first, std::int64_t last, const Body& body) const {
    const std::size_t begin = map_.row_begin[static_cast<std::size_t>(row)],
                      end = map_.row_begin[static_cast<std::size_t>(row) + 1];
    const auto at = map_.runs.begin();
    const auto it = std::partition_point(at + static_cast<std::ptrdiff_t>(begin), at + static_cast<std::ptrdiff_t>(end),
                                         [&](const VoidRun& run) { return run.last <= first; });
    for (auto i = static_cast<std::size_t>(it - at); i < end && map_.runs[i].first < last; ++i)
      body(map_.runs[i], static_cast<std::size_t>(before_[i]));
  }
  // Cells and rim; `rows`, `cols`: of the grid, beyond which there is no rim.
  VoidShape shape_of(std::uint32_t region, std::int64_t cols, std::int64_t rows, double aspect) const;
  // The rim alone, for voids of any size.
  std::vector<VoidShape::Cell> rim_of(std::uint32_t region, std::int64_t cols, std::int64_t rows) const;

 private:
  template <class OfVoid, class OfRim>
  void walk(std::uint32_t region, std::int64_t cols, std::int64_t rows, const OfVoid& of_void,
            const OfRim& of_rim) const;

  const VoidMap& map_;
  std::vector<std::uint32_t> before_;
};

// Of each cell, how many steps (over corners, too) it lies from the rim: 1 beside it.
std::vector<std::uint16_t> depths_of(const VoidShape& shape);

}  // namespace katoptra
