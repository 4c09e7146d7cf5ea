// The columns west, south, east, north of a shortlist; empty ones where nothing is known.
#pragma once
#include <fmt/format.h>
#include <string>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

inline std::string box_text(const Bounds& b) {
  return b.empty() ? ",,," : fmt::format("{:.7f},{:.7f},{:.7f},{:.7f}", b.west, b.south, b.east, b.north);
}

}  // namespace katoptra
