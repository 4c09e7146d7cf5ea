// What lies under water at a level.
//
//   Inundation wet = inundation(dem, {.level = 4});
//   write_layer(inundation_layer(wet, dem), "wet.gpkg");
//
// Wet is every cell no higher than the level from which a way (also over corners) of such cells leads to the edge of
// the grid or a void (from where the water comes, unless places are given) or to one of the places. Low ground behind a
// bank stays dry; `all` counts it, too.
#pragma once
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct InundationOptions {
  double level = 0;           // in the unit of the surface
  std::vector<Point> places;  // where water comes from, in the CRS of the surface
  bool all = false;           // whatever is low, connected or not
  RunOptions run;
};

struct WetPart {
  std::int64_t cells = 0;
  double area = 0, volume = 0;  // square and cubic metres on the ground
  double deepest = 0;           // in the unit of the surface
  MultiPolygon shape;
};

struct Inundation {
  double level = 0;
  std::vector<WetPart> parts;  // from the north-west
  double area = 0, volume = 0;
  std::int64_t dry_low_cells = 0;  // low, but without a way for the water
  double dry_low_area = 0;
};

// BadArgument: a place outside, or on ground higher than the level.
Inundation inundation(const Grid& surface, const InundationOptions& options);
// How likely each cell lies no higher than a level, in percent, by the uncertainty that the surface states there: its
// errors are taken to be normal. A void where that is not known. Whether water can get there is not asked. BadArgument
// for a surface that states none.
Grid chance_below(const Grid& surface, double level);

Layer inundation_layer(const Inundation& wet, const Grid& surface);

}  // namespace katoptra
