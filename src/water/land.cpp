#include "land.hpp"

#include <algorithm>
#include <cmath>
#include <memory>
#include <tuple>
#include <utility>

#include "katoptra/base/error.hpp"

#include "surface/void_finder.hpp"

namespace katoptra {
namespace {

// Cells of the regions at the edge, or of the others, take a value.
class LandSource final : public GridSource {
 public:
  LandSource(Grid surface, VoidMap sea, bool at_edge, float value)
      : surface_(std::move(surface)), sea_(std::move(sea)), at_edge_(at_edge), value_(value) {}
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
        if (sea_.regions[run->region].at_edge != at_edge_) continue;
        const std::int64_t from = std::max(run->first, w.col) - w.col, to = std::min(run->last, w.col + w.cols) - w.col;
        std::fill(out.row(r) + from, out.row(r) + to, value_);
        if (out.origin) std::fill(out.origin_row(r) + from, out.origin_row(r) + to, Origin{});
      }
    }
  }

 private:
  Grid surface_;
  VoidMap sea_;
  bool at_edge_;
  float value_;
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
        return std::pair<std::int64_t, std::int64_t>(c.row, c.col) < std::pair(w.row + r, w.col);
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

Grid with_walls(const Grid& land, const RunOptions& run) {
  VoidMap voids = find_voids(land, run);
  const bool within =
      std::any_of(voids.regions.begin(), voids.regions.end(), [](const VoidRegion& r) { return !r.at_edge; });
  return within ? Grid(std::make_shared<LandSource>(land, std::move(voids), false, kWall)) : land;
}

Grid without_sea(const Grid& surface, std::optional<double> level, const RunOptions& run) {
  if (!level) return surface;
  const Grid low(std::make_shared<LowGround>(surface, static_cast<float>(*level)));
  return Grid(std::make_shared<LandSource>(surface, find_voids(low, run), true, kVoid));
}

std::vector<std::pair<std::int64_t, std::int64_t>> cells_along(const LineString& line, const Frame& f) {
  std::vector<std::pair<std::int64_t, std::int64_t>> cells;
  for (std::size_t i = 0; i + 1 < line.size(); ++i) {
    const double c0 = f.col_at(line[i].x), r0 = f.row_at(line[i].y), c1 = f.col_at(line[i + 1].x),
                 r1 = f.row_at(line[i + 1].y);
    const double steps = std::ceil(std::max({std::abs(c1 - c0), std::abs(r1 - r0), 1.0}));
    constexpr double kMost = 1e10, kMostSteps = 1e7;
    if (!(steps < kMostSteps)) continue;
    for (double k = 0; k <= steps; ++k) {
      const double c = std::floor(c0 + (c1 - c0) * k / steps), r = std::floor(r0 + (r1 - r0) * k / steps);
      if (!(std::abs(c) < kMost && std::abs(r) < kMost)) continue;
      const std::pair cell{static_cast<std::int64_t>(c), static_cast<std::int64_t>(r)};
      if (cells.empty() || cells.back() != cell) cells.push_back(cell);
    }
  }
  return cells;
}

std::vector<ChangedCell> burnt_cells(const Grid& surface, const Layer& lines) {
  const Frame& f = surface.frame();
  std::optional<Transform> there;
  if (lines.crs && f.crs() && !lines.crs.same_place(f.crs())) there.emplace(lines.crs, f.crs());
  std::vector<ChangedCell> out;
  std::size_t found = 0, touched = 0;
  for (const Feature& feature : lines.features) {
    const auto* given = std::get_if<LineString>(&feature.geometry);
    if (!given || given->size() < 2) continue;
    ++found;
    LineString line = *given;
    if (there) there->forward(line);
    std::vector<ChangedCell> way;
    for (const auto& [col, row] : cells_along(line, f)) {
      if (col < 0 || row < 0 || col >= f.cols() || row >= f.rows()) continue;
      if (const float z = surface.at(col, row); !std::isnan(z))
        way.push_back({static_cast<std::int32_t>(row), static_cast<std::int32_t>(col), z});
    }
    if (way.empty()) continue;
    ++touched;
    if (way.back().height > way.front().height) std::reverse(way.begin(), way.end());
    float level = way.front().height;
    for (const ChangedCell& c : way) {
      if (c.height <= level)
        level = c.height;
      else
        out.push_back({c.row, c.col, level});
    }
  }
  if (touched == 0)
    throw Error(ErrorCode::BadArgument,
                found == 0 ? "there are no lines to burn in" : "all lines to burn in lie beyond the surface",
                surface.info().name, "give the lines of streams or culverts on it");
  return deepest_of(std::move(out));
}

std::vector<ChangedCell> deepest_of(std::vector<ChangedCell> cells) {
  std::sort(cells.begin(), cells.end(), [](const ChangedCell& a, const ChangedCell& b) {
    return std::tuple(a.row, a.col, a.height) < std::tuple(b.row, b.col, b.height);
  });
  cells.erase(std::unique(cells.begin(), cells.end(),
                          [](const ChangedCell& a, const ChangedCell& b) { return a.row == b.row && a.col == b.col; }),
              cells.end());
  return cells;
}

Grid with_cells(const Grid& grid, std::vector<ChangedCell> cells) {
  if (cells.empty()) return grid;
  return Grid(std::make_shared<ChangedSource>(grid, std::move(cells)));
}

}  // namespace katoptra
