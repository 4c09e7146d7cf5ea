// On which side, and in which circle: exact for integer coordinates of up to 27 bits.
#pragma once
#include <cmath>
#include <cstdint>
#include <utility>

namespace katoptra::exact {

// Twice the area of a, b, c: above zero when they turn to the left.
template <class P>
std::int64_t turn(const P& a, const P& b, const P& c) {
  return (static_cast<std::int64_t>(b.x) - a.x) * (static_cast<std::int64_t>(c.y) - a.y) -
         (static_cast<std::int64_t>(b.y) - a.y) * (static_cast<std::int64_t>(c.x) - a.x);
}

template <class P>
bool comes_before(const P& a, const P& b) {
  return a.x != b.x ? a.x < b.x : a.y < b.y;
}

// The sign in integers; zero on the circle.
template <class P>
int in_circle_by_integers(const P& a, const P& b, const P& c, const P& d) {
  __extension__ using Wide = __int128;
  const std::int64_t ax = a.x - static_cast<std::int64_t>(d.x), ay = a.y - static_cast<std::int64_t>(d.y),
                     bx = b.x - static_cast<std::int64_t>(d.x), by = b.y - static_cast<std::int64_t>(d.y),
                     cx = c.x - static_cast<std::int64_t>(d.x), cy = c.y - static_cast<std::int64_t>(d.y);
  const Wide v = static_cast<Wide>(ax * ax + ay * ay) * (bx * cy - by * cx) +
                 static_cast<Wide>(bx * bx + by * by) * (cx * ay - cy * ax) +
                 static_cast<Wide>(cx * cx + cy * cy) * (ax * by - ay * bx);
  return v > 0 ? 1 : v < 0 ? -1 : 0;
}

// Of four points on one circle: the one that comes last is thought to lie a little higher on the paraboloid.
template <class P>
bool in_circle_when_raised(const P& a, const P& b, const P& c, const P& d) {
  const P* order[4] = {&a, &b, &c, &d};
  for (int i = 1; i < 4; ++i)
    for (int k = i; k > 0 && comes_before(*order[k - 1], *order[k]); --k) std::swap(order[k - 1], order[k]);
  for (const P* p : order) {
    const std::int64_t s = p == &d ? -turn(a, b, c) : p == &a ? turn(d, b, c) : p == &b ? turn(a, d, c) : turn(a, b, d);
    if (s != 0) return s > 0;
  }
  return false;
}

// True when d lies inside the circle through a, b, c (counter-clockwise); never undecided.
template <class P>
bool in_circle(const P& a, const P& b, const P& c, const P& d) {
  // Differences are exact; the bound is that of Shewchuk 1997 for this expression.
  constexpr double kBound = (10 + 96 * 0x1p-53) * 0x1p-53;
  const double ax = static_cast<double>(a.x) - d.x, ay = static_cast<double>(a.y) - d.y,
               bx = static_cast<double>(b.x) - d.x, by = static_cast<double>(b.y) - d.y,
               cx = static_cast<double>(c.x) - d.x, cy = static_cast<double>(c.y) - d.y;
  const double al = ax * ax + ay * ay, bl = bx * bx + by * by, cl = cx * cx + cy * cy;
  const double b_c = bx * cy, c_b = by * cx, c_a = cx * ay, a_c = cy * ax, a_b = ax * by, b_a = ay * bx;
  const double v = al * (b_c - c_b) + bl * (c_a - a_c) + cl * (a_b - b_a);
  const double size = al * (std::abs(b_c) + std::abs(c_b)) + bl * (std::abs(c_a) + std::abs(a_c)) +
                      cl * (std::abs(a_b) + std::abs(b_a));
  if (std::abs(v) > kBound * size) return v > 0;
  const int sign = in_circle_by_integers(a, b, c, d);
  return sign != 0 ? sign > 0 : in_circle_when_raised(a, b, c, d);
}

}  // namespace katoptra::exact
