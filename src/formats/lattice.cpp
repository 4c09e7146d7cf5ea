#include <cmath>
#include <fmt/format.h>
#include <sstream>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

#include "readers.hpp"
#include "rows_source.hpp"

namespace katoptra {

Frame FileLattice::frame() const {
  const CellSize cell{std::abs(dx), std::abs(dy)};
  const auto c = static_cast<double>(cols), r = static_cast<double>(rows);
  // The corner or centre of the first cell of the frame, in the north-west.
  const double x0 = dx > 0 ? x : x + dx * (centre ? c - 1 : c), y0 = dy < 0 ? y : y + dy * (centre ? r - 1 : r);
  if (centre) return NodeFrame{crs, x0, y0, cell, cols, rows}.cells();
  return {crs, x0, y0, cell, cols, rows};
}

void refuse_rotation(double degrees, const std::string& file) {
  throw Error(
      ErrorCode::Unsupported,
      fmt::format("its rows are turned by {:.3f} degrees against the axes of its CRS, and cells here are upright",
                  degrees),
      file, "get it as an upright grid, or have it resampled where it was made");
}

std::optional<FileLattice> lattice_of_world_file(const std::string& text, const std::string& file) {
  std::istringstream words(text);
  std::vector<double> v;
  for (std::string w; v.size() < 6 && words >> w;)
    if (const auto number = parse_number(w)) v.push_back(*number);
  if (v.size() < 6) return std::nullopt;
  if (std::abs(v[1]) > 1e-12 * std::abs(v[0]) || std::abs(v[2]) > 1e-12 * std::abs(v[3]))
    refuse_rotation(std::atan2(v[1], v[0]) * 57.29577951308232, file);
  return FileLattice{.crs = {}, .x = v[4], .y = v[5], .dx = v[0], .dy = v[3], .cols = 0, .rows = 0, .centre = true};
}

Grid turned(const Grid& grid, const FileLattice& lattice) {
  if (!lattice.south_up() && !lattice.east_first()) return grid;
  GridInfo info = grid.info();
  if (lattice.east_first()) info.notes.push_back("its columns run from east to west: they were turned around");
  return mirrored(grid, std::move(info), lattice.south_up(), lattice.east_first());
}

}  // namespace katoptra
