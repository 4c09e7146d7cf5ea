#include "katoptra/water/reservoir.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <unordered_map>
#include <utility>

#include "katoptra/base/error.hpp"

#include "grid/cell_areas.hpp"
#include "land.hpp"
#include "outline.hpp"
#include "rising_queue.hpp"
#include "terrain/product_info.hpp"
#include "tiles.hpp"

namespace katoptra {
namespace {

// Heights read a tile at a time where the water gets to; with what is known of the cells.
class WetGround {
 public:
  WetGround(const Grid& surface, std::size_t memory)
      : surface_(surface),
        tiling_(surface.frame().cols(), surface.frame().rows(), kEdge),
        most_(std::max<std::size_t>(16, memory / kBytesPerTile)) {}

  bool inside(std::int64_t c, std::int64_t r) const {
    return c >= 0 && r >= 0 && c < tiling_.cols() && r < tiling_.rows();
  }
  float height(std::int64_t c, std::int64_t r) {
    Tile& t = tile(c, r);
    return t.z.at(c - t.z.window().col, r - t.z.window().row);
  }
  // True the first time.
  bool meet(std::int64_t c, std::int64_t r) {
    Tile& t = tile(c, r);
    const auto i = static_cast<std::size_t>((r - t.z.window().row) * t.z.window().cols + c - t.z.window().col);
    if (t.met[i]) return false;
    t.met[i] = true;
    return true;
  }

 private:
  static constexpr std::int64_t kEdge = 256;
  static constexpr std::size_t kBytesPerTile = kEdge * kEdge * 6;
  struct Tile {
    Block z;
    std::vector<bool> met;
  };
  Tile& tile(std::int64_t c, std::int64_t r) {
    const std::size_t t = tiling_.tile_of(c, r);
    if (last_ && t == last_number_) return *last_;
    auto it = tiles_.find(t);
    if (it == tiles_.end()) {
      if (tiles_.size() >= most_)
        throw Error(ErrorCode::TooLarge, "more gets wet than fits into memory", surface_.info().name,
                    "take a lower --crest, or give more --memory");
      const Window w = tiling_.window(t);
      it = tiles_.emplace(t, Tile{surface_.read(w), std::vector<bool>(static_cast<std::size_t>(w.cells()), false)})
               .first;
    }
    last_ = &it->second;
    last_number_ = t;
    return *last_;
  }

  const Grid& surface_;
  Tiling tiling_;
  std::size_t most_;
  std::unordered_map<std::size_t, Tile> tiles_;
  Tile* last_ = nullptr;
  std::size_t last_number_ = 0;
};

struct WetCell {
  std::int64_t col, row;
  float height, level;  // level: of the water when it gets there
};

class Impoundment {
 public:
  Impoundment(const Grid& surface, const ReservoirOptions& o)
      : surface_(surface), options_(o), ground_(surface, o.run.memory) {}

  Reservoir fill() {
    build_wall();
    const auto cell = cell_at(surface_.frame(), options_.from);
    if (!cell) refuse("the place behind the dam lies outside the surface", "give a place on it");
    const auto [col, row] = *cell;
    require_place(col, row);
    rise_from(col, row);
    if (wet_.empty())
      refuse("water leaves right where it would stand, at the edge or into a void", "give a place farther in");
    draw_curve();
    return std::move(out_);
  }

 private:
  [[noreturn]] static void refuse(const std::string& what, const char* advice) {
    throw Error(ErrorCode::BadArgument, what, "reservoir", advice);
  }

  void build_wall() {
    if (options_.dam.size() < 2) refuse("a dam is a line of two points or more", "give --dam FILE, or --from and --to");
    if (options_.steps < 2 || options_.steps > kMostReservoirSteps)
      refuse(fmt::format("a curve has 2 to {} steps", kMostReservoirSteps), "take for instance 50");
    for (const auto& [c, r] : cells_along(options_.dam, surface_.frame()))
      if (ground_.inside(c, r)) wall_.emplace_back(c, r);
    if (wall_.empty()) refuse("the dam lies beyond the surface", "give a line on it");
    // A line may pass a corner between two cells, which water would slip through: the wall is closed there.
    std::vector<std::pair<std::int64_t, std::int64_t>> closed;
    for (std::size_t i = 0; i < wall_.size(); ++i) {
      closed.push_back(wall_[i]);
      if (i + 1 < wall_.size() && wall_[i].first != wall_[i + 1].first && wall_[i].second != wall_[i + 1].second)
        closed.emplace_back(wall_[i].first, wall_[i + 1].second);
    }
    wall_ = std::move(closed);
    if (options_.crest) {
      out_.crest = *options_.crest;
    } else {
      const auto end = [&](const std::pair<std::int64_t, std::int64_t>& c) {
        return ground_.height(c.first, c.second);
      };
      const float a = end(wall_.front()), b = end(wall_.back());
      if (std::isnan(a) || std::isnan(b)) refuse("the dam ends on a void", "let it end on ground, or give --crest");
      out_.crest = static_cast<double>(std::min(a, b));
    }
    for (const auto& [c, r] : wall_) ground_.meet(c, r);
  }

