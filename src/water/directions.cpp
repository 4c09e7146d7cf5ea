// Directions are found tile by tile. Where cells have no lower neighbour the ground is level, and how far it is from
// where the level ground is left, and from higher ground, decides. Both are distances within the level ground, which
// may reach over any number of tiles: each tile takes what its neighbours know at the border and searches on, until no
// tile learns of a shorter way. Distances are what they would be over the whole at once, in whatever order tiles are
// taken.
#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <mutex>
#include <shared_mutex>
#include <utility>

#include "katoptra/base/parallel.hpp"

#include "flood.hpp"
#include "flow_planes.hpp"
#include "terrain/stretches.hpp"

namespace katoptra {
namespace {

constexpr std::int32_t kFarAway = 1 << 30;
// Straight neighbours before slanting ones.
constexpr int kNearestFirst[8] = {0, 2, 4, 6, 1, 3, 5, 7};

// A tile and a cell more on every side: which way each cell runs, by its neighbours alone.
class TileWays {
 public:
  TileWays(const Grid& surface, const GroundRuler& ruler, const Window& tile, const std::vector<Sink>& sinks)
      : tile_(tile),
        wide_(tile.grown(1)),
        z_(surface.read(tile.grown(2))),
        code_(static_cast<std::size_t>(wide_.cells())) {
    const Stretches stretches(surface.frame(), ruler, wide_);
    for (std::int64_t r = 0; r < wide_.rows; ++r)
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const CellsPerMetre& k = stretches.at(r, s);
        const double x = 1 / k.across, y = 1 / k.down;
        const std::array<float, 3> per_metre{static_cast<float>(1 / x), static_cast<float>(1 / y),
                                             static_cast<float>(1 / std::hypot(x, y))};
        for (std::int64_t c = stretches.from(s); c < stretches.end(s); ++c) code_[at(c, r)] = way(c, r, per_metre);
      }
    for (const Sink& s : sinks)
      if (const std::int64_t c = s.col - wide_.col, r = s.row - wide_.row;
          c >= 0 && r >= 0 && c < wide_.cols && r < wide_.rows && code_[at(c, r)] != kVoidCell)
        code_[at(c, r)] = kEnds;
    for (std::int64_t r = 1; r + 1 < wide_.rows && !any_level_; ++r)
      for (std::int64_t c = 1; c + 1 < wide_.cols && !any_level_; ++c) any_level_ = code_[at(c, r)] == kUnknown;
  }

  static constexpr std::uint8_t kUnknown = 255;
  bool any_level() const { return any_level_; }
  const Window& wide() const { return wide_; }
  std::size_t at(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * wide_.cols + c); }
  bool is_level(std::int64_t c, std::int64_t r) const { return code_[at(c, r)] == kUnknown; }
  bool runs(std::int64_t c, std::int64_t r) const {
    return code_[at(c, r)] != kUnknown && code_[at(c, r)] != kVoidCell;
  }
  float height(std::int64_t c, std::int64_t r) const { return z_.at(c + 1, r + 1); }
  std::uint8_t code(std::int64_t c, std::int64_t r) const { return code_[at(c, r)]; }
  void set(std::int64_t c, std::int64_t r, std::uint8_t code) { code_[at(c, r)] = code; }
  std::vector<std::uint8_t> inner() const {
    std::vector<std::uint8_t> out;
    for (std::int64_t r = 1; r + 1 < wide_.rows; ++r)
      for (std::int64_t c = 1; c + 1 < wide_.cols; ++c) out.push_back(code_[at(c, r)]);
    return out;
  }

