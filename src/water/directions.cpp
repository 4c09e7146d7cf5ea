// Directions are found tile by tile. Where cells have no lower neighbour the ground is level, and how far it is from
// where the level ground is left, and from higher ground, decides. Both are distances within the level ground, which
// may reach over any number of tiles: each tile takes what its neighbours know at the border and searches on, until no
// tile learns of a shorter way. Distances are what they would be over the whole at once, in whatever order tiles are
// taken.
#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <numeric>
#include <utility>

#include "katoptra/base/parallel.hpp"

#include "base/clones.hpp"
#include "base/shared_parts.hpp"
#include "flood.hpp"
#include "flow_planes.hpp"
#include "land.hpp"
#include "terrain/stretches.hpp"

namespace katoptra {
namespace {

constexpr std::int32_t kFarAway = 1 << 30;
// Straight neighbours before slanting ones.
constexpr int kNearestFirst[8] = {0, 2, 4, 6, 1, 3, 5, 7};

// Of level neighbours water takes the one with the least: nearer to where the level is left, or, as near, farther from
// higher ground.
std::int64_t out_key(std::int32_t low, std::int32_t high) {
  return 2 * std::int64_t{low} - (high < kFarAway ? high : 0);
}
constexpr std::int64_t kNoKey = std::int64_t{1} << 40;

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
  const Window& wide() const { return wide_; }
  std::size_t at(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * wide_.cols + c); }
  bool inside(std::int64_t c, std::int64_t r) const {
    return c > 0 && r > 0 && c + 1 < wide_.cols && r + 1 < wide_.rows;
  }
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
      else if (code[i] == kLevelBit && beside_way_out(c, r))
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
  bool beside_way_out(std::int64_t c, std::int64_t r) const {
    for (int k = 0; k < 8; ++k)
      if (is_way_out(height(c + kColStep[k], r + kRowStep[k]))) return true;
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
  Distances(const TileWays& ways, bool from_high)
      : ways_(ways), far_(static_cast<std::size_t>(ways.wide().cells()), kFarAway) {
    std::vector<TileWays::Cell> line;  // in order of distance
    for (const TileWays::Cell& k : ways.level())
      if (ways.inside(k.col, k.row) && begins(ways, k.col, k.row, from_high)) {
        far_[ways.at(k.col, k.row)] = 1;
        line.push_back(k);
      }
    for (std::size_t next = 0; next < line.size(); ++next) spread(line[next], line);
  }
  const std::vector<std::int32_t>& all() const { return far_; }

  // Whether the cell lies beside higher ground, or beside one of its height that runs on.
  static bool begins(const TileWays& ways, std::int64_t c, std::int64_t r, bool from_high) {
    const float own = ways.height(c, r);
    for (int k = 0; k < 8; ++k) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      const float other = ways.height(nc, nr);
      if (from_high ? other > own : other == own && ways.runs(nc, nr)) return true;
    }
    return false;
  }

