#include "katoptra/geo/area.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

// A ring around a pole has all longitudes; its middle is the pole.
Point middle_of(const Bounds& lonlat) {
  if (lonlat.width() > 359.999 && lonlat.north > 89.999) return {0, 90};
  if (lonlat.width() > 359.999 && lonlat.south < -89.999) return {0, -90};
  return lonlat.centre();
}

Crs equal_area_about(Point lonlat) {
  return Crs::parse(
      fmt::format("+proj=laea +lat_0={:.6f} +lon_0={:.6f} +datum=WGS84 +units=m +type=crs", lonlat.y, lonlat.x));
}

std::vector<std::string_view> split(std::string_view text, char by) {
  std::vector<std::string_view> parts;
  while (true) {
    const auto at = text.find(by);
    parts.push_back(text.substr(0, at));
    if (at == text.npos) return parts;
    text.remove_prefix(at + 1);
  }
}

[[noreturn]] void refuse(std::string_view text, std::string_view why) {
  throw Error(
      ErrorCode::BadArgument, fmt::format("'{}' is not an area: {}", text, why), {},
      "write box:W,S,E,N or circle:LON,LAT,RADIUS (with @CRS behind it when not in degrees), or name a vector file");
}

}  // namespace

Area::Area(MultiPolygon shape, Crs crs) : shape_(std::move(shape)), crs_(std::move(crs)) {
  if (!crs_)
    throw Error(ErrorCode::BadArgument, "an area needs a coordinate reference system", "area", "name it with @CRS");
}

Area Area::box(const Bounds& box, const Crs& crs) {
  if (box.empty() || !std::isfinite(box.width()) || !std::isfinite(box.height()))
    throw Error(ErrorCode::BadArgument, "the box is empty: west must be below east and south below north", "area",
                "check the order W,S,E,N");
  return {{to_polygon(box)}, crs};
}

Area Area::circle(Point centre, Length radius, const Crs& crs) {
  if (!(radius.metres() > 0)) throw Error(ErrorCode::BadArgument, "the radius must be above zero", "area");
  const Point lonlat = Transform(crs, Crs::wgs84()).forward(centre);
  const Crs plane = Crs::parse(
      fmt::format("+proj=aeqd +lat_0={:.12f} +lon_0={:.12f} +datum=WGS84 +units=m +type=crs", lonlat.y, lonlat.x));
  constexpr int kSides = 128;
  Ring ring;
  for (int i = 0; i < kSides; ++i) {
    const double t = 2 * std::numbers::pi * i / kSides;
    ring.push_back({radius.metres() * std::cos(t), radius.metres() * std::sin(t)});
  }
  ring.push_back(ring.front());
  return {transformed(MultiPolygon{{ring, {}}}, Transform(plane, crs)), crs};
}

Area Area::in(const Crs& crs) const {
  if (crs.same_place(crs_)) return *this;
  return {transformed(shape_, Transform(crs_, crs)), crs};
}

Point Area::centre_lonlat() const {
  if (crs_.is_geographic()) return Transform(crs_, Crs::wgs84()).forward(middle_of(bounds()));
  return Transform(crs_, Crs::wgs84()).forward(bounds().centre());
}

Crs Area::utm() const {
  const Point c = centre_lonlat();
  return Crs::utm_for(c.x, c.y);
}

Area Area::grown(Length margin) const {
  if (margin == Length()) return *this;
  const Crs plane = equal_area_about(centre_lonlat());
  return Area(buffered(in(plane).shape(), margin.metres()), plane).in(crs_);
}

double Area::ground_area() const {
  if (empty()) return 0;
  return planar_area(in(equal_area_about(centre_lonlat())).shape());
}

bool looks_like_degrees(const Bounds& b) { return b.west >= -360 && b.east <= 360 && b.south >= -90 && b.north <= 90; }

