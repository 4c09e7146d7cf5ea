// Grids in files: opening reads the header only; writing is the one moment when cells are computed.
//
//   GridFile dem = open_grid_file("dem.tif");       // facts about the file beside the grid
//   WriteReport r = write_grid(hillshade(dem.grid), "shade.tif", {.overwrite = true});
//
// Reads, recognised by content: GeoTIFF and BigTIFF (strips or tiles; 8 to 64-bit integers, 32 and 64-bit floats; none,
// LZW, deflate, ZSTD, packbits; predictors 1 to 3), HGT, and either of them inside a zip archive. Writes GeoTIFF in the
// cloud-optimised layout: header first, tiles of 512 cells, overviews by halves.
//
// A grid that Katoptra wrote with its lineage (`dem.lineage.tif` and `dem.lineage.csv` beside it) is opened with it.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct FileFacts {
  std::filesystem::path path;
  std::string format;  // "GeoTIFF", "HGT"
  std::uint64_t bytes = 0;
  std::string compression;  // "deflate, predictor 3"
  std::string layout;       // "tiles 512 x 512, 3 overviews, header first"
  bool pixel_is_point = false;
  std::string date;  // ISO; from the file's own tag, else from the file time
  bool date_guessed = false;
  std::string description;            // the file's own text
  std::string survey;                 // empty when unknown
  std::string crs_name;               // what the file says of its CRS, whether or not it was understood
  std::vector<std::string> problems;  // damage that the header gives away, such as tiles that lie beyond the end
};

struct GridFile {
  Grid grid;
  FileFacts facts;
};

struct OpenOptions {
  // Assigned only when the file has none; a different one is refused.
  std::optional<Crs> crs;
  // The vertical reference and unit to take when the file does not say.
  std::optional<HeightReference> heights;
  std::optional<LengthUnit> unit;
};

// Errors: Io, BadFile, Unsupported, TooLarge; Refused when an assigned reference contradicts the file.
GridFile open_grid_file(const std::filesystem::path& path, const OpenOptions& options = {});
Grid open_grid(const std::filesystem::path& path, const OpenOptions& options = {});
// True when the first bytes are of a format that open_grid_file may read.
bool looks_like_grid(const std::filesystem::path& path);

enum class Codec { Deflate, Zstd, None };

struct WriteOptions {
  // affect what is written
  bool overwrite = false;
  std::optional<double> void_value;  // default: the source's own where the type allows, NaN for floats
  bool lineage = false;              // also NAME.lineage.tif and NAME.lineage.csv
  std::string date;                  // ISO date for the file's date tag; empty: none
  std::string survey;                // kept in the file's description
  // affect size and speed only
  Codec codec = Codec::Deflate;
  int level = 3;
  bool overviews = true;
  bool always_big = false;  // BigTIFF even where the classic form would do (it is taken by itself above 4 GB)
  int tile = 512;           // 16 to 4096, a multiple of 16
  RunOptions run;
};

struct WriteReport {
  std::filesystem::path path, lineage_path;
  std::uint64_t bytes = 0;
  std::int64_t cells = 0, voids = 0;
  double lowest = 0, highest = 0;  // NaN when all cells are void
  SampleType type = SampleType::Float32;
  std::optional<double> void_value;
  GridInfo info;
  // Cells by How (index is the enumerator), filled when the lineage was written.
  std::int64_t by_how[8] = {};
  double seconds = 0;
};

// The format follows from the extension (.tif, .tiff); Unsupported for others.
WriteReport write_grid(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options = {});

// "LIBTIFF, Version 4.5.0": the reader of TIFF headers, for records.
std::string tiff_library_version();

// "dem.lineage.tif" for "dem.tif"
std::filesystem::path lineage_path_for(const std::filesystem::path& path);

}  // namespace katoptra
