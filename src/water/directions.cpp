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

#include "base/clones.hpp"
#include "flood.hpp"
#include "flow_planes.hpp"
#include "terrain/stretches.hpp"

namespace katoptra {
namespace {

constexpr std::int32_t kFarAway = 1 << 30;
// Straight neighbours before slanting ones.
constexpr int kNearestFirst[8] = {0, 2, 4, 6, 1, 3, 5, 7};

// A tile and a cell more on every side: which way each cell runs. Cells on level ground carry kLevelBit, alone until
// their way is known.
class TileWays {
 public:
  // By the heights of each cell's neighbours.
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
        find_ways(r, stretches.from(s), stretches.end(s), per_metre);
      }
    for (const Sink& s : sinks)
      if (const std::int64_t c = s.col - wide_.col, r = s.row - wide_.row;
          c >= 0 && r >= 0 && c < wide_.cols && r < wide_.rows && code_[at(c, r)] != kVoidCell)
        code_[at(c, r)] = kEnds;
    find_level();
  }
  // As they were found before.
  TileWays(const Grid& surface, const FlowPlanes& planes, const Window& tile)
      : tile_(tile),
        wide_(tile.grown(1)),
        z_(surface.read(tile.grown(2))),
        code_(planes.direction.read(wide_, kVoidCell)) {
    find_level();
  }

  const Window& wide() const { return wide_; }
  std::size_t at(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * wide_.cols + c); }
  bool inside(std::int64_t c, std::int64_t r) const {
    return c > 0 && r > 0 && c + 1 < wide_.cols && r + 1 < wide_.rows;
  }
  bool is_level(std::int64_t c, std::int64_t r) const { return (code_[at(c, r)] & kLevelBit) != 0; }
  bool runs(std::int64_t c, std::int64_t r) const {
    const std::uint8_t k = code_[at(c, r)];
    return k != kVoidCell && !(k & kLevelBit);
  }
  float height(std::int64_t c, std::int64_t r) const { return z_.at(c + 1, r + 1); }
  void set(std::int64_t c, std::int64_t r, std::uint8_t code) { code_[at(c, r)] = code; }
  bool is_open(std::int64_t c, std::int64_t r) const { return code_[at(c, r)] == kLevelBit; }

  struct Cell {
    std::int32_t col, row;
  };
  // Level cells of the tile and around it whose way is not known yet.
  const std::vector<Cell>& level() const { return level_; }
  std::vector<std::uint8_t> inner() const {
    std::vector<std::uint8_t> out;
    out.reserve(static_cast<std::size_t>(tile_.cells()));
    for (std::int64_t r = 1; r + 1 < wide_.rows; ++r)
      out.insert(out.end(), code_.begin() + r * wide_.cols + 1, code_.begin() + (r + 1) * wide_.cols - 1);
    return out;
  }

 private:
  void find_level() {
    for (std::int64_t r = 0; r < wide_.rows; ++r)
      for (std::int64_t c = 0; c < wide_.cols; ++c)
        if (is_open(c, r)) level_.push_back({static_cast<std::int32_t>(c), static_cast<std::int32_t>(r)});
  }

  void find_ways(std::int64_t r, std::int64_t from, std::int64_t end, const std::array<float, 3>& per_metre) {
    const auto n = static_cast<std::size_t>(end - from);
    std::vector<float> steepest(n, 0);
    std::vector<std::uint8_t> code(n, kLevelBit);
    const float* own = z_.row(r + 1) + from + 1;
    for (int k = 0; k < 8; ++k)
      steeper(own, own + kRowStep[k] * z_.window().cols + kColStep[k],
              per_metre[k % 2   ? 2
                        : k % 4 ? 0
                                : 1],
              static_cast<std::uint8_t>(k + 1), n, steepest.data(), code.data());
    for (std::size_t i = 0; i < n; ++i) {
      const auto c = from + static_cast<std::int64_t>(i);
      if (std::isnan(own[i]))
        code[i] = kVoidCell;
      else if (code[i] == kLevelBit && beside_void(c, r))
        code[i] = kLeaves;
      code_[at(c, r)] = code[i];
    }
  }
  KATOPTRA_CLONES static void steeper(const float* __restrict own, const float* __restrict other, float per_metre,
                                      std::uint8_t k, std::size_t n, float* __restrict steepest,
                                      std::uint8_t* __restrict code) {
    for (std::size_t i = 0; i < n; ++i) {
      const float fall = (own[i] - other[i]) * per_metre;
      code[i] = fall > steepest[i] ? k : code[i];
      steepest[i] = fall > steepest[i] ? fall : steepest[i];
    }
  }
  bool beside_void(std::int64_t c, std::int64_t r) const {
    for (int k = 0; k < 8; ++k)
      if (std::isnan(height(c + kColStep[k], r + kRowStep[k]))) return true;
    return false;
  }

  Window tile_, wide_;
  Block z_;
  std::vector<std::uint8_t> code_;
  std::vector<Cell> level_;
};

