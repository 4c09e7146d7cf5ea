#include "katoptra/points/triangulation.hpp"

#include <algorithm>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "cell_order.hpp"
#include "predicates.hpp"

namespace katoptra {

using exact::in_circle;
using exact::turn;

// Triangulates ranges of points. A range of points has edges of its own to take, three a point, which are always enough
// for a planar graph, so that two ranges may be worked on at once.
class TriangulationBuilder {
 public:
  using Vertex = Triangulation::Vertex;

  TriangulationBuilder(Triangulation& t, const CellOrder& order)
      : p_(t.sorted_.data()), e_(t.edges_.data()), order_(order) {}

  // All of them, at least two; `tasks`: into how many pieces the work may be cut for as many threads. True when the
  // outside has three edges.
  bool build(int tasks) {
    const int n = static_cast<int>(order_.begin(order_.cells()));
    Pool pool = pool_of(0, n);
    const int hull = build_cells(0, 0, pool, tasks);
    clear_rest(pool);
    return next_left(next_left(next_left(hull))) == hull;
  }

 private:
  // Edges that nobody uses: some that were given back, a list through `after`, and [next, end).
  struct Pool {
    int given_back = -1, next = 0, end = 0;
  };
  static constexpr int kFew = 6;              // points, for which cells are too fine
  static constexpr int kWorthATask = 20'000;  // points

  // The cells of one half, at whatever depth. An edge of the hull with the outside on its left.
  int build_cells(std::size_t cell, int depth, Pool& pool, int tasks) {
    const std::size_t half = (order_.cells() >> depth) / 2;
    const int first = begin(cell), middle = begin(cell + half), last = begin(cell + (order_.cells() >> depth));
    // A point alone has no hull to be sewn to.
    const bool by_cells = last - first > kFew && depth < order_.depth() && middle - first != 1 && last - middle != 1;
    if (!by_cells) return build_by_medians(first, last, axis_at(depth), pool);
    if (middle == last) return build_cells(cell, depth + 1, pool, tasks);
    if (middle == first) return build_cells(cell + half, depth + 1, pool, tasks);
    int left = 0, right = 0;
    if (tasks > 1 && last - first > kWorthATask) {
      Pool pools[2] = {pool_of(first, middle), pool_of(middle, last)};
      parallel_within(2, [&](std::size_t side) {
        (side == 0 ? left : right) = build_cells(side == 0 ? cell : cell + half, depth + 1, pools[side], tasks / 2);
      });
      pool = joined(pools[0], pools[1]);
    } else {
      left = build_cells(cell, depth + 1, pool, 0);
      right = build_cells(cell + half, depth + 1, pool, 0);
    }
    return merge(left, right, order_.cuts_x(depth), pool);
  }
  int begin(std::size_t cell) const { return static_cast<int>(order_.begin(cell)); }
  // Below the last halving: across it.
  bool axis_at(int depth) const {
    return depth < order_.depth() ? order_.cuts_x(depth) : depth == 0 || !order_.cuts_x(depth - 1);
  }

  // Where cells do not serve: halves of as many points, in alternating directions.
  int build_by_medians(int first, int last, bool by_x, Pool& pool) {
    const int n = last - first;
    if (n <= 3) return small(first, n, pool);
    const int middle = first + n / 2;
    std::nth_element(p_ + first, p_ + middle, p_ + last,
                     [by_x](const Vertex& a, const Vertex& b) { return comes_first(a, b, by_x); });
    const int left = build_by_medians(first, middle, !by_x, pool), right = build_by_medians(middle, last, !by_x, pool);
    return merge(left, right, by_x, pool);
  }
  static bool comes_first(const Vertex& a, const Vertex& b, bool by_x) {
    return by_x ? (a.x != b.x ? a.x < b.x : a.y < b.y) : (a.y != b.y ? a.y < b.y : a.x > b.x);
  }

  static Pool pool_of(int first, int last) { return {-1, 6 * first, 6 * last}; }
  Pool joined(Pool a, Pool b) {
    for (; a.next < a.end; a.next += 2) give_back(a.next, a);
    if (a.given_back >= 0) {
      int e = a.given_back;
      while (e_[e].after >= 0) e = e_[e].after;
      e_[e].after = b.given_back;
      b.given_back = a.given_back;
    }
    return b;
  }
  void give_back(int e, Pool& pool) {
    e_[e] = {-1, pool.given_back, 0};
    e_[e ^ 1] = {-1, 0, 0};
    pool.given_back = e;
  }
  void clear_rest(const Pool& pool) {
    for (int e = pool.next; e < pool.end; ++e) e_[e] = {-1, 0, 0};
  }

  int after(int e) const { return e_[e].after; }
  int before(int e) const { return e_[e].before; }
  int next_left(int e) const { return e_[e ^ 1].before; }
  int last_right(int e) const { return e_[e ^ 1].after; }
  const Vertex& from(int e) const { return p_[e_[e].from]; }
  const Vertex& to(int e) const { return p_[e_[e ^ 1].from]; }

