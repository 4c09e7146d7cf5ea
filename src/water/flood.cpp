#include "flood.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <memory>
#include <mutex>
#include <numeric>
#include <shared_mutex>
#include <tuple>
#include <utility>

#include "katoptra/base/parallel.hpp"

#include "base/heaps.hpp"
#include "base/shared_parts.hpp"
#include "land.hpp"
#include "rising_queue.hpp"
#include "scratch_plane.hpp"

namespace katoptra {
namespace {

using Label = std::uint16_t;
constexpr Label kOutside = 0, kNoLabel = 0xFFFF;
constexpr float kNever = std::numeric_limits<float>::infinity();

// The lowest place where two basins meet.
struct Pass {
  std::uint32_t a = 0, b = 0;
  float height = 0;
};

// From the lowest; of equals by basins, so that the order is always the same.
bool by_height(const Pass& x, const Pass& y) { return std::tuple(x.height, x.a, x.b) < std::tuple(y.height, y.a, y.b); }

// What hangs together (disjoint sets).
class Joined {
 public:
  explicit Joined(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0u); }
  std::uint32_t root(std::uint32_t i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  // Whether they were apart. The root with the smaller number stays one.
  bool join(std::uint32_t a, std::uint32_t b) {
    a = root(a);
    b = root(b);
    if (a == b) return false;
    parent_[std::max(a, b)] = std::min(a, b);
    return true;
  }

 private:
  std::vector<std::uint32_t> parent_;
};

// Passes of one tile, each pair once.
class Passes {
 public:
  Passes() : slots_(1024) {}
  void note(Label a, Label b, float height) {
    if (a > b) std::swap(a, b);
    const std::uint32_t key = static_cast<std::uint32_t>(a) << 16 | b;
    Slot& s = slot(key);
    if (s.key == kEmpty) {
      s = {key, height};
      if (++used_ * 2 > slots_.size()) grow();
    } else if (height < s.height) {
      s.height = height;
    }
  }
  // Those that matter: the lowest that join all that are joined.
  std::vector<Pass> lowest(std::size_t basins) const {
    std::vector<Pass> out;
    for (const Slot& s : slots_)
      if (s.key != kEmpty) out.push_back({s.key >> 16, s.key & 0xFFFF, s.height});
    std::sort(out.begin(), out.end(), by_height);
    Joined joined(basins);
    std::erase_if(out, [&](const Pass& p) { return !joined.join(p.a, p.b); });
    return out;
  }

 private:
  static constexpr std::uint32_t kEmpty = 0xFFFFFFFF;
  struct Slot {
    std::uint32_t key = kEmpty;
    float height = 0;
  };
  Slot& slot(std::uint32_t key) {
    std::size_t i = (key * 2654435761u >> 8) & (slots_.size() - 1);
    while (slots_[i].key != kEmpty && slots_[i].key != key) i = (i + 1) & (slots_.size() - 1);
    return slots_[i];
  }
  void grow() {
    std::vector<Slot> old(slots_.size() * 2);
    old.swap(slots_);
    for (const Slot& s : old)
      if (s.key != kEmpty) slot(s.key) = s;
  }
  std::vector<Slot> slots_;
  std::size_t used_ = 0;
};

// One tile flooded by itself. Arrays have two cells more on every side: those around, of which only voids count, and a
// rim that is blocked.
//
// Water rises from cells whose level is known. A cell that stands above it and has no lower neighbour that waits to be
// reached keeps its height whatever comes, and is done at once; only the others wait in the queue for their turn (Wei,
// Zhou & Fu 2019).
class TileFlood {
 public:
  // `z`: the tile and a cell more on every side.
  explicit TileFlood(const Block& z)
      : cols_(z.window().cols + 2),
        rows_(z.window().rows + 2),
        level_(size(), kVoid),
        label_(size(), kNoLabel),
        closed_(size(), 1) {
    steps_ = {-cols_, -cols_ + 1, 1, cols_ + 1, cols_, cols_ - 1, -1, -cols_ - 1};
    bool any_way_out = false;
    for (std::int64_t r = 0; r < z.window().rows; ++r) {
      const bool inner_row = r > 0 && r + 1 < z.window().rows;
      const float* own = z.row(r);
      float* level = level_.data() + place(0, r);
      std::uint8_t* closed = closed_.data() + place(0, r);
      for (std::int64_t c = 0; c < z.window().cols; ++c) {
        level[c] = own[c] + 0.0f;  // no zero below zero
        any_way_out = any_way_out || is_way_out(own[c]);
        closed[c] = !inner_row || c == 0 || c + 1 == z.window().cols || std::isnan(own[c]);
      }
    }
    if (any_way_out) seed_beside_ways_out();
    seed_rim();
  }

