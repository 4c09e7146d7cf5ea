#include "flood.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <memory>
#include <utility>

#include "katoptra/base/parallel.hpp"

#include "land.hpp"
#include "rising_queue.hpp"
#include "scratch_plane.hpp"

namespace katoptra {
namespace {

using Label = std::uint16_t;
constexpr Label kOutside = 0, kNone = 0xFFFF;
constexpr float kNever = std::numeric_limits<float>::infinity();

// The lowest place where two basins meet.
struct Pass {
  std::uint32_t a = 0, b = 0;
  float height = 0;
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
  std::vector<Pass> all() const {
    std::vector<Pass> out;
    for (const Slot& s : slots_)
      if (s.key != kEmpty) out.push_back({s.key >> 16, s.key & 0xFFFF, s.height});
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

// One tile flooded by itself. Arrays have a cell more on every side, which is blocked.
class TileFlood {
 public:
  // `z`: the tile and a cell more on every side.
  TileFlood(const Block& z, const std::vector<Sink>& sinks)
      : cols_(z.window().cols),
        rows_(z.window().rows),
        level_(size(), kVoid),
        label_(size(), kNone),
        closed_(size(), 1) {
    steps_ = {-cols_, -cols_ + 1, 1, cols_ + 1, cols_, cols_ - 1, -1, -cols_ - 1};
    for (std::int64_t r = 1; r + 1 < rows_; ++r)
      for (std::int64_t c = 1; c + 1 < cols_; ++c) {
        const auto i = static_cast<std::size_t>(r * cols_ + c);
        level_[i] = z.at(c, r) + 0.0f;  // no zero below zero
        closed_[i] = std::isnan(level_[i]);
      }
    for (std::int64_t r = 1; r + 1 < rows_; ++r)
      for (std::int64_t c = 1; c + 1 < cols_; ++c) seed(z, c, r);
    for (const Sink& s : sinks) {
      const std::int64_t c = s.col - z.window().col, r = s.row - z.window().row;
      if (c < 1 || r < 1 || c + 1 >= cols_ || r + 1 >= rows_) continue;
      const auto i = static_cast<std::size_t>(r * cols_ + c);
      if (closed_[i]) continue;
      label_[i] = kOutside;
      queue_.push(level_[i], static_cast<std::uint32_t>(i));
    }
  }

  void run() {
    std::vector<std::uint32_t> pool;  // cells at the level of the water, whose turn it is at once
    while (!queue_.empty() || !pool.empty()) {
      std::uint32_t c;
      if (pool.empty()) {
        c = queue_.pop();
      } else {
        c = pool.back();
        pool.pop_back();
      }
      if (closed_[c]) continue;
      closed_[c] = 1;
      if (label_[c] == kNone) label_[c] = ++labels_;
      const Label own = label_[c];
      const float water = level_[c];
      for (const std::int64_t step : steps_) {
        const auto n = static_cast<std::uint32_t>(c + step);
        if (label_[n] != kNone) {
          if (label_[n] != own) passes_.note(own, label_[n], std::max(water, level_[n]));
          continue;
        }
        if (closed_[n]) continue;
        label_[n] = own;
        if (level_[n] > water) {
          queue_.push(level_[n], n);
        } else {
          level_[n] = water;
          pool.push_back(n);
        }
      }
    }
  }

  Label labels() const { return labels_; }
  std::vector<Pass> passes() const { return passes_.all(); }
  template <class T>
  std::vector<T> inner(const std::vector<T>& plane) const {
    std::vector<T> out;
    for (std::int64_t r = 1; r + 1 < rows_; ++r)
      out.insert(out.end(), plane.begin() + r * cols_ + 1, plane.begin() + (r + 1) * cols_ - 1);
    return out;
  }
  std::vector<float> levels() const { return inner(level_); }
  std::vector<Label> label_plane() const { return inner(label_); }

 private:
  std::size_t size() const { return static_cast<std::size_t>(cols_ * rows_); }

  // Cells on the tile's rim, and those beside a void, from which water leaves.
  void seed(const Block& z, std::int64_t c, std::int64_t r) {
    const auto i = static_cast<std::size_t>(r * cols_ + c);
    if (closed_[i]) return;
    const bool rim = c == 1 || r == 1 || c + 2 == cols_ || r + 2 == rows_;
    bool leaves = false;
    for (int k = 0; k < 8; ++k) leaves = leaves || is_way_out(z.at(c + kColStep[k], r + kRowStep[k]));
    if (!rim && !leaves) return;
    if (leaves) label_[i] = kOutside;
    queue_.push(level_[i], static_cast<std::uint32_t>(i));
  }

  std::int64_t cols_, rows_;
  std::vector<float> level_;
  std::vector<Label> label_;
  std::vector<std::uint8_t> closed_;
  std::array<std::int64_t, 8> steps_{};
  RisingQueue queue_;
  Passes passes_;
  Label labels_ = 0;
};

// The level at which each basin runs over: over all ways out the lowest of their highest passes.
std::vector<float> spill_levels(std::size_t basins, std::vector<Pass> passes) {
  std::vector<std::uint32_t> begin(basins + 1, 0);
  for (const Pass& p : passes) {
    ++begin[p.a];
    ++begin[p.b];
  }
  std::uint32_t sum = 0;
  for (std::uint32_t& b : begin) {
    sum += b;
    b = sum;
  }
  struct Way {
    std::uint32_t to;
    float height;
  };
  std::vector<Way> ways(2 * passes.size());
  for (const Pass& p : passes) {
    ways[--begin[p.a]] = {p.b, p.height};
    ways[--begin[p.b]] = {p.a, p.height};
  }
  std::vector<Pass>().swap(passes);
  std::vector<float> spill(basins, kNever);
  std::vector<std::uint8_t> done(basins, 0);
  RisingQueue queue;
  spill[0] = -kNever;
  queue.push(-kNever, 0);
  while (!queue.empty()) {
    const std::uint32_t n = queue.pop();
    if (done[n]) continue;
    done[n] = 1;
    const std::size_t end = n + 1 < basins ? begin[n + 1] : ways.size();
    for (std::size_t i = begin[n]; i < end; ++i) {
      const float level = std::max(spill[n], ways[i].height);
      if (level >= spill[ways[i].to]) continue;
      spill[ways[i].to] = level;
      queue.push(level, ways[i].to);
    }
  }
  return spill;
}

class RaisedSource final : public GridSource {
 public:
  RaisedSource(Grid land, std::int64_t edge)
      : land_(std::move(land)),
        info_(land_.info()),
        tiling_(info_.frame.cols(), info_.frame.rows(), edge),
        level_(tiling_.cols(), tiling_.rows(), info_.name),
        label_(tiling_.cols(), tiling_.rows(), info_.name) {}
  const GridInfo& info() const override { return info_; }

  void solve(const std::vector<Sink>& sinks, const RunOptions& run) {
    std::vector<Pass> passes = flood_tiles(sinks, run);
    for (std::int64_t row = tiling_.edge(); row < tiling_.rows(); row += tiling_.edge()) join_rows(row, passes);
    for (std::int64_t col = tiling_.edge(); col < tiling_.cols(); col += tiling_.edge()) join_columns(col, passes);
    spill_ = spill_levels(basins_, std::move(passes));
  }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    if (out.origin) land_.read_into(out);
    std::vector<float> level(static_cast<std::size_t>(w.cols));
    std::vector<Label> label(level.size());
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const Window row{w.col, w.row + r, w.cols, 1};
      level_.read(row, kVoid, level.data());
      label_.read(row, kNone, label.data());
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const auto i = static_cast<std::size_t>(c);
        out.row(r)[c] = std::isnan(level[i]) ? level[i] : std::max(level[i], spill_of(w.col + c, w.row + r, label[i]));
      }
    }
  }

