// What the kernels of a warp share, and the mean, whose footprints are those of each output cell.
#pragma once
#include <algorithm>
#include <cmath>
#include <functional>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// The source cells that a box of fractional cells touches.
inline Window cells_around(const Bounds& box) {
  const double limit = 4e9;
  auto whole = [=](double v) { return static_cast<std::int64_t>(std::floor(std::clamp(v, -limit, limit))); };
  return {whole(box.west), whole(box.south), whole(box.east) - whole(box.west) + 1,
          whole(box.north) - whole(box.south) + 1};
}

// True when the source cells needed for an output window are too many for one block, so that halves of it must be read;
// TooLarge when it is a single cell already.
bool must_split(const Window& needed, const Window& out, const std::string& name);
void in_halves(const BlockView& out, const std::function<void(const BlockView&)>& read);

// The origin of a resampled cell: of the source cell under it or, beside voids, of the nearest one around.
// `source.origin(col, row)` gives 0 for a void.
template <class Source>
Origin resampled_origin(const Source& source, Point p) {
  const auto c = static_cast<std::int64_t>(std::floor(p.x)), r = static_cast<std::int64_t>(std::floor(p.y));
  for (std::int64_t reach = 0; reach < 3; ++reach)
    for (std::int64_t j = -reach; j <= reach; ++j)
      for (std::int64_t i = -reach; i <= reach; ++i)
        if (const Origin o = source.origin(c + i, r + j)) return resampled(o);
  return origin_code(1, How::Resampled);
}

// The mean over each output cell of the source cells under it, weighed by the share of the output cell that they cover;
// a void where less than half of it has values. `info` describes the result; `around`: by how many columns `grid` was
// continued around the globe on either side (0: it is no globe).
Grid mean_resampled(const Grid& grid, GridInfo info, std::int64_t around);

}  // namespace katoptra