  void run() {
    while (!queue_.empty()) {
      const std::uint32_t first = queue_.pop();
      const float water = level_[first];
      spread(first);
      while (!line_.empty()) {
        const std::uint32_t c = line_.back();
        line_.pop_back();
        if (closed_[c]) continue;
        if (level_[c] > water && holds_back(c))
          queue_.push(level_[c], c);
        else
          spread(c);
      }
    }
  }

  Label labels() const { return labels_; }
  std::vector<Pass> passes() const { return passes_.lowest(std::size_t{labels_} + 1); }
  // The tile's own cells.
  void write(const Window& tile, ScratchPlane<float>& level, ScratchPlane<Label>& label) const {
    level.write(tile, level_.data() + place(1, 1), cols_);
    label.write(tile, label_.data() + place(1, 1), cols_);
  }

 private:
  std::size_t size() const { return static_cast<std::size_t>(cols_ * rows_); }
  // Of a cell of the window with one more around.
  std::size_t place(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>((r + 1) * cols_ + c + 1); }
  std::size_t beside(std::size_t i, std::int64_t step) const {
    return static_cast<std::size_t>(static_cast<std::int64_t>(i) + step);
  }
  void seed(std::size_t i, Label label) {
    if (closed_[i] || label_[i] != kNoLabel) return;
    label_[i] = label;
    queue_.push(level_[i], static_cast<std::uint32_t>(i));
  }
  void seed_beside_ways_out() {
    for (std::int64_t r = 0; r + 2 < rows_; ++r)
      for (std::int64_t c = 0; c + 2 < cols_; ++c)
        if (is_way_out(level_[place(c, r)]))
          for (const std::int64_t step : steps_) seed(beside(place(c, r), step), kOutside);
  }
  // Where water may leave to other tiles.
  void seed_rim() {
    const std::int64_t last_col = cols_ - 4, last_row = rows_ - 4;
    for (std::int64_t c = 1; c <= last_col; ++c)
      for (const std::int64_t r : {std::int64_t{1}, last_row}) seed(place(c, r), kNoLabel);
    for (std::int64_t r = 1; r <= last_row; ++r)
      for (const std::int64_t c : {std::int64_t{1}, last_col}) seed(place(c, r), kNoLabel);
  }

  // Whether a lower neighbour has not been reached: water may yet come to it by a lower way.
  bool holds_back(std::size_t c) const {
    for (const std::int64_t step : steps_)
      if (const std::size_t n = beside(c, step); !closed_[n] && label_[n] == kNoLabel && level_[n] < level_[c])
        return true;
    return false;
  }

  // From a cell whose turn it is to its neighbours.
  void spread(std::uint32_t c) {
    if (closed_[c]) return;
    closed_[c] = 1;
    if (label_[c] == kNoLabel) label_[c] = ++labels_;
    const Label own = label_[c];
    const float water = level_[c];
    for (const std::int64_t step : steps_) {
      const std::size_t n = beside(c, step);
      if (label_[n] != kNoLabel) {
        if (label_[n] != own) passes_.note(own, label_[n], std::max(water, level_[n]));
        continue;
      }
      if (closed_[n]) continue;
      label_[n] = own;
      level_[n] = std::max(level_[n], water);
      line_.push_back(static_cast<std::uint32_t>(n));
    }
  }