 private:
  std::uint8_t way(std::int64_t c, std::int64_t r, const std::array<float, 3>& per_metre) const {
    const float own = height(c, r);
    if (std::isnan(own)) return kVoidCell;
    float steepest = 0;
    std::uint8_t code = kUnknown;
    bool beside_void = false;
    for (int k = 0; k < 8; ++k) {
      const float other = height(c + kColStep[k], r + kRowStep[k]);
      beside_void = beside_void || std::isnan(other);
      const float fall = (own - other) * per_metre[k % 2 ? 2 : k % 4 ? 0 : 1];
      if (fall > steepest) {
        steepest = fall;
        code = static_cast<std::uint8_t>(k + 1);
      }
    }
    return code == kUnknown && beside_void ? kLeaves : code;
  }

  Window tile_, wide_;
  Block z_;
  std::vector<std::uint8_t> code_;
  bool any_level_ = false;
};

// How far the level cells of a tile are from where they are left, or from higher ground.
class Distances {
 public:
  // `known`: distances of the tile and the cells around it, as far as they are known; kFarAway otherwise.
  Distances(const TileWays& ways, std::vector<std::int32_t> known, bool from_high)
      : ways_(ways), far_(std::move(known)) {
    const Window& w = ways.wide();
    std::vector<std::pair<std::int32_t, std::pair<std::int64_t, std::int64_t>>> seeds;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        if (!ways.is_level(c, r)) continue;
        const bool inside = r > 0 && c > 0 && r + 1 < w.rows && c + 1 < w.cols;
        std::int32_t& d = far_[ways.at(c, r)];
        if (inside && begins(c, r, from_high)) d = 1;
        if (d < kFarAway) seeds.push_back({d, {c, r}});
      }
    std::stable_sort(seeds.begin(), seeds.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<std::pair<std::int64_t, std::int64_t>> line;  // in order of distance
    std::size_t next = 0, seed = 0;
    while (next < line.size() || seed < seeds.size()) {
      std::pair<std::int64_t, std::int64_t> at;
      if (next >= line.size() ||
          (seed < seeds.size() && seeds[seed].first <= far_[ways.at(line[next].first, line[next].second)])) {
        at = seeds[seed].second;
        if (far_[ways.at(at.first, at.second)] < seeds[seed++].first) continue;
      } else {
        at = line[next++];
      }
      spread(at.first, at.second, line);
    }
  }
  const std::vector<std::int32_t>& all() const { return far_; }

 private:
  bool begins(std::int64_t c, std::int64_t r, bool from_high) const {
    const float own = ways_.height(c, r);
    for (int k = 0; k < 8; ++k) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      const float other = ways_.height(nc, nr);
      if (from_high ? other > own : other == own && ways_.runs(nc, nr)) return true;
    }
    return false;
  }
  void spread(std::int64_t c, std::int64_t r, std::vector<std::pair<std::int64_t, std::int64_t>>& line) {
    const Window& w = ways_.wide();
    const std::int32_t next = far_[ways_.at(c, r)] + 1;
    for (int k = 0; k < 8; ++k) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      if (nc < 1 || nr < 1 || nc + 1 >= w.cols || nr + 1 >= w.rows) continue;  // cells around belong to others
      if (!ways_.is_level(nc, nr) || ways_.height(nc, nr) != ways_.height(c, r)) continue;
      std::int32_t& d = far_[ways_.at(nc, nr)];
      if (next >= d) continue;
      d = next;
      line.emplace_back(nc, nr);
    }
  }

  const TileWays& ways_;
  std::vector<std::int32_t> far_;
};

class DirectionFinder {
 public:
  DirectionFinder(const Grid& surface, const std::vector<Sink>& sinks, FlowPlanes& planes, const RunOptions& run)
      : surface_(surface),
        sinks_(sinks),
        ruler_(surface.frame().crs()),
        planes_(planes),
        run_(run),
        has_level_(planes.tiling.count(), 0),
        low_(planes.frame.cols(), planes.frame.rows(), surface.info().name),
        high_(planes.frame.cols(), planes.frame.rows(), surface.info().name) {}

