// Many values of a grid at places near one another: blocks are read once a batch.
#pragma once
#include <cmath>
#include <cstdint>
#include <unordered_map>

#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/turn.hpp"

#include "grid/bilinear.hpp"

namespace katoptra {

class GridSampler {
 public:
  // On a grid around the globe the neighbours beside the meridian where it is cut lie at its other end.
  explicit GridSampler(const Grid& grid, InVoid rule = InVoid::TakesNeighbours)
      : grid_(columns_of_globe(grid.frame()) > 0 ? continued_around(grid, 1) : grid), rule_(rule) {}
  double at(double x, double y) {
    const Frame& f = grid_.frame();
    const double c = f.col_at(f.told_here(x)), r = f.row_at(y);
    if (!(c > -1.5 && r > -1.5 && c < static_cast<double>(f.cols()) + 1.5 && r < static_cast<double>(f.rows()) + 1.5))
      return std::nan("");
    // The last edge belongs to the last cell.
    const auto inside = [](double v, std::int64_t n) {
      return v == static_cast<double>(n) ? std::nextafter(v, 0.0) : v;
    };
    return bilinear(
        inside(c, f.cols()), inside(r, f.rows()), [this](std::int64_t i, std::int64_t j) { return cell(i, j); }, rule_);
  }
  float cell_at(double x, double y) {
    const Frame& f = grid_.frame();
    return cell(static_cast<std::int64_t>(std::floor(f.col_at(x))), static_cast<std::int64_t>(std::floor(f.row_at(y))));
  }
  float cell(std::int64_t c, std::int64_t r) {
    const Frame& f = grid_.frame();
    if (c < 0 || r < 0 || c >= f.cols() || r >= f.rows()) return kVoid;
    const std::int64_t key = (r / kEdge) << 32 | c / kEdge;
    if (key != last_key_) {
      auto it = blocks_.find(key);
      if (it == blocks_.end()) {
        if (blocks_.size() > kMost) blocks_.clear();
        const Window w = Window{c / kEdge * kEdge, r / kEdge * kEdge, kEdge, kEdge}.intersected(f.window());
        it = blocks_.emplace(key, grid_.read(w)).first;
      }
      last_key_ = key;
      last_ = &it->second;
    }
    return last_->at(c - last_->window().col, r - last_->window().row);
  }

 private:
  static constexpr std::int64_t kEdge = 128;
  static constexpr std::size_t kMost = 256;
  Grid grid_;
  InVoid rule_;
  std::unordered_map<std::int64_t, Block> blocks_;
  std::int64_t last_key_ = -1;
  const Block* last_ = nullptr;
};

}  // namespace katoptra
