// Heights measured on the points themselves: a roof above the ground, a wire above the road.
//
//   auto m = measure_points(cloud, {{677512.3, 5841702.8}, {677530.0, 5841702.8}}, 1_m);
//   double clearance = m[0].highest - m[1].ground;
#pragma once
#include <vector>

#include "katoptra/points/points.hpp"

namespace katoptra {

// What lies within a radius of a place; heights in the unit of the cloud, NaN where there is none of the kind.
struct PointMeasure {
  Point place;
  std::uint64_t points = 0;
  double lowest = 0, highest = 0;
  int highest_class = 0;  // of the highest point; 0 where classes are not told
  double ground = 0;      // median of the points classed as ground; where there are none so near, of the nearest ten
                          // within 20 times the radius
};
// Noise (classes 7 and 18) and withheld points are left out. One pass. BadArgument unless the radius is above zero.
std::vector<PointMeasure> measure_points(const PointCloud& cloud, const std::vector<Point>& places, Length radius,
                                         const RunOptions& run = {});

}  // namespace katoptra
