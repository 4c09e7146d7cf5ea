// All segments stand in a lattice of boxes twice, as they are and as they were. A point moves from b to m while its
// neighbours a and c stay: the line sweeps over the triangles a b m and b c m. If no corner of another segment lies in
// them and neither of the new segments a m and m c meets another segment, then nothing has changed sides: what had been
// apart is apart, in the same order. The same holds for leaving points out, with the polygon between old and new. What
// cannot be done so is left as it is; the order is fixed, so the result is the same every time.
#include "smooth_lines.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <initializer_list>
#include <utility>

#include "geo/flat_distance.hpp"

namespace katoptra {
namespace {

constexpr std::uint32_t kNone = 0xFFFFFFFFu;
constexpr int kRounds = 12;
constexpr double kPull = 0.5, kPush = -0.52;
constexpr std::size_t kLongestStep = 48;  // points left out between two

double side_of(Point a, Point b, Point p) { return (b.x - a.x) * (p.y - a.y) - (b.y - a.y) * (p.x - a.x); }

bool on_box(Point a, Point b, Point p) {
  return std::min(a.x, b.x) <= p.x && p.x <= std::max(a.x, b.x) && std::min(a.y, b.y) <= p.y &&
         p.y <= std::max(a.y, b.y);
}
// Touching counts.
bool meet(Point a, Point b, Point c, Point d) {
  const double c_of = side_of(a, b, c), d_of = side_of(a, b, d), a_of = side_of(c, d, a), b_of = side_of(c, d, b);
  if (((c_of > 0 && d_of < 0) || (c_of < 0 && d_of > 0)) && ((a_of > 0 && b_of < 0) || (a_of < 0 && b_of > 0)))
    return true;
  return (c_of == 0 && on_box(a, b, c)) || (d_of == 0 && on_box(a, b, d)) || (a_of == 0 && on_box(c, d, a)) ||
         (b_of == 0 && on_box(c, d, b));
}
bool in_triangle(Point a, Point b, Point c, Point p) {
  const double u = side_of(a, b, p), v = side_of(b, c, p), w = side_of(c, a, p);
  return (u >= 0 && v >= 0 && w >= 0) || (u <= 0 && v <= 0 && w <= 0);
}
double from_segment(Point a, Point b, Point p) {
  const double dx = b.x - a.x, dy = b.y - a.y, length = dx * dx + dy * dy;
  const double t = length > 0 ? std::clamp(((p.x - a.x) * dx + (p.y - a.y) * dy) / length, 0.0, 1.0) : 0;
  return std::hypot(p.x - a.x - t * dx, p.y - a.y - t * dy);
}

Bounds box_of(std::initializer_list<Point> points) {
  Bounds b;
  for (const Point p : points) b.include(p);
  return b;
}

bool misses(const Bounds& box, Point a, Point b) {
  return (a.x < box.west && b.x < box.west) || (a.x > box.east && b.x > box.east) ||
         (a.y < box.south && b.y < box.south) || (a.y > box.north && b.y > box.north);
}

// Segments, by the number of the point that they begin at.
class Boxes {
 public:
  Boxes(const Bounds& all, double size) : west_(all.west), south_(all.south), size_(size) {
    cols_ = static_cast<std::int64_t>(all.width() / size) + 1;
    rows_ = static_cast<std::int64_t>(all.height() / size) + 1;
    boxes_.resize(static_cast<std::size_t>(cols_ * rows_));
  }
  void add(std::uint32_t segment, Point a, Point b) {
    each(box_of({a, b}), [&](auto& box) {
      box.push_back(segment);
      return true;
    });
  }
  void remove(std::uint32_t segment, Point a, Point b) {
    each(box_of({a, b}), [&](auto& box) {
      if (const auto at = std::find(box.begin(), box.end(), segment); at != box.end()) {
        *at = box.back();
        box.pop_back();
      }
      return true;
    });
  }
  // Whether `is` holds of one of the segments near.
  template <class Is>
  bool any(const Bounds& near, const Is& is) {
    return !each(near, [&](const auto& box) { return std::none_of(box.begin(), box.end(), is); });
  }

 private:
  // Of every box until one says no.
  template <class Do>
  bool each(const Bounds& b, const Do& what) {
    auto at = [&](double v, double from, std::int64_t n) {
      return std::clamp(static_cast<std::int64_t>((v - from) / size_), std::int64_t{0}, n - 1);
    };
    const std::int64_t west = at(b.west, west_, cols_), east = at(b.east, west_, cols_),
                       south = at(b.south, south_, rows_), north = at(b.north, south_, rows_);
    for (std::int64_t r = south; r <= north; ++r)
      for (std::int64_t c = west; c <= east; ++c)
        if (!what(boxes_[static_cast<std::size_t>(r * cols_ + c)])) return false;
    return true;
  }