  int make(int a, int b, Pool& pool) {
    int e = pool.given_back;
    if (e >= 0) {
      pool.given_back = e_[e].after;
    } else {
      e = pool.next;
      pool.next += 2;
    }
    e_[e] = {a, e, e};
    e_[e ^ 1] = {b, e ^ 1, e ^ 1};
    return e;
  }
  void splice(int a, int b) {
    std::swap(e_[a].after, e_[b].after);
    e_[e_[a].after].before = a;
    e_[e_[b].after].before = b;
  }
  int connect(int a, int b, Pool& pool) {
    const int e = make(e_[a ^ 1].from, e_[b].from, pool);
    splice(e, next_left(a));
    splice(e ^ 1, b);
    return e;
  }
  void remove(int e, Pool& pool) {
    splice(e, before(e));
    splice(e ^ 1, before(e ^ 1));
    give_back(e & ~1, pool);
  }

  int small(int first, int n, Pool& pool) {
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

  bool is_left_of(const Vertex& p, int e) const { return turn(p, from(e), to(e)) > 0; }
  bool is_right_of(const Vertex& p, int e) const { return turn(p, to(e), from(e)) > 0; }

  // The edge of the hull (outside on its left) that leaves the last (or first) point along the axis of the cut.
  int at_extreme(int hull, bool by_x, bool last) const {
    int best = hull;
    for (int e = next_left(hull); e != hull; e = next_left(e))
      if (last ? comes_first(from(best), from(e), by_x) : comes_first(from(e), from(best), by_x)) best = e;
    return best;
  }

  int merge(int left, int right, bool by_x, Pool& pool) {
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

  // Sews the two sides together from the lower tangent upwards. On each side the next point is the one whose circle
  // with the base holds no other of that side; edges in the way of that are removed.
  void rise(int base, Pool& pool) {
    for (;;) {
      const Vertex a = from(base), b = to(base);
      const auto above = [&](const Vertex& p) { return turn(p, b, a) > 0; };
      int l = after(base ^ 1);
      Vertex left = to(l);
      const bool use_l = above(left);
      while (use_l) {
        const int t = after(l);
        const Vertex other = to(t);
        if (!above(other) || !in_circle(b, a, left, other)) break;
        remove(l, pool);
        l = t;
        left = other;
      }
      int r = before(base);
      Vertex right = to(r);
      const bool use_r = above(right);
      while (use_r) {
        const int t = before(r);
        const Vertex other = to(t);
        if (!above(other) || !in_circle(b, a, right, other)) break;
        remove(r, pool);
        r = t;
        right = other;
      }
      if (!use_l && !use_r) return;
      if (!use_l || (use_r && in_circle(left, b, a, right)))
        base = connect(r, base ^ 1, pool);
      else
        base = connect(base ^ 1, l ^ 1, pool);
    }
  }

  Vertex* p_;
  Triangulation::Edge* e_;
  const CellOrder& order_;
};

Triangulation::Triangulation(std::span<const LatticePoint> points) : given_(points.begin(), points.end()) {
  build(nullptr);
}
Triangulation::Triangulation(std::span<const LatticePoint> points, const RunOptions& run)
    : given_(points.begin(), points.end()) {
  build(&run);
}

void Triangulation::build(const RunOptions* run) {
  if (!run) return build_on(1);
  parallel_for(1, *run, [&](std::size_t) { build_on(static_cast<std::size_t>(thread_count(*run))); });
}

void Triangulation::build_on(std::size_t threads) {
  static_assert(kTriangulationBytes == sizeof(LatticePoint) + sizeof(Vertex) + 6 * sizeof(Edge));
  sorted_.reserve(given_.size());
  for (std::size_t i = 0; i < given_.size(); ++i) {
    const LatticePoint& p = given_[i];
    if (std::abs(p.x) > kFarthestLattice || std::abs(p.y) > kFarthestLattice)
      throw Error(ErrorCode::TooLarge, "points lie too far apart to be triangulated at once", {},
                  "take them in parts, or in coarser steps");
    sorted_.push_back({p.x, p.y, static_cast<std::int32_t>(i)});
  }
  constexpr std::size_t kWorthAPiece = 100'000, kMostPieces = 8;
  CellOrder order(
      sorted_,
      [](const Vertex& a, const Vertex& b) { return a.x != b.x   ? a.x < b.x
                                                    : a.y != b.y ? a.y < b.y
                                                                 : a.id < b.id; },
      std::clamp<std::size_t>(sorted_.size() / kWorthAPiece, 1, std::min(threads, kMostPieces)));
  // Points at one place: the first of them stays.
  order.drop_repeated(sorted_, [](const Vertex& a, const Vertex& b) { return a.x == b.x && a.y == b.y; });
  if (sorted_.size() < 2) return;
  edges_.resize(6 * sorted_.size());
  // A few pieces a thread, for halves need not hold as many points.
  outside_has_three_ = TriangulationBuilder(*this, order).build(threads > 1 ? static_cast<int>(4 * threads) : 1);
}

bool Triangulation::turns_left(int a, int b, int c) const { return turn(vertex(a), vertex(b), vertex(c)) > 0; }

void Triangulation::for_each_triangle(const std::function<void(int, int, int)>& body) const {
  for_each_triangle_by_edges([&](int a, int b, int c) {
    body(vertex(a).id, vertex(b).id, vertex(c).id);
    return true;
  });
}

std::size_t Triangulation::triangles() const {
  std::size_t n = 0;
  for_each_triangle_by_edges([&](int, int, int) {
    ++n;
    return true;
  });
  return n;
}

}  // namespace katoptra
