// Many values of a grid at places near one another: blocks are read once a batch.
#pragma once
#include <cmath>
#include <cstdint>
#include <unordered_map>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

class GridSampler {
 public:
  explicit GridSampler(Grid grid) : grid_(std::move(grid)) {}
  // Bilinear between the four cells around; of those that are void the others take the share. NaN where all are.
  double at(double x, double y) {
    const Frame& f = grid_.frame();
    const double c = f.col_at(x) - 0.5, r = f.row_at(y) - 0.5;
    if (!(c > -2 && r > -2 && c < static_cast<double>(f.cols()) + 1 && r < static_cast<double>(f.rows()) + 1))
      return std::nan("");
    const auto c0 = static_cast<std::int64_t>(std::floor(c)), r0 = static_cast<std::int64_t>(std::floor(r));
    const double u = c - static_cast<double>(c0), v = r - static_cast<double>(r0);
    double sum = 0, weight = 0;
    for (int k = 0; k < 4; ++k) {
      const double w = (k & 1 ? u : 1 - u) * (k & 2 ? v : 1 - v);
      const float z = cell(c0 + (k & 1), r0 + (k >> 1));
      if (std::isnan(z) || w <= 0) continue;
      sum += w * z;
      weight += w;
    }
    return weight > 0 ? sum / weight : std::nan("");
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
  std::unordered_map<std::int64_t, Block> blocks_;
  std::int64_t last_key_ = -1;
  const Block* last_ = nullptr;
};

}  // namespace katoptra
