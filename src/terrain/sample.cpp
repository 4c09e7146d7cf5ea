#include "katoptra/terrain/sample.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <utility>

#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/turn.hpp"

#include "grid/bilinear.hpp"
#include "grid/error_kernel.hpp"

namespace katoptra {
namespace {

// Cells of a block; those beyond it are those at its edge.
auto cells_of(const Block& b, const float* plane) {
  return [&b, plane](std::int64_t c, std::int64_t r) {
    const Window& w = b.window();
    return plane[std::clamp<std::int64_t>(r - w.row, 0, w.rows - 1) * w.cols +
                 std::clamp<std::int64_t>(c - w.col, 0, w.cols - 1)];
  };
}
std::int64_t whole(double v) { return static_cast<std::int64_t>(std::floor(v)); }

double value_at(const Block& b, double col, double row, bool nearest) {
  const auto cell = cells_of(b, b.row(0));
  return nearest ? static_cast<double>(cell(whole(col), whole(row))) : bilinear(col, row, cell);
}
double uncertainty_at(const Block& b, double col, double row, bool nearest, const ErrorKernel& errors) {
  const auto cell = cells_of(b, b.row(0)), sure = cells_of(b, b.uncertainty_row(0));
  if (nearest || std::isnan(cell(whole(col), whole(row)))) return static_cast<double>(sure(whole(col), whole(row)));
  return std::sqrt(FourAround(col, row, cell, sure).variance(errors));
}

// What `at` makes of the block around each point, and the point's column and row.
template <class At>
std::vector<double> at_points(const Grid& given, std::span<const Point> points, Planes planes,
                              const RunOptions& options, const At& at) {
  constexpr std::int64_t kBlock = 256;
  // Beside the meridian where a globe is cut the neighbours lie at its other end.
  const Grid grid = columns_of_globe(given.frame()) > 0 ? continued_around(given, 1) : given;
  const Frame& f = grid.frame();
  std::vector<double> out(points.size(), std::nan(""));
  std::map<std::pair<std::int64_t, std::int64_t>, std::vector<std::size_t>> by_block;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const double c = f.col_at(f.told_here(points[i].x)), r = f.row_at(points[i].y);
    if (!(c >= 0 && r >= 0 && c <= static_cast<double>(f.cols()) && r <= static_cast<double>(f.rows()))) continue;
    by_block[{static_cast<std::int64_t>(r) / kBlock, static_cast<std::int64_t>(c) / kBlock}].push_back(i);
  }
  std::vector<std::pair<std::pair<std::int64_t, std::int64_t>, std::vector<std::size_t>>> blocks(by_block.begin(),
                                                                                                 by_block.end());
  parallel_for(blocks.size(), options, [&](std::size_t k) {
    const auto [row, col] = blocks[k].first;
    const Window w = Window{col * kBlock, row * kBlock, kBlock, kBlock}.grown(1).intersected(f.window());
    const Block block = grid.read(w, planes);
    for (std::size_t i : blocks[k].second) {
      const double c = std::min(f.col_at(f.told_here(points[i].x)), static_cast<double>(f.cols()) - 1e-9),
                   r = std::min(f.row_at(points[i].y), static_cast<double>(f.rows()) - 1e-9);
      out[i] = at(block, c, r);
    }
  });
  return out;
}

bool by_nearest(const Grid& grid) {
  return is_coded(grid.quantity().kind) || grid.quantity().kind == QuantityKind::Aspect;
}

}  // namespace

std::vector<double> sample(const Grid& grid, std::span<const Point> points, const RunOptions& options) {
  const bool nearest = by_nearest(grid);
  return at_points(grid, points, Planes::Values, options,
                   [&](const Block& b, double col, double row) { return value_at(b, col, row, nearest); });
}

std::vector<double> sample_uncertainty(const Grid& grid, std::span<const Point> points, const RunOptions& options) {
  if (!grid.carries_uncertainty()) return std::vector<double>(points.size(), std::nan(""));
  const bool nearest = by_nearest(grid);
  const ErrorKernel errors(grid.info());
  return at_points(grid, points, Planes::ValuesAndUncertainty, options, [&](const Block& b, double col, double row) {
    return uncertainty_at(b, col, row, nearest, errors);
  });
}

}  // namespace katoptra
