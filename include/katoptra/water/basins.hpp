// Basins: what drains to a place.
//
//   const Flow f = flow(dem);
//   auto list = basins(f, {.outlets = {{677600, 5841300}}, .within = 10_m});
//   write_layer(basin_layer(list, f), "basins.gpkg");
//
// A given place is moved onto the cell with the largest upstream area within a distance (the nearest of several), and
// told how far. Basins whose outlet lies in another basin are nested: each keeps as its shape what drains to it first,
// so that shapes tile the surface, and says which basin it drains on to. Upstream figures are of the whole, own ones of
// the shape.
#pragma once
#include <vector>

#include "katoptra/water/streams.hpp"

namespace katoptra {

struct Basin {
  std::int64_t number = 0, next = 0;  // next: the basin that it drains on to, 0 for none
  Point given, outlet;                // in the CRS of the surface
  double moved = 0;                   // metres on the ground from the one to the other
  // The most that drains to a cell within kLookedAround cells of a given place, and how far that is: much more than
  // here where a place missed its stream.
  double most_near = 0, most_at = 0;  // square metres, metres
  std::int64_t cells = 0;
  double area = 0;                                  // square metres on the ground, of the shape
  double upstream_area = 0;                         // of all that drains to the outlet
  double lowest = 0, highest = 0, mean_height = 0;  // of the shape, in the unit of the surface
  double mean_slope = 0;                            // of the shape, as a ratio
  double hypsometric = 0;                           // integral: the mean height above the lowest, over the relief
  double longest_path = 0;                          // metres along the water to the outlet, from anywhere above
  bool cut_off = false;                             // more may drain to it from beyond the edge of the data
  MultiPolygon shape;
};

inline constexpr int kFarthestOutlet = 1000;  // cells
inline constexpr int kLookedAround = 30;      // cells

// The points of a layer, carried into `crs`: outlets from a file.
std::vector<Point> places_of(const Layer& layer, const Crs& crs);

struct BasinOptions {
  std::vector<Point> outlets;  // in the CRS of the surface
  Length within;               // how far they may be moved, at most kFarthestOutlet
  double from_area = 0;  // instead of outlets: one basin for each reach of the streams from this area, in square metres
  RunOptions run;
};

// Numbered from 1 in the order of the outlets or of the reaches. BadArgument: neither outlets nor an area, or both; an
// outlet outside the surface or on a void (within the distance); two outlets on one cell.
std::vector<Basin> basins(const Flow& flow, const BasinOptions& options);
Layer basin_layer(const std::vector<Basin>& list, const Flow& flow);

}  // namespace katoptra
