// How far a surface lies beside another: shift to the east and north, offset, tilt.
//
//   Coregistration c = coregister(reference, dem);
//   Grid moved = corrected(dem, c.correction());            // surface/correct.hpp
//
// After Nuth & Kääb 2011: where a surface is shifted, the difference from the reference follows slope and aspect. Their
// cosine dh / tan(slope) = a cos(b - aspect) + c is taken in its linear form, dh = -s . gradient + offset (+ tilt), so
// that flat ground, whose tangent is near zero, cannot spoil the fit; it is solved by least squares without residuals
// beyond three NMAD and repeated with the moved surface until a step is below kShiftStep cells, or a fifth of its
// standard error. Rotation about the middle is fitted too when asked for. Cost: some passes over at most kShiftCells
// cells, in blocks spread evenly over what both cover, so time and memory do not grow with the surfaces. On real
// terrain with slopes of some degrees the shift is found to a few hundredths of a cell. Flat ground cannot tell a
// shift: `found` is false then, with the reason in `why`.
#pragma once
#include <string>

#include "katoptra/grid/grid.hpp"
#include "katoptra/surface/correct.hpp"

namespace katoptra {

inline constexpr std::int64_t kShiftCells = 1'000'000;
inline constexpr double kShiftStep = 0.001;

// What resampling alone moves a surface by, in cells, where its finest forms are some cells wide: no shift is known
// better. Both are smoothed alike before they are compared; on ground that is rough from cell to cell 0.005 are left.
inline constexpr double kShiftBias = 0.0005;

struct Coregistration {
  bool found = false;
  std::string why;  // when it was not found
  // What to add to the surface, so that it lies on the reference.
  Point shift;                      // unit of `crs`
  Length east, north;               // the same on the ground
  double cells_x = 0, cells_y = 0;  // the same in cells of the comparison
  Length offset;                    // at the pivot
  double tilt_x = 0, tilt_y = 0;    // metres a metre
  Angle rotation;                   // counter-clockwise about the pivot, where it was asked for
  double cells_at_edge = 0;         // what the rotation moves the far edge by
  // Standard errors, with what errors of neighbours have in common; those of the shift at least kShiftBias cells.
  // `shift_error` is the larger of both directions.
  Length east_error, north_error, shift_error, offset_error;
  double tilt_error = 0;
  Point pivot;
  Crs crs;
  int steps = 0;
  std::int64_t cells = 0;  // that took part in the last step
  Length nmad_before, nmad_after;
  Correction correction() const;
};

struct CoregisterOptions {
  bool tilt = true;
  bool rotation = false;
  std::int64_t cells = kShiftCells;  // at most so many take part
  RunOptions run;
};

// Both hold heights above one reference, `reference` is on the frame of the comparison; `surface` may be on another.
// Refused when one of them has no CRS.
Coregistration coregister(const Grid& reference, const Grid& surface, const CoregisterOptions& options = {});

}  // namespace katoptra
