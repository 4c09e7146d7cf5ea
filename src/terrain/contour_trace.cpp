#include "contour_trace.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <limits>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/terrain/contours.hpp"

namespace katoptra {
namespace {

constexpr std::uint32_t kNoPoint = 0xFFFFFFFFu;

// A crossing of a side between two cell centres; it has at most two neighbours along its line.
struct Crossing {
  double t;                // the way along the side, 0 to 1
  std::uint32_t col, row;  // where the side begins
  std::int32_t step;
  std::uint32_t next[2];
  bool down, rises;  // from north to south instead of west to east; higher at its end
};

// Crossings of one band of rows, and where those on its first and last row begin (kNoPoint: none), by column.
struct BandLines {
  std::vector<Crossing> points;
  std::vector<std::uint32_t> first_row, last_row;
  std::vector<std::int32_t> first_steps, last_steps;  // steps of the cells of those rows
};

// What all bands together have come to: an interval that is far too short must be noticed before memory is gone.
class Bounded {
 public:
  explicit Bounded(std::size_t memory) : most_(std::max<std::uint64_t>(1000, memory / kBytesPerContourPoint)) {}

  void add_points(std::size_t n) {
    if (points_.fetch_add(n) + n <= most_) return;
    throw TooManyPoints{most_};
  }
  // False when steps from `low` to `high`, with all before, are more levels than anybody draws.
  bool add_steps(std::int32_t low, std::int32_t high) {
    std::int32_t l = low_.load(), h = high_.load();
    while (low < l && !low_.compare_exchange_weak(l, low)) {
    }
    while (high > h && !high_.compare_exchange_weak(h, high)) {
    }
    return std::int64_t{high_.load()} - low_.load() <= kMostContourLevels;
  }

 private:
  std::uint64_t most_;
  std::atomic<std::uint64_t> points_{0};
  std::atomic<std::int32_t> low_{std::numeric_limits<std::int32_t>::max()},
      high_{std::numeric_limits<std::int32_t>::min()};
};

// Lines are traced by what they cross, not by walking along them. Between each pair of neighbouring cell centres the
// levels between the two values cross, each at a place that interpolation gives; inside a square of four centres the
// crossings of one level belong together in pairs (two, or four at a saddle). So a row of squares needs only the
// crossings of its upper edges, its lower edges and the upright ones between them, and every crossing knows its two
// neighbours when the band is done. Nothing is searched, and no square is looked at twice.
class BandTracer {
 public:
  BandTracer(const Levels& levels, const Block& block, Bounded& bounded)
      : levels_(levels), block_(block), bounded_(bounded), cols_(block.window().cols) {}

  BandLines run() {
    const auto n = static_cast<std::size_t>(cols_);
    std::vector<std::int32_t> above(n), below(n);
    std::vector<std::uint32_t> top(n, kNoPoint), bottom(n, kNoPoint);
    steps_of(block_.row(0), above);
    out_.first_steps = above;
    for (std::int64_t r = 0; r + 1 < block_.window().rows; ++r) {
      steps_of(block_.row(r + 1), below);
      std::fill(bottom.begin(), bottom.end(), kNoPoint);
      const std::size_t before = out_.points.size();
      trace_row(r, above, below, top, bottom);
      bounded_.add_points(out_.points.size() - before);
      if (r == 0) out_.first_row = top;
      std::swap(above, below);
      std::swap(top, bottom);
    }
    out_.last_row = std::move(top);
    out_.last_steps = std::move(above);
    return std::move(out_);
  }

 private:
  void steps_of(const float* row, std::vector<std::int32_t>& steps) const {
    if (!levels_.steps(row, cols_, steps.data()))
      throw Error(ErrorCode::TooLarge,
                  fmt::format("a height is more than 2^30 intervals of {} from the base", levels_.above()), "contours",
                  "take a longer interval");
    std::int32_t low = std::numeric_limits<std::int32_t>::max(), high = kVoidStep;
    for (const std::int32_t s : steps)
      if (s != kVoidStep) {
        low = std::min(low, s);
        high = std::max(high, s);
      }
    if (low <= high && !bounded_.add_steps(low, high)) throw TooManyLevels();
  }

