// The tiles into which a grid is cut where it is solved piece by piece. Their size is the method's own, whatever the
// block size of the run.
#pragma once
#include <cmath>
#include <cstdint>
#include <optional>
#include <utility>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// The eight neighbours clockwise from the north; a direction is a place in these, plus one.
inline constexpr std::int64_t kColStep[8] = {0, 1, 1, 1, 0, -1, -1, -1};
inline constexpr std::int64_t kRowStep[8] = {-1, -1, 0, 1, 1, 1, 0, -1};

class Tiling {
 public:
  static constexpr std::int64_t kEdge = 512;

  // `edge`: other sizes are for tests.
  Tiling(std::int64_t cols, std::int64_t rows, std::int64_t edge = kEdge)
      : cols_(cols), rows_(rows), edge_(edge), across_((cols + edge - 1) / edge), down_((rows + edge - 1) / edge) {}
  std::size_t count() const { return static_cast<std::size_t>(across_ * down_); }
  std::int64_t across() const { return across_; }
  std::int64_t edge() const { return edge_; }
  std::int64_t cols() const { return cols_; }
  std::int64_t rows() const { return rows_; }
  Window window(std::size_t tile) const {
    const auto t = static_cast<std::int64_t>(tile);
    return Window{t % across_ * edge_, t / across_ * edge_, edge_, edge_}.intersected({0, 0, cols_, rows_});
  }
  std::size_t tile_of(std::int64_t col, std::int64_t row) const {
    return static_cast<std::size_t>(row / edge_ * across_ + col / edge_);
  }

 private:
  std::int64_t cols_, rows_, edge_, across_, down_;
};

// Column and row of the cell that a place lies in; nothing outside the frame.
inline std::optional<std::pair<std::int64_t, std::int64_t>> cell_at(const Frame& f, Point p) {
  const double col = std::floor(f.col_at(f.told_here(p.x))), row = std::floor(f.row_at(p.y));
  if (!(col >= 0 && row >= 0 && col < static_cast<double>(f.cols()) && row < static_cast<double>(f.rows())))
    return std::nullopt;
  return std::pair{static_cast<std::int64_t>(col), static_cast<std::int64_t>(row)};
}

}  // namespace katoptra
