// A void closed by triangles between the cells of its rim.
#pragma once
#include <vector>

#include "membrane.hpp"

namespace katoptra {

// Heights of the cells on the Delaunay triangles of the rim cells that have one, by distances on the ground; of cells
// outside all triangles the inverse distance mean of the rim.
std::vector<float> tin_over(const VoidShape& shape, const std::vector<float>& rim);

}  // namespace katoptra
