// A surface raised until water runs off it everywhere: each cell to the lowest level that water on it can leave at.
#pragma once
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "land.hpp"
#include "tiles.hpp"

namespace katoptra {

// Where water ends besides: a cell that keeps its height.
struct Sink {
  std::int64_t col = 0, row = 0;
  auto operator<=>(const Sink&) const = default;
};

// Water leaves at the edge of the grid and into voids. Tiles are flooded apart from the rim inwards (Barnes, Lehman &
// Mulla 2014), which joins their cells to basins with one way out each; where basins meet, the lowest place is kept,
// and from these places it is found at which level each basin runs over (Barnes 2016). The result is that of flooding
// the whole at once. What is known of a cell lies in temporary files; in memory are some 30 bytes for each basin at a
// tile's rim. The lineage of cells that are raised is not changed here.
Grid raised(const Grid& land, const RunOptions& run, std::int64_t tile_edge = Tiling::kEdge);

// What becomes of the level of a land when cells of it are lowered (sorted) and when water ends at sinks: the same as
// flooding it all again, for the cost of what sinks.
Grid sunk(const Grid& level, const Grid& land, std::vector<ChangedCell> lowered, const std::vector<Sink>& sinks,
          const RunOptions& run, std::int64_t tile_edge = Tiling::kEdge);

}  // namespace katoptra