  void trace_row(std::int64_t r, const std::vector<std::int32_t>& above, const std::vector<std::int32_t>& below,
                 std::vector<std::uint32_t>& top, std::vector<std::uint32_t>& bottom) {
    std::uint32_t left = kNoPoint;
    for (std::int64_t c = 0; c + 1 < cols_; ++c) {
      const auto i = static_cast<std::size_t>(c);
      const std::int32_t a = above[i], b = above[i + 1], d = below[i], e = below[i + 1];
      if (a == b && b == d && d == e) {
        left = kNoPoint;
        continue;
      }
      if (a == kVoidStep || b == kVoidStep || d == kVoidStep || e == kVoidStep) {
        left = kNoPoint;
        continue;
      }
      const float *za = block_.row(r) + c, *zd = block_.row(r + 1) + c;
      const auto row = static_cast<std::uint32_t>(block_.window().row + r),
                 col = static_cast<std::uint32_t>(block_.window().col + c);
      if (top[i] == kNoPoint && a != b) top[i] = cross(a, b, za[0], za[1], col, row, false);
      if (left == kNoPoint && a != d) left = cross(a, d, za[0], zd[0], col, row, true);
      std::uint32_t right = b != e ? cross(b, e, za[1], zd[1], col + 1, row, true) : kNoPoint;
      if (d != e) bottom[i] = cross(d, e, zd[0], zd[1], col, row + 1, false);
      join(za, zd, a, b, d, e, top[i], left, right, bottom[i]);
      left = right;
    }
  }

  // The crossings of one side, lowest level first; returns the number of the first.
  std::uint32_t cross(std::int32_t k0, std::int32_t k1, float z0, float z1, std::uint32_t col, std::uint32_t row,
                      bool down) {
    const auto first = static_cast<std::uint32_t>(out_.points.size());
    const double from = static_cast<double>(z0), rise = static_cast<double>(z1) - from;
    for (std::int32_t k = std::min(k0, k1) + 1; k <= std::max(k0, k1); ++k)
      out_.points.push_back({.t = std::clamp((levels_.level(k) - from) / rise, 0.0, 1.0),
                             .col = col,
                             .row = row,
                             .step = k,
                             .next = {kNoPoint, kNoPoint},
                             .down = down,
                             .rises = k1 > k0});
    return first;
  }

  void link(std::uint32_t p, std::uint32_t q) {
    auto& a = out_.points[p].next;
    auto& b = out_.points[q].next;
    (a[0] == kNoPoint ? a[0] : a[1]) = q;
    (b[0] == kNoPoint ? b[0] : b[1]) = p;
  }

  // Corners a (north-west), b (north-east), d (south-west), e (south-east).
  void join(const float* za, const float* zd, std::int32_t a, std::int32_t b, std::int32_t d, std::int32_t e,
            std::uint32_t top, std::uint32_t left, std::uint32_t right, std::uint32_t bottom) {
    const std::int32_t low = std::min({a, b, d, e}), high = std::max({a, b, d, e});
    for (std::int32_t k = low + 1; k <= high; ++k) {
      auto at = [k](std::uint32_t first, std::int32_t k0, std::int32_t k1) {
        return first + static_cast<std::uint32_t>(k - std::min(k0, k1) - 1);
      };
      const bool ha = a >= k, hb = b >= k, hd = d >= k, he = e >= k;
      std::uint32_t ends[4];
      int n = 0;
      if (ha != hb) ends[n++] = at(top, a, b);
      if (hb != he) ends[n++] = at(right, b, e);
      if (hd != he) ends[n++] = at(bottom, d, e);
      if (ha != hd) ends[n++] = at(left, a, d);
      if (n == 2) {
        link(ends[0], ends[1]);
      } else if (n == 4) {
        // The saddle of the bilinear surface lies at or above the level: the two high corners are joined.
        const double A = static_cast<double>(za[0]), B = static_cast<double>(za[1]), D = static_cast<double>(zd[0]),
                     E = static_cast<double>(zd[1]);
        const bool joined = (A * E - B * D) / (A + E - B - D) >= levels_.level(k);
        const bool around_ne = joined == ha;  // cut off the north-east and south-west corners
        link(ends[0], around_ne ? ends[1] : ends[3]);
        link(ends[2], around_ne ? ends[3] : ends[1]);
      }
    }
  }

  const Levels& levels_;
  const Block& block_;
  Bounded& bounded_;
  std::int64_t cols_;
  BandLines out_;
};

// A list that grows without being copied: the points of all lines are most of what memory holds.
template <class T>
class Chunks {
 public:
  std::size_t size() const { return size_; }
  void push_back(const T& value) {
    if (size_ >> kBits == parts_.size()) parts_.push_back(std::make_unique<T[]>(std::size_t{1} << kBits));
    (*this)[size_++] = value;
  }
  T& operator[](std::size_t i) { return parts_[i >> kBits][i & ((std::size_t{1} << kBits) - 1)]; }

