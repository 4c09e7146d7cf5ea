#include <cmath>

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

Grid turned(const Grid& grid, const FileLattice& lattice) {
  if (!lattice.south_up() && !lattice.east_first()) return grid;
  GridInfo info = grid.info();
  if (lattice.east_first()) info.notes.push_back("its columns run from east to west: they were turned around");
  return mirrored(grid, std::move(info), lattice.south_up(), lattice.east_first());
}

}  // namespace katoptra
