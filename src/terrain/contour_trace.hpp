// Lines of equal height as they are traced: what contours and the bands between them are made of.
#pragma once
#include <cstdint>
#include <functional>

#include "katoptra/geo/geometry.hpp"
#include "katoptra/grid/grid.hpp"

#include "levels.hpp"

namespace katoptra {

// A side of the lattice of cell centres: from the centre of this cell to the one east of it, or south of it.
struct LatticeSide {
  std::uint32_t col = 0, row = 0;
  bool down = false;
  auto operator<=>(const LatticeSide&) const = default;
};

struct TracedLine {
  std::int32_t step = 0;
  bool closed = false;  // then the last point equals the first
  bool higher_on_left = false;
  LatticeSide first, last;  // the sides that an open line ends on
  LineString points;        // as it was walked: its direction and its beginning depend on the bands
};

// Thrown while tracing, before the number of levels is known.
struct TooManyLevels {};

// Every line of every level, in no order to rely on. Errors as contours() has them; TooManyLevels.
void trace_lines(const Grid& surface, const Levels& levels, const RunOptions& run,
                 const std::function<void(TracedLine)>& emit);

}  // namespace katoptra