 private:
  static constexpr int kBits = 14;
  std::vector<std::unique_ptr<T[]>> parts_;
  std::size_t size_ = 0;
};

// Bands in order; crossings on a shared row are the same place seen from both sides and are linked to each other. The
// two sides agree bit by bit, for both computed them from the same two values, so joining is counting along the row: no
// tolerance, and no line that ends a hair before its other half. Walking along the links afterwards gives whole lines;
// each is written down in one way (see `normalise`), so that the order of bands cannot be seen in the result.
class Stitcher {
 public:
  explicit Stitcher(const Frame& frame) : frame_(frame) {}

  void add(BandLines band) {
    const std::size_t shift = points_.size();
    if (shift + band.points.size() >= kNoPoint)
      throw Error(ErrorCode::TooLarge, "the contours have more than 2^32 points", "contours",
                  "take a longer interval, or clip first");
    const auto by = static_cast<std::uint32_t>(shift);
    for (Crossing p : band.points) {
      for (std::uint32_t& n : p.next)
        if (n != kNoPoint) n += by;
      points_.push_back(p);
    }
    for (std::size_t c = 0; c + 1 < band.first_row.size() && !last_row_.empty(); ++c) {
      if (last_row_[c] == kNoPoint || band.first_row[c] == kNoPoint) continue;
      const std::int32_t count = std::abs(band.first_steps[c] - band.first_steps[c + 1]);
      for (std::int32_t k = 0; k < count; ++k)
        weld(last_row_[c] + static_cast<std::uint32_t>(k), band.first_row[c] + by + static_cast<std::uint32_t>(k));
    }
    for (std::uint32_t& n : band.last_row)
      if (n != kNoPoint) n += by;
    last_row_ = std::move(band.last_row);
  }

  template <class Emit>
  void walk(const Emit& emit) {
    std::vector<bool> seen(points_.size(), false);
    auto follow = [&](std::uint32_t start, bool closed) {
      TracedLine line{.step = points_[start].step, .closed = closed, .points = {}};
      line.first = side_of(points_[start]);
      Higher higher = Higher::Unknown;
      std::uint32_t at = start, from = kNoPoint;
      while (at != kNoPoint && !seen[at]) {
        seen[at] = true;
        const Crossing& c = points_[at];
        const Point p = place_of(c);
        if (line.points.empty() || !(line.points.back() == p)) line.points.push_back(p);
        const std::uint32_t to = c.next[0] != from ? c.next[0] : c.next[1];
        if (higher == Higher::Unknown && to != kNoPoint) higher = side_of_higher(c, p, place_of(points_[to]));
        line.last = side_of(c);
        // Two points may be linked twice (a loop around one corner of two cells): then both links are the same.
        from = at;
        at = to;
      }
      if (closed && !line.points.empty() && !(line.points.front() == line.points.back()))
        line.points.push_back(line.points.front());
      line.higher_on_left = higher != Higher::Right;
      emit(std::move(line));
    };
    for (std::uint32_t i = 0; i < points_.size(); ++i)
      if (!seen[i] && (points_[i].next[0] == kNoPoint || points_[i].next[1] == kNoPoint)) follow(i, false);
    for (std::uint32_t i = 0; i < points_.size(); ++i)
      if (!seen[i]) follow(i, true);
  }

 private:
  enum class Higher { Unknown, Left, Right };

  Point place_of(const Crossing& c) const {
    const auto col = static_cast<double>(c.col), row = static_cast<double>(c.row);
    return frame_.centre(col + (c.down ? 0 : c.t), row + (c.down ? c.t : 0));
  }
  static LatticeSide side_of(const Crossing& c) { return {c.col, c.row, c.down}; }
  // A line crosses its side from one half of the plane to the other; which end of the side lies to its left?
  static Higher side_of_higher(const Crossing& c, Point from, Point to) {
    const double up_x = c.down ? 0 : (c.rises ? 1 : -1), up_y = c.down ? (c.rises ? -1 : 1) : 0;
    const double turn = (to.x - from.x) * up_y - (to.y - from.y) * up_x;
    return turn > 0 ? Higher::Left : turn < 0 ? Higher::Right : Higher::Unknown;
  }

  void weld(std::uint32_t p, std::uint32_t q) {
    auto put = [&](std::uint32_t at, std::uint32_t other) {
      auto& n = points_[at].next;
      (n[0] == kNoPoint ? n[0] : n[1]) = other;
    };
    put(p, q);
    put(q, p);
  }

