// The level of open water from heights that were measured on it, and on other things.
#pragma once
#include <optional>
#include <vector>

namespace katoptra {

struct WaterLevel {
  double level = 0, spread = 0;  // the spread is that of single heights, as a standard deviation
  std::size_t cells = 0;         // heights that tell of it
};
// Where heights lie densest: half of them must be the water's. Nothing of fewer than three.
std::optional<WaterLevel> water_level(std::vector<double> heights);

}  // namespace katoptra
