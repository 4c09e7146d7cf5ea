// Cutting a grid to an area: the cells whose centre lies inside, on the grid's own lattice, untouched.
//
//   Grid here = clip(dem, Area::box({-31.05, -37.60, -30.95, -37.50}), {.margin = 50_m});
//
// The result's frame is the smallest window of the lattice that holds them (a centre within kLatticeTolerance cells of
// the edge counts as inside). Cells in that window but outside the area are voids. BadArgument when no cell is inside.
#pragma once
#include <utility>
#include <vector>

#include "katoptra/geo/area.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct ClipOptions {
  Length margin;  // on the ground, around the area
};
Grid clip(const Grid& grid, const Area& area, const ClipOptions& options = {});

// The area in a frame's CRS; in longitudes each polygon is told as near to the frame's middle as it can be, so that
// parts on both sides of the antimeridian lie together.
MultiPolygon shape_on(const Frame& frame, const Area& area);

// The part of a grid in a window of its own lattice (which may reach beyond it: voids).
Grid cut(const Grid& grid, const Window& window);

// Which cells of a frame have their centre inside polygons (even-odd over all rings).
class CellMask {
 public:
  CellMask(const MultiPolygon& shape, const Frame& frame);
  // Half-open column ranges of a row, ascending and apart; clipped to the frame.
  std::vector<std::pair<std::int64_t, std::int64_t>> spans(std::int64_t row) const;
  // The smallest window that holds all cells inside; empty when there are none.
  Window extent() const;

 private:
  struct Edge {
    double x0, y0, x1, y1;  // in cells of the frame, y0 < y1
  };
  void crossings(double y, std::vector<double>& xs) const;
  std::int64_t cols_, rows_;
  std::vector<std::vector<Edge>> buckets_;  // by groups of rows
};

}  // namespace katoptra
