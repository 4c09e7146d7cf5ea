// The study area: polygons with the CRS they are drawn in.
//
//   Area a = Area::box({-31.05, -37.60, -30.95, -37.50});          // degrees, WGS 84
//   Area b = parse_area("circle:-31,-37.55,500m");
//   Area c = a.grown(50_m).in(Crs::parse("EPSG:32725"));
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/feature.hpp"
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

// "box:W,S,E,N", "circle:LON,LAT,RADIUS", each with "@CRS" behind it where it is not in degrees of WGS 84. Degrees may
// be written 37°33'S; with hemisphere letters, or where a number can only be a longitude, the order is free (a box is
// two opposite corners then), and what was understood is added to `notes`. A box whose west lies beyond its east
// crosses the antimeridian; its longitudes count on (179 to 181). BadArgument otherwise; files and names of places are
// for the rooms above.
Area parse_area(std::string_view text, std::vector<std::string>* notes = nullptr);

// All polygons of a layer as one area, parts that overlap counted once; empty where it has none.
Area area_of(const Layer& layer);

// The part of longitudes and latitudes that a shape in them covers, told around `middle` (a longitude): every polygon
// is turned by whole circles until its box is nearest to it. Polygons that RFC 7946 cut at the antimeridian meet again.
MultiPolygon told_around(const MultiPolygon& lonlat, double middle);

// The same polygons told so that they lie together: halves of one that was cut at the antimeridian meet again, and its
// longitudes count on (179 to 181). As they are when they lie nowhere nearer.
MultiPolygon joined_across_antimeridian(const MultiPolygon& lonlat);

// Polygons and lines read from outside are drawn in degrees or metres without saying so: true when every coordinate
// lies within the range of longitudes and latitudes.
bool looks_like_degrees(const Bounds& box);

// The same shape in longitudes from -180 to 180, cut at the antimeridian where it crosses it, as RFC 7946 asks.
MultiPolygon cut_at_antimeridian(const MultiPolygon& lonlat);

}  // namespace katoptra
