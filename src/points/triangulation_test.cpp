#include "katoptra/points/triangulation.hpp"

#include <algorithm>
#include <array>
#include <functional>
#include <limits>
#include <set>

#include "cell_order.hpp"
#include "point_testing.hpp"
#include "predicates.hpp"

namespace katoptra {
namespace {

using namespace testing;
using Triangles = std::set<std::array<int, 3>>;

std::array<int, 3> canonical(int a, int b, int c) {
  std::array<int, 3> t{a, b, c};
  std::rotate(t.begin(), std::min_element(t.begin(), t.end()), t.end());
  return t;
}
Triangles triangles_of(const Triangulation& t) {
  Triangles out;
  t.for_each_triangle([&](int a, int b, int c) { out.insert(canonical(a, b, c)); });
  return out;
}
// Few points on small lattices, on one line, many at one place: what goes wrong first.
std::vector<LatticePoint> degenerate_points(unsigned seed) {
  Dice r(seed);
  const std::uint32_t n = 1 + r(40), range = r(3) == 0 ? 4 : r(2) ? 30 : 100000;
  const bool line = r(10) == 0;
  std::vector<LatticePoint> p;
  for (std::uint32_t i = 0; i < n; ++i) {
    const int x = static_cast<int>(r(range)) - static_cast<int>(range / 2);
    p.push_back({x, line ? 2 * x + 1 : static_cast<int>(r(range)) - static_cast<int>(range / 2)});
  }
  return p;
}

TEST(Triangulation, NoCircleHoldsAPoint) {
  for (unsigned seed = 1; seed <= 1500; ++seed) {
    SCOPED_TRACE(seed);
    const auto p = degenerate_points(seed);
    std::vector<int> once;
    for (int i = 0; i < static_cast<int>(p.size()); ++i)
      if (std::none_of(once.begin(), once.end(),
                       [&](int k) { return p[static_cast<std::size_t>(k)] == p[static_cast<std::size_t>(i)]; }))
        once.push_back(i);
    auto at = [&](int i) { return p[static_cast<std::size_t>(i)]; };
    Triangles brute;
    for (int a : once)
      for (int b : once)
        for (int c : once)
          if (a < b && a < c && b != c && exact::turn(at(a), at(b), at(c)) > 0 &&
              std::none_of(once.begin(), once.end(), [&](int d) {
                return d != a && d != b && d != c && exact::in_circle(at(a), at(b), at(c), at(d));
              }))
            brute.insert(canonical(a, b, c));
    ASSERT_EQ(triangles_of(Triangulation(p)), brute);
  }
}

// Thousands of points where halves hold few or none: crowds with strays far off, lines, strips, steps that grow.
std::vector<LatticePoint> uneven_points(unsigned seed) {
  Dice r(seed);
  const std::uint32_t n = 1000 + r(3000), kind = seed % 7;
  std::vector<LatticePoint> p;
  auto one = [&](std::uint32_t range) { return static_cast<std::int32_t>(r(range)); };
  for (std::uint32_t i = 0; i < n; ++i) {
    const auto k = static_cast<std::int32_t>(i);
    if (kind == 0) p.push_back({one(60), one(60)});                                     // each place several times
    if (kind == 1) p.push_back({one(3), one(60'000'000)});                              // three lines
    if (kind == 2) p.push_back({one(60'000'000), k % 100 == 0 ? one(60'000'000) : 5});  // a line and strays
    if (kind == 3) p.push_back({1 << one(26), (1 << one(26)) - one(3)});                // steps that double
    if (kind == 4) p.push_back({k * 7, 3 * k});                                         // one line
    if (kind == 5) p.push_back({one(500) + 40'000'000 * (k % 2), one(500) - 30'000'000 * (k % 3 == 0)});  // crowds
    if (kind == 6) p.push_back({one(60'000), one(60'000)});
  }
  // One alone, in all the rest of the box.
  if (seed % 2) p.push_back({-60'000'000, -60'000'000 + one(9)});
  return p;
}

TEST(Triangulation, IsDelaunayHoweverUnevenlyPointsLie) {
  for (unsigned seed = 1; seed <= 70; ++seed) {
    SCOPED_TRACE(seed);
    std::vector<LatticePoint> p = uneven_points(seed);
    const Triangulation t(p);
    ASSERT_EQ(triangles_of(Triangulation(p, RunOptions{.threads = 3})), triangles_of(t));
    // No edge whose other two corners it should be turned to; a hull without a dent; every place is a corner.
    std::set<std::pair<std::int32_t, std::int32_t>> places, corners;
    for (const LatticePoint& q : p) places.insert({q.x, q.y});
    std::int64_t outside = 0, edges = 0;
    for (int e = 0; e < t.half_edges(); ++e) {
      if (t.from(e) < 0) continue;
      ++edges;
      corners.insert({t.point(t.from(e)).x, t.point(t.from(e)).y});
      const LatticePoint &a = t.point(t.from(e)), &b = t.point(t.to(e)), &c = t.point(t.to(t.next_left(e)));
      if (!t.has_triangle(e)) {
        ++outside;
        EXPECT_LE(exact::turn(a, b, c), 0);
      } else if (t.has_triangle(e ^ 1)) {
        EXPECT_FALSE(exact::in_circle(a, b, c, t.point(t.to(t.next_left(e ^ 1)))));
      }
    }
    EXPECT_EQ(corners, places);
    // Euler: corners - edges + faces, the outside one of them.
    const auto n = static_cast<std::int64_t>(places.size());
    EXPECT_EQ(n - edges / 2 + static_cast<std::int64_t>(t.triangles()) + 1, 2);
    EXPECT_EQ(static_cast<std::int64_t>(t.triangles()), 2 * n - 2 - outside);
  }
}

TEST(CellOrder, HalvesOfHalvesAreNeighbours) {
  for (unsigned seed = 1; seed <= 70; ++seed) {
    SCOPED_TRACE(seed);
    std::vector<LatticePoint> p = uneven_points(seed), before = p;
    const auto by_place = [](const LatticePoint& a, const LatticePoint& b) { return exact::comes_before(a, b); };
    CellOrder order(p, by_place);
    ASSERT_EQ(order.begin(0), 0U);
    ASSERT_EQ(order.begin(order.cells()), p.size());
    for (int depth = 0; depth < order.depth(); ++depth) {
      const std::size_t cells = order.cells() >> depth;
      for (std::size_t cell = 0; cell < order.cells(); cell += cells) {
        const auto at = [&](std::size_t i) { return order.cuts_x(depth) ? p[i].x : p[i].y; };
        const std::size_t first = order.begin(cell), middle = order.begin(cell + cells / 2),
                          last = order.begin(cell + cells);
        std::int32_t most = std::numeric_limits<std::int32_t>::min();
        for (std::size_t i = first; i < middle; ++i) most = std::max(most, at(i));
        for (std::size_t i = middle; i < last; ++i) ASSERT_GT(at(i), most);
      }
    }
    std::vector<LatticePoint> sorted = p;
    std::sort(sorted.begin(), sorted.end(), by_place);
    std::sort(before.begin(), before.end(), by_place);
    EXPECT_EQ(sorted, before);
    order.drop_repeated(p, std::equal_to<LatticePoint>());
    before.erase(std::unique(before.begin(), before.end()), before.end());
    ASSERT_EQ(p.size(), before.size());
    EXPECT_EQ(order.begin(order.cells()), p.size());
    std::sort(p.begin(), p.end(), by_place);
    EXPECT_EQ(p, before);
  }
}

TEST(CellOrder, IsTheSameInHoweverManyPieces) {
  for (unsigned seed = 1; seed <= 14; ++seed) {
    const std::vector<LatticePoint> given = uneven_points(seed);
    struct Numbered {
      std::int32_t x, y, number;
    };
    std::vector<std::vector<int>> orders;
    for (const std::size_t pieces : {1, 2, 3, 8}) {
      std::vector<Numbered> p;
      for (const LatticePoint& q : given) p.push_back({q.x, q.y, static_cast<int>(p.size())});
      parallel_for(1, {.threads = 3}, [&](std::size_t) {
        const CellOrder order(
            p,
            [](const Numbered& a, const Numbered& b) {
              return a.x != b.x ? a.x < b.x : a.y != b.y ? a.y < b.y : a.number < b.number;
            },
            pieces);
        EXPECT_EQ(order.begin(order.cells()), p.size());
      });
      orders.emplace_back();
      for (const Numbered& q : p) orders.back().push_back(q.number);
    }
    for (const std::vector<int>& o : orders) EXPECT_EQ(o, orders.front()) << seed;
  }
}

TEST(CellOrder, OfFewPointsOrNone) {
  for (std::size_t n = 0; n < 5; ++n) {
    std::vector<LatticePoint> p(n, LatticePoint{3, -3});
    CellOrder order(p, [](const LatticePoint& a, const LatticePoint& b) { return exact::comes_before(a, b); });
    EXPECT_EQ(order.begin(order.cells()), n);
    order.drop_repeated(p, std::equal_to<LatticePoint>());
    EXPECT_EQ(p.size(), std::min<std::size_t>(n, 1));
  }
}

TEST(Triangulation, IsTheSameInWhateverOrderAndOnWhateverThreads) {
  Dice r(4);
  std::vector<LatticePoint> p;
  for (int i = 0; i < 60000; ++i) p.push_back({static_cast<int>(r(300)) * 100, static_cast<int>(r(300)) * 100});
  auto places = [](const Triangulation& t) {
    std::set<std::array<int, 6>> out;
    t.for_each_triangle([&](int a, int b, int c) {
      std::array<LatticePoint, 3> v{t.point(a), t.point(b), t.point(c)};
      std::rotate(
          v.begin(),
          std::min_element(v.begin(), v.end(), [](const auto& i, const auto& k) { return exact::comes_before(i, k); }),
          v.end());
      out.insert({v[0].x, v[0].y, v[1].x, v[1].y, v[2].x, v[2].y});
    });
    return out;
  };
  const auto one = places(Triangulation(p));
  std::reverse(p.begin(), p.end());
  EXPECT_EQ(places(Triangulation(p)), one);
  EXPECT_EQ(places(Triangulation(p, RunOptions{.threads = 4})), one);
  for (int i = 0; i < 400'000; ++i) p.push_back({static_cast<int>(r(100'000)), static_cast<int>(r(90'000))});
  const Triangulation alone(p), together(p, RunOptions{.threads = 4});
  EXPECT_EQ(triangles_of(together), triangles_of(alone));
}

TEST(Triangulation, ExactWhereDoublesAreNot) {
  // Four corners of a square far away, and points a single step inside and outside of their circle.
  const int e = 1 << 26;
  const LatticePoint a{-e, -e}, b{e, -e}, c{e, e};
  EXPECT_TRUE(exact::in_circle(a, b, c, LatticePoint{-e + 1, e}));
  EXPECT_EQ(exact::in_circle_by_integers(a, b, c, LatticePoint{-e, e}), 0);
  EXPECT_EQ(error_of([&] {
              Triangulation(std::vector<LatticePoint>{{0, 0}, {e + 1, 0}, {0, 5}});
            }),
            ErrorCode::TooLarge);
}

TEST(Triangulation, KeepsEdges) {
  for (unsigned seed = 1; seed <= 400; ++seed) {
    SCOPED_TRACE(seed);
    Dice r(seed);
    const auto range = static_cast<std::uint32_t>(seed % 3 ? 1000 : 12);
    std::vector<LatticePoint> p;
    std::set<std::pair<int, int>> seen;
    while (p.size() < 30) {
      const LatticePoint q{static_cast<int>(r(range)), static_cast<int>(r(range))};
      if (seen.insert({q.x, q.y}).second) p.push_back(q);
    }
    Triangulation t(p);
    const std::size_t before = t.triangles();
    std::int64_t area = 0;
    t.for_each_triangle([&](int a, int b, int c) { area += exact::turn(t.point(a), t.point(b), t.point(c)); });
    const int a = static_cast<int>(r(30)), b = static_cast<int>(r(30));
    ASSERT_TRUE(t.keep_edge(a, b));
    // Every piece of the line between points on it is an edge now.
    std::vector<int> on;
    for (int i = 0; i < 30; ++i)
      if (exact::turn(p[static_cast<std::size_t>(a)], p[static_cast<std::size_t>(b)], p[static_cast<std::size_t>(i)]) ==
          0) {
        auto along = [&](int k) {
          return static_cast<std::int64_t>(p[static_cast<std::size_t>(k)].x - p[static_cast<std::size_t>(a)].x) *
                     (p[static_cast<std::size_t>(b)].x - p[static_cast<std::size_t>(a)].x) +
                 static_cast<std::int64_t>(p[static_cast<std::size_t>(k)].y - p[static_cast<std::size_t>(a)].y) *
                     (p[static_cast<std::size_t>(b)].y - p[static_cast<std::size_t>(a)].y);
        };
        if (along(i) >= 0 && along(i) <= along(b)) on.push_back(i);
      }
    std::sort(on.begin(), on.end(), [&](int i, int k) {
      auto d = [&](int q) {
        return std::abs(p[static_cast<std::size_t>(q)].x - p[static_cast<std::size_t>(a)].x) +
               std::abs(p[static_cast<std::size_t>(q)].y - p[static_cast<std::size_t>(a)].y);
      };
      return d(i) < d(k);
    });
    for (std::size_t i = 0; i + 1 < on.size() && a != b; ++i)
      EXPECT_TRUE(t.is_kept(on[i], on[i + 1]) || t.is_kept(on[i + 1], on[i]));
    // Still a triangulation of the same hull.
    std::int64_t after = 0;
    t.for_each_triangle([&](int i, int k, int m) { after += exact::turn(t.point(i), t.point(k), t.point(m)); });
    EXPECT_EQ(t.triangles(), before);
    EXPECT_EQ(after, area);
    // A second edge across the first is refused.
    for (int i = 0; i < 30; ++i)
      for (int k = 0; k < i && a != b; ++k) {
        auto side = [&](int u, int v, int w) {
          return exact::turn(p[static_cast<std::size_t>(u)], p[static_cast<std::size_t>(v)],
                             p[static_cast<std::size_t>(w)]);
        };
        const bool crosses = side(a, b, i) != 0 && side(a, b, k) != 0 && (side(a, b, i) > 0) != (side(a, b, k) > 0) &&
                             side(i, k, a) != 0 && side(i, k, b) != 0 && (side(i, k, a) > 0) != (side(i, k, b) > 0);
        // Lines that meet at a point do not cross.
        const bool meet = std::any_of(on.begin(), on.end(), [&](int q) { return side(i, k, q) == 0; });
        if (!crosses || meet) continue;
        Triangulation copy = t;
        EXPECT_FALSE(copy.keep_edge(i, k));
      }
  }
}

// A line that crosses one already kept cannot be put in: it was dropped without a word, and the edges that had been
// flipped for it stayed as they were.
TEST(Triangulation, AnEdgeThatCannotBeKeptLeavesTheRestDelaunay) {
  for (unsigned seed = 1; seed <= 20; ++seed) {
    std::mt19937 random(seed);
    std::vector<LatticePoint> p;
    for (int i = 0; i < 120; ++i)
      p.push_back({static_cast<std::int32_t>(random() % 1000), static_cast<std::int32_t>(random() % 1000)});
    p.push_back({-10, 500});
    p.push_back({1010, 510});
    p.push_back({490, -10});
    p.push_back({510, 1010});
    Triangulation t(p);
    ASSERT_TRUE(t.keep_edge(120, 121));
    EXPECT_FALSE(t.keep_edge(122, 123)) << seed;
    for (int e = 0; e < t.half_edges(); e += 2) {
      if (t.from(e) < 0 || !t.has_triangle(e) || !t.has_triangle(e ^ 1) || t.is_kept(t.from(e), t.to(e))) continue;
      const int a = t.from(e), b = t.to(e), c = t.to(t.next_left(e)), d = t.to(t.next_left(e ^ 1));
      EXPECT_FALSE(exact::in_circle(t.point(a), t.point(b), t.point(c), t.point(d)))
          << seed << " edge " << a << "-" << b;
    }
  }
}

TEST(Triangulation, FindsTheTriangleOfAPlace) {
  Dice r(9);
  std::vector<LatticePoint> p;
  for (int i = 0; i < 3000; ++i) p.push_back({static_cast<int>(r(100000)), static_cast<int>(r(100000))});
  const Triangulation t(p);
  int near = -1;
  for (int i = 0; i < 2000; ++i) {
    const LatticePoint q{static_cast<int>(r(100000)), static_cast<int>(r(100000))};
    const int e = t.locate(q.x, q.y, near);
    if (e < 0) continue;
    near = e;
    const int b = t.next_left(e), c = t.next_left(b);
    for (int edge : {e, b, c}) EXPECT_GE(exact::turn(t.point(t.from(edge)), t.point(t.to(edge)), q), 0);
  }
  EXPECT_EQ(t.locate(-5000, 50000), -1);
}

}  // namespace
}  // namespace katoptra
