// Which way rings run round.
#pragma once
#include <algorithm>
#include <cstddef>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

enum class Turn { Left, Right };  // counter-clockwise where y goes up, clockwise

// Twice the area, above zero for one that turns left. About its first point, so that no digits are lost far from the
// origin.
inline double twice_area(const Ring& ring) {
  double twice = 0;
  for (std::size_t i = 0; i + 1 < ring.size(); ++i)
    twice +=
        (ring[i].x - ring[0].x) * (ring[i + 1].y - ring[0].y) - (ring[i + 1].x - ring[0].x) * (ring[i].y - ring[0].y);
  return twice;
}

// By place: from west to east, then from south to north.
inline bool west_of(Point a, Point b) { return a.x != b.x ? a.x < b.x : a.y < b.y; }

// A closed ring from its western-most point.
inline void begin_in_west(Ring& ring) {
  ring.pop_back();
  std::rotate(ring.begin(), std::min_element(ring.begin(), ring.end(), west_of), ring.end());
  ring.push_back(ring.front());
}

inline Ring turning(Ring ring, Turn wanted) {
  const double twice = twice_area(ring);
  const bool wrong = wanted == Turn::Left ? twice < 0 : !(twice < 0);
  if (wrong) std::reverse(ring.begin(), ring.end());
  return ring;
}

}  // namespace katoptra
