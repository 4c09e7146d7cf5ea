// Depressions: what would hold water, and how it is let out.
//
//   for (const Depression& d : depressions(dem)) record(d.place, d.depth, d.volume);
//   Drained land = drained(dem, {.way = TakeOut::Least});
//   write_grid(land.surface, "drained.tif", {.lineage = true});
//
// Water leaves at the edge of the grid, into voids (unless these hold it back) and, when its level is given, into the
// sea: cells no higher than the level that hang together with the edge. A depression is a connected region (also over
// corners) whose cells all drain over one sill; a depression inside another is part of it. Levels are those of a flood
// from all ways out at once (Barnes, Lehman & Mulla 2014), solved tile by tile and joined (Barnes 2016): the same as in
// one piece, at any size. What is known of a cell lies in temporary files; memory grows with the number of depressions
// and of the runs of cells in them. Heights are compared as they are, so on a noisy survey most depressions are a cell
// or two.
#pragma once
#include <cstdint>
#include <optional>
#include <vector>

#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct Depression {
  Point place;                    // the middle of its deepest cell
  std::int64_t col = 0, row = 0;  // of that
  std::int64_t cells = 0;
  double sill = 0;              // height at which it runs over, in the unit of the surface
  double depth = 0;             // of the deepest cell below the sill
  double area = 0, volume = 0;  // square and cubic metres on the ground, filled to the sill
  MultiPolygon shape;           // along the edges of cells
};

enum class TakeOut {
  Fill,   // raised to the sill
  Carve,  // a channel from the deepest cell to the nearest way down (Lindsay & Dhun 2015); what cannot be carved is
          // filled
  Least   // of the two the one that moves less ground
};
TakeOut parse_take_out(std::string_view text);  // "fill", "carve", "least"

inline constexpr int kLongestChannel = 500;  // cells

// Voids within the surface, such as houses that were cut out, or ponds: water leaves into them, or runs around them.
// Into voids that hang together with the edge of the grid, or with the sea, it leaves always.
enum class AtVoids { Leaves, RunsAround };
AtVoids parse_at_voids(std::string_view text);  // "leave", "around"

struct DrainOptions {
  TakeOut way = TakeOut::Least;
  // Of a channel: no longer than this on the ground (100 cells unless given, at most kLongestChannel), and nowhere
  // deeper below the ground, in the unit of the surface.
  std::optional<Length> longest;
  std::optional<double> deepest;
  // Real ones stay: those that are at least as deep as one and as large as the other (what is not given does not
  // count), or whose deepest cell lies in the area. Water ends in their deepest cell.
  std::optional<double> keep_depth;  // in the unit of the surface
  std::optional<double> keep_area;   // square metres
  const Area* keep = nullptr;
  std::optional<double> sea;  // in the unit of the surface
  AtVoids voids = AtVoids::Leaves;
  // Lines of streams or culverts, in any CRS: the ground under each is lowered so that it never rises on the way from
  // the line's higher end to its lower one. Before all else; parts of lines beyond the surface and over voids do not
  // count.
  const Layer* burn = nullptr;
  RunOptions run;
};

// By sill, highest first; then by place from the north-west. Where the options say which are real, only those are
// listed. What is of channels does not count.
std::vector<Depression> depressions(const Grid& surface, const DrainOptions& options = {});
// With place, depth, area, volume and sill as properties.
Layer depression_layer(const std::vector<Depression>& list, const Grid& surface);

struct DrainReport {
  std::int64_t depressions = 0, filled = 0, carved = 0, kept = 0;
  std::int64_t burnt = 0;                            // cells lowered under lines
  std::int64_t cells_raised = 0, cells_lowered = 0;  // in all
  double volume_raised = 0, volume_lowered = 0;      // cubic metres on the ground
};

struct Drained {
  Grid surface;  // from every cell a way leads down, or on the level, to where water leaves or ends; sea is a void
  DrainReport report;
  std::vector<Depression> kept;  // without shapes
};

// Cells that were changed have the origin "filled", of a source that says so.
Drained drained(const Grid& surface, const DrainOptions& options = {});

}  // namespace katoptra
