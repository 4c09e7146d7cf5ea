// Applying a mistake that was found and measured: a constant offset, a factor between units, a horizontal shift, a
// rotation, a tilt.
//
//   Correction c{.offset = Length::metres(-0.18)};
//   Grid mended = corrected(dem, c);                   // lazy; its lineage says what was done
//
// In this order: values times `factor`, the whole frame moved by `shift` (no cell is resampled), turned about `pivot`
// (cubic, onto the moved lattice: the one correction that resamples), and
// offset + tilt . (place - pivot) added, in ground metres. Nothing is ever corrected unasked: `compare` and `check`
// measure, this applies. Integers become float32 unless nothing but whole units is added; noted. BadArgument for grids
// that hold no heights and for a correction that does nothing.
#pragma once
#include <string>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct Correction {
  double factor = 1;              // for heights taken in a wrong unit: 0.3048 where feet were called metres
  Length offset;                  // added to every height
  Point shift;                    // added to coordinates, in the unit of `crs`
  Crs crs;                        // of shift and pivot; none: that of the grid
  double tilt_x = 0, tilt_y = 0;  // metres of height a metre on the ground, to the east and to the north
  Angle rotation;                 // on the ground, counter-clockwise about the pivot
  Point pivot;                    // where the tilt adds nothing
  Length error;                   // standard error of the offset, which the uncertainty of the result takes in

  bool does_nothing() const;
  // "moved by 1.2 east, -0.8 north; -0.18 m everywhere"
  std::string text(LengthUnit unit) const;
};

Grid corrected(const Grid& grid, const Correction& correction);

}  // namespace katoptra