  double west_, south_, size_;
  std::int64_t cols_ = 1, rows_ = 1;
  std::vector<std::vector<std::uint32_t>> boxes_;
};

class Smoother {
 public:
  Smoother(std::vector<ContourLine>& lines, double tolerance, double x, double y)
      : lines_(lines), half_(tolerance / 2), x_(x), y_(y) {
    if (!lines_.empty()) origin_ = lines_.front().points.front();
    for (std::size_t i = 0; i < lines_.size(); ++i) take(i);
    was_ = now_;
    old_after_ = after_;
  }

  void run() {
    if (now_.empty()) return;
    index();
    for (int round = 0; round < kRounds; ++round)
      for (const double share : {kPull, kPush})
        for (std::uint32_t i = 0; i < now_.size(); ++i) pull(i, share);
    for (std::size_t i = 0; i < lines_.size(); ++i) thin(i);
  }

 private:
  void take(std::size_t number) {
    const ContourLine& l = lines_[number];
    const std::size_t n = l.points.size() - (l.closed ? 1 : 0);
    const auto first = static_cast<std::uint32_t>(now_.size());
    first_.push_back(first);
    for (std::size_t i = 0; i < n; ++i) {
      const auto id = static_cast<std::uint32_t>(first + i);
      now_.push_back({(l.points[i].x - origin_.x) * x_, (l.points[i].y - origin_.y) * y_});
      level_.push_back(l.level);
      before_.push_back(i > 0 ? id - 1 : l.closed ? static_cast<std::uint32_t>(first + n - 1) : kNone);
      after_.push_back(i + 1 < n ? id + 1 : l.closed ? first : kNone);
    }
  }

  void index() {
    Bounds all;
    double length = 0;
    for (std::uint32_t i = 0; i < now_.size(); ++i) {
      all.include(now_[i]);
      if (after_[i] != kNone) length += flat_distance(now_[i], now_[after_[i]]);
    }
    all = all.grown(2 * half_);
    const auto n = static_cast<double>(now_.size());
    // About a segment a box, and not more boxes than segments where lines are few.
    const double size = std::max({half_, 1.5 * length / n, std::sqrt(all.width() * all.height() / n)});
    boxes_ = Boxes(all, size);
    old_boxes_ = Boxes(all, size);
    for (std::uint32_t i = 0; i < now_.size(); ++i)
      if (after_[i] != kNone) {
        boxes_.add(i, now_[i], now_[after_[i]]);
        old_boxes_.add(i, now_[i], now_[after_[i]]);
      }
  }

  Point old_end(std::uint32_t segment) const { return was_[old_after_[segment]]; }

  void pull(std::uint32_t b, double share) {
    const std::uint32_t a = before_[b], c = after_[b];
    if (a == kNone || c == kNone || a == c) return;
    Point to{now_[b].x + share * ((now_[a].x + now_[c].x) / 2 - now_[b].x),
             now_[b].y + share * ((now_[a].y + now_[c].y) / 2 - now_[b].y)};
    if (const double away = flat_distance(was_[b], to); away > half_) {
      to.x = was_[b].x + (to.x - was_[b].x) * half_ / away;
      to.y = was_[b].y + (to.y - was_[b].y) * half_ / away;
    }
    if (to == now_[b] || to == now_[a] || to == now_[c] || !may_move(a, b, c, to)) return;
    boxes_.remove(a, now_[a], now_[b]);
    boxes_.remove(b, now_[b], now_[c]);
    now_[b] = to;
    boxes_.add(a, now_[a], to);
    boxes_.add(b, to, now_[c]);
  }

  bool may_move(std::uint32_t a, std::uint32_t b, std::uint32_t c, Point to) {
    const Point pa = now_[a], pb = now_[b], pc = now_[c];
    const Bounds near = box_of({pa, pb, pc, to});
    auto swept = [&](Point p) { return in_triangle(pa, pb, to, p) || in_triangle(pb, pc, to, p); };
    const bool blocked = boxes_.any(near, [&](std::uint32_t s) {
      if (s == a || s == b) return false;
      const std::uint32_t e = after_[s];
      const Point from = now_[s], end = now_[e];
      if (misses(near, from, end)) return false;
      if (s != c && swept(from)) return true;
      if (e != a && swept(end)) return true;
      return (e != a && meet(pa, to, from, end)) || (s != c && meet(to, pc, from, end));
    });
    return !blocked && !old_boxes_.any(near, [&](std::uint32_t s) {
      if (level_[s] == level_[b]) return false;
      const Point from = was_[s], end = old_end(s);
      if (misses(near, from, end)) return false;
      return swept(from) || swept(end) || meet(pa, to, from, end) || meet(to, pc, from, end);
    });
  }

