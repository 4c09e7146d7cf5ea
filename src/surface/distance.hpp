// How far cells lie from the nearest marked one: private to the surface room.
#pragma once
#include <cstdint>
#include <vector>

namespace katoptra {

// For each of cols x rows cells, the distance in cells to the centre of the nearest marked one, at most `reach`; 0 for
// marked cells. Exact Euclidean distance, by columns and then rows (Meijster et al. 2000).
std::vector<float> distance_to_marked(const std::vector<std::uint8_t>& marked, std::int64_t cols, std::int64_t rows,
                                      std::int64_t reach);

}  // namespace katoptra
