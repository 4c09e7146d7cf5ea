// Lattices that are the same land in another order: rows from the south, columns from the east, a globe cut at another
// meridian. Nothing is resampled.
//
//   Grid pacific = around_longitude(dem, 180);    // the cut is at Greenwich now
#pragma once
#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Rows from south to north become rows from north to south, columns from east to west become columns from west to east.
// `info` describes the result; its frame has the size of the grid's.
Grid mirrored(const Grid& grid, GridInfo info, bool rows, bool cols);
// The grid begins with its column `by`, and its first `by` columns come last.
Grid rolled(const Grid& grid, GridInfo info, std::int64_t by);

// How many columns go around the whole globe; 0 when the frame is not one, to a thousandth of a cell.
std::int64_t columns_of_globe(const Frame& frame);
// A whole globe with `by` more columns on either side: those of its other end. BadArgument when it is not one.
Grid continued_around(const Grid& grid, std::int64_t by);

// The same grid of longitudes and latitudes, told `turns` times 360 degrees further east.
Grid turned_around(const Grid& grid, int turns);
// A grid of longitudes and latitudes told so that its middle is within half a turn of `longitude`; a grid around the
// whole globe is cut half a turn from there instead (at the nearest side of a cell). Others are given back as they are.
Grid around_longitude(const Grid& grid, double longitude);

}  // namespace katoptra
