// What is wrong with a surface.
//
//   CheckReport report = check(dem, {.area = &study});
//   for (const Finding& f : report.findings) say(f.severity, f.code, f.message, f.advice);
//   if (report.failed()) stop();
//
// Codes (docs/check.md tells each with its smallest size and false alarms; thresholds in check/thresholds.hpp):
//   no-crs no-heights no-unit degrees mercator      what the grid does not say, or what it must not be used for
//   coverage voids edge-voids                       completeness
//   undeclared-void                                 a value far from all others stands for "nothing"
//   spike stripe step ripple                        blunders of cells, of rows and columns; steps, ripples at any angle
//   repeated terraces                               nearest neighbour, heights in coarse steps
//   flat plane                                      even patches: water, filled, clipped; long triangles
//   seam                                            a height step between two sources
//   sign                                            a sea floor that stands above zero: depths taken for heights
//   unsure uncertainty too-sure                     what a surface states of itself: nothing, what cannot be, too little
//   uphill                                          a stream line along which the ground rises
// check_overlaps compares grids that overlap: unit, sign, offset, tilt, datum, shift, rotation.
// check_points judges a cloud of points: sparse.
// Cost: one streaming pass (one more for each undeclared void), memory bounded by the run options; the same findings
// for every block size and thread count.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/finding.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/check/thresholds.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

struct CheckReport {
  std::vector<Finding> findings;
  Statistics statistics;
  bool failed() const;
};

struct CheckOptions {
  const Area* area = nullptr;
  const Layer* streams = nullptr;  // lines that water follows, drawn in either direction
  Thresholds thresholds;
  RunOptions run;
};

inline constexpr double kLeastStep = 0.05;  // metres: what several surfaces may differ by and still agree

CheckReport check(const Grid& grid, const CheckOptions& options = {});

// Surfaces that overlap, found on a lattice of about 250 x 250 points a pair. Tiles whose source record names a survey
// are judged together with the others of it. For each pair of surveys:
//   unit      failure   the heights of one are 3.2808 (or 0.3048) times those of the other
//   sign      failure   the heights of one mirror those of the other
//   datum     failure   they differ by more than two metres, smoothly: as from the ellipsoid to the sea
//   tilt      failure   the difference is a tilted plane
//   offset    failure   the median difference is larger than the threshold, than four standard errors and than a
//                       quarter of their spread
//   shift     failure   one lies beside the other (half a cell is said so); at most three pairs of tiles are looked at
//   rotation  failure   one is turned
// And for each grid: mixed-units (warning), heights in another unit than most of the others have.
std::vector<Finding> check_overlaps(const std::vector<Grid>& grids, const RunOptions& options = {},
                                    const Thresholds& thresholds = {});
// A grid against a coarse surface that is known to be right: only unit, sign and datum.
std::vector<Finding> check_against(const Grid& grid, const Grid& coarse, const RunOptions& options = {});

struct PointCheckOptions {
  double density = 0;  // nominal points a square metre; 0: only what the cloud itself tells
  Thresholds thresholds;
  RunOptions run;
};
// sparse (failure): fewer squares than the threshold asks hold the nominal density; gaps (failure); line-offset
// (warning): flight lines differ by more than the seam threshold.
std::vector<Finding> check_points(const PointCloud& cloud, const PointCheckOptions& options);

}  // namespace katoptra
