// Where a shift is looked for (coregister.cpp), so that what else reads the surfaces can keep it.
#pragma once
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// Cells around a place that are read of the reference, and of the surface, which lies a little further on.
inline constexpr std::int64_t kAroundReference = 3, kAroundSurface = 11;

// The places that are looked at first: all cells of a small frame, every so manieth block, across and down, of a large
// one, with about `cells` in them.
std::vector<Window> shift_places(const Frame& frame, std::int64_t cells);

}  // namespace katoptra
