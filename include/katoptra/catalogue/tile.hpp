// What is known of a tile and its survey before a cell is read, wherever that knowledge comes from: the header of a
// file in a folder, a STAC catalogue, or a STAC API.
//
//   TileRecord t = describe_tile("sheet_b2.tif");
//   t.footprint(Crs::wgs84(), -31);
#pragma once
#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/grid/frame.hpp"
#include "katoptra/grid/quantity.hpp"

namespace katoptra {

enum class TileKind { Grid, Points, Soundings };
enum class Access { Open, Key, Restricted };  // for all; with a key; to be asked for at its custodian
const char* name_of(TileKind kind);           // "grid" "points" "soundings"
const char* name_of(Access access);           // "open" "key" "restricted"
// BadArgument unless it is one of those words.
TileKind parse_tile_kind(std::string_view text);
Access parse_access(std::string_view text);

struct TileRecord {
  std::filesystem::path path;  // on the disk, or a web address
  std::string id;              // its name within the survey
  std::string survey;
  TileKind kind = TileKind::Grid;
  std::string format;
  std::string date;  // ISO
  bool date_guessed = false;
  std::string licence, custodian;
  Access access = Access::Open;
  std::optional<Frame> frame;  // where cells lie, when that is known
  MultiPolygon outline;        // longitude and latitude; used where there is no frame
  Quantity quantity;
  SampleType type = SampleType::Float32;
  GroundSpacing spacing;              // zero when it is not known
  double density = 0;                 // points a square metre; 0 when it is not known
  std::vector<int> classes;           // of points
  std::uint64_t bytes = 0;            // 0 when it is not known
  std::string checksum;               // a multihash in hexadecimal
  std::string superseded;             // why it should no longer be used
  int joined = 0;                     // made by Katoptra of so many files: a product, no survey; 0 for others
  StatedUncertainty uncertainty;      // by the record of its survey
  std::string made_from;              // the name of the file that it was made from, where that is known
  std::vector<std::string> problems;  // damage, or why it could not be opened
  bool openable = true;
  // Set when its catalogue names a place that is not trusted (another host, a local file): the reason.
  std::string untrusted;
  std::string document;  // the STAC item it was read from, as it stands; empty for files of a folder

  bool remote() const;
  bool placed() const { return (frame && frame->crs()) || !outline.empty(); }
  // Its outline in a CRS, told around `middle` (a longitude) on the way; empty when it is not placed.
  MultiPolygon footprint(const Crs& crs, double middle) const;
  // The box around it in longitude and latitude; may count on beyond 180.
  Bounds globe_box() const;
};

// Tiles that lie beside one that was made from them, in the same place (corrected, with voids closed), are superseded
// by it.
void supersede_by_what_was_made(std::vector<TileRecord>& tiles);
// Why a tile is no survey's; empty when it may be one.
std::string why_no_survey(const TileRecord& tile);

// "sheet_c1.tif", or "ground-2022/sheet_c1.tif" with its folder; for web addresses, too.
std::string short_name(const TileRecord& tile);

// Which tiles are wanted. What a record does not say passes no test that asks for it.
struct TileFilter {
  std::optional<TileKind> kind;
  std::optional<int> from_year, to_year;
  std::optional<Length> coarsest;  // cells at most this large
  std::optional<double> density;   // at least so many points a square metre
  std::optional<HeightReference> heights;
  std::string format, survey;  // a part of the name, in any case
  std::optional<int> point_class;
  std::optional<Access> access;

  // Why a tile is not wanted; empty when it is.
  std::string refuses(const TileRecord& tile) const;
};

}  // namespace katoptra
