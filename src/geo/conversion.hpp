// A projected system taken apart, for formats that keep its parts: private to the library.
#pragma once
#include <string>
#include <vector>

#include "katoptra/geo/crs.hpp"

namespace katoptra {

struct ConversionParameter {
  int code = 0;  // of the EPSG data set; 0 when it has none
  std::string name;
  double value = 0;  // metres, degrees or a plain number
  bool is_length = false;
};
// How a projected system comes from its geographic one. Empty `method` for systems that have no conversion.
struct Conversion {
  int method_code = 0;  // of the EPSG data set; 0 when it has none
  std::string method;
  std::vector<ConversionParameter> parameters;
};
Conversion conversion_of(const Crs& crs);

// What a geographic system (or the one under a projected one) stands on.
struct DatumFacts {
  std::string ellipsoid;
  double semi_major = 0, inverse_flattening = 0;  // 0: a sphere
  double prime_meridian = 0;                      // degrees from Greenwich
  std::vector<double> to_wgs84;                   // three or seven parameters; empty when none were given
};
DatumFacts datum_of(const Crs& crs);

// Where a system is made for, in longitude and latitude; empty when nobody says.
Bounds area_of_use(const Crs& crs);

// The same projection over another geographic system; none when that cannot be.
Crs over_geodetic(const Crs& projected, const Crs& geodetic);
// True when both give the same places for the same numbers, to a millimetre at the places told (in the systems' own
// coordinates), and stand on the same datum as far as that can be told.
bool means_the_same(const Crs& a, const Crs& b, const Bounds& where);

}  // namespace katoptra
