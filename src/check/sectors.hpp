// Eight sectors of aspect, 45 degrees each, north first.
#pragma once
#include <cmath>

namespace katoptra {

inline int sector_of(double degrees) { return static_cast<int>(std::floor((degrees + 22.5) / 45)) % 8; }
// Where they begin: the one that a bearing is in is how many of these it reaches, and the eighth is the first again.
inline constexpr float kSectorEdges[8] = {22.5f, 67.5f, 112.5f, 157.5f, 202.5f, 247.5f, 292.5f, 337.5f};
inline const char* sector_name(int sector) {
  constexpr const char* kNames[8] = {"north", "north-east", "east", "south-east",
                                     "south", "south-west", "west", "north-west"};
  return kNames[sector];
}

}  // namespace katoptra
