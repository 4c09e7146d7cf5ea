// How sure the values of a grid are: one standard uncertainty beside each, in the unit of the values, NaN where it is
// not known. It is a plane of the grid like its origins: read only by who asks for it, passed on by every operation
// that knows what it does to it, and dropped by those that do not.
//
//   Grid sure = with_uncertainty(open_grid("dem.tif"), UncertaintyModel{.constant = Length::metres(0.05)});
//   Block b = sure.read({0, 0, 256, 256}, Planes::ValuesAndUncertainty);
//   b.uncertainty_row(0)[0];                             // 0.05, or 0.164 when the heights are in feet
//   Grid alone = uncertainty_of(sure);                   // to be drawn, measured or written by itself
//
// What it means: the error of a value is taken to be normal, so that 95 of 100 lie within 1.96 times of it
// (docs/uncertainty.md has how often that came true). What it holds is what was known of the source and what was done
// since; errors that nobody stated, such as a wrong datum, are in no plane.
//
// Values made of several cells need to know whether errors of neighbours go together: GridInfo::error_reach says so.
#pragma once
#include <optional>
#include <span>
#include <string_view>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// So many standard uncertainties to either side hold 95 of 100.
inline constexpr double kTwoSided95 = 1.96;

// What a survey states of itself.
struct UncertaintyModel {
  Length constant;
  // Added for each unit of slope (rise over run, from the neighbours of a cell): error across the ground becomes error
  // of heights where the ground is steep.
  double per_slope = 0;  // metres
  // Of the depth below zero, as in IHO S-44: sqrt(constant^2 + (per_depth x depth)^2). Nothing above zero.
  double per_depth = 0;
  // Of all of them, 1 where one standard uncertainty is stated, 1 / kTwoSided95 where 95 % are.
  double times = 1;
  bool operator==(const UncertaintyModel&) const = default;
};
// "0.05m", "0.05m+0.2m*slope", "0.25m+0.0075*depth"; a bare length is in `bare`, and refused without. BadArgument when
// it is something else, negative, or nothing at all.
UncertaintyModel parse_uncertainty(std::string_view text, std::optional<LengthUnit> bare = std::nullopt);

// The grid with that uncertainty instead of the one it has. BadArgument unless it holds lengths (heights, differences).
Grid with_uncertainty(const Grid& grid, const UncertaintyModel& model);
// Of a second grid on the same lattice, one standard uncertainty times `times`. Lengths in another unit are converted.
// Refused: another lattice (by how much is said), or values in another unit than a length. Where a value turns out to
// be negative or infinite when it is read: BadFile, with the cell.
Grid with_uncertainty(const Grid& grid, const Grid& plane, double times = 1);
// The plane alone, as a grid of kind Uncertainty; its half, where kept, is the half of the plane. All void for a grid
// that carries none.
Grid uncertainty_of(const Grid& grid);
// The same values, of which nothing is known.
Grid without_uncertainty(const Grid& grid);
// Says how far errors of neighbours go together; nullopt: not known.
Grid with_error_reach(const Grid& grid, std::optional<Length> reach);
// What is known of a grid made of several: the longest reach, or none where one of them is not known. Grids without
// uncertainty have no say.
std::optional<Length> common_reach(std::span<const Grid> grids);

}  // namespace katoptra
