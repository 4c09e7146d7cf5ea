// The CRS of a GeoTIFF: its three key tags to and from our Crs, unit and vertical reference.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/grid/quantity.hpp"

namespace katoptra::tiff {

struct GeoTags {
  std::vector<std::uint16_t> directory;  // 34735
  std::vector<double> doubles;           // 34736
  std::string text;                      // 34737
};

struct GeoFacts {
  Crs crs;               // none when the file says nothing, or nothing that is understood
  std::string crs_name;  // the file's own words
  bool pixel_is_point = false;
  HeightReference heights;
  std::optional<LengthUnit> height_unit;
  std::vector<std::string> notes;
};

GeoFacts read_geo_tags(const GeoTags& tags);
GeoTags write_geo_tags(const Crs& crs, const Quantity& quantity);

}  // namespace katoptra::tiff
