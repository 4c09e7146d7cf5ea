// The land that water runs over: the surface without the sea, with single cells changed.
#pragma once
#include <optional>
#include <vector>

#include "katoptra/geo/feature.hpp"
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

// The cells that must be lowered so that the ground never falls short of a line's way down (DrainOptions::burn).
// BadArgument for a layer without lines, or whose lines all lie elsewhere.
std::vector<ChangedCell> burnt_cells(const Grid& surface, const Layer& lines);

}  // namespace katoptra
