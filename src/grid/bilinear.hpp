// The one bilinear interpolation of grids. `cell(c, r)` gives the value of a cell, NaN for voids and for what is
// outside.
#pragma once
#include <cmath>
#include <cstdint>

namespace katoptra {

// What a place in a void cell gets. Surfaces keep their voids, to the edge of the cell; a field that is laid through
// scattered seeds is closed from the cells around.
enum class InVoid { StaysVoid, TakesNeighbours };

// (col, row): in cells from the corner of the grid, so that the centre of the first cell is (0.5, 0.5). Of the four
// cells around, those that are void leave their weight to the others. NaN where all are void.
template <class Cell>
double bilinear(double col, double row, const Cell& cell, InVoid rule = InVoid::StaysVoid) {
  const auto whole = [](double v) { return static_cast<std::int64_t>(std::floor(v)); };
  if (rule == InVoid::StaysVoid && std::isnan(cell(whole(col), whole(row)))) return std::nan("");
  const double x = col - 0.5, y = row - 0.5, u = x - std::floor(x), v = y - std::floor(y);
  double sum = 0, weight = 0;
  for (int j = 0; j < 2; ++j)
    for (int i = 0; i < 2; ++i) {
      const double share = (i ? u : 1 - u) * (j ? v : 1 - v);
      const float z = cell(whole(x) + i, whole(y) + j);
      if (std::isnan(z) || !(share > 0)) continue;
      sum += share * static_cast<double>(z);
      weight += share;
    }
  return weight > 0 ? sum / weight : std::nan("");
}

}  // namespace katoptra
