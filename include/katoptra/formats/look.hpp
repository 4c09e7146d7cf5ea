// Everything about grid files on one page, and what is suspicious about them.
//
//   for (const Looked& l : look_at({"sheet_c1.tif", "sheet_c2.tif"}))
//     for (const Suspicion& s : l.suspicious) say(s.code, s.message, s.advice);
//
// A file is judged by itself (its facts, and its values in one pass) and against its neighbours: the other files given
// and, for a file that does not say where it lies, the grids in its folder. Nothing is corrected; nothing is refused:
// what cannot be read is a suspicion, too. Codes are listed in docs/formats.md.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/check/statistics.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/xyz.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/points/summary.hpp"

namespace katoptra {

struct Suspicion {
  std::string code;  // "no-crs", "undeclared-void" ...
  std::string message, advice;
};

// A CRS that a file without one may have.
struct CrsProposal {
  Crs crs;
  std::string why;
};

struct Looked {
  std::filesystem::path path;
  std::optional<GridFile> file;          // a grid
  std::optional<XyzFacts> soundings;     // or points in text
  std::optional<PointFile> points;       // or LAS, LAZ, COPC
  std::optional<PointSummary> summary;   // of those; none when they were not read, or could not be
  std::optional<Statistics> statistics;   // none when values could not be read
  std::optional<Statistics> uncertainty;  // of the uncertainties that it carries
  std::vector<CrsProposal> proposals;
  std::vector<Suspicion> suspicious;
};

struct LookOptions {
  OpenOptions open;
  const Area* area = nullptr;  // where the files are thought to lie
  bool values = true;          // read all values, for the range and what they give away
  RunOptions run;
};

// Errors: those of open_grid_file for a file that cannot be opened at all.
std::vector<Looked> look_at(const std::vector<std::filesystem::path>& files, const LookOptions& options = {});

}  // namespace katoptra
