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
  bool complete = true;                  // false: GeoTIFF has no terms for the CRS, and it is not in them
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
// What is written is read back and compared at places of `where` (in the CRS): a system that does not come back the
// same is left out, and the tags are not complete.
GeoTags write_geo_tags(const Crs& crs, const Quantity& quantity, const Bounds& where);

}  // namespace katoptra::tiff
