#include "katoptra/terrain/sample.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <utility>

#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/turn.hpp"

#include "grid/bilinear.hpp"

namespace katoptra {
namespace {

double value_at(const Block& b, double col, double row, bool nearest) {
  const Window& w = b.window();
  auto cell = [&](std::int64_t c, std::int64_t r) {
    return b.at(std::clamp<std::int64_t>(c - w.col, 0, w.cols - 1), std::clamp<std::int64_t>(r - w.row, 0, w.rows - 1));
  };
  if (nearest)
    return static_cast<double>(
        cell(static_cast<std::int64_t>(std::floor(col)), static_cast<std::int64_t>(std::floor(row))));
  return bilinear(col, row, cell);
}

}  // namespace

std::vector<double> sample(const Grid& given, std::span<const Point> points, const RunOptions& options) {
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
  const bool nearest = is_coded(grid.quantity().kind) || grid.quantity().kind == QuantityKind::Aspect;
  parallel_for(blocks.size(), options, [&](std::size_t k) {
    const auto [row, col] = blocks[k].first;
    const Window w = Window{col * kBlock, row * kBlock, kBlock, kBlock}.grown(1).intersected(f.window());
    const Block block = grid.read(w);
    for (std::size_t i : blocks[k].second) {
      const double c = std::min(f.col_at(f.told_here(points[i].x)), static_cast<double>(f.cols()) - 1e-9),
                   r = std::min(f.row_at(points[i].y), static_cast<double>(f.rows()) - 1e-9);
      out[i] = value_at(block, c, r, nearest);
    }
  });
  return out;
}

}  // namespace katoptra
