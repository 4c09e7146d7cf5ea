// Plain geometry in one plane: points, rings, polygons, boxes. Coordinates are x = east or longitude, y = north or
// latitude in the unit of whatever CRS the owner names. Sets of polygons are combined with `overlay`.
//
//   MultiPolygon both = overlay({to_polygon({0, 0, 2, 2})}, {to_polygon({1, 1, 3, 3})}, Overlay::Intersection);
#pragma once
#include <limits>
#include <string>
#include <vector>

namespace katoptra {

struct Point {
  double x = 0, y = 0;
  bool operator==(const Point&) const = default;
};

using LineString = std::vector<Point>;
using Ring = std::vector<Point>;  // closed: the last point equals the first

struct Polygon {
  Ring outer;
  std::vector<Ring> holes;
};
using MultiPolygon = std::vector<Polygon>;

struct Bounds {
  double west = std::numeric_limits<double>::infinity(), south = west, east = -west, north = -west;

  bool empty() const { return !(west <= east && south <= north); }
  double width() const { return east - west; }
  double height() const { return north - south; }
  Point centre() const { return {(west + east) / 2, (south + north) / 2}; }
  bool contains(Point p) const { return p.x >= west && p.x <= east && p.y >= south && p.y <= north; }
  bool intersects(const Bounds& o) const {
    return west <= o.east && o.west <= east && south <= o.north && o.south <= north;
  }
  void include(Point p);
  void include(const Bounds& o);
  Bounds grown(double by) const { return {west - by, south - by, east + by, north + by}; }
  bool operator==(const Bounds&) const = default;
};

Bounds bounds_of(const MultiPolygon& shape);
Bounds bounds_of(const LineString& line);
// The box as a polygon; `steps` points a side, so that it keeps its shape when it is bent into another CRS.
Polygon to_polygon(const Bounds& box, int steps = 1);
// Even-odd rule over all rings; a point exactly on an edge may fall either way.
bool contains(const MultiPolygon& shape, Point p);

enum class Overlay { Union, Intersection, Difference };
// Exact overlay in the plane. Invalid rings are mended first. BadArgument when that is impossible.
MultiPolygon overlay(const MultiPolygon& a, const MultiPolygon& b, Overlay op);
MultiPolygon union_of(const std::vector<MultiPolygon>& shapes);
// Every point within `distance` (unit of the coordinates; negative shrinks).
MultiPolygon buffered(const MultiPolygon& shape, double distance);
// The pieces that the outlines of all shapes cut the plane into, and which shapes (by number) each lies in; pieces in
// none are left out.
struct Face {
  MultiPolygon shape;
  std::vector<std::size_t> in;
};
std::vector<Face> faces_of(const std::vector<MultiPolygon>& shapes);
// Planar area in squared units of the coordinates.
double planar_area(const MultiPolygon& shape);
// Removes slivers thinner than about `tolerance`.
MultiPolygon without_slivers(const MultiPolygon& shape, double tolerance);

}  // namespace katoptra
