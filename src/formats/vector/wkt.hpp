// Geometries as well-known text (OGC 06-103r4).
#pragma once
#include <string>
#include <vector>

#include "katoptra/geo/feature.hpp"

namespace katoptra {

// "LINESTRING Z (1 2 3, 4 5 6)": with heights where each point has one.
std::string wkt_of(const Feature& f);
// The geometries of one text, in our three kinds, without properties. BadFile (`where`) when it is none.
std::vector<Feature> features_of_wkt(const std::string& text, const std::string& where);

}  // namespace katoptra
