// Streams: where enough water comes together, as reaches that are joined.
//
//   const Flow f = flow(dem);
//   StreamNet net = streams(f, {.from_area = 10e4});      // 10 ha
//   write_layer(stream_layer(net, f), "streams.gpkg");
//
// A cell is part of a stream when at least that much drains to it. A reach runs from a source or a confluence to the
// next confluence, or to where the water leaves; its line ends on the cell that it joins. Orders after Strahler 1957
// (two of the highest make one higher) and Shreve 1966 (sources are counted). Heights are those of the surface without
// depressions: along a reach they never rise. Reaches are numbered from 1 by their first cells, from the north-west.
// Memory: some 40 bytes for each cell of the streams: TooLarge beyond the budget, with the advice to ask for larger
// ones.
#pragma once
#include <vector>

#include "katoptra/water/flow.hpp"

namespace katoptra {

struct Reach {
  std::int64_t number = 0, next = 0;  // next: the reach that it runs into, 0 where water leaves or ends
  int strahler = 1;
  std::int64_t shreve = 1;
  double upstream_area = 0;               // square metres, above the cell that it joins
  double length = 0;                      // metres on the ground
  double from_height = 0, to_height = 0;  // in the unit of the surface
  double slope = 0;                       // drop over length
  bool cut_off = false;                   // its upstream area may be larger than known
  LineString line;
  std::vector<double> heights;  // of its points
};

struct StreamOptions {
  double from_area = 0;  // square metres
  RunOptions run;
};

struct StreamNet {
  std::vector<Reach> reaches;
  double from_area = 0;
};

// BadArgument for an area that is not above that of a cell; an empty net where no stream is so large.
StreamNet streams(const Flow& flow, const StreamOptions& options);
Layer stream_layer(const StreamNet& net, const Flow& flow);

// The way of the water from the cell at a place to where it leaves or ends, through the middles of cells: the line of a
// long profile. BadArgument for a place outside the surface or on a void.
LineString way_down(const Flow& flow, Point from);

// How high each cell lies above the stream that it drains to (Rennó et al. 2008), in the unit of the surface; void
// where water leaves without meeting one.
Grid height_above_streams(const Flow& flow, const StreamOptions& options);
// How far the way down to that stream is, in metres on the ground.
Grid distance_to_streams(const Flow& flow, const StreamOptions& options);

}  // namespace katoptra
