// Vector features: a geometry with named properties, in layers that share a CRS.
//
//   Layer pegs{.name = "pegs", .crs = Crs::parse("EPSG:32725"), .features = {{Point{677600, 5841300}, {{"z", 12.5}}}}};
#pragma once
#include <cstdint>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "katoptra/geo/crs.hpp"
#include "katoptra/geo/geometry.hpp"

namespace katoptra {

using Property = std::variant<std::int64_t, double, std::string>;

struct Feature {
  std::variant<Point, LineString, MultiPolygon> geometry;
  std::vector<std::pair<std::string, Property>> properties;  // in the order they are written
  std::vector<double> heights;                               // of a point, or a line's points, where the file has z
};

struct Layer {
  std::string name = "features";
  Crs crs;
  std::vector<Feature> features;
};

}  // namespace katoptra