  std::int64_t cols_, rows_;
  std::vector<float> level_;
  std::vector<Label> label_;
  std::vector<std::uint8_t> closed_;
  std::array<std::int64_t, 8> steps_{};
  RisingQueue queue_;
  std::vector<std::uint32_t> line_;  // reached, and perhaps done at once
  Passes passes_;
  Label labels_ = 0;
};

// The level at which each basin runs over: over all ways out the lowest of their highest passes. Passes are taken from
// the lowest; basins that they join wait together, until one of them is joined to what lies outside.
std::vector<float> spill_levels(std::size_t basins, std::vector<Pass> passes) {
  std::sort(passes.begin(), passes.end(), by_height);
  constexpr std::uint32_t kOut = 0;
  std::vector<float> spill(basins, kNever);
  spill[kOut] = -kNever;
  Joined joined(basins);
  // Those that wait together form a ring.
  std::vector<std::uint32_t> next(basins);
  std::iota(next.begin(), next.end(), 0u);
  for (const Pass& p : passes) {
    const std::uint32_t a = joined.root(p.a), b = joined.root(p.b);
    if (!joined.join(a, b)) continue;
    if (a == kOut || b == kOut) {
      const std::uint32_t first = std::max(a, b);
      std::uint32_t i = first;
      do spill[i] = p.height;
      while ((i = next[i]) != first);
    } else {
      std::swap(next[a], next[b]);
    }
  }
  return spill;
}

class RaisedSource final : public GridSource {
 public:
  RaisedSource(Grid land, std::int64_t edge, const RunOptions& run)
      : land_(std::move(land)),
        info_(land_.info()),
        tiling_(info_.frame.cols(), info_.frame.rows(), edge),
        folder_(CommonFolder::made(run, info_.name)),
        level_(tiling_.cols(), tiling_.rows(), info_.name, folder_, "level"),
        label_(tiling_.cols(), tiling_.rows(), info_.name, folder_, "label") {}
  const GridInfo& info() const override { return info_; }

  void solve(const RunOptions& run) {
    std::vector<Pass> passes = flood_tiles(run);
    for (std::int64_t row = tiling_.edge(); row < tiling_.rows(); row += tiling_.edge()) join_rows(row, passes);
    for (std::int64_t col = tiling_.edge(); col < tiling_.cols(); col += tiling_.edge()) join_columns(col, passes);
    spill_ = spill_levels(basins_, std::move(passes));
  }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    if (out.origin) land_.read_into(out);
    level_.read(w, kVoid, out.values, out.stride);
    const std::vector<Label> labels = label_.read(w, kOutside);
    for (std::int64_t r = 0; r < w.rows; ++r) {
      float* level = out.row(r);
      const Label* label = labels.data() + r * w.cols;
      // A tile at a time, as basins are numbered by tiles.
      for (std::int64_t c = 0; c < w.cols;) {
        const std::int64_t end = std::min(w.cols, ((w.col + c) / tiling_.edge() + 1) * tiling_.edge() - w.col);
        const float* spill = spill_.data() + first_[tiling_.tile_of(w.col + c, w.row + r)];
        for (; c < end; ++c) {
          const Label own = label[c];
          // Voids, which are not below anything, stay as they are.
          if (own != kOutside && own != kNoLabel && level[c] < spill[own]) level[c] = spill[own];
        }
      }
    }
  }

 private:
  struct Flooded {
    Label labels = 0;
    std::vector<Pass> passes;
    template <class Fields>
    void fields(Fields& f) {
      f(labels, passes);
    }
  };

  // Basins of all tiles in one row of numbers; 0 is outside.
  std::uint32_t basin(std::int64_t col, std::int64_t row, Label label) const {
    return label == kOutside ? 0 : first_[tiling_.tile_of(col, row)] + label;
  }

