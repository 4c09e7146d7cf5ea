// How far cells lie from the nearest void: private to the surface room.
#pragma once
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// For each cell of the block, the distance in cells to the centre of the nearest void in it, at most `reach`; 0 for
// voids. Exact Euclidean distance, by columns and then rows (Meijster et al. 2000).
std::vector<float> distance_to_void(const Block& block, std::int64_t reach);

}  // namespace katoptra