  // From point to point as far as all between lie near the straight way.
  void thin(std::size_t number) {
    ContourLine& l = lines_[number];
    const std::uint32_t first = first_[number];
    const std::size_t n = l.points.size() - (l.closed ? 1 : 0);
    const std::size_t most = l.closed ? std::max<std::size_t>(1, std::min(kLongestStep, n / 3)) : kLongestStep;
    std::vector<std::uint32_t> kept{first};
    // Of a closed line the last step comes back to the first point.
    const std::size_t end = l.closed ? n : n - 1;
    auto id = [&](std::size_t i) { return static_cast<std::uint32_t>(first + (i == n ? 0 : i)); };
    for (std::size_t i = 0; i < end;) {
      std::size_t best = i + 1;
      while (best < std::min(end, i + most) && is_straight(id, i, best + 1)) ++best;
      // As far as that, else as near as it takes.
      while (best > i + 1 && !may_skip(id, i, best)) best = i + std::max<std::size_t>(1, (best - i) * 2 / 3);
      if (best > i + 1) {
        for (std::size_t k = i; k < best; ++k) boxes_.remove(id(k), now_[id(k)], now_[id(k + 1)]);
        after_[id(i)] = id(best);
        before_[id(best)] = id(i);
        boxes_.add(id(i), now_[id(i)], now_[id(best)]);
      }
      i = best;
      if (i < end || !l.closed) kept.push_back(id(i));
    }
    LineString out;
    for (const std::uint32_t k : kept) out.push_back({now_[k].x / x_ + origin_.x, now_[k].y / y_ + origin_.y});
    if (l.closed) out.push_back(out.front());
    // What stays where it was keeps its digits.
    if (!l.closed) {
      out.front() = l.points.front();
      out.back() = l.points.back();
    }
    l.points = std::move(out);
  }

  template <class Id>
  bool is_straight(const Id& id, std::size_t i, std::size_t j) const {
    for (std::size_t k = i + 1; k < j; ++k)
      if (from_segment(now_[id(i)], now_[id(j)], now_[id(k)]) > half_) return false;
    return true;
  }
  template <class Id>
  bool may_skip(const Id& id, std::size_t i, std::size_t j) {
    const Point from = now_[id(i)], to = now_[id(j)];
    Ring swept;
    Bounds near;
    for (std::size_t k = i; k <= j; ++k) {
      swept.push_back(now_[id(k)]);
      near.include(swept.back());
    }
    swept.push_back(swept.front());
    const MultiPolygon area{{swept, {}}};
    auto own = [&](std::uint32_t p) {
      for (std::size_t k = i; k <= j; ++k)
        if (id(k) == p) return true;
      return false;
    };
    const bool blocked = boxes_.any(near, [&](std::uint32_t s) {
      const std::uint32_t e = after_[s];
      if (misses(near, now_[s], now_[e])) return false;
      if (own(s) && own(e)) return s == id(j) && e == id(i);  // the two ends are joined already
      if ((!own(s) && contains(area, now_[s])) || (!own(e) && contains(area, now_[e]))) return true;
      if (s == id(j) || e == id(i)) return false;
      return meet(from, to, now_[s], now_[e]);
    });
    return !blocked && !old_boxes_.any(near, [&](std::uint32_t s) {
      if (level_[s] == level_[id(i)] || misses(near, was_[s], old_end(s))) return false;
      return contains(area, was_[s]) || meet(from, to, was_[s], old_end(s));
    });
  }

  std::vector<ContourLine>& lines_;
  double half_, x_, y_;
  Point origin_;
  std::vector<Point> now_, was_;
  std::vector<double> level_;
  std::vector<std::uint32_t> before_, after_, old_after_, first_;
  Boxes boxes_{Bounds{0, 0, 1, 1}, 1}, old_boxes_{Bounds{0, 0, 1, 1}, 1};
};

}  // namespace

void smooth_lines(std::vector<ContourLine>& lines, double tolerance, double x, double y) {
  if (tolerance > 0) Smoother(lines, tolerance, x, y).run();
}

}  // namespace katoptra