 private:
  // Basins of all tiles in one row of numbers; 0 is outside.
  std::uint32_t basin(std::int64_t col, std::int64_t row, Label label) const {
    return label == kOutside ? 0 : first_[tiling_.tile_of(col, row)] + label;
  }
  float spill_of(std::int64_t col, std::int64_t row, Label label) const { return spill_[basin(col, row, label)]; }

  std::vector<Pass> flood_tiles(const std::vector<Sink>& sinks, const RunOptions& run) {
    struct Result {
      Label labels;
      std::vector<Pass> passes;
    };
    std::vector<Pass> all;
    first_.assign(tiling_.count(), 0);
    std::size_t basins = 1;
    parallel_ordered(
        tiling_.count(), static_cast<std::size_t>(2 * thread_count(run)), run,
        [&](std::size_t t) -> std::shared_ptr<void> {
          const Window w = tiling_.window(t);
          TileFlood flood(land_.read(w.grown(1)), sinks);
          flood.run();
          level_.write(w, flood.levels().data());
          label_.write(w, flood.label_plane().data());
          return std::make_shared<Result>(Result{flood.labels(), flood.passes()});
        },
        [&](std::size_t t, const std::shared_ptr<void>& made) {
          const Result& r = *static_cast<Result*>(made.get());
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
    const std::vector<Label> label = label_.read(w, kNone);
    const auto at = [&](std::int64_t c, std::int64_t r) { return static_cast<std::size_t>(r * w.cols + c); };
    for (std::int64_t c = 0; c < w.cols; ++c)
      for (std::int64_t n = std::max<std::int64_t>(c - 1, 0); n <= std::min(c + 1, w.cols - 1); ++n)
        join(basin(c, row - 1, label[at(c, 0)]), level[at(c, 0)], basin(n, row, label[at(n, 1)]), level[at(n, 1)],
             passes);
  }
  void join_columns(std::int64_t col, std::vector<Pass>& passes) const {
    const Window w{col - 1, 0, 2, tiling_.rows()};
    const std::vector<float> level = level_.read(w, kVoid);
    const std::vector<Label> label = label_.read(w, kNone);
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
  ScratchPlane<float> level_;
  ScratchPlane<Label> label_;
  std::vector<std::uint32_t> first_;
  std::size_t basins_ = 1;
  std::vector<float> spill_;
};

}  // namespace

Grid raised(const Grid& land, const std::vector<Sink>& sinks, const RunOptions& run, std::int64_t tile_edge) {
  auto source = std::make_shared<RaisedSource>(land, tile_edge);
  source->solve(sinks, run);
  return Grid(source);
}

}  // namespace katoptra
