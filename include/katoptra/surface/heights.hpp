// Heights above another vertical reference.
//
//   Grid above_geoid = to_heights(dem, HeightReference::parse("EGM96"));            // by PROJ's grids
//   Grid mended = shifted_heights(dem, Length::metres(-0.18), dem.quantity().heights);
//   Grid above_chart = shifted_heights(dem, separation, HeightReference::parse("chart datum"));
//
// The shift is interpolated between points that PROJ computed exactly, 32 cells apart, and checked against it at the
// middle and the edges of every such patch; a patch that is off by more than kShiftTolerance is computed cell by cell.
// Where the model does not reach, cells become voids. Integers become 32-bit floats, noted; every source's treatment in
// the lineage says what was done. Errors: see VerticalTransform.
#pragma once
#include <functional>
#include <optional>
#include <string>

#include "katoptra/geo/vertical.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr double kShiftTolerance = 0.0002;  // metres

// The same grid when it has that reference already. BadArgument when it holds no heights.
Grid to_heights(const Grid& grid, const HeightReference& to);
// `by` is added everywhere; `to` is what heights are above then.
Grid shifted_heights(const Grid& grid, Length by, const HeightReference& to);
// A separation surface, in its own unit of length and CRS, is added (bilinear); voids where it has none.
Grid shifted_heights(const Grid& grid, const Grid& separation, const HeightReference& to);

// How heights shall come to another reference: by PROJ, or by what the user gives.
struct HeightShift {
  std::optional<Length> by;
  std::optional<Grid> separation;
  bool given() const { return by || separation; }
};
// A length such as "-0.18m" (a bare number in `unit`), or else the name of a grid, which `open` opens.
HeightShift parse_height_shift(const std::string& text, LengthUnit unit,
                               const std::function<Grid(const std::string&)>& open);
// Heights above `to` by the shift when there is one, else by PROJ; as they are when `to` is not known.
Grid brought_to(const Grid& grid, const HeightReference& to, const HeightShift& shift);

}  // namespace katoptra