  std::int64_t find() {
    parallel_ordered(
        planes_.tiling.count(), in_flight(), run_,
        [&](std::size_t t) -> std::shared_ptr<void> {
          const TileWays ways(surface_, ruler_, planes_.tiling.window(t), sinks_);
          planes_.direction.write(planes_.tiling.window(t), ways.inner().data());
          return std::make_shared<bool>(ways.any_level());
        },
        [&](std::size_t t, const std::shared_ptr<void>& made) { has_level_[t] = *static_cast<bool*>(made.get()); });
    std::vector<std::size_t> level;
    for (std::size_t t = 0; t < has_level_.size(); ++t)
      if (has_level_[t]) level.push_back(t);
    measured_.assign(has_level_.size(), 0);
    for (std::vector<std::size_t> round = level; !round.empty();) round = measure(round);
    return direct(level);
  }

 private:
  std::size_t in_flight() const { return static_cast<std::size_t>(2 * thread_count(run_)); }

  // What is known of a plane around a tile; cells of tiles that were not measured are far away.
  std::vector<std::int32_t> known(const ScratchPlane<std::int32_t>& plane, const Window& wide) const {
    std::vector<std::int32_t> out(static_cast<std::size_t>(wide.cells()), kFarAway);
    const Tiling& tiling = planes_.tiling;
    const Window in = wide.intersected({0, 0, tiling.cols(), tiling.rows()});
    for (std::int64_t row = in.row / tiling.edge(); row <= (in.row + in.rows - 1) / tiling.edge(); ++row)
      for (std::int64_t col = in.col / tiling.edge(); col <= (in.col + in.cols - 1) / tiling.edge(); ++col) {
        const std::size_t t = tiling.tile_of(col * tiling.edge(), row * tiling.edge());
        const Window part = tiling.window(t).intersected(wide);
        if (!measured_[t]) continue;
        const std::vector<std::int32_t> cells = plane.read(part, kFarAway);
        for (std::int64_t r = 0; r < part.rows; ++r)
          std::copy_n(cells.begin() + r * part.cols, part.cols,
                      out.begin() + (part.row + r - wide.row) * wide.cols + (part.col - wide.col));
      }
    return out;
  }