  const Frame& frame_;
  Chunks<Crossing> points_;
  std::vector<std::uint32_t> last_row_;
};

// Of one band: how many sides between two known cells each step crosses, as differences between neighbours in a row of
// steps: what a side adds costs the same however many levels it crosses.
struct BandCounts {
  std::int32_t first = 0;
  std::vector<std::int64_t> change;
};
BandCounts counts_of(const Levels& levels, const Block& block, Bounded& bounded) {
  const auto n = static_cast<std::size_t>(block.window().cols);
  std::vector<std::vector<std::int32_t>> rows(static_cast<std::size_t>(block.window().rows),
                                              std::vector<std::int32_t>(n));
  std::int32_t low = std::numeric_limits<std::int32_t>::max(), high = kVoidStep;
  for (std::size_t r = 0; r < rows.size(); ++r) {
    if (!levels.steps(block.row(static_cast<std::int64_t>(r)), block.window().cols, rows[r].data()))
      throw TooManyLevels();
    for (const std::int32_t s : rows[r])
      if (s != kVoidStep) {
        low = std::min(low, s);
        high = std::max(high, s);
      }
  }
  if (low > high) return {};
  if (!bounded.add_steps(low, high)) throw TooManyLevels();
  BandCounts out{low, std::vector<std::int64_t>(static_cast<std::size_t>(high - low) + 2, 0)};
  auto side = [&](std::int32_t a, std::int32_t b) {
    if (a == b || a == kVoidStep || b == kVoidStep) return;
    ++out.change[static_cast<std::size_t>(std::min(a, b) + 1 - low)];
    --out.change[static_cast<std::size_t>(std::max(a, b) + 1 - low)];
  };
  // A row that two bands share counts in both, as their crossings do while lines are traced.
  for (std::size_t r = 0; r < rows.size(); ++r)
    for (std::size_t c = 0; c + 1 < n; ++c) side(rows[r][c], rows[r][c + 1]);
  for (std::size_t r = 0; r + 1 < rows.size(); ++r)
    for (std::size_t c = 0; c < n; ++c) side(rows[r][c], rows[r + 1][c]);
  return out;
}

}  // namespace

void trace_lines(const Grid& surface, const Levels& levels, const RunOptions& run,
                 const std::function<void(TracedLine)>& emit) {
  const Frame& f = surface.frame();
  if (f.rows() < 2 || f.cols() < 2) return;
  Bounded bounded(run.memory);
  const std::int64_t rows = band_rows(f.cols(), run);
  const auto bands = static_cast<std::size_t>((f.rows() - 1 + rows - 1) / rows);
  Stitcher stitcher(f);
  parallel_ordered(
      bands, static_cast<std::size_t>(2 * thread_count(run)), run,
      [&](std::size_t i) -> std::shared_ptr<void> {
        const std::int64_t first = static_cast<std::int64_t>(i) * rows;
        const Block block = surface.read({0, first, f.cols(), std::min(rows, f.rows() - 1 - first) + 1});
        return std::make_shared<BandLines>(BandTracer(levels, block, bounded).run());
      },
      [&](std::size_t, std::shared_ptr<void> lines) {
        stitcher.add(std::move(*static_cast<BandLines*>(lines.get())));
      });
  stitcher.walk(emit);
}

std::vector<std::pair<std::int32_t, std::uint64_t>> points_by_step(const Grid& surface, const Levels& levels,
                                                                   const RunOptions& run) {
  const Frame& f = surface.frame();
  Bounded bounded(run.memory);
  const std::int64_t rows = band_rows(f.cols(), run);
  const auto bands = static_cast<std::size_t>((f.rows() - 1 + rows - 1) / rows);
  std::map<std::int32_t, std::int64_t> change;
  parallel_ordered(
      bands, static_cast<std::size_t>(2 * thread_count(run)), run,
      [&](std::size_t i) -> std::shared_ptr<void> {
        const std::int64_t first = static_cast<std::int64_t>(i) * rows;
        const Block block = surface.read({0, first, f.cols(), std::min(rows, f.rows() - 1 - first) + 1});
        return std::make_shared<BandCounts>(counts_of(levels, block, bounded));
      },
      [&](std::size_t, std::shared_ptr<void> made) {
        const auto& counts = *static_cast<BandCounts*>(made.get());
        for (std::size_t k = 0; k < counts.change.size(); ++k)
          if (counts.change[k] != 0) change[counts.first + static_cast<std::int32_t>(k)] += counts.change[k];
      });
  std::vector<std::pair<std::int32_t, std::uint64_t>> out;
  std::int64_t now = 0;
  for (auto at = change.begin(); at != change.end(); ++at) {
    now += at->second;
    if (now <= 0) continue;
    const auto next = std::next(at);
    for (std::int32_t k = at->first; next != change.end() && k < next->first; ++k)
      out.emplace_back(k, static_cast<std::uint64_t>(now));
  }
  return out;
}

}  // namespace katoptra
