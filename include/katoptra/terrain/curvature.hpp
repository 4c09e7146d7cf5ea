// How the ground bends, at any scale.
//
//   Grid ridges = curvature(dem, CurvatureKind::Tangential, 5);
//
// A quadric is fitted by least squares to the cells of a window around each cell (Evans 1980; Wood 1996), and curvature
// is that of the quadric at the cell (formulas: Evans & Hewitson 2003; Florinsky 2016). A wide window tells of wide
// forms.
//
// Sign: above zero where the ground bulges (ridges, noses, domes), below where it is hollow (valleys, bowls). Unit:
// 1/m, that is one over the radius of the bend; Gaussian 1/m². Distances are ground distances on every CRS and heights
// in feet count as feet, as in derivatives.hpp. Profile, plan and tangential curvature have no direction where the
// ground is level: zero on flat ground, a void on a summit or in a pit. At the rim and beside voids the fit takes the
// cells that are there (exact on a quadric); what they do not tell, such as the bend across a single row, is zero. A
// void stays a void. A cell costs time in proportion to the width of the window.
#pragma once
#include <string_view>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kWidestWindow = 1001;  // cells

enum class CurvatureKind {
  Profile,     // of the vertical cut down the slope: where water speeds up or slows down
  Plan,        // of the contour: where it spreads or gathers; grows without bound towards level ground
  Tangential,  // of the vertical cut across the slope: plan curvature without that
  Mean,        // of any two cuts at right angles
  Largest,     // of the cut that bulges most
  Smallest,    // of the cut that bulges least
  Gaussian     // largest times smallest: below zero on saddles
};
// "profile", "plan" ...; BadArgument otherwise.
CurvatureKind parse_curvature_kind(std::string_view text);

// `window`: cells across, odd. BadArgument for one that is even, below 3 or above kWidestWindow.
Grid curvature(const Grid& surface, CurvatureKind kind, int window = 3);

}  // namespace katoptra
