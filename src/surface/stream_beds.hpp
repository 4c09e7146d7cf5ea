// Beds of streams through voids: falling evenly from where a stream is known to where it is known again.
#pragma once
#include <cstdint>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct StreamBeds {
  Grid grid;  // with heights in the void cells under the lines, of a source of its own
  std::int64_t cells = 0, crossings = 0;
};
// Lines of the layer, in any CRS. A void that a line enters and leaves gets heights under it, evenly from the lowest
// known cell beside where it enters to the lowest beside where it leaves; one that it ends in is left, unless it ends
// on another line's bed. BadArgument when the layer holds no lines.
StreamBeds with_stream_beds(const Grid& grid, const Layer& lines);

}  // namespace katoptra
