// Areas, volumes and statistics by level, polygon, class and aspect.
//
//   auto v = volumes_at(dem, {12.5});                    // area and volume above and below a water level
//   auto z = statistics_by_polygon(dem, read_layer("parcels.gpkg"));
//   auto s = slope_by_aspect(dem);                       // which flank is steeper
//
// Areas are ground areas, cell by cell, on every CRS (degrees and Mercator included); volumes are ground area times
// height difference. Cells count as in `clip`: those whose centre is inside. Sums are kept row by row and joined in
// order: the same bits for every block size and thread count. One streaming pass each; memory bounded by the run
// options and the number of zones.
#pragma once
#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/statistics.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Square and cubic metres. A cell exactly at the level counts as below.
struct LevelVolumes {
  double level = 0;  // in the unit of the grid
  double area_above = 0, area_below = 0;
  double volume_above = 0, volume_below = 0;  // between the surface and the level, both counted positive
  // What the uncertainty of the cells makes of the volumes (95 %), where the surface carries one; else NaN. Errors go
  // together as GridInfo::error_reach says; where that is not known all are taken to be one.
  double give_or_take_above = std::numeric_limits<double>::quiet_NaN(), give_or_take_below = give_or_take_above;
  // The share of the cells whose uncertainty is known; the others are taken to be like them.
  double known_above = 0, known_below = 0;
};
// In rising order of the levels. BadArgument without levels or for a grid that holds no heights.
std::vector<LevelVolumes> volumes_at(const Grid& surface, std::vector<double> levels, const Area* inside = nullptr,
                                     const RunOptions& options = {});
// The hypsometric curve: area and volume at `steps` + 1 even levels from the lowest to the highest height.
std::vector<LevelVolumes> hypsometric_curve(const Grid& surface, int steps = 100, const Area* inside = nullptr,
                                            const RunOptions& options = {});

struct ZoneStatistics {
  std::string name;
  std::int64_t cells = 0, voids = 0;  // cells: with a value
  double area = 0;                    // square metres of cells with a value
  double lowest = 0, highest = 0, mean = 0, deviation = 0, p5 = 0, median = 0, p95 = 0;  // NaN without cells
};
// One zone a polygon, overlaps counted in each; named by the property name, label or id, else by number.
std::vector<ZoneStatistics> statistics_by_polygon(const Grid& grid, const Layer& polygons,
                                                  const RunOptions& options = {});
// One zone a whole number in `classes` (brought to the grid's cells by nearest), rising. TooLarge beyond kMostClasses.
std::vector<ZoneStatistics> statistics_by_class(const Grid& grid, const Grid& classes, const RunOptions& options = {});
inline constexpr std::size_t kMostClasses = 4096;
// Slope in degrees for eight sectors of aspect, north first, and flat ground last.
std::vector<ZoneStatistics> slope_by_aspect(const Grid& surface, const RunOptions& options = {});

}  // namespace katoptra
