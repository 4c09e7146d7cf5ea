// The outlines of regions of cells, along the edges of the cells.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "katoptra/geo/geometry.hpp"
#include "katoptra/grid/frame.hpp"

namespace katoptra {

// Cells [first, last) of a row.
struct CellRun {
  std::int32_t row = 0, first = 0, last = 0;
  CellRun() = default;
  CellRun(std::int64_t at_row, std::int64_t from, std::int64_t end)
      : row(static_cast<std::int32_t>(at_row)),
        first(static_cast<std::int32_t>(from)),
        last(static_cast<std::int32_t>(end)) {}
  auto operator<=>(const CellRun&) const = default;
};

// `runs` by row, then column, none touching the next in its row. Corners are those of cells; of a straight side only
// its ends are kept. Parts that touch at a corner alone are polygons of their own. Outer rings run counter-clockwise
// where y goes up, holes the other way.
MultiPolygon outline_of(std::span<const CellRun> runs, const Frame& frame);

}  // namespace katoptra
