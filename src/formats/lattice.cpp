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
  if (askew) {
    // Cells of the same size and number about the same middle: what stands for them until they are upright.
    const Frame upright = upright_frame(crs, *askew, cols, rows);
    const Point m = upright.bounds().centre();
    const CellSize cell = upright.cell();
    return {crs, m.x - static_cast<double>(cols) * cell.x / 2, m.y + static_cast<double>(rows) * cell.y / 2, cell, cols,
            rows};
  }
  const CellSize cell{std::abs(dx), std::abs(dy)};
  const auto c = static_cast<double>(cols), r = static_cast<double>(rows);
  // The corner or centre of the first cell of the frame, in the north-west.
  const double x0 = dx > 0 ? x : x + dx * (centre ? c - 1 : c), y0 = dy < 0 ? y : y + dy * (centre ? r - 1 : r);
  if (centre) return NodeFrame{crs, x0, y0, cell, cols, rows}.cells();
  return {crs, x0, y0, cell, cols, rows};
}

FileLattice lattice_of_terms(const std::array<double, 6>& t, bool centre, const std::string& file) {
  FileLattice l{
      .crs = {}, .x = t[2], .y = t[5], .dx = t[0], .dy = t[4], .cols = 0, .rows = 0, .centre = centre, .askew = {}};
  constexpr double kUpright = 1e-12;
  if (std::abs(t[1]) <= kUpright * std::abs(t[0]) && std::abs(t[3]) <= kUpright * std::abs(t[4])) return l;
  SkewLattice askew{{t[2], t[5]}, {t[0], t[3]}, {t[1], t[4]}};
  if (centre) askew.corner = {t[2] - (t[0] + t[1]) / 2, t[5] - (t[3] + t[4]) / 2};
  if (!askew.is_valid())
    throw Error(ErrorCode::BadFile,
                fmt::format("its transformation ({:g}, {:g}, {:g}, {:g}, {:g}, {:g}) makes no cells", t[0], t[1], t[2],
                            t[3], t[4], t[5]),
                file, "its header is damaged; fetch it again");
  l.askew = askew;
  return l;
}

std::optional<FileLattice> lattice_of_world_file(const std::string& text, const std::string& file) {
  std::istringstream words(text);
  std::vector<double> v;
  for (std::string w; v.size() < 6 && words >> w;)
    if (const auto number = parse_number(w)) v.push_back(*number);
  if (v.size() < 6) return std::nullopt;
  return lattice_of_terms({v[0], v[2], v[4], v[1], v[3], v[5]}, true, file);
}

Grid turned(const Grid& grid, const FileLattice& lattice) {
  if (lattice.askew) return made_upright(grid, *lattice.askew);
  if (!lattice.south_up() && !lattice.east_first()) return grid;
  GridInfo info = grid.info();
  if (lattice.east_first()) info.notes.push_back("its columns run from east to west: they were turned around");
  return mirrored(grid, std::move(info), lattice.south_up(), lattice.east_first());
}

}  // namespace katoptra
