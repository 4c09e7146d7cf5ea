// What contours and the bands between them share: which levels are meant, and the lines at them.
#pragma once
#include <functional>

#include "katoptra/terrain/contours.hpp"

#include "contour_trace.hpp"

namespace katoptra {

// In the unit of the surface. Refused, BadArgument and TooLarge as contours() has them.
Levels levels_of(const Grid& surface, const ContourOptions& asked);
// trace_lines, which says how many levels are too many.
void with_levels(const Grid& surface, const Levels& levels, const RunOptions& run,
                 const std::function<void(TracedLine)>& emit);

}  // namespace katoptra
