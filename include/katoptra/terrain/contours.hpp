// Contour lines: all levels in one pass, joined to whole lines.
//
//   std::vector<ContourLine> lines = contours(dem, {.interval = 1_ft});
//
// Marching squares between cell centres; where opposite corners are high, the value of the bilinear surface at its
// saddle decides which of them are joined. A cell that is exactly at a level counts as above it. Lines end at voids and
// at the edge of the grid (half a cell inside). Levels are whole multiples of the interval from `base`.
// The lines, their points and their order are the same for every number of threads and block size: open lines start at
// their western (then southern) end, closed ones at their western-most point and run counter-clockwise, and lines are
// ordered by level, then by first point.
// Memory: kBytesPerContourPoint for each point of all lines together, within the budget of RunOptions: TooLarge beyond
// it, beyond kMostContourLevels levels (with their number), and when a level is further than 2^30 intervals from the
// base. Refused for shades, directions and codes.
#pragma once
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kMostContourLevels = 10'000;
inline constexpr int kBytesPerContourPoint = 50;

struct ContourLine {
  double level = 0;     // in the unit of the grid
  bool closed = false;  // then the last point equals the first
  bool index = false;   // every index_every-th level from the base, to be drawn bolder
  LineString points;    // in the grid's CRS
};

struct ContourOptions {
  Length interval = Length::metres(10);
  Length base;
  int index_every = 5;
  RunOptions run;
};

std::vector<ContourLine> contours(const Grid& surface, const ContourOptions& options);

// An interval that gives about `wanted` levels between two heights: 1, 2 or 5 times a power of ten of the unit.
Length sensible_interval(double lowest, double highest, LengthUnit unit, int wanted = 20);

// As features with the properties level, unit, index.
Layer contour_layer(const std::vector<ContourLine>& lines, const Grid& surface);

}  // namespace katoptra
