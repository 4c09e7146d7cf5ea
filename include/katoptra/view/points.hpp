// Pictures of survey points: from above, or as a slice seen from the side.
//
//   Picture p = draw_points(cloud, {.colour_by = PointColouring::Class});
//   Picture s = draw_points(cloud, {.slice = PointSlice{{677400, 5841700}, {677500, 5841700}, 2_m}});
//
// Edges are shaded: a point that lies behind its neighbours on the picture is darker the further behind it lies, so
// that crowns, roofs and wires stand out without a light (after Boucheny & Ribes 2011). Memory: the picture; the points
// are read once, and once more for the range of the colours.
#pragma once
#include <optional>
#include <string>

#include "katoptra/points/points.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

enum class PointColouring { Height, Class, Intensity, Return, Time, Colour, Line };
// "height", "class" ... BadArgument otherwise.
PointColouring parse_point_colouring(std::string_view text);

// Points within half of `depth` of the straight line, on either side.
struct PointSlice {
  Point from, to;  // in the CRS of the points
  Length depth = 2_m;
};

struct PointPictureOptions {
  PictureFormat format = PictureFormat::Png;
  int width = 1600, height = 1000;  // of a slice; from above the height follows from the points
  std::string title;
  PointColouring colour_by = PointColouring::Height;
  std::optional<PointSlice> slice;
  double shading = 1;  // 0: none
  RunOptions run;
};

// BadArgument when the points have no such field, or none lie in the slice.
Picture draw_points(const PointCloud& cloud, const PointPictureOptions& options = {});

}  // namespace katoptra
