// The membrane over a void: heights that meet its rim and are, at every cell, the mean of those around (Laplace's
// equation). Where a void reaches the edge of the grid the membrane ends level there.
#pragma once
#include <algorithm>
#include <cstdint>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// A void as a list of its cells in the order of rows, and of the known cells that touch it (also over corners).
struct VoidShape {
  struct Cell {
    std::int32_t col = 0, row = 0;  // within the box of the void grown by one, whose first cell is (0, 0)
    auto operator<=>(const Cell&) const = default;
  };
  std::vector<Cell> cells, rim;
  double aspect = 1;  // how much wider a cell is on the ground than it is high
};

// Numbers of cells in a list; -1 for those that are not in it. Where cells fill much of their box, by a raster of it.
class CellNumbers {
 public:
  explicit CellNumbers(const std::vector<VoidShape::Cell>& cells) {
    if (cells.empty()) return;
    VoidShape::Cell last = first_ = cells[0];
    for (const VoidShape::Cell& c : cells) {
      first_ = {std::min(first_.col, c.col), std::min(first_.row, c.row)};
      last = {std::max(last.col, c.col), std::max(last.row, c.row)};
    }
    cols_ = last.col - first_.col + 1;
    rows_ = last.row - first_.row + 1;
    const auto box = static_cast<std::size_t>(std::int64_t{cols_} * rows_);
    if (box <= 16 * cells.size() + 4096) {
      raster_.assign(box, -1);
      for (std::size_t i = 0; i < cells.size(); ++i) raster_[place(cells[i])] = static_cast<std::int32_t>(i);
      return;
    }
    for (std::size_t i = 0; i < cells.size(); ++i) order_.push_back({key(cells[i]), static_cast<std::int32_t>(i)});
    if (!std::is_sorted(order_.begin(), order_.end())) std::sort(order_.begin(), order_.end());
  }
  std::int32_t of(VoidShape::Cell c) const {
    if (c.col < first_.col || c.row < first_.row || c.col >= first_.col + cols_ || c.row >= first_.row + rows_)
      return -1;
    if (!raster_.empty()) return raster_[place(c)];
    const auto it = std::lower_bound(order_.begin(), order_.end(), std::pair{key(c), std::int32_t{-1}});
    return it != order_.end() && it->first == key(c) ? it->second : -1;
  }

 private:
  std::size_t place(VoidShape::Cell c) const {
    return static_cast<std::size_t>(std::int64_t{c.row - first_.row} * cols_ + c.col - first_.col);
  }
  static std::int64_t key(VoidShape::Cell c) { return (std::int64_t{c.row} << 32) + c.col; }
  VoidShape::Cell first_;
  std::int32_t cols_ = 0, rows_ = 0;
  std::vector<std::int32_t> raster_;
  std::vector<std::pair<std::int64_t, std::int32_t>> order_;
};

// Solves for many sets of rim heights over one shape. Conjugate gradients, preconditioned by a hierarchy of graphs in
// which four cells become one (aggregation; Notay 2010): some twenty rounds whatever the size and form of the void.
class Membrane {
 public:
  explicit Membrane(const VoidShape& shape);
  // Heights of the cells in their order; `rim`: those of the rim in its order, NaN where one is not to be met. They
  // differ from the exact membrane by less than kTolerance of the range of the rim. NaN where nothing of the rim is
  // known.
  std::vector<float> over(const std::vector<float>& rim) const;
  static constexpr double kTolerance = 1e-5;

 private:
  using Diagonals = std::vector<std::vector<double>>;  // of each level
  // The hierarchy with the pull of the known cells of a rim, and about the inverse of its level `k` applied to `r`,
  // symmetric in it.
  Diagonals with_pull(const std::vector<float>& rim) const;
  void precondition(const Diagonals& diagonals, std::size_t k, const std::vector<double>& r,
                    std::vector<double>& x) const;
  // Unknowns that are joined by links. The pull of the rim comes to the diagonal when a rim is given.
  struct Level {
    std::vector<std::int32_t> begin, to;  // links of unknown i: [begin[i], begin[i + 1])
    std::vector<double> weight;
    std::vector<double> diagonal;
    std::vector<std::int32_t> parent;  // in the next level
  };
  struct Link {
    std::int32_t cell, rim;
    double weight;
  };
  void coarsen(const std::vector<VoidShape::Cell>& cells);
  static void multiply(const Level& l, const std::vector<double>& diagonal, const std::vector<double>& x,
                       std::vector<double>& out);

  std::vector<Level> levels_;
  std::vector<Link> links_;  // of cells to the rim
  std::size_t rim_cells_ = 0;
};

}  // namespace katoptra
