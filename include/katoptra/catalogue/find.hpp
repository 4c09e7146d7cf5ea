// Which tiles cover an area, before anything large is read: the smallest set that covers all that can be covered under
// the preferences, why each tile was kept or dropped, the gaps, and what would close them.
//
//   Shortlist s = find_tiles(read_catalogue("surveys", {.area = &area}), area);
//   s.covered_fraction; s.gaps; s.tiles[0].reason;
//   write_text_file("list.csv", shortlist_csv(s));
//
// Choice: tiles are put in order of preference (newest, then finest, as mosaic takes them). Those that are equal in it
// form a rank. Rank by rank, the fewest tiles are taken that cover whatever the rank can cover of what is still open;
// so every spot is covered by the best survey that has it, and by no tile more than needed. The fewest are found
// exactly (branch and bound over the pieces that outlines cut the area into) up to kCoverSteps steps, and are never
// more than a greedy choice takes. Everything is computed in the CRS of the area; fractions are of its planar area
// there.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/surface/mosaic.hpp"

namespace katoptra {

inline constexpr int kCoverSteps = 200'000;

struct ShortlistTile {
  TileRecord tile;
  bool kept = false;
  std::string reason;
  double covered_fraction = 0;  // of the area, by this tile alone
  MultiPolygon footprint;       // in the area's CRS
};

struct SurveySummary {
  std::string name;
  TileKind kind = TileKind::Grid;
  std::string from, to;  // dates
  bool date_guessed = false;
  Length cell;         // of the finest tile; 0: not known
  double density = 0;  // points on a square metre, of the densest; 0: not known
  std::string heights, licence, custodian;
  Access access = Access::Open;  // of the least accessible tile that touches the area
  std::size_t tiles = 0, kept = 0;
  std::uint64_t bytes = 0;      // of all its tiles that touch the area
  double covered_fraction = 0;  // of the area, by all its tiles
  double adds = 0;              // of the area, by its kept tiles beyond those of better surveys
};

// A part of the area that no usable tile covers.
struct Gap {
  MultiPolygon shape;     // in the area's CRS
  double area = 0;        // square metres on the ground
  double share = 0;       // of the area
  std::string where;      // "the south-east corner", "the north side, the middle"
  std::string closed_by;  // the next-best survey that would close it, empty when there is none
  std::string how;        // why it was not used, and what to do
  double fraction = 0;    // of the gap that it would close
};

struct Shortlist {
  Area area;
  std::vector<ShortlistTile>
      tiles;  // those that touch the area, in order of preference; then those that could not be placed
  std::vector<SurveySummary> surveys;  // in order of preference
  double covered_fraction = 0;         // of the area, by the kept tiles together
  MultiPolygon gaps;                   // in the area's CRS
  std::vector<Gap> gap_list;           // the same, one by one, largest first
  double gap_area = 0;                 // square metres on the ground
  std::uint64_t bytes = 0;             // of the kept tiles
  std::vector<std::string> notes;
};

struct FindOptions {
  std::vector<Preference> prefer = {Preference::Newest, Preference::Finest};
  // Keep every tile that touches the area, older twins too.
  bool all = false;
  // All tiles kept count heights from the same reference: the one that covers most.
  bool one_reference = false;
  // Tiles that need a key are used.
  bool have_key = false;
  TileFilter filter;
};
Shortlist find_tiles(const Catalogue& catalogue, const Area& area, const FindOptions& options = {});

// CSV: one row a tile. GeoJSON: footprints and gaps. Both can be edited and are read back.
std::string shortlist_csv(const Shortlist& s);
// Its first line, and a line of it; the first letter of a line says whether the tile is kept.
std::string shortlist_head();
std::string shortlist_row(const ShortlistTile& t);
Layer shortlist_layer(const Shortlist& s);

struct ShortlistEntry {
  std::filesystem::path path;  // on the disk, or a web address
  std::string survey, date, checksum, licence, custodian;
  // What the catalogue says the file is in, where that is known: "EPSG:32725", "EGM2008 height", "ft".
  std::string crs, heights, unit;
  bool date_guessed = false;
  Access access = Access::Open;
  std::uint64_t bytes = 0;
  Bounds box;  // longitude and latitude; empty when it is not told
};
// The kept tiles of a shortlist. Rows may have been struck, or set to 0; columns may be missing except `kept` and
// `path`. BadFile when it is none.
std::vector<ShortlistEntry> read_shortlist(const std::filesystem::path& path);

// The fewest of `sets` (lists of element numbers below `elements`) that cover every element that any of them covers;
// earlier sets are preferred among equals. Exact up to `steps` steps of the search, never more than the greedy choice.
std::vector<std::size_t> smallest_cover(const std::vector<std::vector<std::size_t>>& sets, std::size_t elements,
                                        int steps = kCoverSteps);

}  // namespace katoptra