 private:
  void spread(TileWays::Cell from, std::vector<TileWays::Cell>& line) {
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

// A level cell that hangs together with other tiles: its place in the tile, and what is known of it.
struct OpenGround {
  std::int16_t col = 0, row = 0;
  float height = 0;
};
struct Far {
  std::int32_t low = kFarAway, high = kFarAway;  // from where the level is left, and from higher ground
};
struct OpenCell : OpenGround, Far {
  // Beside a cell that runs on: its way is known.
  bool is_directed() const { return low == 1; }
};

// The open cells of a tile with those of its neighbours around it, found by their places.
class OpenPatch {
 public:
  // `own` by row, then column; `around` in the same coordinates, just beyond the tile. One at a time on a thread.
  OpenPatch(std::vector<OpenCell> own, const std::vector<OpenCell>& around) : own_(std::move(own)), around_(around) {
    for (const auto* cells : {&std::as_const(own_), &around_})
      for (const OpenCell& c : *cells) {
        const std::size_t i = at(c);
        places_.height[i] = c.height;
        places_.low[i] = c.low;
        places_.high[i] = c.high;
      }
  }
  ~OpenPatch() {
    for (const auto* cells : {&std::as_const(own_), &around_})
      for (const OpenCell& c : *cells) places_.height[at(c)] = kVoid;
  }
  OpenPatch(const OpenPatch&) = delete;
  OpenPatch& operator=(const OpenPatch&) = delete;

  // Shortens what is known of the tile's own cells, which agree with one another, by what is known around them. Whether
  // anything became shorter.
  bool measure() {
    const bool lower = measure(places_.low, &OpenCell::low), higher = measure(places_.high, &OpenCell::high);
    return lower || higher;
  }

  // To the neighbour of the same height that is nearer to the way out, or farther from higher ground.
  std::uint8_t way_out(const OpenCell& own) const {
    const std::size_t i = at(own);
    std::int64_t least = kNoKey;
    std::uint8_t code = kLeaves;
    for (const int k : kNearestFirst) {
      const std::size_t n = beside(i, k);
      if (places_.height[n] != own.height) continue;
      const std::int64_t key = out_key(places_.low[n], places_.high[n]);
      if (key >= least) continue;
      least = key;
      code = static_cast<std::uint8_t>(k + 1);
    }
    return code;
  }

  // As they are known now.
  const std::vector<OpenCell>& own() const { return own_; }

 private:
  // A tile, the cells around it and a rim where nothing is: so each of them has eight neighbours.
  static constexpr std::int64_t kWide = Tiling::kEdge + 4;
  struct Places {
    std::vector<float> height = std::vector<float>(static_cast<std::size_t>(kWide * kWide), kVoid);  // of open cells
    std::vector<std::int32_t> low = std::vector<std::int32_t>(height.size()), high = low;
  };
  static Places& places() {
    thread_local Places all;  // all void between two patches
    return all;
  }
  static std::size_t at(const OpenCell& c) { return static_cast<std::size_t>((c.row + 2) * kWide + c.col + 2); }
  static std::size_t beside(std::size_t i, int k) {
    return static_cast<std::size_t>(static_cast<std::int64_t>(i) + kRowStep[k] * kWide + kColStep[k]);
  }

  bool measure(std::vector<std::int32_t>& distance, std::int32_t OpenCell::*of) {
    std::vector<std::pair<std::int32_t, std::size_t>> seeds;
    for (const OpenCell& c : around_) {
      if (c.*of < kFarAway) seeds.emplace_back(c.*of, at(c));
      distance[at(c)] = 0;  // never shortened
    }
    std::sort(seeds.begin(), seeds.end());
    std::vector<std::size_t> line;  // in order of distance
    std::size_t next = 0, seed = 0;
    while (next < line.size() || seed < seeds.size()) {
      std::pair<std::int32_t, std::size_t> from;
      if (next >= line.size() || (seed < seeds.size() && seeds[seed].first <= distance[line[next]]))
        from = seeds[seed++];
      else
        from = {distance[line[next]], line[next]}, ++next;
      const float height = places_.height[from.second];
      for (int k = 0; k < 8; ++k) {
        const std::size_t to = beside(from.second, k);
        if (places_.height[to] != height || from.first + 1 >= distance[to]) continue;
        distance[to] = from.first + 1;
        line.push_back(to);
      }
    }
    for (const OpenCell& c : around_) distance[at(c)] = c.*of;
    if (!line.empty())
      for (OpenCell& c : own_) c.*of = distance[at(c)];
    return !line.empty();
  }

  std::vector<OpenCell> own_;
  const std::vector<OpenCell>& around_;
  Places& places_ = places();
};

class DirectionFinder {
 public:
  DirectionFinder(const Grid& surface, const std::vector<Sink>& sinks, FlowPlanes& planes, const RunOptions& run,
                  const Grid* before)
      : surface_(surface),
        before_(before),
        sinks_(sinks),
        ruler_(surface.frame().crs()),
        planes_(planes),
        run_(run),
        open_(planes.tiling.count()),
        folder_(CommonFolder::made(run, surface.info().name)),
        ground_(planes.tiling.edge() * planes.tiling.edge(), std::ssize(open_), surface.info().name, folder_, "ground"),
        far_(planes.tiling.edge() * planes.tiling.edge(), std::ssize(open_), surface.info().name, folder_, "far") {}

  std::int64_t find() {
    std::int64_t cells = 0;
    std::vector<std::size_t> round;
    share_written<Looked>(
        planes_.tiling.count(), run_, planes_.folder,
        [&](std::size_t t) {
          TileWays ways(surface_, ruler_, planes_.tiling.window(t), sinks_);
          Looked out;
          if (!ways.level().empty()) {
            const std::vector<OpenCell> open = first_look(ways, &out.level);
            keep_ground(t, open);
            keep_far(t, open);
            out.open = {std::ssize(open), rim(t, open)};
          }
          planes_.found->write(planes_.tiling.window(t), ways.inner().data());
          return out;
        },
        [&](std::size_t t, Looked& r) {
          cells += r.level;
          open_[t] = std::move(r.open);
          if (open_[t].cells > 0) round.push_back(t);
        });
    std::vector<std::size_t> changed = round;
    while (!round.empty()) round = measure(round);
    if (before_ || planes_.settled != planes_.found) {
      changed.resize(planes_.tiling.count());
      std::iota(changed.begin(), changed.end(), std::size_t{0});
    }
    settle(changed);
    return cells;
  }

 private:
  // What is kept in memory of a tile: how many open cells it has, and those on its rim.
  struct OpenTile {
    std::int64_t cells = 0;
    std::vector<OpenCell> rim;
    template <class Fields>
    void fields(Fields& f) {
      f(cells, rim);
    }
  };
  struct Looked {
    std::int64_t level = 0;
    OpenTile open;
    template <class Fields>
    void fields(Fields& f) {
      f(level, open);
    }
  };

  // Directs the level cells that need nothing from other tiles; gives the rest, with the distances as far as the tile
  // itself knows them.
  static std::vector<OpenCell> first_look(TileWays& ways, std::int64_t* level) {
    const Distances low(ways, false), high(ways, true);
    const std::vector<std::uint8_t> reaching = reaching_out(ways);
    std::vector<OpenCell> open;
    std::vector<std::pair<TileWays::Cell, std::uint8_t>> found;
    for (const TileWays::Cell& k : ways.level()) {
      if (!ways.inside(k.col, k.row)) continue;
      ++*level;
      const std::size_t i = ways.at(k.col, k.row);
      const bool directed = low.all()[i] == 1;
      if (!reaching[i] || directed) found.emplace_back(k, way_out(ways, low.all(), high.all(), k.col, k.row));
      if (reaching[i])
        open.push_back(
            {{static_cast<std::int16_t>(k.col - 1), static_cast<std::int16_t>(k.row - 1), ways.height(k.col, k.row)},
             {low.all()[i], high.all()[i]}});
    }
    for (const auto& [k, code] : found) ways.set(k.col, k.row, code | kLevelBit);
    return open;
  }

  // To a neighbour of the same height that runs on; else to the one that is nearer to the way out, or farther from
  // higher ground.
  static std::uint8_t way_out(const TileWays& ways, const std::vector<std::int32_t>& low,
                              const std::vector<std::int32_t>& high, std::int64_t c, std::int64_t r) {
    std::int64_t least = kNoKey;
    std::uint8_t code = kLeaves;
    for (const int k : kNearestFirst) {
      const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
      if (ways.height(nc, nr) != ways.height(c, r)) continue;
      if (ways.runs(nc, nr)) return static_cast<std::uint8_t>(k + 1);
      const std::size_t i = ways.at(nc, nr);
      const std::int64_t key = out_key(low[i], high[i]);
      if (key >= least) continue;
      least = key;
      code = static_cast<std::uint8_t>(k + 1);
    }
    return code;
  }

  void keep_ground(std::size_t t, const std::vector<OpenCell>& cells) {
    ground_.write(t, {cells.begin(), cells.end()});
  }
  void keep_far(std::size_t t, const std::vector<OpenCell>& cells) { far_.write(t, {cells.begin(), cells.end()}); }
  std::vector<OpenCell> kept(std::size_t t) const {
    const auto n = static_cast<std::size_t>(open_[t].cells);
    const std::vector<OpenGround> ground = ground_.read(t, n);
    const std::vector<Far> far = far_.read(t, n);
    std::vector<OpenCell> out;
    out.reserve(n);
    for (std::size_t i = 0; i < n; ++i) out.push_back({ground[i], far[i]});
    return out;
  }
  std::vector<OpenCell> rim(std::size_t t, const std::vector<OpenCell>& cells) const {
    const Window tile = planes_.tiling.window(t);
    std::vector<OpenCell> out;
    for (const OpenCell& c : cells)
      if (c.col == 0 || c.row == 0 || c.col + 1 == tile.cols || c.row + 1 == tile.rows) out.push_back(c);
    return out;
  }

  // Open cells of the tiles around that touch this one, in its coordinates.
  std::vector<OpenCell> around(std::size_t t) const {
    const Window tile = planes_.tiling.window(t);
    std::vector<OpenCell> out;
    for_tiles_around(t, [&](std::size_t n) {
      const Window other = planes_.tiling.window(n);
      for (OpenCell c : open_[n].rim) {
        const std::int64_t col = other.col + c.col - tile.col, row = other.row + c.row - tile.row;
        if (col < -1 || row < -1 || col > tile.cols || row > tile.rows) continue;
        c.col = static_cast<std::int16_t>(col);
        c.row = static_cast<std::int16_t>(row);
        out.push_back(c);
      }
    });
    return out;
  }
  template <class Body>
  void for_tiles_around(std::size_t t, const Body& body) const {
    const std::int64_t across = planes_.tiling.across(), col = static_cast<std::int64_t>(t) % across,
                       row = static_cast<std::int64_t>(t) / across,
                       down = static_cast<std::int64_t>(planes_.tiling.count()) / across;
    for (int k = 0; k < 8; ++k) {
      const std::int64_t c = col + kColStep[k], r = row + kRowStep[k];
      if (c >= 0 && r >= 0 && c < across && r < down) body(static_cast<std::size_t>(r * across + c));
    }
  }

  // Measures these tiles anew, all by what was known before; gives those beside which a distance has changed.
  std::vector<std::size_t> measure(const std::vector<std::size_t>& round) {
    using Rim = std::vector<OpenCell>;  // none: nothing became shorter
    std::vector<Rim> rims(round.size());
    far_.next_round();
    share_written<Rim>(
        round.size(), run_, folder_,
        [&](std::size_t i) {
          const std::vector<OpenCell> near = around(round[i]);
          // What shortens no way of a cell on the rim shortens none behind it.
          if (!OpenPatch(open_[round[i]].rim, near).measure()) return Rim();
          OpenPatch patch(kept(round[i]), near);
          patch.measure();
          keep_far(round[i], patch.own());
          return rim(round[i], patch.own());
        },
        [&](std::size_t i, Rim& rim) { rims[i] = std::move(rim); });
    std::vector<std::size_t> next;
    for (std::size_t i = 0; i < round.size(); ++i) {
      if (rims[i].empty()) continue;
      far_.renew(round[i]);
      open_[round[i]].rim = std::move(rims[i]);
      for_tiles_around(round[i], [&](std::size_t n) {
        if (open_[n].cells > 0) next.push_back(n);
      });
    }
    std::sort(next.begin(), next.end());
    next.erase(std::unique(next.begin(), next.end()), next.end());
    return next;
  }

  void settle(const std::vector<std::size_t>& tiles) {
    share_written<std::uint8_t>(
        tiles.size(), run_, planes_.folder,
        [&](std::size_t i) {
          const Window w = planes_.tiling.window(tiles[i]);
          std::vector<std::uint8_t> codes = planes_.found->read(w, kVoidCell);
          if (open_[tiles[i]].cells > 0) direct(tiles[i], codes);
          if (before_) mark_dry(w, codes);
          planes_.settled->write(w, codes.data());
          return std::uint8_t{0};
        },
        [](std::size_t, std::uint8_t) {});
  }
  void direct(std::size_t t, std::vector<std::uint8_t>& codes) const {
    const std::vector<OpenCell> near = around(t);
    const OpenPatch patch(kept(t), near);
    const std::int64_t cols = planes_.tiling.window(t).cols;
    for (const OpenCell& c : patch.own())
      if (!c.is_directed()) codes[static_cast<std::size_t>(c.row * cols + c.col)] = patch.way_out(c) | kLevelBit;
  }
  // What has a height and no direction, and walls: no water comes from there.
  void mark_dry(const Window& w, std::vector<std::uint8_t>& codes) const {
    if (std::find(codes.begin(), codes.end(), kVoidCell) == codes.end()) return;
    const Block z = before_->read(w), own = surface_.read(w);
    for (std::size_t i = 0; i < codes.size(); ++i)
      if (codes[i] == kVoidCell && (!std::isnan(z.row(0)[i]) || is_wall(own.row(0)[i]))) codes[i] = kLevelBit;
  }

  const Grid& surface_;
  const Grid* before_;
  const std::vector<Sink>& sinks_;
  GroundRuler ruler_;
  FlowPlanes& planes_;
  const RunOptions& run_;
  std::vector<OpenTile> open_;
  std::shared_ptr<const CommonFolder> folder_;  // of what is needed no longer than until all is settled
  // Of open cells, a row a tile. The ground does not change.
  ChangingRows<OpenGround> ground_;
  ChangingRows<Far> far_;
};

}  // namespace

std::int64_t find_directions(const Grid& surface, const std::vector<Sink>& sinks, FlowPlanes& planes,
                             const RunOptions& run, const Grid* before) {
  return DirectionFinder(surface, sinks, planes, run, before).find();
}

}  // namespace katoptra
