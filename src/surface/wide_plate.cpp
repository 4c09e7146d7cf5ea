#include "wide_plate.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "plate.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kLooks = 2;                           // cells beyond the void
constexpr std::int64_t kReadAtOnce = std::int64_t{1} << 21;  // cells that are read at once

Window looked_at_box(const VoidCells& voids, std::uint32_t region) {
  return voids.map().regions[region].box.grown(kLooks);
}

// By the rows of the void's box.
CellRuns runs_of_void(const VoidCells& voids, std::uint32_t region, std::int64_t rows) {
  const Window box = looked_at_box(voids, region);
  CellRuns out;
  for (std::int64_t r = box.row; r < box.row + box.rows; ++r) {
    if (r >= 0 && r < rows)
      voids.for_runs(r, box.col, box.col + box.cols, [&](const VoidRun& run, std::size_t) {
        if (run.region == region)
          out.add(static_cast<std::int32_t>(run.first - box.col), static_cast<std::int32_t>(run.last - box.col));
      });
    out.end_row();
  }
  return out;
}

}  // namespace

WidePlate::WidePlate(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect)
    : WideSurface(voids, region, grid.frame(), 70 * static_cast<std::uint64_t>(voids.map().regions[region].cells)),
      box_(looked_at_box(voids, region)),
      plate_(box_.cols, runs_of_void(voids, region, grid.frame().rows()), aspect, HeldIn::File) {
  const Known known = set_known(grid);
  if (!std::isnan(mean_)) {
    plate_.leave_out(known.nobodys);
    rounds_ = plate_.solve(Plate::kTolerance / 2 * std::max(known.high - known.low, 1e-9));
  }
  plate_.keep_heights();
}

// What a row is looked at for: the cells within two of an unknown one, along rows and columns, and those at its
// corners.
WidePlate::Known WidePlate::set_known(const Grid& grid) {
  Known known{{}, INFINITY, -INFINITY};
  double sum = 0, n = 0;
  std::vector<std::uint8_t> looked(static_cast<std::size_t>(box_.cols));
  const std::int64_t band = std::max<std::int64_t>(1, kReadAtOnce / box_.cols);
  for (std::int64_t first = 0; first < box_.rows; first += band) {
    const std::int64_t rows = std::min(band, box_.rows - first);
    const Block z = grid.read({box_.col, box_.row + first, box_.cols, rows});
    for (std::int64_t r = first; r < first + rows; ++r) {
      std::fill(looked.begin(), looked.end(), std::uint8_t{0});
      const auto mark = [&](std::int64_t row, std::int64_t wider, std::uint8_t as) {
        for (const CellRuns::Run& run : plate_.unknown().row(row))
          std::fill(looked.begin() + run.first - wider, looked.begin() + run.last + wider, as);
      };
      for (const std::int64_t d : {-2, -1, 0, 1, 2}) mark(r + d, kLooks - std::abs(d), 1);
      mark(r, 0, 0);
      double* to = plate_.heights(r);
      for (std::int64_t c = 0; c < box_.cols; ++c) {
        if (looked[static_cast<std::size_t>(c)] == 0) continue;
        const auto height = static_cast<double>(z.at(c, r - first));
        if (std::isnan(height)) {
          known.nobodys.push_back({c, r});
          continue;
        }
        if (n == 0) base_ = height;
        to[c] = height - base_;
        sum += to[c];
        known.low = std::min(known.low, height);
        known.high = std::max(known.high, height);
        ++n;
      }
    }
  }
  mean_ = n > 0 ? base_ + sum / n : std::nan("");
  return known;
}

void WidePlate::read(std::int64_t col, std::int64_t row, std::span<float> out) const {
  std::vector<double> x(out.size());
  plate_.read(col - box_.col, row - box_.row, x);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = static_cast<float>(base_ + x[i]);
}

}  // namespace katoptra
