// Ground distances for kernels: what turns differences between neighbouring cells into gradients, for every cell of a
// window. A cell has the same factor in every window.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Factors that change evenly along a row: k0 + i * step, where `i` counts from the node on the left, so that a cell has
// the same factor in every window.
struct Ramp {
  float k0 = 0, step = 0;
  float at(std::int32_t i) const { return k0 + static_cast<float>(i) * step; }
};
// Cells [first, end) of a row of the window, `from` cells beyond their node.
struct ScaleRun {
  std::int64_t first = 0, end = 0;
  std::int32_t from = 0;
  Ramp x, y;
};

// The factors that turn Horn's sums into gradients, for every cell of a row: vertical unit / (8 x ground distance).
class ScaleField {
 public:
  // `step`: cells between nodes (scale_step).
  ScaleField(const Frame& frame, const GroundRuler& ruler, std::int64_t step, double vertical, const Window& w)
      : frame_(frame), step_(step), vertical_(vertical), window_(w) {
    col0_ = floor_div(w.col);
    row0_ = floor_div(w.row);
    across_ = floor_div(w.col + w.cols - 1) - col0_ + 2;
    down_ = floor_div(w.row + w.rows - 1) - row0_ + 2;
    rows_exact_ = frame.crs().is_geographic();
    std::vector<Point> points;
    if (rows_exact_) {
      for (std::int64_t r = 0; r < w.rows; ++r) points.push_back(frame.centre(0, static_cast<double>(w.row + r)));
    } else {
      for (std::int64_t r = 0; r < down_; ++r)
        for (std::int64_t c = 0; c < across_; ++c)
          points.push_back(
              frame.centre(static_cast<double>((col0_ + c) * step_), static_cast<double>((row0_ + r) * step_)));
    }
    std::vector<GroundScale> scales(points.size());
    ruler.at(points, scales);
    for (const GroundScale& s : scales) {
      x_.push_back(factor(s.x, frame.cell().x));
      y_.push_back(factor(s.y, frame.cell().y));
    }
  }

  // The run of row `r` that begins at column `c` of the window.
  ScaleRun run(std::int64_t r, std::int64_t c) const {
    if (rows_exact_) {
      const auto i = static_cast<std::size_t>(r);
      return {c, window_.cols, 0, {x_[i], 0}, {y_[i], 0}};
    }
    const std::int64_t row = window_.row + r, node_row = floor_div(row) - row0_, col = window_.col + c,
                       node_col = floor_div(col) - col0_, first = (node_col + col0_) * step_ - window_.col;
    const float v = static_cast<float>(row - (node_row + row0_) * step_) / static_cast<float>(step_);
    const auto node = static_cast<std::size_t>(node_row * across_ + node_col),
               below = node + static_cast<std::size_t>(across_);
    const auto ramp = [&](const std::vector<float>& k) {
      const float k0 = k[node] + v * (k[below] - k[node]), k1 = k[node + 1] + v * (k[below + 1] - k[node + 1]);
      return Ramp{k0, (k1 - k0) / static_cast<float>(step_)};
    };
    return {c, std::min(window_.cols, first + step_), static_cast<std::int32_t>(c - first), ramp(x_), ramp(y_)};
  }

 private:
  std::int64_t floor_div(std::int64_t v) const { return v >= 0 ? v / step_ : -((-v + step_ - 1) / step_); }
  float factor(double scale, double cell) const { return static_cast<float>(vertical_ / (8 * scale * cell)); }

  Frame frame_;
  std::int64_t step_;
  double vertical_;
  Window window_;
  bool rows_exact_ = false;
  std::int64_t col0_ = 0, row0_ = 0, across_ = 0, down_ = 0;
  std::vector<float> x_, y_;  // factors at the nodes, or of the rows
};

}  // namespace katoptra
