// Water laid flat: lakes at one level, rivers falling steadily from bank to bank, the sea at its level.
//
//   FlatWater f = lay_water_flat(dem, water_bodies_of(read_layer("water.gpkg"), dem), {.sea = 0.0});
//   write_grid(f.grid, "flat.tif", {.lineage = true});
//   Grid back = restored(f.grid, water_bodies_of(water_layer(f, dem), dem), f.before);   // as it was, bit for bit
//
// A body is the cells whose centre lies inside its shape; one that lies in several belongs to the first, lakes and sea
// before rivers. Cells outside are never touched, nor are, inside, the bank and islands: cells that stand more than
// `above` over the water, where they hang together with the outside or are at least `smallest_island` large. So a shape
// that was drawn with a broad pen cuts no shore into the bank. Voids inside are closed.
//
//   Lake   one level: the one that is given, else that of its own cells (the densest half of them, Bickel & Fruehwirth
//          2006, then the median of what lies within three spreads); where fewer than a quarter of its cells have a
//          height, a low one of its bank (the lowest twentieth).
//   River  as far from its mouth as one must go within it (Sethian 1996), the level never falls; stretches about
//          twice as long as it is wide take the level of their own cells, and the nearest levels (by squares) that rise
//          upstream all the way are taken and joined by straight falls, through arms around islands and tributaries
//          alike. The mouth is the lower end, and where it meets a lake or the sea the river comes down to its level.
//   Sea    as a lake, and with `sea` whatever is no higher than that and hangs together with the edge or with voids.
//   A body of unknown kind is a river when it is ten times as long as it is wide and its ends differ, else a lake.
//
// Origin: filled, by "lake laid flat", "river laid flat", "sea laid flat". Where the surface carries its uncertainty, a
// laid cell has that of the level: of the spread of its cells and of what their errors have in common
// (GridInfo::error_reach); of levels that were given it is not known. The result does not depend on blocks or threads.
// Memory: 24 bytes for each run of cells of a row inside water; a river also 60 bytes for each of its cells while it is
// solved, which is why one of more than kRiverCells is refused.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class WaterKind : std::uint8_t { Unknown, Lake, River, Sea };
const char* name_of(WaterKind kind);
// "lake", "river", "sea", "auto"; BadArgument otherwise.
WaterKind parse_water_kind(std::string_view text);

struct WaterBody {
  MultiPolygon shape;  // in the CRS of the surface
  WaterKind kind = WaterKind::Unknown;
  std::optional<double> level;  // of a lake or the sea, in the unit of the surface
  std::string name;
};
// The polygons of a layer, carried into the CRS of the surface, with their properties `kind` (of `usual` where they
// have none), `level` (in the unit of the surface unless `unit` says another; of a river it is not asked) and `name`.
// BadArgument when it holds none, or lines or points.
std::vector<WaterBody> water_bodies_of(const Layer& layer, const Grid& surface, WaterKind usual = WaterKind::Unknown);

struct FlattenOptions {
  std::optional<double> sea;     // its level, in the unit of the surface: found from the edge
  std::optional<Length> above;   // default: three spreads of the water's cells, at least kLeastAbove (of rivers five)
  double smallest_island = 100;  // square metres
  RunOptions run;
};

inline constexpr double kLeastAbove = 0.02;              // metres
inline constexpr double kMostSpread = 0.5;               // metres: what spreads more about its level is no water
inline constexpr std::int64_t kRiverCells = 10'000'000;  // of one river

struct LaidBody {
  std::string name;
  WaterKind kind = WaterKind::Unknown;
  double level = 0, highest = 0;          // lowest and highest of it; NaN when nothing was laid flat
  double uncertainty = 0;                 // of the level, standard; NaN where it is not known
  std::string by;                         // where the level comes from: "given", "its cells", "its bank"
  std::int64_t cells = 0, voids = 0;      // laid flat, and how many of those were voids
  std::int64_t kept = 0;                  // bank and islands inside its shape
  double raised = 0, lowered = 0;         // the most of any cell
  std::int64_t bank = 0, bank_below = 0;  // known cells around it, and those below its level
  double bank_lowest = 0;                 // by how much at most
  double area = 0;                        // square metres of the cells laid flat
  MultiPolygon shape;                     // those cells, along their edges
};

struct FlatWater {
  Grid grid;
  Grid before;  // the surface where it was laid flat, void elsewhere
  std::vector<LaidBody> bodies;
};
// BadArgument when no cell is laid flat at all, with what stands against it, or when the cells of a body (those of a
// stretch of a river) spread by more than kMostSpread, so that no level is theirs; TooLarge beyond kRiverCells.
FlatWater lay_water_flat(const Grid& surface, const std::vector<WaterBody>& bodies, const FlattenOptions& options = {});

// Its record: shapes along the edges of cells, with level, kind and what was done.
Layer water_layer(const FlatWater& flat, const Grid& surface);

// The surface as it was: the cells inside the shapes of a record are those of `before`. Refused unless that lies on the
// same lattice and its values are of the same unit and reference.
Grid restored(const Grid& flat, const std::vector<WaterBody>& record, const Grid& before);

struct FindWaterOptions {
  Length flat = Length::metres(0.1);  // cells that differ by no more from their neighbours may be water
  double smallest = 400;              // square metres
  // How many returns each cell has: cells with less than a quarter of the median of all that have any may be water, and
  // no others.
  std::optional<Grid> returns;
  RunOptions run;
};
// Bodies of water that the surface itself shows: level cells that hang together, with nine tenths of the cells around
// them higher than those beside them; lakes when they are level all over, rivers when they are ten times as long as
// wide and fall by less than a fiftieth; plains and sea floors are neither. Where less than a quarter of it has
// heights, a third of the bank must stand within three times `flat` of its lowest twentieth: voids of slopes have no
// such bank. Shapes reach two cells onto the shore, which laying them flat keeps where it is higher.
std::vector<WaterBody> find_water(const Grid& surface, const FindWaterOptions& options = {});

}  // namespace katoptra
