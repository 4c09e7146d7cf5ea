// One thing that a check noticed: what, how bad, where, how much, and what to do.
//
//   for (const Finding& f : check(dem).findings) say(name_of(f.severity), f.message, f.advice);
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "katoptra/geo/feature.hpp"

namespace katoptra {

enum class Severity { Note, Warning, Failure };
const char* name_of(Severity s);

struct Finding {
  std::string code;
  Severity severity = Severity::Note;
  std::string file;     // which grid
  std::string message;  // with place and measure in words
  std::string advice;
  std::optional<double> measure;
  std::string unit;
  MultiPolygon place;  // in `crs`; empty: the whole grid
  Crs crs;
};

// Findings with a place, as polygons in longitude and latitude.
Layer finding_layer(const std::vector<Finding>& findings);

}  // namespace katoptra
