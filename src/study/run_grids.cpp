#include "run_grids.hpp"

#include <algorithm>

#include "katoptra/base/error.hpp"
#include "katoptra/study/sheets.hpp"

namespace katoptra {
namespace fs = std::filesystem;

std::string RunGrids::name(const std::string& file) const {
  if (!in_sheets()) return file;
  const std::string stem = fs::path(file).stem().string();
  return stem + "/" + stem + ".sheets.geojson";
}

WriteReport RunGrids::write(const Grid& grid, const std::string& file, const std::string& key,
                            const WriteOptions& options) const {
  if (!in_sheets()) return write_grid(grid, folder_ / file, options);
  SheetsOptions o;
  o.edge = *study_.sheets;
  o.made_from = key;
  o.survey = false;
  o.write = options;
  const fs::path stem = fs::path(file).stem();
  const SheetsReport s = write_sheets(grid, folder_ / stem / file, o);
  if (s.index.empty())
    throw Error(ErrorCode::BadArgument, "has no value in any cell", file, "check the area and the sources");
  WriteReport r;
  r.path = s.index;
  r.bytes = s.bytes;
  r.cells = s.cells;
  r.voids = s.voids;
  r.lowest = s.lowest;
  r.highest = s.highest;
  r.type = s.info.type;
  r.info = s.info;
  std::copy(std::begin(s.by_how), std::end(s.by_how), std::begin(r.by_how));
  r.format = s.format;
  r.compression = s.compression;
  return r;
}

bool RunGrids::is_whole(const std::string& file) const {
  std::error_code ec;
  return in_sheets() ? sheets_are_there(folder_ / name(file)) : fs::is_regular_file(folder_ / file, ec);
}

}  // namespace katoptra
