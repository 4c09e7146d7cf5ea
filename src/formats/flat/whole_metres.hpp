// Formats of 16-bit whole metres above one reference.
#pragma once
#include <string>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Refused, with the way out, for anything but metres above that reference (or above an unknown one). `what`: "a DTED
// cell".
void require_metres_above(const Grid& grid, const HeightReference& reference, const std::string& what,
                          const std::string& file);
// Rounded where they are no integers yet, which is noted; the void value is the format's.
Grid in_whole_metres(const Grid& grid, double hole, const std::string& format);

}  // namespace katoptra
