// How two surfaces differ.
//
//   Comparison c = compare(new_survey, old_survey);
//   c.overall.median;                            // new less old, metres or feet as the new one has them
//   c.volume.net();                              // cubic metres
//   write_grid(c.difference, "difference.tif");
//
// The two are brought together first: the second to the height reference and unit of the first, both to the cells of
// the coarser (the finer by the mean of its cells where they are clearly smaller, else cubic; one that shares the
// lattice is never resampled), over what both cover. Differences are first less second everywhere: positive where
// the first is higher.
//
// Guarantees: means, deviations and volumes are sums in a fixed order, the same bits for every block size and thread
// count; quantiles come from a sketch about the median of a sample, off by at most kQuantileError of their distance
// from it (those of classes by 1/512). One streaming pass, beside what coregistering costs; memory bounded by the run
// options.
//
// Volumes: ground area of each cell times its difference. Their uncertainty (95 %) is that of the mean difference over
// the area, t s / sqrt(n) with s from the stated uncertainties, else of the differences without what has changed; n is
// not the number of cells, for neighbours err alike: how far is fitted to the variogram of the differences, and t is
// Student's for n. Change that exceeds 1.96 sqrt(u1^2 + u2^2) is told apart (level of detection
// after Lane, Westaway & Hicks 2003).
#pragma once
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "katoptra/check/coregister.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr std::int64_t kVolumePatch = 32;  // cells
inline constexpr std::size_t kWorstPlaces = 12;

// How far a surface may be off (1 sigma): unknown, the same everywhere, or a grid of it in a unit of its own, on any
// frame (the mean of finer cells, smooth between coarser ones; cells where it is void have no level of detection).
using Uncertainty = std::variant<std::monostate, Length, Grid>;

struct CompareOptions {
  const Area* area = nullptr;  // only inside; shift and tilt, too
  // Upper bounds of the classes of slope; the last class is open.
  std::vector<Angle> slope_bounds = {Angle::degrees(2), Angle::degrees(5), Angle::degrees(10), Angle::degrees(20),
                                     Angle::degrees(35)};
  Length sea_level;  // land and sea are told apart by the first surface
  // Both unknown: no level of detection; one unknown counts as none.
  Uncertainty uncertainty_first, uncertainty_second;
  bool coregister = true;
  bool rotation = false;  // is fitted, too, with shift and tilt
  RunOptions run;
};

struct DifferenceClass {
  std::string of;    // "slope", "aspect", "level", "lineage"
  std::string name;  // "2 to 5 degrees", "north-east", "sea", "filled"
  ErrorStatistics statistics;
};

struct WorstPlace {
  Point place;  // of the largest difference in a patch of kVolumePatch cells
  double difference = 0;
  double patch_mean = 0;
  Bounds patch;
};

// In cubic and square metres.
struct VolumeChange {
  double above = 0, below = 0;                      // the first above the second, and below it; both counted positive
  double area_above = 0, area_below = 0, area = 0;  // area: all cells that both know
  double uncertainty = 0;                           // of net(), 95 %
  double net() const { return above - below; }
};

struct Detection {
  double level = 0;                // in the unit of the difference; root mean square where it differs by place
  double lowest = 0, highest = 0;  // of it
  std::int64_t known = 0;          // cells that both know and that have a level
  std::int64_t cells = 0;          // beyond it
  double share = 0;                // of those known
  VolumeChange volume;             // of those cells alone
};

struct Comparison {
  std::string first, second;
  Frame frame;                   // of the difference
  Grid difference;               // lazy
  Grid first_here, second_here;  // both as they were compared, lazy
  ErrorStatistics overall;
  ValueSketch sketch;
  std::vector<DifferenceClass> classes;  // those with some cells in them, not all
  std::vector<WorstPlace> worst;         // largest first
  VolumeChange volume;
  std::optional<Detection> detection;
  double independent_cells = 0;  // n of the uncertainty
  std::optional<Coregistration> coregistration;
  std::vector<std::string> notes;  // how they were brought together
  // From 0.5 to 99.5 %, zero included.
  std::pair<double, double> robust_range() const;
};

// Refused when one has no CRS, or when only one of them says from where its heights count. BadArgument when they do not
// overlap or hold no heights.
Comparison compare(const Grid& first, const Grid& second, const CompareOptions& options = {});

// The second surface with shift, offset and tilt taken out, on its own cells. BadArgument when no shift was found.
Grid corrected_second(const Comparison& comparison, const Grid& second);

// The worst places as points with the properties difference, patch_mean and unit, in the CRS of the comparison.
Layer worst_layer(const Comparison& comparison);

// The two as they are compared: unit, reference, frame. What was done is added to `notes`.
std::pair<Grid, Grid> brought_together(const Grid& first, const Grid& second, std::vector<std::string>& notes);

// ---- more than two

// Where each of several surfaces stands among the others.
struct Standing {
  std::string name;
  std::int64_t cells = 0;  // compared with others
  Length offset;           // median over the others of the median difference (this less other)
  Length spread;           // median NMAD of the differences from the others
  bool odd = false;        // stands off where the others agree
};
inline constexpr double kOddFactor = 3;  // times what the others differ among themselves, and at least kLeastStep
// Pairs are sampled on a lattice of about 250 x 250 points each. At least three surfaces, else BadArgument.
std::vector<Standing> odd_one_out(const std::vector<Grid>& surfaces, const RunOptions& options = {});

}  // namespace katoptra
