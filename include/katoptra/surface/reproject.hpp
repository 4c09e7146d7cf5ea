// Moving a grid to another frame: CRS, cell or lattice.
//
//   Frame f = frame_for(dem.frame(), Crs::parse("EPSG:32725"), {.cell = 1_m});
//   Grid flat = reproject(dem, f);                       // cubic for surfaces
//
// Methods. Cubic (Keys 1981, a = -1/2) is the default: it keeps slopes smooth, so a hillshade of the result shows the
// land. Bilinear never overshoots. Mean takes the mean of all cells under the new cell, weighed by how much of it
// they cover, over the footprint that this cell has (turned, across the antimeridian, around a pole), and is right when
// cells become much larger; a new cell of which less than half has values is a void. Nearest keeps values untouched and
// is for codes and directions: on heights it repeats and drops rows, which a hillshade shows as stripes. Automatic
// takes cubic, or mean when a new cell is wider than kMeanFrom old ones; codes and directions are always taken by
// nearest.
//
// Guarantee: source coordinates are interpolated between points that PROJ transformed exactly, 64 cells apart. Every
// patch of 128 cells is checked by interpolating over it from its corners alone: where that is off by more than
// kTransformTolerance cells at the points between, points 32, 16 or 8 cells apart are taken and checked likewise, and
// where that is not enough every cell is transformed. With the points between, the error is about a quarter of what was
// checked. The result does not depend on blocks or threads.
//
// Voids do not bleed: a cell whose nearest source cell is a void is a void; beside voids the weights of the others are
// used alone (bilinear), so nothing is lost at the rim.
// Cost: a source block about as large as the output block; a cell that covers more than 16 million source cells is
// refused (TooLarge).
#pragma once
#include <optional>
#include <span>
#include <string_view>
#include <variant>

#include "katoptra/geo/area.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class Resampling { Automatic, Nearest, Bilinear, Cubic, Mean };
const char* name_of(Resampling r);
// "nearest", "bilinear", "cubic", "mean", "auto"; BadArgument otherwise.
Resampling parse_resampling(std::string_view text);

inline constexpr double kTransformTolerance = 0.01;  // cells; the published bound is 0.05
inline constexpr double kMeanFrom = 2.0;

// BadArgument when either side has no CRS.
Grid reproject(const Grid& grid, const Frame& to, Resampling method = Resampling::Automatic);
// What Automatic means for this grid and frame.
Resampling resolved(Resampling method, const Grid& grid, const Frame& to);

// Cells that do not lie along the axes of their CRS (the six-term transformation of files): the outer corner of the
// first cell, and what one column and one row further add to x and y.
struct SkewLattice {
  Point corner, column, row;
  // Fractional column and row of a place; cell i spans [i, i + 1).
  Point cell_at(Point p) const;
  // False where columns and rows are one direction.
  bool is_valid() const;
  // Rows turned against the x axis, counter-clockwise.
  Angle turned_by() const;
};
// The smallest frame of upright cells, as large as the skew ones, that holds all of them.
Frame upright_frame(const Crs& crs, const SkewLattice& lattice, std::int64_t cols, std::int64_t rows);
// A grid whose frame has the right number of cells and stands for those of `lattice`, on cells of `to`, whose CRS is
// that of the lattice. Cubic, or nearest for codes and directions.
Grid straightened(const Grid& grid, const SkewLattice& lattice, const Frame& to);
// A grid whose frame has the right number of cells and stands for those of `lattice`, resampled onto upright_frame;
// noted.
Grid made_upright(const Grid& grid, const SkewLattice& lattice);

// The edge of a cell: on the ground, or in longitude and latitude for a geographic CRS.
using CellEdge = std::variant<Length, Angle>;
// "1m", "0.5ft"; "1\"", "30'", "0.001deg"; a bare number only when its unit is given. BadArgument for anything else.
CellEdge parse_cell_edge(std::string_view text, std::optional<LengthUnit> bare = std::nullopt);

struct FrameOptions {
  // Default: the source's own lattice where the CRS stays, else a round number near its spacing.
  std::optional<CellEdge> cell;
  const Area* area = nullptr;  // default: all of the source
};
// A frame in `crs` over a source frame (or an area), its lines at whole multiples of the cell unless it keeps the
// source's lattice. BadArgument for a cell in degrees when the CRS is not geographic.
Frame frame_for(const Frame& source, const Crs& crs, const FrameOptions& options = {});

// For tests and curious people: output cells (columns and rows) become the exact source cells their centres lie in
// (a cell centre of the source is at whole + 0.5), each from PROJ itself.
void exact_source_cells(const Frame& source, const Frame& to, std::span<Point> cells);

}  // namespace katoptra
