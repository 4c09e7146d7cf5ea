// Where a cell lies in its surroundings: on a ridge, on a slope, in a hollow.
//
//   Grid ridges = position(dem, {.radii = {50_m}});
//   Grid at_any = position(dem, {.radii = {10_m, 50_m, 250_m}, .as = PositionAs::Deviations});
//
// The height less the mean of a disc around the cell, or of a ring (topographic position: Weiss 2001); plain, or
// divided by the standard deviation of the heights there, so that rough and smooth country compare (De Reu et al.
// 2013). Of several radii that one counts where the cell stands out most, by deviations.
//
// Radii are ground lengths on every CRS: the disc is an ellipse of cells where a degree of longitude is shorter than
// one of latitude. Its scale is taken for each row at every 256th column. At the rim and beside voids the cells that
// are there count, so a slope that rises to the rim looks like a ridge there; a void stays a void. Heights are summed
// in whole steps (ruggedness.hpp): a cell has the same bits in every block. A cell costs time in proportion to the
// radius.
#pragma once
#include <string_view>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class PositionAs {
  Height,      // in the unit of the heights; above zero: higher than the surroundings
  Deviations,  // in standard deviations; zero where all is level
  Radius       // that one of the radii, in metres
};
// "height", "deviations", "radius"; BadArgument otherwise.
PositionAs parse_position_as(std::string_view text);

struct PositionOptions {
  std::vector<Length> radii = {Length::metres(100)};
  Length inner;  // nearer cells do not count; zero: a disc
  PositionAs as = PositionAs::Height;
};

inline constexpr int kFarthestCells = 1000;  // of a radius

// BadArgument: no radius; one shorter than a cell or longer than kFarthestCells; an inner one that is not shorter than
// all of them.
Grid position(const Grid& surface, const PositionOptions& options = {});

}  // namespace katoptra