  std::vector<Pass> flood_tiles(const RunOptions& run) {
    std::vector<Pass> all;
    first_.assign(tiling_.count(), 0);
    std::size_t basins = 1;
    share_written<Flooded>(
        tiling_.count(), run, folder_,
        [&](std::size_t t) {
          const Window w = tiling_.window(t);
          TileFlood flood(land_.read(w.grown(1)));
          flood.run();
          flood.write(w, level_, label_);
          return Flooded{flood.labels(), flood.passes()};
        },
        [&](std::size_t t, const Flooded& r) {
          first_[t] = static_cast<std::uint32_t>(basins - 1);
          basins += r.labels;
          const auto number = [&](std::uint32_t label) { return label == kOutside ? 0 : first_[t] + label; };
          for (const Pass& p : r.passes) all.push_back({number(p.a), number(p.b), p.height});
        });
    basins_ = basins;
    return all;
  }

  // Over the line between two rows, or two columns, of tiles.
  void join_rows(std::int64_t row, std::vector<Pass>& passes) const {
    const Window w{0, row - 1, tiling_.cols(), 2};
    const std::vector<float> level = level_.read(w, kVoid);
    const std::vector<Label> label = label_.read(w, kNoLabel);
    const auto at = [&](std::int64_t c, std::int64_t r) { return static_cast<std::size_t>(r * w.cols + c); };
    for (std::int64_t c = 0; c < w.cols; ++c)
      for (std::int64_t n = std::max<std::int64_t>(c - 1, 0); n <= std::min(c + 1, w.cols - 1); ++n)
        join(basin(c, row - 1, label[at(c, 0)]), level[at(c, 0)], basin(n, row, label[at(n, 1)]), level[at(n, 1)],
             passes);
  }
  void join_columns(std::int64_t col, std::vector<Pass>& passes) const {
    const Window w{col - 1, 0, 2, tiling_.rows()};
    const std::vector<float> level = level_.read(w, kVoid);
    const std::vector<Label> label = label_.read(w, kNoLabel);
    const auto at = [](std::int64_t c, std::int64_t r) { return static_cast<std::size_t>(r * 2 + c); };
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t n = std::max<std::int64_t>(r - 1, 0); n <= std::min(r + 1, w.rows - 1); ++n)
        join(basin(col - 1, r, label[at(0, r)]), level[at(0, r)], basin(col, n, label[at(1, n)]), level[at(1, n)],
             passes);
  }
  static void join(std::uint32_t a, float height_a, std::uint32_t b, float height_b, std::vector<Pass>& passes) {
    if (a == b || std::isnan(height_a) || std::isnan(height_b)) return;
    const float height = std::max(height_a, height_b);
    // Of one pair met over and over along the line the lowest.
    if (!passes.empty() && passes.back().a == a && passes.back().b == b) {
      passes.back().height = std::min(passes.back().height, height);
      return;
    }
    passes.push_back({a, b, height});
  }

  Grid land_;
  GridInfo info_;
  Tiling tiling_;
  std::shared_ptr<const CommonFolder> folder_;
  ScratchPlane<float> level_;
  ScratchPlane<Label> label_;
  std::vector<std::uint32_t> first_;
  std::size_t basins_ = 1;
  std::vector<float> spill_;
};

