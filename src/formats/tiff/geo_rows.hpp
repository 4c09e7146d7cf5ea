// The projections that GeoTIFF has terms for, one row each, for reading and for writing.
#pragma once
#include <array>
#include <string>
#include <vector>

#include "geo/conversion.hpp"

namespace katoptra::tiff {

struct ProjectionParameter {
  const char* proj;           // "lat_0"
  std::array<int, 3> codes;   // of the EPSG data set, in the conversions that it appears in
  int key;                    // where it is written
  std::array<int, 4> others;  // where other writers put it
  double otherwise = 0;
  bool is_length = false;
};
struct ProjectionRow {
  int transformation;          // the value of ProjCoordTransGeoKey
  const char* proj;            // "tmerc"
  std::array<int, 3> methods;  // of the EPSG data set
  const char* name;            // PROJ's own, for methods without a code; may be null
  std::vector<ProjectionParameter> parameters;
  bool is_polar = false;
  int by_parallel = -1;  // 1: only where a standard parallel is told, 0: only where none is

  bool takes(bool has_parallel) const { return by_parallel < 0 || (by_parallel == 1) == has_parallel; }
  bool is_of(const Conversion& c) const;
  // 0 for a parameter that is not written.
  int key_of(const ConversionParameter& p) const;
};
const std::vector<ProjectionRow>& projection_rows();

}  // namespace katoptra::tiff
