// Which tiles cover an area, before anything large is read.
//
//   Catalogue c = open_folder("surveys");                        // headers only
//   Shortlist s = find_tiles(c, area);
//   s.covered_fraction; s.gaps; s.tiles[0].reason;
//
// A folder is searched with all its subfolders. A file survey.toml in a folder describes the tiles in and below it:
//   name = "Marrowick 2022"   year = 2022   date = "2022-03-14"   licence = "CC0-1.0"   custodian = "..."
//   restricted = ["sheet_c3"]      # tiles (stems of file names) that must be asked for
//   skip = true                     # what lies here is no survey
// A tile's date is that of its survey record, else the file's own date tag, else the file time, marked as a guess.
//
// Tiles are grouped into surveys by record or, without one, by folder, year, cell and references; several years on the
// same spot stay apart. find_tiles takes tiles newest first, then finest, as mosaic does, and keeps a tile when it
// covers a part of the area that the ones before it left open; the reason says so for each tile.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/surface/mosaic.hpp"

namespace katoptra {

struct TileRecord {
  std::filesystem::path path;
  std::string survey;
  std::string format;
  std::string date;
  bool date_guessed = false;
  std::string licence, custodian;
  bool restricted = false;
  std::optional<Frame> frame;  // none when the header could not be read
  Quantity quantity;
  SampleType type = SampleType::Float32;
  GroundSpacing spacing;
  std::uint64_t bytes = 0;
  std::vector<std::string> problems;  // damage, or why it could not be opened
  bool openable = true;
};

struct Catalogue {
  std::vector<TileRecord> tiles;  // by path
};

struct FolderOptions {
  RunOptions run;
};
Catalogue open_folder(const std::filesystem::path& folder, const FolderOptions& options = {});
// One file as a catalogue of one.
TileRecord describe_tile(const std::filesystem::path& path);

struct ShortlistTile {
  TileRecord tile;
  bool kept = false;
  std::string reason;
  double covered_fraction = 0;  // of the area, by this tile alone
  MultiPolygon footprint;       // in the area's CRS
};

struct Shortlist {
  Area area;
  std::vector<ShortlistTile>
      tiles;  // those that touch the area, in order of preference; then those that could not be placed
  double covered_fraction = 0;  // of the area, by the kept tiles together
  MultiPolygon gaps;            // in the area's CRS
  double gap_area = 0;          // square metres on the ground
  std::uint64_t bytes = 0;      // of the kept tiles
};

struct FindOptions {
  std::vector<Preference> prefer = {Preference::Newest, Preference::Finest};
  // Keep every tile that touches the area, older twins too.
  bool all = false;
};
Shortlist find_tiles(const Catalogue& catalogue, const Area& area, const FindOptions& options = {});

// CSV: one row a tile. GeoJSON: footprints and gaps.
std::string shortlist_csv(const Shortlist& s);
Layer shortlist_layer(const Shortlist& s);
// The kept tiles' paths of a shortlist written as CSV or GeoJSON.
std::vector<std::filesystem::path> read_shortlist(const std::filesystem::path& path);

}  // namespace katoptra
