// The cheapest channel from a place down to lower ground.
#pragma once
#include <cstdint>
#include <limits>
#include <optional>
#include <vector>

#include "land.hpp"

namespace katoptra {

struct ChannelLimits {
  double longest = 0;                                       // metres on the ground
  float deepest = 0;                                        // in the unit of the surface; infinite when there is none
  double across = 0, down = 0;                              // metres of a cell, at the middle of the frame
  double vertical = 1;                                      // metres in a unit of height
  double volume = std::numeric_limits<double>::infinity();  // a channel that moves more is none, in cubic metres
};
ChannelLimits channel_limits(const Grid& land, std::optional<Length> longest, std::optional<double> deepest);

struct Channel {
  std::vector<ChangedCell> cells;  // those that are lowered; none when there is no channel within the limits
  double volume = 0;               // cubic metres
};

// From the cell to the nearest, by what has to be dug, that is lower or beside a void or the edge (Lindsay & Dhun
// 2015). The channel falls evenly to that cell's height. Cells that are the same to dig are taken in the order of their
// places, so that the result does not depend on how the land is read.
Channel cheapest_channel(const Grid& land, std::int64_t col, std::int64_t row, const ChannelLimits& limits);

}  // namespace katoptra
