// A surface as a solid to be printed: its ground, a flat underside, and walls between.
//
//   Solid s = surface_solid(dem, {.bed_width = 0.2_m, .bed_depth = 0.15_m, .exaggeration = 2});
//   for_each_solid_tile(dem, {.bed_width = 0.2_m, .bed_depth = 0.2_m, .scale = 200}, {},
//                       [&](const SolidTile& t) { write_solid(t.solid, t.name + ".stl"); });
//
// Millimetres, x to the east, y to the north, z up from the underside. Closed and turned outwards: each side lies in
// two triangles, and none is degenerate; parts of the surface that do not hang together are bodies of their own. The
// ground is right to `error` of the printed height (surface_mesh). A surface of more than kMostSolidCells cells a side
// is brought to fewer first; no printer shows more.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr int kMostSolidCells = 4097;
inline constexpr int kMostSolidTiles = 100;
inline constexpr double kThinnestWater = 0.01;  // mm

struct Solid {
  std::string name;
  std::vector<std::array<float, 3>> vertices;           // mm
  std::vector<std::array<std::uint32_t, 3>> triangles;  // counter-clockwise from outside; those of the ground first
  std::size_t ground = 0;                               // how many of them
  std::size_t water = 0;  // how many, the last, are of the water: a body of its own that lies on the ground
  std::size_t dry() const { return triangles.size() - water; }
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
  // Or the water becomes a body of its own, level on top, with the sea floor below it: to be printed clear. Where it is
  // thinner than kThinnestWater in print there is none.
  bool water_body = false;
  RunOptions run = {};
};

// BadArgument for a bed, scale, base or exaggeration that are not above zero; BadFile where there is no ground.
Solid surface_solid(const Grid& surface, const SolidOptions& options);

// A solid that is larger than its bed, in pieces that fit. Each piece but the last of a row or column has a tab that
// the next has a notch for, wider at its head, so that they lie where they should and hold; all stand on the same
// underside.
struct SolidTiling {
  Length tab = Length::metres(0.006);   // how far tabs reach; none on sides shorter than five of them
  Length gap = Length::metres(0.0002);  // left between two pieces, in whole cells
};
struct SolidTile {
  std::string name;  // A1 is the north-western one, A2 east of it, B1 south of it
  int col = 0, row = 0, across = 1, down = 1;
  double x = 0, y = 0;  // mm from the south-western corner of the whole to that of the piece
  Solid solid;
  Grid surface;  // what it shows, voids elsewhere
};
// Needs a bed and a scale; one after the other. Errors as surface_solid has them; TooLarge for more than
// kMostSolidTiles. Pieces without ground are left out.
void for_each_solid_tile(const Grid& surface, const SolidOptions& options, const SolidTiling& tiling,
                         const std::function<void(const SolidTile&)>& body);

}  // namespace katoptra