namespace {

enum class Towards { Unknown, Longitude, Latitude };
struct Coordinate {
  double value = 0;
  Towards axis = Towards::Unknown;
};

// A number of an area in degrees; a letter, or a size that no latitude has, tells its axis.
Coordinate degrees_from(std::string_view part) {
  const double v = parse_degrees(part);
  const char last = part.empty() ? ' ' : part[part.find_last_not_of(' ')];
  if (std::string_view("EWew").find(last) != std::string_view::npos) return {v, Towards::Longitude};
  if (std::string_view("NSns").find(last) != std::string_view::npos) return {v, Towards::Latitude};
  return {v, std::abs(v) > 90 ? Towards::Longitude : Towards::Unknown};
}

// Puts a pair into the order longitude, latitude. False when both claim the same axis.
bool order_pair(Coordinate& a, Coordinate& b, bool& swapped) {
  if (a.axis != Towards::Unknown && a.axis == b.axis) return false;
  swapped = a.axis == Towards::Latitude || b.axis == Towards::Longitude;
  if (swapped) std::swap(a, b);
  return true;
}

// Longitudes and latitudes of two opposite corners, in whatever order they were told.
Bounds box_from(std::string_view text, std::vector<Coordinate> c, std::vector<std::string>* notes) {
  const bool plain = (c[0].axis != Towards::Latitude) && (c[1].axis != Towards::Longitude) &&
                     (c[2].axis != Towards::Latitude) && (c[3].axis != Towards::Longitude);
  if (!plain) {
    // Two corners, each with its latitude first; or both of one axis, then both of the other.
    bool first = false, second = false;
    if (c[0].axis == c[1].axis && c[0].axis != Towards::Unknown) std::swap(c[1], c[2]);
    if (!order_pair(c[0], c[1], first) || !order_pair(c[2], c[3], second))
      refuse(text, "its four numbers are not two longitudes and two latitudes");
    // What one corner tells of the order holds for the other.
    if (first != second && c[2].axis == Towards::Unknown && c[3].axis == Towards::Unknown) std::swap(c[2], c[3]);
    if (first != second && c[0].axis == Towards::Unknown && c[1].axis == Towards::Unknown) std::swap(c[0], c[1]);
    if (c[1].value > c[3].value) std::swap(c[1].value, c[3].value);
    // Corners without an order: the shorter way around.
    if (c[0].value > c[2].value && c[0].value - c[2].value <= 180) std::swap(c[0].value, c[2].value);
    if (c[2].value - c[0].value > 180) std::swap(c[0].value, c[2].value);
  }
  Bounds b{c[0].value, c[1].value, c[2].value, c[3].value};
  if (!looks_like_degrees(b)) refuse(text, "its numbers are no longitudes and latitudes");
  if (b.west > b.east && b.east + 360 - b.west <= 180) b.east += 360;
  if (!plain && notes)
    notes->push_back(fmt::format("'{}' was understood as west {:g}, south {:g}, east {:g}, north {:g}", text, b.west,
                                 b.south, b.east, b.north));
  return b;
}

}  // namespace

Area parse_area(std::string_view text, std::vector<std::string>* notes) {
  std::string_view rest = text;
  Crs crs = Crs::wgs84();
  if (const auto at = rest.rfind('@'); at != rest.npos) {
    crs = Crs::parse(rest.substr(at + 1));
    rest = rest.substr(0, at);
  }
  const bool is_box = rest.starts_with("box:"), is_circle = rest.starts_with("circle:");
  if (!is_box && !is_circle) refuse(text, "it starts with neither box: nor circle:");
  const auto parts = split(rest.substr(is_box ? 4 : 7), ',');
  if (is_box && parts.size() != 4) refuse(text, "a box has four numbers");
  if (is_circle && parts.size() != 3) refuse(text, "a circle has a centre and a radius");
  std::vector<Coordinate> c;
  for (std::size_t i = 0; i < (is_box ? 4u : 2u); ++i) {
    if (crs.is_geographic()) {
      if (const auto plain = parse_number(parts[i]); plain && std::abs(*plain) > 360)
        refuse(text, fmt::format("{} is too much for degrees, and no other system is named", parts[i]));
      c.push_back(degrees_from(parts[i]));
      continue;
    }
    const auto value = parse_number(parts[i]);
    if (!value) refuse(text, fmt::format("'{}' is not a number", parts[i]));
    c.push_back({*value});
  }
  if (is_box) {
    const Bounds b =
        crs.is_geographic() ? box_from(text, c, notes) : Bounds{c[0].value, c[1].value, c[2].value, c[3].value};
    if (!(b.west < b.east) || !(b.south < b.north)) refuse(text, "west must be below east and south below north");
    return Area::box(b, crs);
  }
  if (crs.is_geographic()) {
    bool swapped = false;
    if (!order_pair(c[0], c[1], swapped)) refuse(text, "its centre is not one longitude and one latitude");
    if (swapped && notes)
      notes->push_back(
          fmt::format("'{}' was understood as longitude {:g}, latitude {:g}", text, c[0].value, c[1].value));
    if (std::abs(c[0].value) > 360 || std::abs(c[1].value) > 90)
      refuse(text, "its centre is no longitude and latitude");
  }
  if (notes && parse_number(parts[2]))
    notes->push_back(fmt::format("'{}': the radius was taken for {} m", text, parts[2]));
  return Area::circle({c[0].value, c[1].value}, Length::parse(parts[2], LengthUnit::Metre), crs);
}

MultiPolygon told_around(const MultiPolygon& lonlat, double middle) {
  MultiPolygon out = lonlat;
  for (Polygon& p : out) {
    const double turn = 360 * std::round((middle - bounds_of(p.outer).centre().x) / 360);
    if (turn == 0) continue;
    for (Point& q : p.outer) q.x += turn;
    for (Ring& hole : p.holes)
      for (Point& q : hole) q.x += turn;
  }
  return out;
}

