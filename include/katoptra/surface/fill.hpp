// Closing voids.
//
//   FillResult r = fill_voids(dem, {.largest = 200_m});
//   write_grid(r.grid, "closed.tif", {.lineage = true});
//   r.report.cells_closed;
//
// A void is a connected region of void cells (also over corners), found over the whole grid in one streaming pass.
// Small voids (up to `small` cells) take, cell by cell, the mean of the known cells in the smallest window of 3, 5 or 7
// cells at least half of which is known; larger ones take the inverse distance mean (power 2) of all cells on their
// rim. Rims longer than kRimCells are taken in clusters of 16 x 16 cells where those lie beyond 64 cells: the weight of
// a cluster differs by less than a tenth of a percent from that of its cells. Left open: voids that reach the edge of
// the grid (they have no rim all around; a clipped area's outside is such a void) unless `edges` is set, and voids
// whose box is longer than `largest`. The result does not depend on blocks or threads. Cells that were known are never
// touched. Lineage: filled, by method. Memory: 24 bytes for each run of void cells in a row, plus the rims of the voids
// that are closed. For voids over which a second source is known, join that source in a mosaic instead.
#pragma once
#include <optional>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct FillOptions {
  std::optional<Length> largest;  // longest side of a void's box that is closed; default: 100 cells
  std::int64_t small = 9;         // cells
  bool edges = false;
  RunOptions run;
};

inline constexpr std::size_t kRimCells = 4096;

struct FillReport {
  std::int64_t voids_closed = 0, cells_closed = 0;
  std::int64_t voids_by_mean = 0, voids_by_distance = 0;
  std::int64_t voids_left_at_edge = 0, voids_left_large = 0, cells_left = 0;
  Length largest_closed, largest_left;  // longest sides
};

struct FillResult {
  Grid grid;
  FillReport report;
};

FillResult fill_voids(const Grid& grid, const FillOptions& options = {});

// ---- voids as regions

struct VoidRegion {
  std::int64_t cells = 0;
  Window box;
  bool at_edge = false;
};

struct VoidRun {
  std::int64_t first = 0, last = 0;  // columns [first, last)
  std::uint32_t region = 0;          // index into regions
};

struct VoidMap {
  std::vector<VoidRegion> regions;
  std::vector<VoidRun> runs;           // by row, then column
  std::vector<std::size_t> row_begin;  // rows + 1 places in `runs`
  std::int64_t cells = 0;
};

// All voids of a grid, in one streaming pass. TooLarge when their list does not fit the memory budget.
VoidMap find_voids(const Grid& grid, const RunOptions& options = {});

}  // namespace katoptra
