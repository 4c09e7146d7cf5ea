#include "land.hpp"

#include <algorithm>
#include <cmath>
#include <memory>
#include <utility>

#include "surface/void_finder.hpp"

namespace katoptra {
namespace {

class LandSource final : public GridSource {
 public:
  LandSource(Grid surface, VoidMap sea) : surface_(std::move(surface)), sea_(std::move(sea)) {}
  const GridInfo& info() const override { return surface_.info(); }
  void read(const BlockView& out) const override {
    surface_.read_into(out);
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const auto row = static_cast<std::size_t>(w.row + r);
      const auto begin = sea_.runs.begin() + static_cast<std::ptrdiff_t>(sea_.row_begin[row]),
                 end = sea_.runs.begin() + static_cast<std::ptrdiff_t>(sea_.row_begin[row + 1]);
      auto run = std::partition_point(begin, end, [&](const VoidRun& v) { return v.last <= w.col; });
      for (; run != end && run->first < w.col + w.cols; ++run) {
        if (!sea_.regions[run->region].at_edge) continue;
        const std::int64_t from = std::max(run->first, w.col) - w.col, to = std::min(run->last, w.col + w.cols) - w.col;
        std::fill(out.row(r) + from, out.row(r) + to, kVoid);
        if (out.origin) std::fill(out.origin_row(r) + from, out.origin_row(r) + to, Origin{});
      }
    }
  }

 private:
  Grid surface_;
  VoidMap sea_;
};

// Voids where the water is.
class LowGround final : public GridSource {
 public:
  LowGround(Grid surface, float level) : surface_(std::move(surface)), level_(level) {}
  const GridInfo& info() const override { return surface_.info(); }
  void read(const BlockView& out) const override {
    surface_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        if (out.row(r)[c] <= level_) out.row(r)[c] = kVoid;
  }

 private:
  Grid surface_;
  float level_;
};

class ChangedSource final : public GridSource {
 public:
  ChangedSource(Grid grid, std::vector<ChangedCell> cells) : grid_(std::move(grid)), cells_(std::move(cells)) {}
  const GridInfo& info() const override { return grid_.info(); }
  void read(const BlockView& out) const override {
    grid_.read_into(out);
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      auto it = std::partition_point(cells_.begin(), cells_.end(), [&](const ChangedCell& c) {
        return std::pair(c.row, c.col) < std::pair(w.row + r, w.col);
      });
      for (; it != cells_.end() && it->row == w.row + r && it->col < w.col + w.cols; ++it)
        out.row(r)[it->col - w.col] = it->height;
    }
  }

 private:
  Grid grid_;
  std::vector<ChangedCell> cells_;
};

}  // namespace

Grid without_sea(const Grid& surface, std::optional<double> level, const RunOptions& run) {
  if (!level) return surface;
  const Grid low(std::make_shared<LowGround>(surface, static_cast<float>(*level)));
  return Grid(std::make_shared<LandSource>(surface, find_voids(low, run)));
}

Grid with_cells(const Grid& grid, std::vector<ChangedCell> cells) {
  if (cells.empty()) return grid;
  return Grid(std::make_shared<ChangedSource>(grid, std::move(cells)));
}

}  // namespace katoptra
