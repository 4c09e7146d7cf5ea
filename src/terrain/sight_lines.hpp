// Lines of sight over a block: for many cells at once, the steepest tangents up and down along one direction.
#pragma once
#include <cstdint>
#include <optional>
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "stretches.hpp"

namespace katoptra {

// Steps of a line in cells: each to the next column, or to the next row where it runs more down than across.
class SightLine {
 public:
  // `azimuth`: of the ground, clockwise from grid north, in radians.
  SightLine(double azimuth, CellsPerMetre reach);
  double metres() const { return metres_; }  // of one step
  std::int64_t steps_in(double metres) const;

  // Where the line is after `k` steps: between the cells (col, row) and its neighbour, `share` of the way.
  struct Place {
    std::int64_t col = 0, row = 0;
    float share = 0;
  };
  Place at(std::int64_t k) const;
  // The neighbour is in the next row (else in the next column).
  bool next_is_below() const { return across_ != 0; }

 private:
  std::int64_t across_ = 0, down_ = 0;  // one of them 1 or -1, the other 0
  double along_ = 0;                    // what the other one gains with each step
  double metres_ = 0;
};

// Cells of one row of a block.
struct SightCells {
  std::int64_t col = 0, row = 0, n = 0;
};

// Steps [first, last] of the line from each cell: raises `highest` and lowers `lowest` (unless null) to the tangents of
// what is met, in `vertical` (metres in a unit of height) over metres. The block holds everything that is reached;
// `heights` are those of the cells.
void look_along(const Block& in, const SightLine& line, std::int64_t first, std::int64_t last, double vertical,
                const float* heights, SightCells cells, float* highest, float* lowest);

// The radius that was given (require_radius) or 50 cells.
Length sight_radius(const Grid& surface, const std::optional<Length>& given);

}  // namespace katoptra
