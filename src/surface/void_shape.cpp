#include "void_shape.hpp"

#include <algorithm>
#include <limits>

namespace katoptra {

VoidCells::VoidCells(const VoidMap& map) : map_(map), before_(map.runs.size()) {
  std::vector<std::uint32_t> so_far(map.regions.size(), 0);
  for (std::size_t i = 0; i < map.runs.size(); ++i) {
    std::uint32_t& n = so_far[map.runs[i].region];
    before_[i] = n;
    n += static_cast<std::uint32_t>(map.runs[i].last - map.runs[i].first);
  }
}

// Row by row: the cells of a void, and the known cells around it.
template <class OfVoid, class OfRim>
void VoidCells::walk(std::uint32_t region, std::int64_t cols, std::int64_t rows, const OfVoid& of_void,
                     const OfRim& of_rim) const {
  const Window box = map_.regions[region].box;
  // Which columns of three rows are void (2) or touched by what is void beside, above and below (1).
  const std::int64_t wide = box.cols + 2;
  std::vector<std::uint8_t> mark(static_cast<std::size_t>(3 * wide));
  const auto row_marks = [&](std::int64_t row) { return mark.data() + (row % 3 + 3) % 3 * wide; };
  const auto runs_of = [&](std::int64_t row, const auto& body) {
    if (row >= box.row && row < box.row + box.rows)
      for_runs(row, box.col, box.col + box.cols, [&](const VoidRun& run, std::size_t) {
        if (run.region == region) body(run.first - box.col + 1, run.last - box.col + 1);
      });
  };
  for (std::int64_t row = box.row - 1; row <= box.row + box.rows; ++row) {
    std::uint8_t* here = row_marks(row);
    std::fill_n(here, wide, std::uint8_t{0});
    for (const std::int64_t other : {row - 1, row, row + 1})
      runs_of(other, [&](std::int64_t first, std::int64_t last) {
        std::fill(here + first - 1, here + last + 1, std::uint8_t{1});
      });
    runs_of(row, [&](std::int64_t first, std::int64_t last) { std::fill(here + first, here + last, std::uint8_t{2}); });
    if (row < 0 || row >= rows) continue;
    for (std::int64_t c = 0; c < wide; ++c) {
      const std::int64_t col = box.col - 1 + c;
      const VoidShape::Cell cell{static_cast<std::int32_t>(c), static_cast<std::int32_t>(row - box.row + 1)};
      if (here[c] == 2)
        of_void(cell);
      else if (here[c] == 1 && col >= 0 && col < cols)
        of_rim(cell);
    }
  }
}

VoidShape VoidCells::shape_of(std::uint32_t region, std::int64_t cols, std::int64_t rows, double aspect) const {
  VoidShape s;
  s.aspect = aspect;
  s.cells.reserve(static_cast<std::size_t>(map_.regions[region].cells));
  walk(
      region, cols, rows, [&](VoidShape::Cell c) { s.cells.push_back(c); },
      [&](VoidShape::Cell c) { s.rim.push_back(c); });
  return s;
}

std::vector<VoidShape::Cell> VoidCells::rim_of(std::uint32_t region, std::int64_t cols, std::int64_t rows) const {
  std::vector<VoidShape::Cell> rim;
  walk(
      region, cols, rows, [](VoidShape::Cell) {}, [&](VoidShape::Cell c) { rim.push_back(c); });
  return rim;
}

std::vector<std::uint16_t> depths_of(const VoidShape& shape) {
  const CellNumbers numbers(shape.cells);
  std::vector<std::uint16_t> depth(shape.cells.size(), 0);
  std::vector<std::uint32_t> now, next;
  const auto visit = [&](VoidShape::Cell c, std::uint16_t d) {
    for (std::int32_t j = -1; j <= 1; ++j)
      for (std::int32_t i = -1; i <= 1; ++i) {
        const std::int32_t k = numbers.of({c.col + i, c.row + j});
        if (k < 0 || depth[static_cast<std::size_t>(k)] != 0) continue;
        depth[static_cast<std::size_t>(k)] = d;
        next.push_back(static_cast<std::uint32_t>(k));
      }
  };
  for (const VoidShape::Cell& c : shape.rim) visit(c, 1);
  for (std::uint16_t d = 2; !next.empty(); d = d < 65535 ? static_cast<std::uint16_t>(d + 1) : d) {
    now.swap(next);
    next.clear();
    for (const std::uint32_t i : now) visit(shape.cells[i], d);
  }
  return depth;
}

}  // namespace katoptra