  void require_place(std::int64_t col, std::int64_t row) {
    const float z = ground_.height(col, row);
    if (std::isnan(z)) refuse("the place behind the dam lies on a void", "give a place on the ground");
    if (!(static_cast<double>(z) < out_.crest))
      refuse(fmt::format("the place behind the dam is {:g} high, not below the crest at {:g}", z, out_.crest),
             "give a lower place, or a higher --crest");
    if (!ground_.meet(col, row)) refuse("the place lies on the dam itself", "give one behind it");
  }

  void rise_from(std::int64_t col, std::int64_t row) {
    std::vector<WetCell> met{{col, row, ground_.height(col, row), ground_.height(col, row)}};
    RisingQueue queue;
    queue.push(met[0].level, 0);
    out_.top = out_.crest;
    while (!queue.empty()) {
      const WetCell at = met[queue.pop()];
      if (!(static_cast<double>(at.level) < out_.crest)) break;
      if (leaves(at)) {
        out_.runs_over = true;
        out_.top = static_cast<double>(at.level);
        out_.over = surface_.frame().centre(static_cast<double>(at.col), static_cast<double>(at.row));
        break;
      }
      wet_.push_back(at);
      if ((wet_.size() + met.size()) * sizeof(WetCell) > std::max<std::size_t>(options_.run.memory, 64u << 20))
        throw Error(ErrorCode::TooLarge, "more gets wet than fits into memory", surface_.info().name,
                    "take a lower --crest, or give more --memory");
      for (int k = 0; k < 8; ++k) {
        const std::int64_t c = at.col + kColStep[k], r = at.row + kRowStep[k];
        if (!ground_.meet(c, r)) continue;
        const float z = ground_.height(c, r);
        met.push_back({c, r, z, std::max(z, at.level)});
        queue.push(met.back().level, static_cast<std::uint32_t>(met.size() - 1));
      }
    }
  }

  bool leaves(const WetCell& at) {
    for (int k = 0; k < 8; ++k) {
      const std::int64_t c = at.col + kColStep[k], r = at.row + kRowStep[k];
      if (!ground_.inside(c, r) || std::isnan(ground_.height(c, r))) return true;
    }
    return false;
  }

  // Cells are wet in the order of the levels at which the water gets to them.
  void draw_curve() {
    const CellAreas areas(surface_.frame());
    const double vertical = metres_per(surface_.quantity().unit);
    double lowest = out_.top;
    for (const WetCell& w : wet_) lowest = std::min(lowest, static_cast<double>(w.height));
    std::map<std::int64_t, CellAreas::Row> rows;
    double area = 0, weighted = 0;
    std::size_t next = 0;
    for (int i = 0; i <= options_.steps; ++i) {
      const double level = lowest + (out_.top - lowest) * i / options_.steps;
      for (; next < wet_.size() && static_cast<double>(wet_[next].level) <= level; ++next) {
        const WetCell& w = wet_[next];
        auto row = rows.find(w.row);
        if (row == rows.end()) row = rows.emplace(w.row, areas.row(w.row)).first;
        const double a = row->second.at(w.col);
        area += a;
        weighted += a * static_cast<double>(w.height);
      }
      out_.curve.push_back({level, area, std::max(0.0, (level * area - weighted) * vertical)});
    }
    out_.cells = static_cast<std::int64_t>(next);
    std::vector<std::pair<std::int64_t, std::int64_t>> cells;
    for (std::size_t i = 0; i < next; ++i) cells.emplace_back(wet_[i].row, wet_[i].col);
    std::sort(cells.begin(), cells.end());
    std::vector<CellRun> runs;
    for (const auto& [r, c] : cells) {
      if (!runs.empty() && runs.back().row == r && runs.back().last == c)
        ++runs.back().last;
      else
        runs.push_back({r, c, c + 1});
    }
    out_.shape = outline_of(runs, surface_.frame());
  }

  const Grid& surface_;
  const ReservoirOptions& options_;
  WetGround ground_;
  std::vector<std::pair<std::int64_t, std::int64_t>> wall_;
  std::vector<WetCell> wet_;
  Reservoir out_;
};

}  // namespace

Reservoir reservoir(const Grid& surface, const ReservoirOptions& options) {
  require_heights(surface);
  return Impoundment(surface, options).fill();
}

Layer reservoir_layer(const Reservoir& r, const Grid& surface) {
  Layer layer{.name = "reservoir", .crs = surface.frame().crs(), .features = {}};
  layer.features.push_back({r.shape,
                            {{"level", r.top},
                             {"crest", r.crest},
                             {"unit", unit_name(surface.quantity())},
                             {"area_m2", r.curve.back().area},
                             {"volume_m3", r.curve.back().volume},
                             {"runs_over", std::int64_t{r.runs_over}}}});
  return layer;
}

}  // namespace katoptra
