// How uneven the ground is.
//
//   Grid rough = ruggedness(dem, RuggednessKind::Vector, 9);
//
// Windows are counted in cells; at the rim and beside voids they take the cells that are there, and a void stays a
// void. Heights are summed in steps of 1/65536 of their unit, so that a cell has the same bits in every block and a
// mean or a deviation costs the same for a window of any width (sums slide); a range costs time in proportion to the
// width.
#pragma once
#include <string_view>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class RuggednessKind {
  Riley,  // root of the summed squares of the differences to the eight neighbours (Riley et al. 1999); in a window of 3
  Vector,    // 1 less the length of the mean of the unit vectors that stand on the ground (Sappington et al. 2007): 0
             // where the ground is even, however steep, towards 1 where it faces every way
  Range,     // highest less lowest
  Deviation  // standard deviation of the heights
};
// "riley", "vector", "range", "deviation"; BadArgument otherwise.
RuggednessKind parse_ruggedness_kind(std::string_view text);

// In the unit of the heights; Vector has none. `window`: cells across, odd. BadArgument for one that is even, below 3
// or above kWidestWindow (curvature.hpp), or another than 3 for Riley. When it is read: BadFile for heights beyond
// kHighestSummed.
Grid ruggedness(const Grid& surface, RuggednessKind kind, int window = 3);

inline constexpr double kHighestSummed = 1 << 24;  // units of the heights

}  // namespace katoptra
