// Coordinate reference systems: what x and y mean, and from where heights are counted.
//
//   Crs crs = Crs::parse("EPSG:32725+3855");      // horizontal and vertical
//   crs.heights().name();                         // "EGM2008 height"
//   Transform there(Crs::parse("EPSG:4326"), crs);
//   Point p = there.forward({-31.0, -37.55});     // always x = east or longitude, whatever the authority's axis order
//
// Values are cheap immutable handles and may be shared between threads. Transform keeps one pipeline a caller and is
// thread-safe. Both stand on PROJ with its network access switched off: a missing shift grid is an Error, never a
// download.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "katoptra/base/units.hpp"
#include "katoptra/geo/geometry.hpp"

namespace katoptra {

// From where heights are counted: unknown, an ellipsoid, or a vertical reference system such as a geoid model.
// Two references are equal when they are the same system; the unit of the values is kept elsewhere (Quantity).
class HeightReference {
 public:
  HeightReference() = default;  // unknown
  static HeightReference ellipsoid();
  // "EGM96", "EGM2008", "NAVD88", "MSL", "MLLW", "LAT", "chart datum", "ellipsoid", "unknown", "EPSG:5703", the WKT of
  // a vertical system, or a name of the EPSG data set. BadArgument otherwise. "MLLW" and "LAT" are references of
  // heights here; "EPSG:5866" is a system of depths (is_depth).
  static HeightReference parse(std::string_view text);
  static HeightReference from_epsg(int code);
  // A reference of which nothing but its name is known: equal to itself, convertible to nothing.
  static HeightReference named(std::string name);

  bool known() const { return kind_ != Kind::Unknown; }
  bool is_ellipsoid() const { return kind_ == Kind::Ellipsoid; }
  // "EGM2008 height", "ellipsoid", "unknown"
  const std::string& name() const { return name_; }
  // EPSG code of the vertical system; 0 when it has none.
  int epsg() const { return epsg_; }
  // The system's WKT; empty for an ellipsoid or a mere name.
  const std::string& wkt() const { return wkt_; }
  // The unit that the system's own axis has.
  LengthUnit unit() const { return unit_; }
  // True when it was named by a system that counts downwards ("MLLW depth"): what lies in a file under that name are
  // depths. The reference itself is always that of heights, its twin that counts upwards ("MLLW height"), and values in
  // Katoptra are heights; readers turn them and take `as_heights`.
  bool is_depth() const { return depth_; }
  HeightReference as_heights() const;
  // What parse understands as this reference: "EPSG:5773", "ellipsoid", a name.
  std::string text() const;
  bool operator==(const HeightReference& o) const { return kind_ == o.kind_ && epsg_ == o.epsg_ && name_ == o.name_; }

 private:
  friend class Crs;
  friend class VerticalTransform;
  static HeightReference read(std::string_view text);
  static HeightReference registered(int code);
  static HeightReference described(void* context, const void* system);
  enum class Kind { Unknown, Ellipsoid, System };
  Kind kind_ = Kind::Unknown;
  std::string name_ = "unknown", wkt_;
  std::string told_wkt_;  // the system that it was named by, where that counts downwards
  int epsg_ = 0;
  LengthUnit unit_ = LengthUnit::Metre;
  bool depth_ = false;
};

class Crs {
 public:
  Crs() = default;  // none
  // "EPSG:32725", "EPSG:32725+3855", WKT (1 or 2), a PROJ string. BadArgument with advice otherwise.
  static Crs parse(std::string_view text);
  // The UTM zone (WGS 84) of a longitude and latitude in degrees.
  static Crs utm_for(double longitude, double latitude);
  static Crs wgs84();

