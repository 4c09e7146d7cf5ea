// One surface from many tiles.
//
//   Grid whole = mosaic({a, b, c}, {.feather = 20_m});
//   for (const std::string& n : whole.info().notes) say(n);     // which tiles were resampled or converted
//
// Each cell takes the value of the first tile, in order of preference, that has one there. The frame is the lattice of
// the finest tile over the union of all; tiles on that lattice are joined cell for cell, the others are resampled to
// it. With a feather (at most 1000 cells), a tile's weight grows from its edge (or the edge of its voids) inwards over
// that distance and the next tile shows through, so that no step is left. Only edges count behind which another tile
// goes on.
//
// Refused, naming the tiles: a tile without a CRS, tiles with different vertical references, heights beside something
// else. Units of length are converted exactly to that of the tile preferred first, and noted.
// Lineage: measured, resampled or blended, with the tile.
#pragma once
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/grid/grid.hpp"
#include "katoptra/surface/reproject.hpp"

namespace katoptra {

enum class Preference { Newest, Finest, Given };
// "newest", "finest", "given"; BadArgument otherwise.
Preference parse_preference(std::string_view text);

struct MosaicOptions {
  // The first criterion decides; the next one breaks its ties; the order given is always the last.
  std::vector<Preference> prefer = {Preference::Newest, Preference::Finest};
  Length feather;
  std::optional<Frame> frame;
  std::optional<LengthUnit> unit;
  Resampling resampling = Resampling::Automatic;
};

// What decides between two tiles. `guessed`: the date is that of a file, no survey's; it never outranks one that was
// told.
struct TileRank {
  std::string date;
  bool guessed = false;
  int cell_class = 0;
};
// Classes of cell sizes from 1 (the finest): sizes within a thousandth of the finest of a class are one, and unknown
// ones (zero) come last.
std::vector<int> cell_classes(const std::vector<double>& cells);
// True when `a` is preferred; a strict weak order.
bool outranks(const TileRank& a, const TileRank& b, const std::vector<Preference>& prefer);

Grid mosaic(const std::vector<Grid>& tiles, const MosaicOptions& options = {});

// The order in which mosaic would take them: indices into `tiles`.
std::vector<std::size_t> preference_order(const std::vector<Grid>& tiles, const std::vector<Preference>& prefer);

// What tiles of one acquisition have in common, as a key: the name of their survey, their date and their cells; the
// name of a tile that is made of several.
std::string acquisition_of(const Grid& tile);

}  // namespace katoptra
