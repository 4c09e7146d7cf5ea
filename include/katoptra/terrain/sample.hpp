// Values of a grid at points.
//
//   std::vector<double> z = sample(dem, points);       // in the grid's CRS; NaN outside and in voids
//
// Bilinear between cell centres (nearest for codes and directions). Beside a void the remaining cells are used; a point
// whose own cell is a void has no value. Points are grouped by place, so that each block is read once.
#pragma once
#include <span>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

std::vector<double> sample(const Grid& grid, std::span<const Point> points, const RunOptions& options = {});
// How sure those values are: one standard uncertainty of the interpolation of what the grid carries
// (grid/uncertainty.hpp), NaN where that is not known. What the ground does between the cells is not in it.
std::vector<double> sample_uncertainty(const Grid& grid, std::span<const Point> points, const RunOptions& options = {});

}  // namespace katoptra
