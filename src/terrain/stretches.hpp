// How many cells a metre on the ground is, for kernels that reach far: taken once for stretches of kStretch columns
// that begin at multiples of it, wherever a window begins, so that a cell has the same one in every window.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr std::int64_t kStretch = 256;

struct CellsPerMetre {
  double across = 0, down = 0;
};

class Stretches {
 public:
  Stretches(const Frame& frame, const GroundRuler& ruler, const Window& w) : window_(w), first_(floored(w.col)) {
    count_ = (w.col + w.cols - first_ + kStretch - 1) / kStretch;
    std::vector<Point> middles;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t s = 0; s < count_; ++s)
        middles.push_back(
            frame.centre(static_cast<double>(first_ + s * kStretch + kStretch / 2), static_cast<double>(w.row + r)));
    std::vector<GroundScale> scales(middles.size());
    ruler.at(middles, scales);
    for (const GroundScale& s : scales) reaches_.push_back({1 / (s.x * frame.cell().x), 1 / (s.y * frame.cell().y)});
  }

  std::int64_t count() const { return count_; }
  // Columns [from, end) of the window that stretch `s` covers.
  std::int64_t from(std::int64_t s) const { return std::max<std::int64_t>(first_ + s * kStretch - window_.col, 0); }
  std::int64_t end(std::int64_t s) const { return std::min(first_ + (s + 1) * kStretch - window_.col, window_.cols); }
  const CellsPerMetre& at(std::int64_t row, std::int64_t s) const {
    return reaches_[static_cast<std::size_t>(row * count_ + s)];
  }
  CellsPerMetre most() const {
    CellsPerMetre m;
    for (const CellsPerMetre& r : reaches_) m = {std::max(m.across, r.across), std::max(m.down, r.down)};
    return m;
  }

 private:
  static std::int64_t floored(std::int64_t col) {
    return (col >= 0 ? col / kStretch : -((-col + kStretch - 1) / kStretch)) * kStretch;
  }

  Window window_;
  std::int64_t first_, count_ = 0;
  std::vector<CellsPerMetre> reaches_;
};

}  // namespace katoptra
