// Files of points: LAS 1.0 to 1.4 (point formats 0 to 10), LAZ (0 to 3 and 6 to 8), COPC, and text.
//
//   PointFile sheet = open_point_file("sheet_a1.laz");
//   sheet.facts.compression;                                  // "LAZ, layers, 50000 points a chunk"
//   write_points(select(sheet.cloud, {.classes = {2}}), "ground.las");
//
// A reader looks at the header and the table of chunks only; each chunk is a part, decoded when it is read, on any
// thread. Files without a table of chunks are decoded once, into a temporary file. Of a COPC file only the nodes that
// touch `area` are taken (also over HTTP ranges), down to `spacing`. Paths lead into archives as for grids.
//
// What a header claims and is not so (number of points, records beyond the end of the file) is told in
// `facts.problems`; damaged points are an Error, unless `salvage` asks for those before the damage.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/points.hpp"

namespace katoptra {

struct PointFileFacts {
  std::filesystem::path path;
  std::string format;  // "LAS 1.4", "LAZ 1.4", "COPC 1.4", "text"
  std::uint64_t bytes = 0;
  std::string compression;  // "none", "layers, 50000 points a chunk"
  int record_format = -1;
  int record_length = 0;
  std::uint64_t declared = 0;  // points by the header
  std::vector<std::uint64_t> by_return;
  std::string system, software;  // the header's own words
  std::string date;              // ISO
  bool date_guessed = false;
  std::string survey;
  std::string crs_name;
  std::vector<std::string> beside;
  bool depths_turned = false;  // its values were depths, positive down
  std::vector<std::string> problems;
};

struct PointFile {
  PointCloud cloud;
  PointFileFacts facts;
};

struct PointOpenOptions {
  // As for grids: CRS, vertical reference and unit of files that do not say, depths, columns and delimiter of text.
  OpenOptions open;
  // COPC: only nodes that touch it, and only down to this distance between points (0: all).
  const Area* area = nullptr;
  Length spacing;
  // Damaged points end the cloud with a note instead of an Error.
  bool salvage = false;
};

PointFile open_point_file(const std::filesystem::path& path, const PointOpenOptions& options = {});
PointCloud open_points(const std::filesystem::path& path, const PointOpenOptions& options = {});
// True for LAS and LAZ by the first bytes.
bool looks_like_points(const std::filesystem::path& path);

// The paths of all LAS and LAZ files behind a path: the file itself, those in a folder, or in an archive.
std::vector<std::filesystem::path> points_behind(const std::filesystem::path& path);

// The lines of a vector file as breaklines, in `crs`: their heights are their third coordinates, else a property called
// z, height or level that holds for the whole line or outline. BadFile when there are none.
std::vector<Breakline> read_breaklines(const std::filesystem::path& path, const Crs& crs);

struct PointWriteOptions {
  bool overwrite = false;
  // Point format of LAS; -1: that of the source, else the smallest that holds the fields (6, 7 or 8).
  int record_format = -1;
  // Text: what stands between columns, and which are written ("x,y,z,class"); empty: x, y, z.
  char delimiter = ',';
  std::string columns;
  std::uint32_t chunk = 50000;  // points in a chunk of LAZ
  RunOptions run;
};

struct PointWriteReport {
  std::filesystem::path path;
  std::string format;
  std::uint64_t bytes = 0, points = 0;
  Bounds bounds;
  double lowest = 0, highest = 0;
  PointInfo info;
  std::vector<std::filesystem::path> beside;
  std::vector<std::string> notes;
  double seconds = 0;
};

// .las, .laz, and text: .xyz (blanks), .csv, .txt (with a line of names). The order of points is kept. A coordinate
// beyond what the integers of LAS hold is refused (TooLarge).
PointWriteReport write_points(const PointCloud& cloud, const std::filesystem::path& path,
                              const PointWriteOptions& options = {});

}  // namespace katoptra
