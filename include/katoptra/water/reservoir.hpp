// What a dam would hold: the area and the volume of the water behind it, level by level.
//
//   Reservoir r = reservoir(dem, {.dam = line, .from = start});
//   r.curve.back().volume;                  // cubic metres when it is full
//
// The dam is a wall along a line, to its crest; the water stands on the side of the place. It rises from there over
// ground that hangs together (also over corners, but not through the wall) until it reaches the crest, or runs over
// somewhere else: at the edge of the grid, into a void, or over a saddle that leads down to one. Cells of the wall
// itself hold no water. The ground is flooded outwards from the place, lowest first, so nothing is read but what gets
// wet and what is beside it.
#pragma once
#include <optional>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kMostReservoirSteps = 10'000;

struct ReservoirOptions {
  LineString dam;  // in the CRS of the surface
  Point from;      // behind it
  // In the unit of the surface; not given: the lower of the line's ends, for there the wall meets the ground.
  std::optional<double> crest;
  int steps = 50;  // of the curve, even from the lowest ground to the highest level
  RunOptions run;
};

struct ReservoirLevel {
  double level = 0;             // in the unit of the surface
  double area = 0, volume = 0;  // square and cubic metres on the ground
};

struct Reservoir {
  double crest = 0;
  double top = 0;                     // the level it can be filled to: the crest, or where it runs over before
  bool runs_over = false;             // elsewhere than at the dam
  std::optional<Point> over;          // where
  std::vector<ReservoirLevel> curve;  // in rising order
  std::int64_t cells = 0;
  MultiPolygon shape;  // when it is full
};

// BadArgument: a line of less than two points or outside the surface, a place outside, on a void, on the wall or not
// below the crest, less than two steps. TooLarge when the wet cells do not fit the memory budget.
Reservoir reservoir(const Grid& surface, const ReservoirOptions& options);
Layer reservoir_layer(const Reservoir& r, const Grid& surface);

}  // namespace katoptra