MultiPolygon joined_across_antimeridian(const MultiPolygon& lonlat) {
  const Bounds as_told = bounds_of(lonlat);
  if (lonlat.size() < 2 || as_told.width() <= 180) return lonlat;
  MultiPolygon best = lonlat;
  double width = as_told.width();
  for (const Polygon& p : lonlat) {
    MultiPolygon turned = told_around(lonlat, bounds_of(p.outer).centre().x);
    if (const double w = bounds_of(turned).width(); w < width - 1e-9) {
      width = w;
      best = std::move(turned);
    }
  }
  return best;
}

MultiPolygon cut_at_antimeridian(const MultiPolygon& lonlat) {
  const Bounds b = bounds_of(lonlat);
  if (b.empty() || (b.west >= -180 && b.east <= 180)) return lonlat;
  MultiPolygon out;
  const MultiPolygon globe = {to_polygon(Bounds{-180, -90, 180, 90})};
  for (double turn : {-360.0, 0.0, 360.0}) {
    MultiPolygon turned = lonlat;
    for (Polygon& p : turned) {
      for (Point& q : p.outer) q.x += turn;
      for (Ring& hole : p.holes)
        for (Point& q : hole) q.x += turn;
    }
    if (!bounds_of(turned).intersects(bounds_of(globe))) continue;
    for (Polygon& p : overlay(turned, globe, Overlay::Intersection)) out.push_back(std::move(p));
  }
  return out;
}

namespace {

// Longitudes that go on where they pass 180.
void unwrap(LineString& line) {
  for (std::size_t i = 1; i < line.size(); ++i) line[i].x += 360 * std::round((line[i - 1].x - line[i].x) / 360);
}

std::vector<Feature> cut_line(const Feature& f, LineString line) {
  unwrap(line);
  std::vector<Feature> out;
  // Turns of the globe to the east of the part that is written.
  double turn = std::floor((line.front().x + 180) / 360);
  // One that begins on the antimeridian and goes west is on its western side.
  if (line.front().x == 360 * turn - 180 && line[1].x < line.front().x) --turn;
  Feature part{LineString{}, f.properties, {}};
  auto add = [&](Point p, double z) {
    std::get<LineString>(part.geometry).push_back({p.x - 360 * turn, p.y});
    if (has_heights(f)) part.heights.push_back(z);
  };
  add(line[0], height_at(f, 0));
  for (std::size_t i = 1; i < line.size(); ++i) {
    const Point a = line[i - 1], b = line[i];
    for (;;) {
      const double east = 360 * turn + 180, west = 360 * turn - 180;
      const bool over = b.x > east, under = b.x < west;
      if (!over && !under) break;
      const double edge = over ? east : west, t = (edge - a.x) / (b.x - a.x);
      const Point at{edge, a.y + t * (b.y - a.y)};
      const double z = height_at(f, i - 1) + t * (height_at(f, i) - height_at(f, i - 1));
      add(at, z);
      if (std::get<LineString>(part.geometry).size() > 1) out.push_back(part);
      part = Feature{LineString{}, f.properties, {}};
      turn += over ? 1 : -1;
      add(at, z);
    }
    add(b, height_at(f, i));
  }
  if (!has_heights(f)) part.heights = f.heights;
  for (Feature& p : out)
    if (!has_heights(f)) p.heights = f.heights;
  out.push_back(std::move(part));
  return out;
}

}  // namespace

std::vector<Feature> cut_at_antimeridian(const Feature& f) {
  Feature one = f;
  // What is no longitude is left as it is: turns of the globe could not be counted.
  constexpr double kMost = 3600;
  const auto is_odd = [](Point p) { return !(std::abs(p.x) <= kMost) || !std::isfinite(p.y); };
  if (auto* p = std::get_if<Point>(&one.geometry)) {
    if (is_odd(*p)) return {one};
    if (p->x < -180 || p->x > 180) p->x -= 360 * std::floor((p->x + 180) / 360);
    return {one};
  }
  if (const auto* line = std::get_if<LineString>(&one.geometry)) {
    if (line->size() < 2 || std::any_of(line->begin(), line->end(), is_odd)) return {one};
    return cut_line(f, *line);
  }
  auto& shape = std::get<MultiPolygon>(one.geometry);
  for (const Polygon& p : shape) {
    if (std::any_of(p.outer.begin(), p.outer.end(), is_odd)) return {one};
    for (const Ring& hole : p.holes)
      if (std::any_of(hole.begin(), hole.end(), is_odd)) return {one};
  }
  for (Polygon& p : shape) {
    unwrap(p.outer);
    for (Ring& hole : p.holes) {
      if (hole.empty() || p.outer.empty()) continue;
      hole[0].x += 360 * std::round((bounds_of(p.outer).centre().x - hole[0].x) / 360);
      unwrap(hole);
    }
  }
  shape = cut_at_antimeridian(shape);
  return {one};
}

Area area_of(const Layer& layer) {
  MultiPolygon all;
  for (const Feature& f : layer.features)
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry)) all.insert(all.end(), m->begin(), m->end());
  if (layer.crs.is_geographic()) all = joined_across_antimeridian(all);
  return {all.size() > 1 ? union_of({all}) : all, layer.crs};
}

}  // namespace katoptra
