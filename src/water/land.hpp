// The land that water runs over: the surface without the sea, with single cells changed.
#pragma once
#include <bit>
#include <cstdint>
#include <optional>
#include <utility>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Cells no higher than the level that hang together with the edge of the grid (also over corners and voids) become
// voids. The surface itself where no level is given.
Grid without_sea(const Grid& surface, std::optional<double> level, const RunOptions& run);

// Voids that water runs around: NaN, as others are, but told apart by their bits. A cell beside one is no way out.
inline constexpr float kWall = std::bit_cast<float>(0x7FC0AA55u);
inline bool is_wall(float v) { return std::bit_cast<std::uint32_t>(v) == std::bit_cast<std::uint32_t>(kWall); }
inline bool is_way_out(float v) { return v != v && !is_wall(v); }
// Voids within the grid, those that do not hang together with its edge, become walls.
Grid with_walls(const Grid& land, const RunOptions& run);

struct ChangedCell {
  std::int32_t row = 0, col = 0;
  float height = 0;
};
// Sorted by row and column; of a cell that stands there more than once, where channels meet, the deepest.
std::vector<ChangedCell> deepest_of(std::vector<ChangedCell> cells);
// The grid with these cells, sorted by row and column, in place of its own.
Grid with_cells(const Grid& grid, std::vector<ChangedCell> cells);

// Columns and rows of the cells that a line passes, each beside the next (perhaps over a corner); some may lie beyond
// the frame.
std::vector<std::pair<std::int64_t, std::int64_t>> cells_along(const LineString& line, const Frame& frame);

// The cells that must be lowered so that the ground never falls short of a line's way down (DrainOptions::burn).
// BadArgument for a layer without lines, or whose lines all lie elsewhere.
std::vector<ChangedCell> burnt_cells(const Grid& surface, const Layer& lines);

}  // namespace katoptra
