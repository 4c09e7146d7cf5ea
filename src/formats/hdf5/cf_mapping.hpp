// Grid mappings of the CF conventions (appendix F) in PROJ's terms, for files that carry no WKT.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace katoptra {

// The attributes of a grid mapping variable.
struct CfAttributes {
  std::function<std::string(const char*)> text;             // empty when it is not there
  std::function<std::vector<double>(const char*)> numbers;  // empty when it is not there
};

struct CfMapping {
  std::string proj;        // "+proj=lcc ... +type=crs", in metres or degrees; empty when there is none
  std::string problem;     // why a mapping that is named cannot be used
  double perspective = 0;  // geostationary: coordinates are angles, to be multiplied by this height (metres)
};
// `unit`: metres in one unit of the coordinates, in which false eastings are told.
CfMapping cf_mapping(const CfAttributes& attributes, double unit);

}  // namespace katoptra