// A level that sinks where the land was lowered, or where water ends. Nothing rises, so that only cells which come to
// stand lower are looked at: each tile passes on what it can, and what changes at its rim is taken up by the tiles
// around, round by round, until nothing sinks any more. The level is then the only one there is, in whatever order.
// After the first round a tile is looked at again only where water on its rim stands above that of a tile beside it;
// little sinks then, and each process is told what.
class SunkSource final : public GridSource {
 public:
  SunkSource(const Grid& level, const Grid& land, std::vector<ChangedCell> lowered, std::vector<Sink> sinks,
             std::int64_t edge, const RunOptions& run)
      : land_(land),
        info_(land.info()),
        tiling_(info_.frame.cols(), info_.frame.rows(), edge),
        folder_(CommonFolder::made(run, info_.name)),
        level_(tiling_.cols(), tiling_.rows(), info_.name, folder_, "sunk"),
        later_(kLaterBytes, info_.name),
        under_(tiling_.count()),
        before_(level),
        lowered_(std::move(lowered)),
        sinks_(std::move(sinks)) {
    std::sort(sinks_.begin(), sinks_.end(), by_row);
  }
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    if (out.origin) land_.read_into(out);
    read_level(out.window, out.values, out.stride);
  }

  void solve(const RunOptions& run) {
    std::vector<std::uint8_t> rim_sank(tiling_.count(), 0);
    const auto note = [&](std::size_t t, Visited& v) {
      rim_sank[t] = v.rim_sank;
      under_[t] = std::move(v.under);
    };
    share_written<Visited>(
        tiling_.count(), run, folder_, [&](std::size_t t) { return visit_first(t); }, note);
    for (std::vector<std::size_t> round = around(rim_sank); !round.empty(); round = around(rim_sank)) {
      rim_sank.assign(tiling_.count(), 0);
      share_parts<Visited>(
          round.size(), run, [&](std::size_t i) { return sinks_on(round[i]) ? visit_again(round[i]) : Visited(); },
          [&](std::size_t i, Visited& v) {
            if (!v.rim_sank) return;
            HeapBatch<Level> sunk;
            for (const Level& l : v.sunk) sunk.add(round[i], l);
            const std::unique_lock lock(mutex_);
            later_.add(sunk);
            note(round[i], v);
          });
    }
    before_ = Grid();
    std::vector<ChangedCell>().swap(lowered_);
    std::vector<std::vector<std::uint8_t>>().swap(under_);
  }

 private:
  static constexpr std::size_t kLaterBytes = std::size_t{16} << 20;  // held in memory

  // Where a cell of a tile stands after the first round.
  struct Level {
    std::uint32_t cell = 0;  // by number in the tile
    float level = 0;
  };
  struct Visited {
    std::uint8_t rim_sank = 0;        // a cell on the rim stands lower than before
    std::vector<std::uint8_t> under;  // which of those stand above the ground: a bit each, in the order of for_rim
    std::vector<Level> sunk;          // not of the first round
    template <class Fields>
    void fields(Fields& f) {
      f(rim_sank, under, sunk);
    }
  };
  // body(col, row, number along the rim)
  template <class Body>
  static void for_rim(const Window& w, const Body& body) {
    std::size_t k = 0;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; c += (r == 0 || r + 1 == w.rows || w.cols == 1) ? 1 : w.cols - 1)
        body(c, r, k++);
  }

  void read_level(const Window& w, float* out, std::int64_t stride) const {
    level_.read(w, kVoid, out, stride);
    std::vector<Level> later;
    for (std::int64_t row = std::max<std::int64_t>(w.row, 0) / tiling_.edge() * tiling_.edge();
         row < std::min(w.row + w.rows, tiling_.rows()); row += tiling_.edge())
      for (std::int64_t col = std::max<std::int64_t>(w.col, 0) / tiling_.edge() * tiling_.edge();
           col < std::min(w.col + w.cols, tiling_.cols()); col += tiling_.edge()) {
        const std::size_t t = tiling_.tile_of(col, row);
        const Window tile = tiling_.window(t);
        later.clear();
        {
          const std::shared_lock lock(mutex_);
          later_.read(t, later);
        }
        for (const Level& l : later) {
          const std::int64_t c = tile.col + l.cell % tile.cols - w.col, r = tile.row + l.cell / tile.cols - w.row;
          if (c >= 0 && r >= 0 && c < w.cols && r < w.rows) out[r * stride + c] = l.level;
        }
      }
  }

  // What is known of a tile while it is visited, with a cell more on every side.
  struct Tile {
    Window window, wide;
    std::vector<float> z, level;
    RisingQueue queue;
    std::size_t place(std::int64_t c, std::int64_t r) const {
      return static_cast<std::size_t>((r + 1) * wide.cols + c + 1);
    }
    bool inside(std::int64_t c, std::int64_t r) const { return c >= 0 && r >= 0 && c < window.cols && r < window.rows; }
    void sink(std::int64_t c, std::int64_t r, float water) {
      float& own = level[place(c, r)];
      const float there = std::max(z[static_cast<std::size_t>(r * window.cols + c)] + 0.0f, water);
      if (!(there < own)) return;
      own = there;
      queue.push(there, static_cast<std::uint32_t>(place(c, r)));
    }
  };

  // Whether water that is not on its ground could run to a tile beside it.
  bool sinks_on(std::size_t t) const {
    const Window w = tiling_.window(t), wide = w.grown(1);
    Tile tile{w, wide, {}, std::vector<float>(static_cast<std::size_t>(wide.cells()), kVoid), {}};
    for (const Window& strip :
         {Window{wide.col, wide.row, wide.cols, 2}, Window{wide.col, wide.row, 2, wide.rows},
          Window{wide.col, w.row + w.rows - 1, wide.cols, 2}, Window{w.col + w.cols - 1, wide.row, 2, wide.rows}})
      read_level(strip, tile.level.data() + tile.place(strip.col - w.col, strip.row - w.row), wide.cols);
    bool any = false;
    const std::shared_lock lock(mutex_);
    for_rim(w, [&](std::int64_t c, std::int64_t r, std::size_t k) {
      if (!(under_[t][k / 8] >> k % 8 & 1)) return;
      const float own = tile.level[tile.place(c, r)];
      for (int n = 0; n < 8; ++n) any = any || tile.level[tile.place(c + kColStep[n], r + kRowStep[n])] < own;
    });
    return any;
  }

  Visited visit_first(std::size_t t) {
    Tile tile = ground_of(t);
    const Block before = before_.read(tile.wide);
    tile.level.assign(before.row(0), before.row(0) + tile.wide.cells());
    sink_changed(tile);
    Visited v = sink_all(tile);
    v.sunk.clear();
    level_.write(tile.window, tile.level.data() + tile.place(0, 0), tile.wide.cols);
    return v;
  }
  Visited visit_again(std::size_t t) const {
    Tile tile = ground_of(t);
    tile.level.resize(static_cast<std::size_t>(tile.wide.cells()));
    read_level(tile.wide, tile.level.data(), tile.wide.cols);
    return sink_all(tile);
  }

  // The heights of a tile as they are now; its level is not known yet.
  Tile ground_of(std::size_t t) const {
    const Window w = tiling_.window(t);
    Tile tile{w, w.grown(1), std::vector<float>(static_cast<std::size_t>(w.cells())), {}, {}};
    land_.read_into({w, tile.z.data(), nullptr, w.cols});
    lower(tile);
    return tile;
  }

  // As far as this tile and the cells around it tell.
  Visited sink_all(Tile& tile) const {
    const Window &w = tile.window, &wide = tile.wide;
    for_rim(w, [&](std::int64_t c, std::int64_t r, std::size_t) { sink_beside(tile, c, r); });
    Visited v;
    while (!tile.queue.empty()) {
      const auto at = static_cast<std::int64_t>(tile.queue.pop());
      const std::int64_t c = at % wide.cols - 1, r = at / wide.cols - 1;
      const float water = tile.level[static_cast<std::size_t>(at)];
      v.sunk.push_back({static_cast<std::uint32_t>(r * w.cols + c), water});
      v.rim_sank |= c == 0 || r == 0 || c + 1 == w.cols || r + 1 == w.rows;
      for (int k = 0; k < 8; ++k)
        if (tile.inside(c + kColStep[k], r + kRowStep[k])) tile.sink(c + kColStep[k], r + kRowStep[k], water);
    }
    for_rim(w, [&](std::int64_t c, std::int64_t r, std::size_t k) {
      if (k % 8 == 0) v.under.push_back(0);
      if (tile.level[tile.place(c, r)] > tile.z[static_cast<std::size_t>(r * w.cols + c)])
        v.under.back() |= static_cast<std::uint8_t>(1u << k % 8);
    });
    return v;
  }

  static bool by_row(const Sink& a, const Sink& b) { return std::pair(a.row, a.col) < std::pair(b.row, b.col); }

  // Those of a sorted list in a row of the tile.
  template <class T, class Body>
  static void for_those_in(const std::vector<T>& sorted, const Window& w, std::int64_t row, const Body& body) {
    auto it = std::partition_point(sorted.begin(), sorted.end(), [&](const T& s) {
      return std::pair<std::int64_t, std::int64_t>(s.row, s.col) < std::pair(row, w.col);
    });
    for (; it != sorted.end() && it->row == row && it->col < w.col + w.cols; ++it) body(*it);
  }

  // The heights of a tile as they are now, and what of them is lower than before.
  void lower(Tile& tile) const {
    const Window& w = tile.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for_those_in(lowered_, w, w.row + r, [&](const ChangedCell& c) {
        tile.z[static_cast<std::size_t>(r * w.cols + c.col - w.col)] = c.height;
      });
  }
  void sink_changed(Tile& tile) const {
    const Window& w = tile.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for_those_in(sinks_, w, w.row + r, [&](const Sink& s) { tile.sink(s.col - w.col, r, -kNever); });
      for_those_in(lowered_, w, w.row + r, [&](const ChangedCell& c) {
        if (beside_way_out(tile, c.col - w.col, r)) tile.sink(c.col - w.col, r, -kNever);
        sink_beside(tile, c.col - w.col, r);
      });
    }
  }
  static bool beside_way_out(const Tile& tile, std::int64_t c, std::int64_t r) {
    for (int k = 0; k < 8; ++k)
      if (is_way_out(tile.level[tile.place(c + kColStep[k], r + kRowStep[k])])) return true;
    return false;
  }
  static void sink_beside(Tile& tile, std::int64_t c, std::int64_t r) {
    for (int k = 0; k < 8; ++k)
      if (const float beside = tile.level[tile.place(c + kColStep[k], r + kRowStep[k])]; !std::isnan(beside))
        tile.sink(c, r, beside);
  }

  std::vector<std::size_t> around(const std::vector<std::uint8_t>& sank) const {
    const std::int64_t across = tiling_.across(), down = static_cast<std::int64_t>(tiling_.count()) / across;
    std::vector<std::size_t> out;
    for (std::int64_t r = 0; r < down; ++r)
      for (std::int64_t c = 0; c < across; ++c) {
        bool any = false;
        for (int k = 0; k < 8; ++k) {
          const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
          any = any ||
                (nc >= 0 && nr >= 0 && nc < across && nr < down && sank[static_cast<std::size_t>(nr * across + nc)]);
        }
        if (any) out.push_back(static_cast<std::size_t>(r * across + c));
      }
    return out;
  }

  Grid land_;
  GridInfo info_;
  Tiling tiling_;
  std::shared_ptr<const CommonFolder> folder_;
  ScratchPlane<float> level_;                     // after the first round
  Heaps<Level> later_;                            // by tiles: what sank after that, in order
  std::vector<std::vector<std::uint8_t>> under_;  // of each tile's rim
  mutable std::shared_mutex mutex_;               // of the last two
  Grid before_;
  std::vector<ChangedCell> lowered_;
  std::vector<Sink> sinks_;
};

}  // namespace

Grid raised(const Grid& land, const RunOptions& run, std::int64_t tile_edge) {
  auto source = std::make_shared<RaisedSource>(land, tile_edge, run);
  source->solve(run);
  return Grid(source);
}

Grid sunk(const Grid& level, const Grid& land, std::vector<ChangedCell> lowered, const std::vector<Sink>& sinks,
          const RunOptions& run, std::int64_t tile_edge) {
  auto source = std::make_shared<SunkSource>(level, land, std::move(lowered), sinks, tile_edge, run);
  source->solve(run);
  return Grid(source);
}

}  // namespace katoptra
