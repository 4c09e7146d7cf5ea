// Points to a surface.
//
//   GriddedPoints g = grid_points(select(merged(sheets), {.classes = {2}}), {.cell = 1_m});  // by triangulation
//   write_grid(g.grids[0], "ground.tif", {.lineage = true});
//
// The points are sorted into tiles once (in memory within the budget, else in a temporary file); after that the grids
// are lazy, tile by tile. Each tile takes the points around it into account as far as they matter, so that tiles leave
// no seam: the same bits come out for every size of tile, number of threads and budget.
//
//   Tin        the Delaunay triangulation, linear in each triangle. Triangles with an edge longer than `longest_edge`
//              are left void; breaklines are kept as edges.
//   Natural    natural neighbours (Sibson 1981) on the same triangulation: smooth except at the points.
//   Lowest, Highest, Mean, Median, Percentile, Deviation (population), Count, InverseDistance (1/d^2)
//              of the points within `radius` of the cell's centre; without a radius, of those inside the cell.
//
// Lineage: a cell with a point inside is measured, any other interpolated. Points at one place count once, with their
// mean height, in Tin and Natural.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/geo/area.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

enum class PointMethod { Tin, Natural, Lowest, Highest, Mean, Median, Percentile, InverseDistance, Deviation, Count };
// "tin", "natural", "lowest" ... BadArgument otherwise; "p90" is the 90th percentile.
struct PointStatistic {
  PointMethod method = PointMethod::Tin;
  double percentile = 50;
};
PointStatistic parse_point_method(std::string_view text);
std::string name_of(const PointStatistic& statistic);
// Its cells estimate the surface (tin, natural, mean, median, idw); others pick some of the points, or count them.
bool is_estimate(PointMethod method);

// Edges longer than this many spacings leave a void unless told otherwise.
inline constexpr double kLongestEdgeSpacings = 10;

// A line along which the surface may bend: its vertices have heights, in the unit of the points.
struct Breakline {
  LineString line;  // in the CRS of the points
  std::vector<double> heights;
};

struct PointGridding {
  // affect the result
  std::vector<PointStatistic> methods = {{}};  // one grid each; all statistics come from one pass
  Length cell;                                 // 0: the finest that the density carries, see cell_for_spacing
  std::optional<Frame> frame;                  // instead of `cell`: exactly these cells
  const Area* area = nullptr;                  // the frame covers it; points beyond it still count
  Length radius;
  Length longest_edge;  // 0: kLongestEdgeSpacings times the spacing of the points
  std::vector<Breakline> breaklines;
  SurfaceKind surface = SurfaceKind::Unknown;  // what the heights are of
  // affects speed only
  std::int64_t tile = 0;  // cells along a tile; 0: so that a tile holds some 10^5 points
  bool sampled = false;   // read here and there, again and again: processes that share work make all of it now, once
  RunOptions run;
};

struct GriddedPoints {
  std::vector<Grid> grids;    // in the order of the methods
  std::uint64_t points = 0;   // inside the frame
  std::uint64_t outside = 0;  // too far from it to matter, of the parts that were read
  Length spacing;             // between neighbouring points inside, on the ground
  Length longest_edge;        // that was taken
  // How many pieces of breaklines could not be put in, for they cross others: known once cells have been computed.
  std::function<std::uint64_t()> breaklines_lost;
};

// Refused when the CRS of the points is not known and a length is needed; BadFile when there are no points.
GriddedPoints grid_points(const PointCloud& cloud, const PointGridding& options);

// The sources that the lineage of such grids tells apart: those of the cloud, one for each of its files.
std::vector<SourceRecord> sources_of(const PointInfo& info, Length spacing);
// The cells that grid_points would make.
Frame frame_for_points(const PointInfo& info, const PointGridding& options);

// The finest round cell (1, 2 or 5 times a power of ten) that most often holds a point: at least the spacing.
Length cell_for_spacing(Length spacing);

}  // namespace katoptra
