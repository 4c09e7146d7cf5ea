// Vector features: a geometry with named properties, in layers that share a CRS.
//
//   Layer pegs{.name = "pegs", .crs = Crs::parse("EPSG:32725"), .features = {{Point{677600, 5841300}, {{"z", 12.5}}}}};
#pragma once
#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "katoptra/base/units.hpp"
#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/geometry.hpp"

namespace katoptra {

using Property = std::variant<std::int64_t, double, std::string>;

// As it is read again: all digits, text as it is.
std::string text_of(const Property& value);

struct Feature {
  std::variant<Point, LineString, MultiPolygon> geometry;
  std::vector<std::pair<std::string, Property>> properties;  // in the order they are written
  // Of a point, or of a line's points; one for all of a line that is level. In the unit of the layer, where it says
  // one.
  std::vector<double> heights = {};
  // Of a line's points where they are known (a track): seconds since 1970, by UTC.
  std::vector<double> times = {};
};

// The height of the i-th point of a point or a line; NaN where none is known.
double height_at(const Feature& f, std::size_t i);
// The value of that name; null where there is none.
const Property* property_of(const Feature& f, std::string_view name);
// Whether it has that property, as a whole number other than zero.
bool is_set(const Feature& f, std::string_view name);
// Whether each point of a point or a line has a height of its own.
bool has_heights(const Feature& f);

struct Layer {
  std::string name = "features";
  Crs crs;
  std::vector<Feature> features;
  std::optional<LengthUnit> unit = {};  // of the heights
};

// The same in the other CRS: all of its places, the rest as it is.
Feature carried(Feature f, const Transform& t);

// A feature in longitude and latitude, cut where it crosses the antimeridian, so that every part lies within -180 to 180
// and none goes the long way round (RFC 7946, 3.1.9). Points of a line that are more than half a globe apart are taken
// to be joined the short way.
std::vector<Feature> cut_at_antimeridian(const Feature& lonlat);

}  // namespace katoptra
