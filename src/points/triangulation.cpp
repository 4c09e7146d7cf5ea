#include "katoptra/points/triangulation.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <numeric>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "predicates.hpp"

namespace katoptra {

using exact::in_circle;
using exact::turn;

// Triangulates ranges of sorted points. Edges of a range come from a pool of its own, so that two ranges may be worked
// on at once.
class TriangulationBuilder {
 public:
  explicit TriangulationBuilder(Triangulation& t) : p_(t.sorted_.data()), e_(t.edges_.data()) {}

  // An edge of the hull with the outside on its left. `pool`: its unused edges, a list through `after`.
  int build(int first, int last, bool by_x, int& pool, int threads_left) {
    const int n = last - first;
    if (n <= 3) return small(first, n, pool);
    const int middle = first + n / 2;
    auto* begin = p_ + first;
    if (by_x)
      std::nth_element(begin, p_ + middle, p_ + last,
                       [](const auto& a, const auto& b) { return a.x != b.x ? a.x < b.x : a.y < b.y; });
    else
      std::nth_element(begin, p_ + middle, p_ + last,
                       [](const auto& a, const auto& b) { return a.y != b.y ? a.y < b.y : a.x > b.x; });
    int left = 0, right = 0;
    if (threads_left > 1 && n > 20000) {
      int right_pool = split_pool(pool, last - middle);
      parallel_within(2, [&](std::size_t side) {
        if (side == 0)
          left = build(first, middle, !by_x, pool, threads_left / 2);
        else
          right = build(middle, last, !by_x, right_pool, threads_left / 2);
      });
      join_pools(pool, right_pool);
    } else {
      left = build(first, middle, !by_x, pool, 0);
      right = build(middle, last, !by_x, pool, 0);
    }
    return merge(left, right, by_x, pool);
  }

  // Unused edges [first, last) as a list.
  void fill_pool(int& pool, int first, int last) {
    for (int e = first; e < last; ++e) e_[2 * e].after = e + 1 < last ? 2 * (e + 1) : -1;
    pool = first < last ? 2 * first : -1;
  }

 private:
  int after(int e) const { return e_[e].after; }
  int before(int e) const { return e_[e].before; }
  int next_left(int e) const { return e_[e ^ 1].before; }
  int last_right(int e) const { return e_[e ^ 1].after; }
  const Triangulation::Sorted& from(int e) const { return p_[e_[e].from]; }
  const Triangulation::Sorted& to(int e) const { return p_[e_[e ^ 1].from]; }

  // Three edges a point are always enough for a planar graph.
  int split_pool(int& pool, int points) {
    int e = pool;
    for (int i = 1; i < 3 * points; ++i) e = e_[e].after;
    const int rest = e_[e].after;
    e_[e].after = -1;
    const int taken = pool;
    pool = rest;
    return taken;
  }
  void join_pools(int& pool, int other) {
    if (other < 0) return;
    int e = other;
    while (e_[e].after >= 0) e = e_[e].after;
    e_[e].after = pool;
    pool = other;
  }

  int make(int a, int b, int& pool) {
    const int e = pool;
    pool = e_[e].after;
    e_[e] = {a, e, e};
    e_[e ^ 1] = {b, e ^ 1, e ^ 1};
    return e;
  }
  void splice(int a, int b) {
    std::swap(e_[a].after, e_[b].after);
    e_[e_[a].after].before = a;
    e_[e_[b].after].before = b;
  }
  int connect(int a, int b, int& pool) {
    const int e = make(e_[a ^ 1].from, e_[b].from, pool);
    splice(e, next_left(a));
    splice(e ^ 1, b);
    return e;
  }
  void remove(int e, int& pool) {
    splice(e, before(e));
    splice(e ^ 1, before(e ^ 1));
    e &= ~1;
    e_[e].from = -1;
    e_[e ^ 1].from = -1;
    e_[e].after = pool;
    pool = e;
  }

  int small(int first, int n, int& pool) {
    if (n == 2) return make(first, first + 1, pool);
    int a = first, b = first + 1, c = first + 2;
    auto by_place = [&](int i, int k) { return exact::comes_before(p_[i], p_[k]); };
    if (by_place(b, a)) std::swap(a, b);
    if (by_place(c, b)) std::swap(b, c);
    if (by_place(b, a)) std::swap(a, b);
    const int ab = make(a, b, pool), bc = make(b, c, pool);
    splice(ab ^ 1, bc);
    const std::int64_t side = turn(p_[a], p_[b], p_[c]);
    if (side == 0) return ab;
    const int ca = connect(bc, ab, pool);
    return side > 0 ? ca ^ 1 : ca;
  }

  bool is_left_of(const Triangulation::Sorted& p, int e) const { return turn(p, from(e), to(e)) > 0; }
  bool is_right_of(const Triangulation::Sorted& p, int e) const { return turn(p, to(e), from(e)) > 0; }