  static std::vector<std::int32_t> inner(const std::vector<std::int32_t>& wide, const Window& w) {
    std::vector<std::int32_t> out;
    for (std::int64_t r = 1; r + 1 < w.rows; ++r)
      out.insert(out.end(), wide.begin() + r * w.cols + 1, wide.begin() + (r + 1) * w.cols - 1);
    return out;
  }
  static bool same_rim(const std::vector<std::int32_t>& a, const std::vector<std::int32_t>& b, const Window& w) {
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; c += (r == 0 || r + 1 == w.rows || w.cols == 1) ? 1 : w.cols - 1)
        if (a[static_cast<std::size_t>(r * w.cols + c)] != b[static_cast<std::size_t>(r * w.cols + c)]) return false;
    return true;
  }

  // Measures these tiles anew; gives those beside which a distance has changed.
  std::vector<std::size_t> measure(const std::vector<std::size_t>& round) {
    struct Result {
      std::vector<std::int32_t> low, high;
      bool changed;
    };
    std::vector<std::uint8_t> next(has_level_.size(), 0);
    parallel_ordered(
        round.size(), in_flight(), run_,
        [&](std::size_t i) -> std::shared_ptr<void> {
          const Window tile = planes_.tiling.window(round[i]);
          const TileWays ways(surface_, ruler_, tile, sinks_);
          auto out = std::make_shared<Result>();
          std::vector<std::int32_t> low, high;
          {
            const std::shared_lock lock(mutex_);
            low = known(low_, ways.wide());
            high = known(high_, ways.wide());
          }
          const std::vector<std::int32_t> low_before = inner(low, ways.wide()), high_before = inner(high, ways.wide());
          out->low = inner(Distances(ways, std::move(low), false).all(), ways.wide());
          out->high = inner(Distances(ways, std::move(high), true).all(), ways.wide());
          out->changed = !same_rim(out->low, low_before, tile) || !same_rim(out->high, high_before, tile);
          return out;
        },
        [&](std::size_t i, const std::shared_ptr<void>& made) {
          const Result& result = *static_cast<Result*>(made.get());
          const Window tile = planes_.tiling.window(round[i]);
          const std::unique_lock lock(mutex_);
          low_.write(tile, result.low.data());
          high_.write(tile, result.high.data());
          measured_[round[i]] = 1;
          if (result.changed) mark_around(round[i], next);
        });
    std::vector<std::size_t> out;
    for (std::size_t t = 0; t < next.size(); ++t)
      if (next[t]) out.push_back(t);
    return out;
  }

  void mark_around(std::size_t t, std::vector<std::uint8_t>& next) const {
    const std::int64_t across = planes_.tiling.across(), col = static_cast<std::int64_t>(t) % across,
                       row = static_cast<std::int64_t>(t) / across,
                       down = static_cast<std::int64_t>(planes_.tiling.count()) / across;
    for (int k = 0; k < 8; ++k) {
      const std::int64_t c = col + kColStep[k], r = row + kRowStep[k];
      if (c < 0 || r < 0 || c >= across || r >= down) continue;
      const auto n = static_cast<std::size_t>(r * across + c);
      if (has_level_[n]) next[n] = 1;
    }
  }

  std::int64_t direct(const std::vector<std::size_t>& level) {
    std::int64_t cells = 0;
    parallel_ordered(
        level.size(), in_flight(), run_,
        [&](std::size_t i) -> std::shared_ptr<void> {
          const Window tile = planes_.tiling.window(level[i]);
          TileWays ways(surface_, ruler_, tile, sinks_);
          const std::vector<std::int32_t> low = known(low_, ways.wide()), high = known(high_, ways.wide());
          std::vector<std::uint8_t> out = ways.inner();
          auto count = std::make_shared<std::int64_t>(0);
          for (std::int64_t r = 1; r + 1 < ways.wide().rows; ++r)
            for (std::int64_t c = 1; c + 1 < ways.wide().cols; ++c) {
              if (!ways.is_level(c, r)) continue;
              out[static_cast<std::size_t>((r - 1) * tile.cols + c - 1)] = way_out(ways, low, high, c, r);
              ++*count;
            }
          planes_.direction.write(tile, out.data());
          return count;
        },
        [&](std::size_t, const std::shared_ptr<void>& made) { cells += *static_cast<std::int64_t*>(made.get()); });
    return cells;
  }

  // To a neighbour of the same height that runs on; else to the one that is nearer to the way out, or farther from
  // higher ground.
  static std::uint8_t way_out(const TileWays& ways, const std::vector<std::int32_t>& low,
                              const std::vector<std::int32_t>& high, std::int64_t c, std::int64_t r) {
    std::int64_t least = std::int64_t{1} << 40;
    std::uint8_t code = kLeaves;
    for (const int k : kNearestFirst) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      if (ways.height(nc, nr) != ways.height(c, r)) continue;
      if (ways.runs(nc, nr)) return static_cast<std::uint8_t>(k + 1);
      const std::size_t i = ways.at(nc, nr);
      const std::int64_t key = 2 * std::int64_t{low[i]} - (high[i] < kFarAway ? high[i] : 0);
      if (key >= least) continue;
      least = key;
      code = static_cast<std::uint8_t>(k + 1);
    }
    return code;
  }

  const Grid& surface_;
  const std::vector<Sink>& sinks_;
  GroundRuler ruler_;
  FlowPlanes& planes_;
  const RunOptions& run_;
  std::vector<std::uint8_t> has_level_, measured_;
  ScratchPlane<std::int32_t> low_, high_;
  std::shared_mutex mutex_;  // of what is measured: no tile reads what another is writing
};

}  // namespace

std::int64_t find_directions(const Grid& surface, const std::vector<Sink>& sinks, FlowPlanes& planes,
                             const RunOptions& run) {
  return DirectionFinder(surface, sinks, planes, run).find();
}

}  // namespace katoptra
