// Two surfaces where they overlap, sampled on a lattice.
#pragma once
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Height differences of two grids at points of both, first less second, in metres.
struct OverlapSample {
  std::vector<double> first, second;  // heights
  std::vector<Point> places;          // in the CRS of the first
  Bounds common;                      // in the CRS of the first
  std::vector<double> differences() const;
};
// Cell centres of the first, about 250 x 250 of them; empty when the two hardly overlap.
OverlapSample sample_overlap(const Grid& first, const Grid& second, const RunOptions& options);

}  // namespace katoptra
