// How far a sea floor made of soundings may be off, and which order of IHO S-44 (edition 6) that meets.
//
//   Grid u = sounding_uncertainty(cloud, depth.frame());        // 95 %, in the unit of the soundings
//   S44Shares s = s44_shares(u, depth);
//
// At each cell a plane is fitted to the soundings within three spacings (at least kFewestSoundings); the uncertainty is
// 1.96 times the standard deviation of what is left, and grows with the distance d to the nearest sounding by
// sqrt(1 + (d / spacing)^2). With fewer soundings around it is void. It tells what the soundings themselves show: their
// repeatability and density, no error that they all have in common (tide, draught, sound speed).
#pragma once
#include <array>
#include <cstdint>

#include "katoptra/grid/grid.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

inline constexpr int kFewestSoundings = 6;

Grid sounding_uncertainty(const PointCloud& soundings, const Frame& frame, const RunOptions& run = {});

// A grid that was made of points, with how sure its cells are by the points themselves: the standard deviation about
// that plane times kOfSpread, which was calibrated on terrain for triangulated cells, and the same growth with
// distance. Not known where fewer than kFewestSoundings lie around. Errors go together over a spacing. BadArgument
// unless it holds heights.
inline constexpr double kOfSpread = 0.62;
Grid with_point_uncertainty(const Grid& made, const PointCloud& points, const RunOptions& run = {});

enum class S44Order { Exclusive, Special, One, Two, None };  // 1a and 1b allow the same vertically
const char* name_of(S44Order order);
// The total vertical uncertainty that an order allows at a depth (95 %): sqrt(a^2 + (b depth)^2). Infinite for None.
Length s44_allows(S44Order order, Length depth);
// The strictest order that an uncertainty meets.
S44Order s44_order(Length uncertainty, Length depth);

// Cells under water by the strictest order they meet; None holds those that meet no order, and where nothing is known.
struct S44Shares {
  std::array<std::int64_t, 5> cells{};
  std::int64_t all = 0;
};
// `heights`: the sea floor, zero at the level that depths are counted from. Both grids share a lattice.
S44Shares s44_shares(const Grid& uncertainty, const Grid& heights, const RunOptions& run = {});

}  // namespace katoptra
