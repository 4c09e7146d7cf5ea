// What the ground shows and hides: openness, the share of the sky that is seen, and forms told by lines of sight.
//
//   Grid open = openness(dem, OpennessKind::Above, {.radius = 100_m});
//   Grid soft = sky_view(dem);                                        // light from the whole sky
//   Grid forms = landforms(dem, {.radii = {50_m}, .flat = 1_deg});     // codes 1 flat ... 10 pit: classes_of(...)
//
// From each cell lines run in 8, 16 or 32 directions as far as the radius; on a line the surface is met where it
// crosses the columns (or, where it runs more down than across, the rows) of cells, between two of which its height is
// interpolated. What counts of a line is the steepest angle up and the steepest angle down to what it meets. Directions
// and radii are those of the ground on every CRS. A direction in which nothing is there (the rim, voids) does not
// count; a void stays a void. The earth's curvature is left out: within the longest radius it lowers what is seen by
// less than the heights are known. A cell costs time in proportion to radius and directions.
#pragma once
#include <optional>
#include <string_view>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct SightOptions {
  // As far as this, at most kFarthestCells (position.hpp) cells; not given: 50 cells.
  std::optional<Length> radius;
  int directions = 16;      // 8, 16 or 32
  double exaggeration = 1;  // of heights
};

enum class OpennessKind {
  Above,  // towards the zenith: large on ridges, small in hollows
  Below   // towards the ground's own depth: large in hollows, small on ridges
};
OpennessKind parse_openness_kind(std::string_view text);  // "above", "below"

// The mean over all directions of the angle between the zenith (Below: the nadir) and the line of sight that grazes the
// ground, in degrees: 90 on a plane that is level, above 90 where the ground bulges (Yokoyama et al. 2002).
Grid openness(const Grid& surface, OpennessKind kind = OpennessKind::Above, const SightOptions& options = {});

// One less the mean over all directions of the sine of the horizon's height: 1 where nothing stands above the
// horizontal, 0 in a well (sky-view factor: Zakšek et al. 2011).
Grid sky_view(const Grid& surface, const SightOptions& options = {});

enum class LandformsBy {
  Sight,    // ten forms by eight lines of sight (Jasiewicz & Stepiński 2013)
  Position  // of one radius six places on a slope, of two ten forms (Weiss 2001)
};
LandformsBy parse_landforms_by(std::string_view text);  // "sight", "position"

struct LandformOptions {
  LandformsBy by = LandformsBy::Sight;
  // Sight: one, or none for 50 cells. Position: one, or a near and a far one.
  std::vector<Length> radii;
  // Sight: a direction is level when the steepest angles up and down add up to no more (1 degree unless given; on a
  // plane that is twice its slope). Position: ground that is no steeper is flat (5 degrees).
  std::optional<Angle> flat;
};

// Codes from 1, named by classes_of: of the kind Landform, SlopePosition or LandformByScale. Position is counted in
// standard deviations of the disc at each place, where Weiss takes those of the whole surface: so a cell's class does
// not depend on what lies far away.
// BadArgument: radii as for position(); more of them than the way has; an angle that is not above 0 and below 90.
Grid landforms(const Grid& surface, const LandformOptions& options = {});

}  // namespace katoptra
