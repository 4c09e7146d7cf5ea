#include "katoptra/geo/area.hpp"

#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

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
  Transform(plane, crs).forward(ring);
  return {{Polygon{ring, {}}}, crs};
}

Area Area::in(const Crs& crs) const {
  if (crs.same_place(crs_)) return *this;
  return {transformed(shape_, Transform(crs_, crs)), crs};
}

Point Area::centre_lonlat() const { return Transform(crs_, Crs::wgs84()).forward(bounds().centre()); }

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

Area parse_area(std::string_view text) {
  std::string_view rest = text;
  Crs crs = Crs::wgs84();
  if (const auto at = rest.rfind('@'); at != rest.npos) {
    crs = Crs::parse(rest.substr(at + 1));
    rest = rest.substr(0, at);
  }
  const bool is_box = rest.starts_with("box:"), is_circle = rest.starts_with("circle:");
  if (!is_box && !is_circle) refuse(text, "it starts with neither box: nor circle:");
  const auto parts = split(rest.substr(is_box ? 4 : 7), ',');
  auto coordinate = [&](std::string_view part) {
    if (crs.is_geographic()) return parse_degrees(part);
    const auto value = parse_number(part);
    if (!value) refuse(text, fmt::format("'{}' is not a number", part));
    return *value;
  };
  if (is_box) {
    if (parts.size() != 4) refuse(text, "a box has four numbers");
    const Bounds b{coordinate(parts[0]), coordinate(parts[1]), coordinate(parts[2]), coordinate(parts[3])};
    if (crs.is_geographic() && !looks_like_degrees(b)) refuse(text, "its numbers are no longitudes and latitudes");
    if (!(b.west < b.east) || !(b.south < b.north)) refuse(text, "west must be below east and south below north");
    return Area::box(b, crs);
  }
  if (parts.size() != 3) refuse(text, "a circle has a centre and a radius");
  return Area::circle({coordinate(parts[0]), coordinate(parts[1])}, Length::parse(parts[2], LengthUnit::Metre), crs);
}

}  // namespace katoptra
