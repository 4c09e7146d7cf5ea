#include "wide_surface.hpp"

#include <algorithm>
#include <vector>

namespace katoptra {
namespace {

constexpr std::uint16_t kEndlessDepth = 65'535;
constexpr std::int64_t kDepthsHeld = std::int64_t{1} << 22;  // cells that are passed before they are let go of

const VoidCells& where_there_is_room(const VoidCells& voids, std::uint32_t region, std::uint64_t bytes) {
  require_room(bytes + 2 * static_cast<std::uint64_t>(voids.map().regions[region].box.cells()), "a void");
  return voids;
}

}  // namespace

WideSurface::WideSurface(const VoidCells& voids, std::uint32_t region, const Frame& frame, std::uint64_t bytes)
    : depths_(where_there_is_room(voids, region, bytes), region, frame) {}

std::uint16_t* WideDepths::row(std::int64_t r) const { return depth_.data() + (r - box_.row) * box_.cols - box_.col; }

// From the north-west, then from the south-east: one step more than the nearest of the neighbours that were passed.
WideDepths::WideDepths(const VoidCells& voids, std::uint32_t region, const Frame& frame)
    : box_(voids.map().regions[region].box.grown(1)), depth_(static_cast<std::size_t>(box_.cells()), HeldIn::File) {
  // Beyond the grid there is no rim.
  const Window inside = box_.intersected(frame.window());
  for (const std::int64_t r : {box_.row, box_.row + box_.rows - 1})
    if (r < inside.row || r >= inside.row + inside.rows) std::fill_n(row(r) + box_.col, box_.cols, kEndlessDepth);
  std::vector<VoidRun> runs;
  const auto pass = [&](std::int64_t r, bool down) {
    std::uint16_t* d = row(r);
    if (inside.col > box_.col) d[box_.col] = kEndlessDepth;
    if (inside.col + inside.cols < box_.col + box_.cols) d[box_.col + box_.cols - 1] = kEndlessDepth;
    runs.clear();
    voids.for_runs(r, box_.col, box_.col + box_.cols, [&](const VoidRun& run, std::size_t) {
      if (run.region == region) runs.push_back(run);
    });
    const std::int64_t back = down ? -1 : 1, passed = back * box_.cols;
    const auto visit = [&](std::int64_t c) {
      int least = down ? kEndlessDepth : d[c];
      for (const std::int64_t step : {back, passed - 1, passed, passed + 1}) least = std::min(least, d[c + step] + 1);
      d[c] = static_cast<std::uint16_t>(least);
    };
    if (down)
      for (const VoidRun& run : runs)
        for (std::int64_t c = run.first; c < run.last; ++c) visit(c);
    else
      for (auto run = runs.rbegin(); run != runs.rend(); ++run)
        for (std::int64_t c = run->last; c-- > run->first;) visit(c);
  };
  for (const bool down : {true, false})
    pass_rows(
        inside.rows, std::max<std::int64_t>(16, kDepthsHeld / box_.cols), down,
        [&](std::int64_t r) { pass(inside.row + r, down); },
        [&](std::int64_t first, std::int64_t end) {
          const std::int64_t above = inside.row - box_.row;
          depth_.let_go(static_cast<std::size_t>((above + first) * box_.cols),
                        static_cast<std::size_t>((above + end) * box_.cols));
        });
  depth_.close_memory();
}

void WideDepths::read(std::int64_t col, std::int64_t r, std::span<std::uint16_t> out) const {
  depth_.read(static_cast<std::size_t>((r - box_.row) * box_.cols + col - box_.col), out);
}

}  // namespace katoptra
