// A grid that is too large for one file, as sheets: files of a stated size whose cells are together those of the whole,
// to the last bit, with an index and a STAC catalogue of them.
//
//   SheetsReport r = write_sheets(dem, "ground/ground.tif", {.edge = Length::metres(10'000), .made_from = "dem.tif"});
//   Grid whole = open_grid(r.index);
//
// ground/ground_e41_n583.tif      the cells from x = 41 x 10 km and y = 583 x 10 km on
// ground/ground.sheets.geojson    where the sheets lie and what is in them; also a shortlist, for fetch and mosaic
// ground/ground.sheets/           a STAC item a sheet, and collection.json
//
// A sheet is whole when its item is there, says that it was made from the same, and its file has the size it tells.
// Such a sheet is not made again, so a run that ended before its time goes on when it is started again, and several
// runs that make a part each (`part`, `parts`) come together: whichever finds all sheets whole writes index and
// collection.
#pragma once
#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/reproject.hpp"

namespace katoptra {

struct Sheet {
  std::string name;  // "e41_n583": its west and south edges, counted in edges of a sheet from the origin of the CRS
  Window window;     // of the frame
};
// Sheets whose edges are multiples of `edge` in the units of the CRS (not on the ground), moved to the nearest line of
// the lattice, and fewer than 8 cells left over at the rim go with the sheet beside them; from north to south, in each
// row from west to east. Refused without a CRS; BadArgument where `edge` is an angle and the CRS does not count in
// degrees or the other way round, for sheets of fewer than 16 cells, and for more than 100,000 of them.
std::vector<Sheet> sheets_of(const Frame& frame, const CellEdge& edge);

struct SheetsOptions {
  CellEdge edge;
  // All that the cells are made from, in words: it tells a sheet that is whole from one that was made of other things.
  std::string made_from;
  // Only sheets part, part + parts, part + 2 parts ...: one of several runs, on other machines perhaps.
  int part = 1, parts = 1;
  // In a folder that is made for them a record (survey.toml) says that they are a survey, to be found in it.
  bool survey = true;
  // Of each file. `overwrite`: sheets made from something else are replaced; without it they are an error (Io).
  WriteOptions write;
};

// Those that write_sheets would make for the part, or see that they are there. Its errors, before anything is written.
std::vector<Sheet> planned_sheets(const Grid& grid, const std::filesystem::path& path, const SheetsOptions& options);

struct SheetsReport {
  std::vector<Sheet> sheets;                 // all of them
  std::filesystem::path index, collection;   // empty while sheets are missing
  std::int64_t made = 0, whole_already = 0;  // by this run
  std::int64_t missing = 0;                  // left to other parts
  std::int64_t without_value = 0;            // of those that are there: their cells are all void, so they have no file
  // Of all that are there.
  std::uint64_t bytes = 0;
  std::int64_t cells = 0, voids = 0;
  double lowest = 0, highest = 0;  // NaN when all cells are void
  std::int64_t by_how[8] = {};     // cells by How, where their lineage was written
  std::string format, compression;
  GridInfo info;
};
// `path`: NAME.EXT in a folder, which is made when it is not there; sheets are called NAME_SHEET.EXT. Of a grid with a
// CRS. Unsupported for formats whose values depend on the range of a file. Where several processes share work each
// makes sheets of its own, which lie on a disk that all see.
SheetsReport write_sheets(const Grid& grid, const std::filesystem::path& path, const SheetsOptions& options);
// True when all sheets of an index are there with the sizes it tells.
bool sheets_are_there(const std::filesystem::path& index);

}  // namespace katoptra
