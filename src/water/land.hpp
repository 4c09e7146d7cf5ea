// The land that water runs over: the surface without the sea, with single cells changed.
#pragma once
#include <optional>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Cells no higher than the level that hang together with the edge of the grid (also over corners and voids) become
// voids. The surface itself where no level is given.
Grid without_sea(const Grid& surface, std::optional<double> level, const RunOptions& run);

struct ChangedCell {
  std::int64_t row = 0, col = 0;
  float height = 0;
};
// The grid with these cells, sorted by row and column, in place of its own.
Grid with_cells(const Grid& grid, std::vector<ChangedCell> cells);

}  // namespace katoptra
