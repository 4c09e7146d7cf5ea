// Heights along a line: the section over a transect.
//
//   Section s = section(dem, {{500100, 5843900}, {500900, 5843200}});
//   Section t = section(dem, line_by_bearing(dem.frame().crs(), start, 70_deg, 400_m));
//
// Points stand `step` apart on the ground (default: one cell), every vertex of the line included. Distances are ground
// distances along the line. A point over a void or outside has no value (NaN).
#pragma once
#include <limits>
#include <optional>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct SectionPoint {
  double distance = 0;                                     // from the start, in the unit of the section
  Point place;                                             // in the grid's CRS
  double value = 0;                                        // NaN for a void
  double time = std::numeric_limits<double>::quiet_NaN();  // of a track, seconds since 1970 by UTC
  // One standard uncertainty of the value, where the grid carries it (sample_uncertainty); NaN elsewhere.
  double uncertainty = std::numeric_limits<double>::quiet_NaN();
};

struct Section {
  std::vector<SectionPoint> points;
  LengthUnit unit = LengthUnit::Metre;  // of distance; heights are in the grid's unit
  Quantity quantity;
  Crs crs;
  Length length() const;
};

struct SectionOptions {
  std::optional<Length> step;
  std::optional<LengthUnit> unit;  // default: the unit of the grid's heights
  RunOptions run;
};

// `line` in the grid's CRS. BadArgument for fewer than two points or a line of no length; TooLarge beyond 10 million
// points.
Section section(const Grid& grid, const LineString& line, const SectionOptions& options = {});

// Gives the points of a section along a track their times: those of the line's points (`times`, one each), evenly
// between two of them.
void set_times(Section& s, const LineString& line, const std::vector<double>& times);

// As a line with heights; where there are voids, the parts between them. Each with its `length` and where it begins
// along the section (`from`), in its unit. BadArgument where no two points in a row have a value.
Layer section_layer(const Section& s, const std::string& name = "section");

// A straight line from a point by bearing (clockwise from grid north) and ground length.
LineString line_by_bearing(const Crs& crs, Point from, Angle bearing, Length length);

}  // namespace katoptra
