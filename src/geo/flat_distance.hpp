// Between two points as if the ground were flat, in the unit of their coordinates.
#pragma once
#include <cmath>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

inline double flat_distance(Point a, Point b) { return std::hypot(b.x - a.x, b.y - a.y); }

}  // namespace katoptra
