// Lines of equal height as they are traced: what contours and the bands between them are made of.
#pragma once
#include <cstdint>
#include <functional>
#include <utility>
#include <vector>

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

// Thrown while tracing: before the number of levels is known, and when the lines have more points than memory holds.
struct TooManyLevels {};
struct TooManyPoints {
  std::uint64_t most = 0;
};

// Every line of every level, in no order to rely on. Errors as contours() has them; TooManyLevels, TooManyPoints.
void trace_lines(const Grid& surface, const Levels& levels, const RunOptions& run,
                 const std::function<void(TracedLine)>& emit);

// How many points the lines of each level have, at most, by its step, ascending: levels without any are left out.
// TooManyLevels.
std::vector<std::pair<std::int32_t, std::uint64_t>> points_by_step(const Grid& surface, const Levels& levels,
                                                                   const RunOptions& run);

}  // namespace katoptra
