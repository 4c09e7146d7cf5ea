// Which way water runs, and how much comes together.
//
//   Flow f = flow(dem);                                  // depressions are taken out by the way that moves least
//   Grid up = f.upstream_area();                         // square metres on the ground, the cell itself counted
//   StreamNet net = streams(f, {.from_area = 1e4});      // streams.hpp; basins.hpp for what drains to a place
//
// Every cell drains to the neighbour to which the ground falls most steeply, by ground distances (O'Callaghan & Mark
// 1984); of equally steep ones the first clockwise from the north. Level ground drains away from higher ground and
// towards where it is left (Barnes, Lehman & Mulla 2014b). Water leaves where a cell beside a void or at the edge of
// the grid has no lower neighbour, and ends in the deepest cell of a depression that was kept. Cells below others at
// the edge of the data may be missing water from beyond: which they are is known (`cut_off`).
//
// Solved tile by tile; upstream areas are joined through the borders of tiles (Barnes 2017). Cells are counted and
// areas added as whole numbers, so every result is the same bits for any tile, thread and memory. Directions and sums
// lie in temporary files (9 bytes a cell).
#pragma once
#include <memory>

#include "katoptra/water/depressions.hpp"

namespace katoptra {

struct FlowReport {
  std::int64_t cells = 0;    // that have a height
  std::int64_t leaving = 0;  // cells from which water leaves
  std::int64_t ending = 0;   // in depressions that were kept
  std::int64_t level = 0;    // cells on level ground, whose direction is that of the way out
  std::int64_t cut_off = 0;  // cells whose upstream area may be larger than known
  double area = 0;           // square metres of all cells
  double leaving_area = 0;   // what the cells from which water leaves or in which it ends gather: the same
};

class FlowPlanes;  // src/water/flow_planes.hpp

class Flow {
 public:
  const Grid& surface() const { return surface_; }  // without depressions
  const DrainReport& drained() const { return drained_; }
  const FlowReport& report() const { return report_; }

  Grid direction() const;       // codes 1 north, 2 north-east ... 8 north-west, 9 leaves, 10 ends
  Grid upstream_cells() const;  // with the cell itself
  Grid upstream_area() const;   // square metres

 private:
  friend class FlowAccess;
  Grid surface_;
  DrainReport drained_;
  FlowReport report_;
  std::shared_ptr<const FlowPlanes> planes_;
};

Flow flow(const Grid& surface, const DrainOptions& options = {});

enum class Neighbours {
  One,       // all to the neighbour of the direction
  AnyAngle,  // down the steepest of eight triangles, to the two neighbours beside that way (Tarboton 1997)
  Several    // to all lower neighbours, by their slopes to the power of 1.1 (Freeman 1991)
};
Neighbours parse_neighbours(std::string_view text);  // "one", "any-angle", "several"

struct UpstreamOptions {
  Neighbours neighbours = Neighbours::One;
  // How much each square metre counts, on the same cells as the surface: rain, run-off. Voids count nothing.
  const Grid* weights = nullptr;
  RunOptions run;
};

// The upstream area in square metres, the cell itself counted, or what comes down of the weights. Where the ground is
// level all water takes the direction. Where it is split, the parts of a cell add up to what it has, to the last bit; a
// cell is passed on when all that comes down to it has come, tile by tile, as often as ways cross from one to the
// other. BadArgument: weights below zero, or on other cells.
Grid upstream(const Flow& flow, const UpstreamOptions& options = {});

// The natural logarithm of the area that drains through a metre of contour over the tangent of the slope (Beven &
// Kirkby 1979), and the product of the two, stream power. Slopes below a thousandth count as that.
Grid wetness(const Flow& flow, const UpstreamOptions& options = {});
Grid stream_power(const Flow& flow, const UpstreamOptions& options = {});

}  // namespace katoptra
