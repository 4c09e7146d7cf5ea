// A surface against control points: residuals, robust measures, and the accuracy class that they allow.
//
//   ControlSet set = control_from(read_layer("control.csv", Crs::parse("EPSG:32725")));
//   ControlReport r = check_control(dem, set);
//   r.asprs->class_text;                // "2.5-cm vertical accuracy class"
//
// Residuals are surface less control, in the unit of the surface. Points are brought to the CRS, height reference and
// unit of the surface first. Ground cover is told by the property cover, landcover, type or class of a point: open
// (also bare, paved, urban, nva), vegetated (also forest, scrub, crops, grass, vva) or sea floor (also sea, water,
// sounding); without it a point counts as open ground.
//
// Classes. ASPRS Positional Accuracy Standards for Digital Geospatial Data, edition 2 (2023): the accuracy is the RMSE
// in height over open ground, the error of the survey of the points included (root of the sum of squares); the class is
// the smallest of the commonly used ones it keeps (kAsprsClasses). At least 30 points, ten more for every further
// 1000 km2 above the first, at most 120; a mean error above a quarter of the RMSE asks for its cause. Over vegetation
// the RMSE is told as it is found. IHO S-44 edition 6 for the sea floor: the strictest order whose allowed uncertainty
// 95 % of the residuals keep. A point that lies more than three NMAD (and kLeastOutlier) off the median of its cover is
// named as an outlier; it stays in all numbers.
#pragma once
#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/statistics.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/points/soundings.hpp"

namespace katoptra {

enum class Cover { Open, Vegetated, SeaFloor };
const char* name_of(Cover cover);  // "open", "vegetated", "sea floor"

struct ControlPoint {
  std::string name;
  Point place;  // in the CRS of the set
  double height = 0;
  Cover cover = Cover::Open;
};

struct ControlSet {
  std::string name;
  Crs crs;  // none: that of the surface
  HeightReference heights;
  std::optional<LengthUnit> unit;  // none: that of the surface
  Length error;                    // standard error of the points' own survey
  std::vector<ControlPoint> points;
  std::vector<std::string> notes;  // what was taken for granted
};

// Points of a layer that bear a height: property z, height, elevation, h or ele, else the third coordinate. BadFile
// when none does.
ControlSet control_from(const Layer& layer);

struct ControlResidual {
  ControlPoint point;
  Point here;           // in the CRS of the surface
  double known = 0;     // height of the point as the surface counts
  double value = 0;     // of the surface; NaN in voids and outside
  double residual = 0;  // value less known; NaN without value
  bool outlier = false;
  // The residual in units of what the surface states there and the survey's own error together; NaN where the surface
  // states nothing. Within 1.96 at 95 of 100 points when both are true.
  double normalised = std::numeric_limits<double>::quiet_NaN();
};

// How residuals compare with what the surface states of itself.
struct NormalisedResiduals {
  std::int64_t points = 0, within = 0;  // within 1.96
  double rms = 0;                       // 1 where what is stated is true
};

inline constexpr double kLeastOutlier = 0.05;                                               // metres
inline constexpr double kAsprsClasses[] = {1, 2.5, 5, 10, 15, 20, 33.3, 66.7, 100, 333.3};  // centimetres

struct AsprsAccuracy {
  std::int64_t points = 0, needed = 0;  // open ground; what the area asks for
  bool enough = false;
  Length rmse;                     // open ground, with the error of the survey
  std::optional<double> class_cm;  // none: worse than the coarsest
  std::string class_text;          // "2.5-cm vertical accuracy class"
  bool biased = false;             // the mean is above a quarter of the RMSE
  std::optional<Length> vegetated_rmse;
};

struct S44Accuracy {
  S44Order order = S44Order::None;
  std::array<double, 4> shares{};  // of the points that keep each order, Exclusive first
};

struct ControlReport {
  std::string surface, control;
  LengthUnit unit = LengthUnit::Metre;
  Crs crs;
  std::vector<ControlResidual> rows;
  std::int64_t without_value = 0;
  ErrorStatistics all;
  std::optional<ErrorStatistics> open, vegetated, sea_floor;
  std::optional<AsprsAccuracy> asprs;             // with open ground
  std::optional<S44Accuracy> s44;                 // with sea floor
  std::optional<NormalisedResiduals> normalised;  // where the surface carries its uncertainty
  std::vector<std::string> notes;
};

// Refused when the points say from where their heights count and the surface does not, or the surface has no CRS but
// the points have.
ControlReport check_control(const Grid& surface, const ControlSet& control, const RunOptions& options = {});

// Points with name, cover, known, value, residual and outlier, in the CRS of the surface.
Layer control_layer(const ControlReport& report);

}  // namespace katoptra
