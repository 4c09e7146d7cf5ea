// Eight sectors of aspect, 45 degrees each, north first.
#pragma once
#include <cmath>

namespace katoptra {

inline int sector_of(double degrees) { return static_cast<int>(std::floor((degrees + 22.5) / 45)) % 8; }
inline const char* sector_name(int sector) {
  constexpr const char* kNames[8] = {"north", "north-east", "east", "south-east",
                                     "south", "south-west", "west", "north-west"};
  return kNames[sector];
}

}  // namespace katoptra