// How far the level cells of a tile are from where they are left, or from higher ground.
class Distances {
 public:
  // `known`: distances of the tile and the cells around it, as far as they are known; kFarAway otherwise.
  Distances(const TileWays& ways, std::vector<std::int32_t> known, bool from_high)
      : ways_(ways), far_(std::move(known)) {
    std::vector<std::pair<std::int32_t, TileWays::Cell>> seeds;
    for (const TileWays::Cell& k : ways.level()) {
      std::int32_t& d = far_[ways.at(k.col, k.row)];
      if (ways.inside(k.col, k.row) && begins(k.col, k.row, from_high)) d = 1;
      if (d < kFarAway) seeds.push_back({d, k});
    }
    std::stable_sort(seeds.begin(), seeds.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<TileWays::Cell> line;  // in order of distance
    std::size_t next = 0, seed = 0;
    while (next < line.size() || seed < seeds.size()) {
      TileWays::Cell k;
      if (next >= line.size() ||
          (seed < seeds.size() && seeds[seed].first <= far_[ways.at(line[next].col, line[next].row)])) {
        k = seeds[seed].second;
        if (far_[ways.at(k.col, k.row)] < seeds[seed++].first) continue;
      } else {
        k = line[next++];
      }
      spread(k, line);
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
  void spread(const TileWays::Cell& from, std::vector<TileWays::Cell>& line) {
    const std::int32_t next = far_[ways_.at(from.col, from.row)] + 1;
    for (int k = 0; k < 8; ++k) {
      const std::int64_t c = from.col + kColStep[k], r = from.row + kRowStep[k];
      if (!ways_.inside(c, r)) continue;  // cells around belong to others
      if (!ways_.is_open(c, r) || ways_.height(c, r) != ways_.height(from.col, from.row)) continue;
      std::int32_t& d = far_[ways_.at(c, r)];
      if (next >= d) continue;
      d = next;
      line.push_back({static_cast<std::int32_t>(c), static_cast<std::int32_t>(r)});
    }
  }

  const TileWays& ways_;
  std::vector<std::int32_t> far_;
};

// Level cells of a tile that hang together, on the level, with level cells of other tiles.
std::vector<std::uint8_t> reaching_out(const TileWays& ways) {
  std::vector<std::uint8_t> out(static_cast<std::size_t>(ways.wide().cells()), 0);
  std::vector<TileWays::Cell> line;
  for (const TileWays::Cell& k : ways.level())
    if (!ways.inside(k.col, k.row)) line.push_back(k);
  while (!line.empty()) {
    const TileWays::Cell from = line.back();
    line.pop_back();
    for (int k = 0; k < 8; ++k) {
      const std::int64_t c = from.col + kColStep[k], r = from.row + kRowStep[k];
      if (!ways.inside(c, r) || !ways.is_open(c, r) || out[ways.at(c, r)]) continue;
      if (ways.height(c, r) != ways.height(from.col, from.row)) continue;
      out[ways.at(c, r)] = 1;
      line.push_back({static_cast<std::int32_t>(c), static_cast<std::int32_t>(r)});
    }
  }
  return out;
}

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
    struct Result {
      std::int64_t level = 0;
      bool open = false;
    };
    std::int64_t cells = 0;
    measured_.assign(planes_.tiling.count(), 0);
    parallel_ordered(
        planes_.tiling.count(), in_flight(), run_,
        [&](std::size_t t) -> std::shared_ptr<void> {
          TileWays ways(surface_, ruler_, planes_.tiling.window(t), sinks_);
          auto out = std::make_shared<Result>();
          if (!ways.level().empty()) out->open = first_look(ways, planes_.tiling.window(t), &out->level);
          planes_.direction.write(planes_.tiling.window(t), ways.inner().data());
          return out;
        },
        [&](std::size_t t, const std::shared_ptr<void>& made) {
          const Result& r = *static_cast<Result*>(made.get());
          cells += r.level;
          has_level_[t] = measured_[t] = r.open;
        });
    std::vector<std::size_t> open;
    for (std::size_t t = 0; t < has_level_.size(); ++t)
      if (has_level_[t]) open.push_back(t);
    for (std::vector<std::size_t> round = open; !round.empty();) round = measure(round);
    direct(open);
    return cells;
  }

 private:
  // Directs the level cells that need nothing from other tiles; of the rest the distances as far as the tile itself
  // knows them are kept. Whether there is a rest.
  bool first_look(TileWays& ways, const Window& tile, std::int64_t* level) {
    const std::vector<std::int32_t> nothing(static_cast<std::size_t>(ways.wide().cells()), kFarAway);
    const Distances low(ways, nothing, false), high(ways, nothing, true);
    const std::vector<std::uint8_t> open = reaching_out(ways);
    bool any = false;
    std::vector<std::pair<TileWays::Cell, std::uint8_t>> found;
    for (const TileWays::Cell& k : ways.level()) {
      if (!ways.inside(k.col, k.row)) continue;
      ++*level;
      if (open[ways.at(k.col, k.row)])
        any = true;
      else
        found.emplace_back(k, way_out(ways, low.all(), high.all(), k.col, k.row));
    }
    for (const auto& [k, code] : found) ways.set(k.col, k.row, code | kLevelBit);
    if (!any) return false;
    low_.write(tile, inner(low.all(), ways.wide()).data());
    high_.write(tile, inner(high.all(), ways.wide()).data());
    return true;
  }

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
          const TileWays ways(surface_, planes_, tile);
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

  void direct(const std::vector<std::size_t>& open) {
    parallel_for(open.size(), run_, [&](std::size_t i) {
      const Window tile = planes_.tiling.window(open[i]);
      const TileWays ways(surface_, planes_, tile);
      const std::vector<std::int32_t> low = known(low_, ways.wide()), high = known(high_, ways.wide());
      std::vector<std::uint8_t> out = ways.inner();
      for (const TileWays::Cell& k : ways.level())
        if (ways.inside(k.col, k.row))
          out[static_cast<std::size_t>((k.row - 1) * tile.cols + k.col - 1)] =
              way_out(ways, low, high, k.col, k.row) | kLevelBit;
      planes_.direction.write(tile, out.data());
    });
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