  bool known() const { return impl_ != nullptr; }
  explicit operator bool() const { return known(); }
  const std::string& name() const;
  // "EPSG:32725", or empty when the system has no code. The horizontal part only.
  std::string code() const;
  int epsg() const;
  // The horizontal part as WKT 2.
  const std::string& wkt() const;
  // Both parts, for files: the first edition of WKT (OGC 01-009), which every .prj reader knows, where that can express
  // them, else the second. Heights above an ellipsoid have no place in it.
  std::string file_wkt() const;
  // The horizontal part as a PROJ string, for files that can hold nothing better; empty when there is none.
  std::string proj_string() const;
  // Code where there is one, else the name.
  std::string label() const;
  bool is_geographic() const;
  // A cylindrical Mercator projection (popular web maps among them): its distances are stretched away from the equator.
  bool is_mercator() const;
  // Metres in one unit of the axes; radians for geographic systems.
  double unit_factor() const;
  // The unit of the axes: "m", "ft", "ftUS", "degree" or a name.
  const std::string& unit_name() const;
  // Semi-major axis in metres and squared eccentricity of the ellipsoid.
  double semi_major() const;
  double eccentricity2() const;

  const HeightReference& heights() const;
  Crs with_heights(const HeightReference& heights) const;
  // The geographic system that this one is based on; itself when it is geographic.
  Crs geodetic() const;
  // Same horizontal system, however it was written.
  bool same_place(const Crs& other) const;

  struct Impl;

 private:
  explicit Crs(std::shared_ptr<const Impl> impl) : impl_(std::move(impl)) {}
  static Crs read(std::string_view text);
  std::string for_files() const;
  std::shared_ptr<const Impl> impl_;
  HeightReference heights_;
};

// Horizontal change of coordinates. A point that cannot be transformed becomes NaN in both coordinates.
// MissingResource when PROJ knows no operation between the two.
class Transform {
 public:
  Transform(const Crs& from, const Crs& to);
  bool is_identity() const;
  // True when the datum shift between the two is not known and ignored ("ballpark"): up to hundreds of metres off.
  bool is_ballpark() const;
  // The result is longitude and latitude.
  bool to_globe() const;
  Point forward(Point p) const;
  Point inverse(Point p) const;
  void forward(std::span<Point> points) const;
  void inverse(std::span<Point> points) const;

  struct Impl;

 private:
  static std::shared_ptr<Impl> open(const Crs& from, const Crs& to);
  std::shared_ptr<Impl> impl_;
};

// "9.1.1": the PROJ that coordinates go through, for records.
std::string proj_version();

// Outlines carried into another CRS, with points added on long edges so that they keep their shape: no edge is longer
// than 1/32 of the outline's larger side, and none is off by more than a millionth of its size (but where that takes
// more than 64 pieces each). Longitudes go on counting across the antimeridian; an outline around a pole spans 360
// degrees and reaches up to the pole.
MultiPolygon transformed(const MultiPolygon& shape, const Transform& transform);
// The box around a box carried into another CRS. Around a pole it has all longitudes; across the antimeridian it goes
// on counting (179 to 181).
Bounds transformed(const Bounds& box, const Transform& transform);

// How long one unit of x and of y is on the ground (ellipsoid) at a place, in metres. This is what turns a step of one
// cell into a distance on any CRS, the scale factor of the projection and the convergence of meridians included.
struct GroundScale {
  double x = 1, y = 1;
};
class GroundRuler {
 public:
  explicit GroundRuler(const Crs& crs);
  GroundScale at(Point p) const;
  void at(std::span<const Point> points, std::span<GroundScale> out) const;
  // Square metres of ground in one square unit of x and y, on skewed projections, too.
  void areas(std::span<const Point> points, std::span<double> out) const;
  // Square metres between two parallels (degrees) in one degree of longitude, exactly.
  double zone(double south, double north) const;
  // Length of the straight line between two near points: the scale at the middle is taken for all of it (error below
  // 1e-6 for steps under 10 km in UTM).
  Length distance(Point a, Point b) const;

 private:
  Crs crs_;
  std::shared_ptr<const Transform> to_globe_;
};

}  // namespace katoptra
