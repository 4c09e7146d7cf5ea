// What is wrong with a surface.
//
//   CheckReport report = check(dem, {.area = &study});
//   for (const Finding& f : report.findings) say(f.severity, f.code, f.message, f.advice);
//   if (report.failed()) stop();
//
// Codes, severities and thresholds (heights in metres):
//   no-crs          failure   the grid does not say where it lies
//   no-heights      warning   the vertical reference is not stated
//   no-unit         warning   the unit of the heights is not stated
//   degrees         warning   in degrees: lengths and areas must not be measured in its coordinates
//   mercator        warning   in a Mercator projection: the same, with the stretch at the middle of the grid
//   coverage        failure   less than all of the area's cells have values
//   voids           failure   voids inside; those that reach the edge are a note only
//   spike           failure   a cell stands off the median of its eight neighbours by more than kSpikeRange times their
//                             range, kSpikeDeviations times the usual amount, and 0.5 m
//   stripe          failure   rows or columns that stand off their neighbours by more than 8 robust deviations and 2 cm
//   repeated        failure   2 to 90 % of all groups of 16 neighbours in a row (or column) equal those of the line
//   before,
//                             although they differ among themselves: the mark of nearest-neighbour resampling
//   seam            failure   a step of more than 5 cm (and four standard errors) along the border between two sources
//   offset          failure   two grids that overlap differ by more than 5 cm in the median (check_overlaps)
// Cost: two streaming passes (one finds voids), memory bounded by the run options.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/statistics.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

enum class Severity { Note, Warning, Failure };
const char* name_of(Severity s);

struct Finding {
  std::string code;
  Severity severity = Severity::Note;
  std::string file;     // which grid
  std::string message;  // with place and measure in words
  std::string advice;
  std::optional<double> measure;
  std::string unit;
  MultiPolygon place;  // in `crs`; empty: the whole grid
  Crs crs;
};

struct CheckReport {
  std::vector<Finding> findings;
  Statistics statistics;
  bool failed() const;
};

struct CheckOptions {
  const Area* area = nullptr;
  RunOptions run;
};

inline constexpr double kSpikeRange = 4, kSpikeDeviations = 30;
inline constexpr double kLeastStep = 0.05;  // metres, for seam and offset

CheckReport check(const Grid& grid, const CheckOptions& options = {});

// Median height differences between grids that overlap, found on a lattice of about 250 x 250 points a pair. Tiles
// whose source record names a survey are judged together with the others of it.
std::vector<Finding> check_overlaps(const std::vector<Grid>& grids, const RunOptions& options = {});

// Findings with a place, as polygons in longitude and latitude.
Layer finding_layer(const std::vector<Finding>& findings);

}  // namespace katoptra
