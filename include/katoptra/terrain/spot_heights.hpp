// Spot heights: the summits, the deepest places and the saddles that a map writes numbers to.
//
//   std::vector<SpotHeight> spots = spot_heights(dem, {.radius = 200_m, .relief = 5_m});
//
// A summit is the highest cell within `radius` of itself, and at least `relief` higher than the lowest there; a pit the
// other way round. A saddle has, on the circle of that radius, ground at least half of `relief` higher on two sides and
// ground as much lower on the two between them, and is the most pronounced such place within half the radius. A cell at
// the rim or beside a void is none of them: what goes on there is not known. Of equal cells the first (by row, then
// column) counts. The radius is a ground length as it is at the middle of the grid; it is at least two cells and at
// most kWidestSpots. The same spots for every block size and thread count.
#pragma once
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kWidestSpots = 500;  // cells

enum class SpotKind { Summit, Pit, Saddle };
const char* name_of(SpotKind kind);

struct SpotHeight {
  SpotKind kind = SpotKind::Summit;
  Point place;        // in the grid's CRS, the centre of a cell
  double height = 0;  // in the grid's unit
};

struct SpotOptions {
  Length radius;  // zero: 25 cells
  Length relief;  // zero: anything that is not level
  RunOptions run = {};
};

// By row, then column. Refused for what are no heights; BadArgument for radii out of bounds.
std::vector<SpotHeight> spot_heights(const Grid& surface, const SpotOptions& options);

// As points with the properties kind, height, unit.
Layer spot_layer(const std::vector<SpotHeight>& spots, const Grid& surface);

}  // namespace katoptra
