// Grids in files: opening reads the header only; writing is the one moment when cells are computed.
//
//   GridFile dem = open_grid_file("dem.tif");       // facts about the file beside the grid
//   WriteReport r = write_grid(hillshade(dem.grid), "shade.tif", {.overwrite = true});
//
// Reads, recognised by content: GeoTIFF and BigTIFF, HGT, ASCII grid, flat binary with its header, NetCDF (CF), BAG,
// and XYZ text; each also inside archives (formats/archive.hpp), where a path leads on: "county.zip/north/tile.tif".
// What lies beside a file under its name is used: NAME.prj for its CRS, NAME.tfw for the place of a plain TIFF,
// NAME.hdr, and NAME.json with "crs", "heights", "unit", "void", "zero", "step", "date", "survey", "depths" for what a
// format cannot say. Text (ASCII grid, XYZ) is looked through once when it is opened; of all others only the header is
// read.
//
// Writes by extension: .tif (cloud-optimised GeoTIFF), .asc, .flt, .bil, .bip, .bsq, .hgt, .nc (NetCDF 4), .cdf (NetCDF
// classic), .xyz, .png (16-bit height map). docs/formats.md has the details of each.
//
// The index of sheets (NAME.sheets.geojson, study/sheets.hpp) opens as the whole that they are parts of.
//
// A grid that Katoptra wrote with its lineage (`dem.lineage.tif` and `dem.lineage.csv` beside it) is opened with it.
#pragma once
#include <filesystem>
#include <functional>
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
  std::vector<std::string> bands;     // names of its values where a cell has several; empty for one
  std::string band;                   // the one that was taken
  std::vector<std::string> beside;    // files beside it that were used
  bool ours = false;                  // Katoptra wrote it, as it says itself
  int joined = 0;                     // and made it of so many files; 0 for others
  bool depths_turned = false;         // its values were depths, positive down
  std::vector<std::string> problems;  // damage that the header gives away, such as tiles that lie beyond the end
};

struct GridFile {
  Grid grid;
  FileFacts facts;
};

// What somebody says of how sure the values of a file are. Where the file carries its own, that stays, and a note says
// so.
struct StatedUncertainty {
  // As grid/uncertainty.hpp reads it ("0.05m", "0.05m+0.2m*slope"; lengths name their unit), "band:3" of the same file,
  // or the path of a second grid on the same lattice. Empty: nothing is said.
  std::string text;
  // What those numbers, and those in files that are not our own, are told with: 68 for one standard uncertainty, or 95.
  double confidence = 68;
  // How far errors go together (GridInfo::error_reach).
  std::optional<Length> reach;

  // What the numbers are multiplied with. BadArgument for any other confidence.
  double times() const;
  // What is not said here as another has it: the text with its confidence, and the reach.
  StatedUncertainty otherwise(const StatedUncertainty& other) const;
  bool operator==(const StatedUncertainty&) const = default;
};

struct OpenOptions {
  // Assigned only when the file has none; a different one is refused.
  std::optional<Crs> crs;
  // The vertical reference and unit to take when the file does not say.
  std::optional<HeightReference> heights;
  std::optional<LengthUnit> unit;
  // The value that stands for voids, when the file does not declare it (or declares another, which stays one, too).
  std::optional<double> void_value;
  // Values are depths, positive down: they become heights. Files that say so themselves need no telling.
  bool depths = false;
  // Which of several values: a number from 1, or the name of a band or variable. Empty: the heights, or the first.
  std::string band;
  // How sure the values are, when the file does not say.
  StatedUncertainty uncertainty;
  // XYZ text: which columns are x, y and z ("1,2,4", or names of its header line) and what stands between them.
  std::string columns;
  char delimiter = 0;
};

// Errors: Io, BadFile, Unsupported, TooLarge; Refused when an assigned reference contradicts the file.
GridFile open_grid_file(const std::filesystem::path& path, const OpenOptions& options = {});
Grid open_grid(const std::filesystem::path& path, const OpenOptions& options = {});
// An index of sheets, by its name: NAME.sheets.geojson.
bool is_sheets_index(const std::filesystem::path& path);
// True when the first bytes are of a format that open_grid_file may read.
bool looks_like_grid(const std::filesystem::path& path);

// Automatic: deflate, which every reader knows, unless a trial shows that nothing is gained; the predictor by trial.
enum class Codec { Automatic, Deflate, Zstd, None };
enum class Predictor { Automatic, None, Difference, FloatingPoint };

struct WriteOptions {
  // affect what is written
  bool overwrite = false;
  std::optional<double> void_value;  // default: the source's own where the type allows, NaN for floats
  bool lineage = false;              // also NAME.lineage.tif and NAME.lineage.csv
  // Of a grid that carries one: in GeoTIFF a second band, in NetCDF a variable of its own; other formats say that it is
  // left out.
  bool uncertainty = true;
  // ISO date and survey for the file; empty: those on which all sources agree.
  std::string date, survey;
  // affect size and speed only
  Codec codec = Codec::Automatic;
  Predictor predictor = Predictor::Automatic;
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
  // Of the uncertainty that was written with it; no cells when none was.
  struct Sureness {
    std::int64_t cells = 0;
    double lowest = 0, highest = 0, rms = 0;  // in the unit of the values
  };
  Sureness uncertainty;
  // Cells by How (index is the enumerator), filled when the lineage was written.
  std::int64_t by_how[8] = {};
  std::string format, compression;
  std::vector<std::filesystem::path> beside;  // what was written with it: .prj, .hdr, .json
  double seconds = 0;
};

// The format follows from the extension; Unsupported for others. Formats other than GeoTIFF hold no lineage: it is
// written beside them in a second pass. What a format cannot say (vertical reference, unit, date) goes into NAME.json.
WriteReport write_grid(const Grid& grid, const std::filesystem::path& path, const WriteOptions& options = {});

// A file that is made of a surface.
struct GridTarget {
  std::function<Grid(const Grid& surface)> make;
  std::filesystem::path path;
};
// Each into a file of its own. Those that become GeoTIFFs are made in one pass: a block of the surface is read once,
// with the margin that they look at, and each makes its tile of it. After an error, or when it is stopped, none of
// those files is there. Files of other formats follow, each by a reading of its own. The reports are in the order of
// the targets; the bytes are those that write_grid writes.
std::vector<WriteReport> write_grids(const Grid& surface, const std::vector<GridTarget>& targets,
                                     const WriteOptions& options = {});

// The frame of an HGT tile by its name (its nodes every 1 or 3 seconds, whichever is nearer to `spacing`). BadArgument
// when it is no such name.
Frame hgt_tile_frame(const std::filesystem::path& path, Length spacing);
// The nodes of the one-degree DTED cell that holds the middle of a frame; the level is that of the ending (.dt0 to
// .dt2).
Frame dted_cell_frame(const std::filesystem::path& path, const Frame& near);

// The paths of all grids behind a path: the file itself, or what lies in the archive and in archives inside it.
std::vector<std::filesystem::path> grids_behind(const std::filesystem::path& path);

// "LIBTIFF, Version 4.5.0": the reader of TIFF headers, for records.
std::string tiff_library_version();

// "dem.lineage.tif" for "dem.tif", "dem.asc.lineage.tif" for "dem.asc": each has its own.
std::filesystem::path lineage_path_for(const std::filesystem::path& path);

}  // namespace katoptra
