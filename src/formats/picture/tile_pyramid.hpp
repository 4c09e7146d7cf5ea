// A picture in tiles: as it is, and each level half as fine as the one before, made in one pass over its rows.
#pragma once
#include <algorithm>
#include <cstdint>
#include <functional>
#include <vector>

#include "katoptra/grid/image.hpp"

namespace katoptra {

class TilePyramid {
 public:
  struct Level {
    std::int64_t cols = 0, rows = 0;    // pixels
    std::int64_t across = 0, down = 0;  // tiles
  };
  // Whole tiles of `edge` pixels; what lies beyond the picture is clear. From the north, row by row.
  using Take = std::function<void(std::size_t level, std::int64_t col, std::int64_t row, const Pixels& tile)>;

  TilePyramid(std::int64_t cols, std::int64_t rows, std::int64_t edge, Take take)
      : edge_(edge), take_(std::move(take)) {
    for (;;) {
      levels_.push_back({cols, rows, (cols + edge - 1) / edge, (rows + edge - 1) / edge});
      bands_.push_back({});
      if (cols <= edge && rows <= edge) return;
      cols = (cols + 1) / 2;
      rows = (rows + 1) / 2;
    }
  }
  const std::vector<Level>& levels() const { return levels_; }
  void add(const Pixels& rows) { add(0, rows); }

 private:
  struct Band {
    Pixels pixels;          // rows that are not yet in tiles
    std::int64_t done = 0;  // rows before them
  };

  void add(std::size_t which, const Pixels& rows) {
    const Level& l = levels_[which];
    Band& b = bands_[which];
    b.pixels.insert(b.pixels.end(), rows.begin(), rows.end());
    const auto stride = static_cast<std::size_t>(l.cols) * 4;
    for (;;) {
      const auto here = static_cast<std::int64_t>(b.pixels.size() / stride), wanted = std::min(edge_, l.rows - b.done);
      if (wanted <= 0 || here < wanted) return;
      for (std::int64_t t = 0; t < l.across; ++t) take_(which, t, b.done / edge_, tile_of(l, b.pixels, t, wanted));
      if (which + 1 < levels_.size()) add(which + 1, halved(b.pixels, l.cols, wanted));
      b.done += wanted;
      b.pixels.erase(b.pixels.begin(), b.pixels.begin() + static_cast<std::ptrdiff_t>(stride) * wanted);
    }
  }
  Pixels tile_of(const Level& l, const Pixels& band, std::int64_t tile, std::int64_t rows) const {
    Pixels out(static_cast<std::size_t>(edge_ * edge_) * 4);
    const std::int64_t first = tile * edge_, n = std::min(edge_, l.cols - first);
    for (std::int64_t r = 0; r < rows; ++r)
      std::copy_n(band.begin() + (r * l.cols + first) * 4, n * 4, out.begin() + r * edge_ * 4);
    return out;
  }
  // Four pixels become one, each counting as far as it is opaque; at the end of an odd number the last counts twice.
  static Pixels halved(const Pixels& band, std::int64_t cols, std::int64_t rows) {
    const std::int64_t w = (cols + 1) / 2, h = (rows + 1) / 2;
    Pixels out(static_cast<std::size_t>(w * h) * 4);
    for (std::int64_t r = 0; r < h; ++r)
      for (std::int64_t c = 0; c < w; ++c) {
        unsigned sum[4] = {};
        for (const std::int64_t y : {2 * r, std::min(2 * r + 1, rows - 1)})
          for (const std::int64_t x : {2 * c, std::min(2 * c + 1, cols - 1)}) {
            const std::uint8_t* p = band.data() + (y * cols + x) * 4;
            for (int j = 0; j < 3; ++j) sum[j] += static_cast<unsigned>(p[j]) * p[3];
            sum[3] += p[3];
          }
        std::uint8_t* to = out.data() + (r * w + c) * 4;
        for (int j = 0; j < 3; ++j) to[j] = static_cast<std::uint8_t>(sum[3] ? (sum[j] + sum[3] / 2) / sum[3] : 0);
        to[3] = static_cast<std::uint8_t>((sum[3] + 2) / 4);
      }
    return out;
  }

  std::int64_t edge_;
  Take take_;
  std::vector<Level> levels_;
  std::vector<Band> bands_;
};

}  // namespace katoptra