  // The edge of the hull (outside on its left) that leaves the last (or first) point along the axis of the cut.
  int at_extreme(int hull, bool by_x, bool last) const {
    auto key_less = [&](const Triangulation::Sorted& a, const Triangulation::Sorted& b) {
      return by_x ? (a.x != b.x ? a.x < b.x : a.y < b.y) : (a.y != b.y ? a.y < b.y : a.x > b.x);
    };
    int best = hull;
    for (int e = next_left(hull); e != hull; e = next_left(e))
      if (last ? key_less(from(best), from(e)) : key_less(from(e), from(best))) best = e;
    return best;
  }

  int merge(int left, int right, bool by_x, int& pool) {
    int l = at_extreme(left, by_x, true);           // clockwise edge out of the left hull's last point
    int r = after(at_extreme(right, by_x, false));  // counter-clockwise edge out of the right hull's first point
    for (;;) {
      if (is_left_of(from(r), l))
        l = next_left(l);
      else if (is_right_of(from(l), r))
        r = last_right(r);
      else
        break;
    }
    int base = connect(r ^ 1, l, pool);
    const int hull = base;
    rise(base, pool);
    return hull;
  }

  // Sews the two sides together from the lower tangent upwards.
  void rise(int base, int& pool) {
    for (;;) {
      int l = after(base ^ 1);
      if (is_right_of(to(l), base))
        while (is_right_of(to(after(l)), base) && in_circle(to(base), from(base), to(l), to(after(l)))) {
          const int t = after(l);
          remove(l, pool);
          l = t;
        }
      int r = before(base);
      if (is_right_of(to(r), base))
        while (is_right_of(to(before(r)), base) && in_circle(to(base), from(base), to(r), to(before(r)))) {
          const int t = before(r);
          remove(r, pool);
          r = t;
        }
      const bool use_l = is_right_of(to(l), base), use_r = is_right_of(to(r), base);
      if (!use_l && !use_r) return;
      if (!use_l || (use_r && in_circle(to(l), from(l), from(r), to(r))))
        base = connect(r, base ^ 1, pool);
      else
        base = connect(base ^ 1, l ^ 1, pool);
    }
  }

  Triangulation::Sorted* p_;
  Triangulation::Edge* e_;
};

Triangulation::Triangulation(std::span<const LatticePoint> points) : given_(points.begin(), points.end()) {
  build(nullptr);
}
Triangulation::Triangulation(std::span<const LatticePoint> points, const RunOptions& run)
    : given_(points.begin(), points.end()) {
  build(&run);
}

void Triangulation::build(const RunOptions* run) {
  sorted_.reserve(given_.size());
  for (std::size_t i = 0; i < given_.size(); ++i) {
    const LatticePoint& p = given_[i];
    if (std::abs(p.x) > kFarthestLattice || std::abs(p.y) > kFarthestLattice)
      throw Error(ErrorCode::TooLarge, "points lie too far apart to be triangulated at once", {},
                  "take them in parts, or in coarser steps");
    sorted_.push_back({p.x, p.y, static_cast<std::int32_t>(i)});
  }
  // Points at one place: the first of them stays.
  std::sort(sorted_.begin(), sorted_.end(), [](const Sorted& a, const Sorted& b) {
    return a.x != b.x ? a.x < b.x : a.y != b.y ? a.y < b.y : a.id < b.id;
  });
  sorted_.erase(std::unique(sorted_.begin(), sorted_.end(),
                            [](const Sorted& a, const Sorted& b) { return a.x == b.x && a.y == b.y; }),
                sorted_.end());
  const auto n = static_cast<int>(sorted_.size());
  if (n < 2) return;
  edges_.resize(static_cast<std::size_t>(6 * n));
  TriangulationBuilder builder(*this);
  int pool = -1;
  builder.fill_pool(pool, 0, 3 * n);
  if (run)
    parallel_for(1, *run, [&](std::size_t) { builder.build(0, n, false, pool, thread_count(*run)); });
  else
    builder.build(0, n, false, pool, 1);
}

bool Triangulation::has_triangle(int e) const {
  if (edges_[static_cast<std::size_t>(e)].from < 0) return false;
  const int b = next_left(e), c = next_left(b);
  if (next_left(c) != e || b == (e ^ 1)) return false;
  return exact::turn(point(from(e)), point(from(b)), point(from(c))) > 0;
}

void Triangulation::for_each_triangle(const std::function<void(int, int, int)>& body) const {
  for (int e = 0; e < half_edges(); ++e) {
    if (edges_[static_cast<std::size_t>(e)].from < 0) continue;
    const int b = next_left(e), c = next_left(b);
    if (b < e || c < e || !has_triangle(e)) continue;
    body(from(e), from(b), from(c));
  }
}

std::size_t Triangulation::triangles() const {
  std::size_t n = 0;
  for_each_triangle([&](int, int, int) { ++n; });
  return n;
}

}  // namespace katoptra
