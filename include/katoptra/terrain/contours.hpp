// Contour lines, and the bands between them: all levels in one pass, joined to whole lines.
//
//   std::vector<ContourLine> lines = contours(dem, {.interval = 1_ft});
//   std::vector<ContourLine> chart = contours(dem, {.levels = {0_m, -2_m, -5_m, -10_m, -20_m}});
//   std::vector<ContourBand> bands = contour_bands(dem, {.levels = {0_m, 10_m, 20_m}});
//   std::vector<ContourZone> zones = contour_zones(dem, {.interval = 1_m});   // where lines may lie
//
// Marching squares between cell centres; where opposite corners are high, the value of the bilinear surface at its
// saddle decides which of them are joined. A cell that is exactly at a level counts as above it. Lines end at voids and
// at the edge of the grid (half a cell inside). Levels are whole multiples of the interval from `base`, or those given.
// The lines, their points and their order are the same for every number of threads and block size: lines run with the
// higher ground on their left (so closed ones run counter-clockwise round a hill and clockwise round a hollow), closed
// ones begin at their western-most point, and lines are ordered by level, then by first point.
// Bands are the polygons between the levels; the surface is read twice for them. Together they fill what lies between
// the centres of known cells, exactly: neighbours have the same points along the line that parts them, so there is no
// sliver and no overlap. Within a tolerance lines are drawn smoother and with fewer points. No line crosses another,
// changes the side of another or comes to lie where a line of another level was, so each stays between the heights of
// its neighbours (Taubin 1995 for the smoothing). About the cell is a good tolerance for a map. Memory:
// kBytesPerContourPoint for each point of all lines together (three times that with a tolerance or for bands), within
// the budget of RunOptions: TooLarge beyond it (but for for_each_contour), beyond kMostContourLevels levels (with their
// number), and when a level is further than 2^30 intervals from the base. Refused for shades, directions and codes.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kMostContourLevels = 10'000;
inline constexpr int kBytesPerContourPoint = 50;
inline constexpr int kWidestTolerance = 10;

struct ContourLine {
  double level = 0;     // in the unit of the grid
  bool closed = false;  // then the last point equals the first
  bool index = false;   // every index_every-th level from the base, to be drawn bolder; never of given levels
  bool hollow = false;  // closed, and lower inside
  LineString points;    // in the grid's CRS, higher ground on the left
};

struct ContourOptions {
  Length interval = Length::metres(10);
  Length base;
  std::optional<Length> interval_below = {};  // below the base; otherwise the same
  std::vector<Length> levels = {};            // these instead of an interval; in any order
  int index_every = 5;
  // Of lines, not of bands:
  Length shortest = {};   // closed ones that are shorter on the ground are left out
  Length tolerance = {};  // on the ground: lines are smoothed and thinned as far as this from where they lie; at most
                          // kWidestTolerance cells
  RunOptions run = {};
};

std::vector<ContourLine> contours(const Grid& surface, const ContourOptions& options);
// The same lines in the same order, one after another: where they do not fit into memory together, as many levels at
// once as do, each time with a reading of the surface. TooLarge only where the lines of one level do not fit, or with a
// tolerance.
void for_each_contour(const Grid& surface, const ContourOptions& options,
                      const std::function<void(const ContourLine&)>& body);

// The ground from one level up to the next. The lowest of given levels has a band below it, the highest one above:
// minus infinity and infinity.
struct ContourBand {
  double from = 0, to = 0;  // in the unit of the grid
  MultiPolygon shape;       // in the grid's CRS; outer rings counter-clockwise, holes clockwise
};
// By height; a band of which there is nothing is left out. `index_every`, `shortest` and `tolerance` mean nothing here.
std::vector<ContourBand> contour_bands(const Grid& surface, const ContourOptions& options);

// Where the lines of a level may lie: the ground that is no further from it than 1.96 times the uncertainty that the
// surface states there, so that 95 of 100 places of the true line lie within. Levels as for contours; each takes two
// readings of the surface, so at most kMostContourZones: TooLarge beyond. BadArgument for a surface that states none.
inline constexpr int kMostContourZones = 500;
struct ContourZone {
  double level = 0;    // in the unit of the grid
  MultiPolygon shape;  // in the grid's CRS
};
std::vector<ContourZone> contour_zones(const Grid& surface, const ContourOptions& options);

// An interval that gives about `wanted` levels between two heights: 1, 2 or 5 times a power of ten of the unit.
Length sensible_interval(double lowest, double highest, LengthUnit unit, int wanted = 20);

// As features with the properties level, unit, index, hollow.
Feature contour_feature(const ContourLine& line, const Grid& surface);
Layer contour_layer(const std::vector<ContourLine>& lines, const Grid& surface);
// The property depth besides, for levels that were given as depths.
void add_depth(Feature& contour);
void add_depths(Layer& contours);
// What stands on a line of such a layer: its depth, else its level; empty where it has neither. Index lines are
// numbered, or all where there are none.
std::string number_on(const Feature& contour);
bool is_numbered(const Feature& contour, bool layer_has_index);
bool has_index_lines(const Layer& contours);
// As polygons with the properties from, to (missing where there is no end) and unit.
Layer band_layer(const std::vector<ContourBand>& bands, const Grid& surface);
// As polygons with the properties level, unit and confidence (95).
Layer zone_layer(const std::vector<ContourZone>& zones, const Grid& surface);

}  // namespace katoptra
