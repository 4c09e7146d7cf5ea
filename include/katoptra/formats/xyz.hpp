// Points in text: one a line, three numbers among its columns. A grid when they lie on a lattice, else soundings.
//
//   XyzFacts f = look_at_xyz(*open_file("soundings.txt"));     // one pass over the text, on all cores
//   if (!f.lattice) Layer points = read_layer("soundings.txt", f.crs);
//
// Lines in any order, with gaps; comments (# or //) and one header line are skipped. Delimiter: comma, semicolon, tab
// or blanks, found from the first lines unless given; with semicolons a comma may stand in fractions. Columns: by the
// names of the header (x, y, z; lon, lat; easting, northing; height, elevation, depth), else the first three, unless
// given. A column called depth, or lying positive down on request, becomes heights.
#pragma once
#include <filesystem>
#include <functional>
#include <optional>
#include <string>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/grid/frame.hpp"

namespace katoptra {

struct XyzOptions {
  std::string columns;  // "1,2,4" or "east,north,z"; empty: found
  char delimiter = 0;   // 0: found
  bool depths = false;  // the third is a depth, positive down
};

struct XyzFacts {
  char delimiter = ' ';
  bool header = false, depths = false, whole_numbers = false;
  std::string column_names[3];  // as the header says, else "column 1" ...
  std::uint64_t points = 0;
  Bounds bounds;
  double lowest = 0, highest = 0;  // heights: depths have been turned
  // Longitude and latitude by the names of the columns; else unknown.
  Crs crs;
  // The frame when the points lie on a lattice and fill at least kLatticeFilled of it.
  std::optional<Frame> lattice;
};
inline constexpr double kLatticeFilled = 0.02;
// A point may be this far from its lattice (in cells): coordinates are printed with few digits.
inline constexpr double kLatticeSlack = 0.05;

// BadFile, with the line, when a line holds no three numbers; BadArgument when the columns asked for are not there.
XyzFacts look_at_xyz(const ByteSource& bytes, const XyzOptions& options = {});
// Calls body(x, y, z) for every point, in the order of the file.
void each_xyz(const ByteSource& bytes, const XyzOptions& options,
              const std::function<void(double x, double y, double z)>& body);

}  // namespace katoptra
