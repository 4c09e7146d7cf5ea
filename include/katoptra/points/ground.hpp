// Which points are ground, and which are noise.
//
//   PointCloud classed = classify_ground(raw, {});             // classes 2, 7 and 18; the others keep theirs
//   write_points(classed, "classed.laz");
//
// Noise: points with fewer than `noise_neighbours` others in the 27 cubes around theirs; below the ground as low noise
// (7), above it as high noise (18). Ground: progressive morphology (Zhang et al. 2003) on the lowest last returns finds
// seeds: with windows of doubling width, whatever rises from the opened surface by more than the slope allows is no
// ground. Points near the triangulated seeds are added, twice, and what then lies within `near` of the surface of all
// is ground. Still water looks like ground; with a `water` level its points are told apart (class 9).
//
// Only points of the classes 0 and 1 change, unless `anew`; where there are none a note says so. Cost: six passes over
// the points (seven where their box is not known), which are decoded for the first and the last of them; 15 to 28 bytes
// a point of temporary files for the others, and up to 32 for sorting; memory as for gridding, and a bit for each
// point.
#pragma once
#include <optional>

#include "katoptra/grid/grid.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

inline constexpr double kWaterBand = 0.12;  // metres

struct GroundFilter {
  // affect the result
  bool anew = false;  // all points are looked at, whatever their class
  bool noise = true, ground = true;
  Length cell;                         // of the lowest points; 0: about two spacings
  Length widest = 33_m;                // wider than any building, narrower than the hills
  double slope = 0.6;                  // rise over run that ground may have over a window
  Length step = Length::metres(0.35);  // that ground may have in a cell
  Length near = Length::metres(0.25);  // how far from the final surface a ground point may lie
  int noise_neighbours = 5;
  std::optional<Length> water;  // the level of open water: points this near to it (kWaterBand) are water, not ground
  RunOptions run;
};

// Heights are needed in a known or assumed unit of length. BadArgument when the numbers make no sense.
PointCloud classify_ground(const PointCloud& cloud, const GroundFilter& options = {});

// The cloud with z as height above a surface (bilinear); points where the surface is void are left out. Refused when
// CRS, unit or vertical reference differ.
PointCloud above_surface(const PointCloud& cloud, const Grid& surface);

// The tops of the vegetation above the ground, without pits (Khosravipour et al. 2014): the highest of several
// triangulations of first returns, of those above 0, 2, 5, 10, 15 ... metres, each of the higher ones only across short
// edges. `heights`: points as above_surface gives them.
Grid canopy_height(const PointCloud& heights, Length cell, const RunOptions& run = {});

}  // namespace katoptra
