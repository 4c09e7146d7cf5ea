// The study area: polygons with the CRS they are drawn in.
//
//   Area a = Area::box({-31.05, -37.60, -30.95, -37.50});          // degrees, WGS 84
//   Area b = parse_area("circle:-31,-37.55,500m");
//   Area c = a.grown(50_m).in(Crs::parse("EPSG:32725"));
#pragma once
#include <string_view>

#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/geometry.hpp"

namespace katoptra {

class Area {
 public:
  Area() = default;
  Area(MultiPolygon shape, Crs crs);
  static Area box(const Bounds& box, const Crs& crs = Crs::wgs84());
  // A circle of ground radius about a place in `crs`.
  static Area circle(Point centre, Length radius, const Crs& crs = Crs::wgs84());

  const MultiPolygon& shape() const { return shape_; }
  const Crs& crs() const { return crs_; }
  bool empty() const { return shape_.empty(); }
  Bounds bounds() const { return bounds_of(shape_); }
  // Carried into another CRS, edges bent as needed.
  Area in(const Crs& crs) const;
  // With everything within `margin` on the ground added.
  Area grown(Length margin) const;
  // Area on the ground in square metres (through an equal-area projection about its centre).
  double ground_area() const;
  // Longitude and latitude of the middle of its box.
  Point centre_lonlat() const;
  // The UTM zone of its middle.
  Crs utm() const;

 private:
  MultiPolygon shape_;
  Crs crs_;
};

// "box:W,S,E,N", "circle:LON,LAT,RADIUS", each with "@CRS" behind it where it is not in degrees of WGS 84; degrees may
// be written 37°33'S. BadArgument otherwise; files and names of places are for the rooms above.
Area parse_area(std::string_view text);

// Polygons and lines read from outside are drawn in degrees or metres without saying so: true when every coordinate
// lies within the range of longitudes and latitudes.
bool looks_like_degrees(const Bounds& box);

}  // namespace katoptra
