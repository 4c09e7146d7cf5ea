// A surface as a solid to be printed: its ground, a flat underside, and walls between.
//
//   Solid s = surface_solid(dem, {.bed_width = 0.2_m, .bed_depth = 0.15_m, .exaggeration = 2});
//
// Millimetres, x to the east, y to the north, z up from the underside. Closed and turned outwards: each side lies in
// two triangles, and none is degenerate; parts of the surface that do not hang together are bodies of their own. The
// ground is right to `error` of the printed height (surface_mesh). A surface of more than kMostSolidCells cells a side
// is brought to fewer first; no printer shows more.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kMostSolidCells = 4097;

struct Solid {
  std::string name;
  std::vector<std::array<float, 3>> vertices;           // mm
  std::vector<std::array<std::uint32_t, 3>> triangles;  // counter-clockwise from outside; those of the ground first
  std::size_t ground = 0;                               // how many of them
  std::vector<std::array<float, 2>> on_map;  // of each vertex, its place on the frame: 0 to 1 to the east, and down
  Frame frame;                               // of the surface
  double scale = 0;                          // ground length / printed length: 5000 for 1:5000
  double width = 0, depth = 0, height = 0;   // mm
};

struct SolidOptions {
  // Fits into a bed of that size, the right way round; or at a scale, 5000 for 1:5000. With both, refused where it does
  // not fit.
  Length bed_width, bed_depth;
  std::optional<double> scale = {};
  double exaggeration = 1;                // of heights against lengths
  Length base = Length::metres(0.003);    // below the lowest ground, printed
  Length error = Length::metres(0.0001);  // of printed heights
  // What lies below this height (of the surface's reference) becomes a level floor, this much below the shore.
  std::optional<Length> water = {};
  Length water_step = Length::metres(0.0008);
  RunOptions run = {};
};

// BadArgument for a bed, scale, base or exaggeration that are not above zero; BadFile where there is no ground.
Solid surface_solid(const Grid& surface, const SolidOptions& options);

}  // namespace katoptra
