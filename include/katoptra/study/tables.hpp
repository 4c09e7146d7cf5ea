// Tables of numbers along lines and at points, as text.
//
//   write_text_file("section.csv", section_csv(section(dem, line)));
#pragma once
#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/check.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/terrain/profiles.hpp"
#include "katoptra/terrain/section.hpp"

namespace katoptra {

// distance,x,y,value,slope; an empty value for a void. Of a surface that carries its uncertainty (one standard
// uncertainty) that stands in a column behind its value; the same in the other tables.
std::string section_csv(const Section& s);
// A column for each surface: by distance along the line; of cross sections by station and offset, to the left of the
// centre line below zero. `slope` is that of the first surface along the line, in percent.
std::string profiles_csv(const std::vector<Profiles>& all);

struct SampledPoint {
  std::string name;                                               // property name or id, when there is one
  Point place;                                                    // as it was given
  double value = 0;                                               // NaN: none
  double uncertainty = std::numeric_limits<double>::quiet_NaN();  // one standard uncertainty; NaN: not known
  std::optional<double> known;  // a height in the table: property z, height or elevation
};
struct SampledPoints {
  std::vector<SampledPoint> rows;
  std::size_t voids = 0;
  // Residuals are grid less known, over points that have both; NaN when there are none.
  std::size_t residuals = 0;
  double mean = 0, rmse = 0, largest = 0;
};
// Points of a layer in any CRS; known heights are taken in the grid's unit.
SampledPoints sample_points(const Grid& grid, const Layer& layer, const RunOptions& options = {});
std::string sampled_csv(const SampledPoints& s);

// A JSON list of objects: code, severity, file, message, advice, measure with unit where there is one, and place (crs,
// and boxes of west, south, east, north).
std::string findings_json(const std::vector<Finding>& findings);

}  // namespace katoptra
