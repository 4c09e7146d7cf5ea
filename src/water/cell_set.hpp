// Sets of cells as runs of rows, and grids read there.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "outline.hpp"

namespace katoptra {

// Runs in order, none touching the next in its row. Cells are numbered in that order.
class CellSet {
 public:
  CellSet() = default;
  explicit CellSet(std::vector<CellRun> runs);
  const std::vector<CellRun>& runs() const { return runs_; }
  std::size_t count() const { return before_.empty() ? 0 : before_.back(); }
  bool empty() const { return runs_.empty(); }
  // The number of the first cell of a run.
  std::size_t number_of_run(std::size_t run) const { return before_[run]; }
  // The first run of that row or a later one that ends behind `col`.
  std::size_t first_run(std::int64_t row, std::int64_t col) const;
  // The number of a cell; -1 when it is not in the set.
  std::int64_t number(std::int64_t col, std::int64_t row) const;
  bool holds(std::int64_t col, std::int64_t row) const { return number(col, row) >= 0; }
  const Window& box() const { return box_; }

  // Calls body(run, number of its first cell) for the parts of runs within a window.
  template <class Body>
  void within(const Window& w, const Body& body) const {
    for (std::size_t i = first_run(w.row, w.col); i < runs_.size() && runs_[i].row < w.row + w.rows; ++i) {
      const std::int64_t first = std::max<std::int64_t>(runs_[i].first, w.col),
                         last = std::min<std::int64_t>(runs_[i].last, w.col + w.cols);
      if (first < last)
        body(CellRun(runs_[i].row, first, last), before_[i] + static_cast<std::size_t>(first - runs_[i].first));
    }
  }

 private:
  std::vector<CellRun> runs_;
  std::vector<std::size_t> before_;  // one more than there are runs
  Window box_;
};

// Runs in any order, overlapping or not, as a CellSet takes them.
std::vector<CellRun> joined(std::vector<CellRun> runs);
// Cells of `a` that are not in `b`.
CellSet without(const CellSet& a, const CellSet& b);
// Cells outside the set, within the frame, that share a side with one of it.
CellSet rim_of(const CellSet& set, const Frame& frame);

// Cells all four neighbours of which are in the set, too.
CellSet inner(const CellSet& set);

// Calls body(block, run, number of its first cell) for all cells of a set, in order; blocks are bands of its box that
// are read with `halo` more cells around (voids beyond the grid).
template <class Body>
void read_cells(const Grid& grid, const CellSet& set, Planes planes, std::int64_t halo, const Body& body) {
  constexpr std::int64_t kCellsAtOnce = std::int64_t{1} << 21;
  const Window box = set.box();
  const std::int64_t rows = std::max<std::int64_t>(1, kCellsAtOnce / std::max<std::int64_t>(1, box.cols));
  for (std::int64_t row = 0; row < box.rows; row += rows) {
    const Window band{box.col, box.row + row, box.cols, std::min(rows, box.rows - row)};
    const Block block = grid.read(band.grown(halo), planes);
    set.within(band, [&](const CellRun& run, std::size_t number) { body(block, run, number); });
  }
}

// Of a large set so many cells are enough to know its level by.
std::size_t sampling_of(const CellSet& set);
// Calls take(height, uncertainty) for every so many-th cell of a set, unless it is void; `uncertainty` is NaN when it
// is not known or not among the planes.
template <class Take>
void sample_heights(const Grid& grid, const CellSet& set, Planes planes, const Take& take) {
  const std::size_t every = sampling_of(set);
  read_cells(grid, set, planes, 0, [&](const Block& block, const CellRun& run, std::size_t number) {
    const Window& w = block.window();
    const float* z = block.row(run.row - w.row) + (run.first - w.col);
    const float* u = block.uncertainty_row(run.row - w.row);
    for (std::size_t i = (every - number % every) % every; i < static_cast<std::size_t>(run.last - run.first);
         i += every)
      if (!std::isnan(z[i]))
        take(static_cast<double>(z[i]),
             u ? static_cast<double>(u[static_cast<std::size_t>(run.first - w.col) + i]) : std::nan(""));
  });
}

// Values of all cells of a set, by their numbers.
std::vector<float> values_of(const Grid& grid, const CellSet& set);

}  // namespace katoptra
