// Which points: by area, class, return, height, time, flight line; fewer of them; several sheets as one cloud; and the
// same points in another CRS.
//
//   PointCloud ground = select(merged(sheets), {.area = &area, .classes = {2}});
//   PointCloud sparse = thinned(ground, {.keep = ThinBy::Lowest, .cell = 1_m});
//
// All are lazy: parts are filtered when they are read, and a part whose box misses the area is not read at all.
// Only `thinned` looks through the points when it is called: sorted into tiles in memory or, beyond the budget, in a
// temporary file; a bit for each point tells which stay.
#pragma once
#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/geo/area.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

enum class Returns { All, First, Last, Only, Between };
// "all", "first", "last", "only", "between". BadArgument otherwise.
Returns parse_returns(std::string_view text);

struct PointSelection {
  // What must hold of a point; what is left at its default asks for nothing.
  const Area* area = nullptr;        // its place lies inside (even-odd; points on an edge may fall either way)
  Bounds box;                        // in the CRS of the cloud, edges included
  std::vector<int> classes;          // one of these
  std::vector<int> without_classes;  // none of these
  std::vector<int> lines;            // one of these flight lines
  Returns returns = Returns::All;
  double lowest = -std::numeric_limits<double>::infinity(), highest = -lowest;  // z, in the unit of the cloud
  double from_time = -std::numeric_limits<double>::infinity(), to_time = -from_time;
  bool drop_noise = false;        // classes 7 and 18
  bool without_withheld = false;  // points marked as withheld
  // Of all points of the input, by their running number, the first of every n.
  std::uint64_t every = 1;
};
// BadArgument when the cloud lacks a field that is asked about.
PointCloud select(const PointCloud& cloud, const PointSelection& selection);

// True when a point has that class; looks no further than the first one.
bool has_class(const PointCloud& cloud, int classification, const RunOptions& run = {});

// One after the other. Refused when CRS, unit or vertical reference differ: bring them together first.
PointCloud merged(const std::vector<PointCloud>& clouds);

enum class ThinBy { Lowest, Highest, Nearest, Spacing };
struct Thinning {
  ThinBy keep = ThinBy::Nearest;
  // Edge of the cells of which each keeps one point (the lowest, the highest, the one nearest to its centre), or the
  // least distance between two points that stay; cells lie at multiples of their edge.
  Length cell;
};
// Among equal points the first one stays; points apart are chosen tile by tile, in the order of the cloud within one.
// BadArgument unless the cell is larger than zero.
PointCloud thinned(const PointCloud& cloud, const Thinning& thinning, const RunOptions& run = {});

// Places carried to another CRS, point by point. Refused when the cloud's is not known.
PointCloud reprojected(const PointCloud& cloud, const Crs& crs);
// Heights above another reference, through PROJ's grids as for grids; in another unit.
PointCloud to_heights(const PointCloud& cloud, const HeightReference& to);
PointCloud in_unit(const PointCloud& cloud, LengthUnit unit);
// Depths, positive down, as heights; noted.
PointCloud depths_as_heights(const PointCloud& cloud);
// `by` is added to all heights; `to` is what they are above then.
PointCloud shifted_heights(const PointCloud& cloud, Length by, const HeightReference& to);
// A separation surface, in its own unit of length and CRS, is added (bilinear); points where it has no value are left
// out, with a note where it does not reach all of them. Refused when the CRS of either is not known.
PointCloud shifted_heights(const PointCloud& cloud, const Grid& separation, const HeightReference& to);

}  // namespace katoptra
