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
// a cluster differs by less than a tenth of a percent from that of its cells. That is the usual way; others are
//
//   FillMethod::Membrane     heights that are the mean of those around at every cell (Laplace); of voids beyond
//                            kSolvedCells solved in a temporary file (17 bytes a cell of their box)
//   FillMethod::Smooth       the least bent surface (thin plate) through the two rings of cells around it: the slope
//                            goes on at the rim, and noise there does, too. Beyond kSolvedCells in a temporary file (70
//                            bytes a cell of the void). Voids that reach the edge, where nothing would hold it, are
//                            closed by a membrane
//   FillMethod::Tin          triangles between the cells of the rim (Delaunay): straight across long, narrow voids;
//                            beyond kSolvedCells a membrane
//   .second = other          a second surface bent onto the rim (delta surface: Grohman, Kroenung & Strebeck 2006):
//   what it
//                            lies off the rim by is laid over the void as a membrane and taken away. Voids that it does
//                            not cover whole, rim and all, are closed without it, and counted
//   FillMethod::Automatic    voids of each size are tried: known cells of their form beside them are hidden and closed
//   in
//                            each way, and the way that erred least is taken
//
// Where the grid carries its uncertainty, that of a filled cell is what such hidden cells erred by at its distance from
// the rim, for voids of its size (less the noise of what they were compared with); it is measured when first asked for.
// Of voids beyond kSolvedCells that are closed by inverse distance it is not known.
//
// Left open: voids that reach the edge of
// the grid (they have no rim all around; a clipped area's outside is such a void) unless `edges` is set, and voids
// whose box is longer than `largest`. The result does not depend on blocks or threads. Cells that were known are never
// touched. Lineage: filled, by method. Memory: 24 bytes for each run of void cells in a row, plus the rims of the voids
// that are closed. For voids over which a second source is known, join that source in a mosaic instead.
#pragma once
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class FillMethod { Usual, Distance, Membrane, Smooth, Tin, Automatic };
// "usual", "distance", "membrane", "smooth", "tin", "auto"; BadArgument otherwise.
FillMethod parse_fill_method(std::string_view text);

struct FillOptions {
  std::optional<Length> largest;  // longest side of a void's box that is closed; default: 100 cells
  std::int64_t small = 9;         // cells
  bool edges = false;
  FillMethod method = FillMethod::Usual;
  // Lines of streams: where one enters a void and leaves it, its bed falls evenly between the lowest known cells beside
  // both ends, and the rest of the void is closed on either side of it. So no bank closes over the water. How sure a
  // bed is, is not known.
  const Layer* streams = nullptr;
  // Taken first wherever it covers a void. Of any frame, unit and cell; heights above the same reference, else Refused.
  std::optional<Grid> second;
  // How far from the rim the second surface is bent; beyond that it is moved by its mean offset there. 0: all over.
  Length blend;
  RunOptions run;
};

inline constexpr std::size_t kRimCells = 4096;
inline constexpr std::int64_t kSolvedCells = 2'000'000;  // of a void that is solved in memory
// Of a void that Automatic would close by a smooth surface: what is seen of voids that are tried says nothing of how
// far the slope of a rim goes on in one that is much larger.
inline constexpr std::int64_t kSmoothCells = 200'000;

// What hidden cells showed of one way to close voids of some size.
struct FillTrial {
  std::int64_t from = 0, to = 0;  // cells of the voids
  std::string way;                // "window mean", "inverse distance", "membrane", the name of the second surface
  std::int64_t voids = 0, cells = 0;
  double rms = 0;  // of the errors, in the unit of the grid
  bool taken = false;
};

struct FillReport {
  std::int64_t voids_closed = 0, cells_closed = 0;
  std::int64_t voids_by_mean = 0, voids_by_distance = 0, voids_by_membrane = 0, voids_by_smooth = 0, voids_by_tin = 0,
               voids_from_second = 0;
  std::int64_t stream_crossings = 0, stream_cells = 0;  // voids that streams run through, and cells of their beds
  std::int64_t voids_second_misses = 0;                 // for which there was a second surface that does not cover them
  std::vector<FillTrial> trials;                        // where ways were tried
  std::int64_t voids_left_at_edge = 0, voids_left_large = 0, cells_left = 0;
  Length largest_closed, largest_left;  // longest sides
};

// " (3 by window mean, 2 by membrane)", for statements; empty where nothing was closed.
std::string ways_of(const FillReport& report);

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
