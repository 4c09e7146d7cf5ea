// Differences of surfaces where they overlap, as robust means of patches.
#pragma once
#include <cstdint>
#include <functional>
#include <utility>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct PatchDifference {
  Point place;                        // its middle, in the CRS of the sample
  double difference = 0, spread = 0;  // metres: robust mean of its cells, and their robust deviation
  std::int64_t cells = 0;
};

struct OverlapSample {
  std::size_t first = 0, second = 0;  // tiles; differences are first less second
  Crs crs;
  std::vector<PatchDifference> patches;
};

// Pairs of tiles whose boxes share ground, in the order of their numbers; `together` tells those that are not wanted.
std::vector<std::pair<std::size_t, std::size_t>> pairs_that_overlap(
    const std::vector<Grid>& tiles, const std::function<bool(std::size_t, std::size_t)>& together);

// At most `most` patches of at most `side` cells of the coarser lattice, spread evenly over what both tiles cover.
OverlapSample sample_overlap(const std::vector<Grid>& tiles, std::pair<std::size_t, std::size_t> pair,
                             std::int64_t side, std::int64_t most);

// Blocks of a lattice that are looked at: so many across and down, spread evenly.
struct Spread {
  std::int64_t across = 1, down = 1;
  std::int64_t count() const { return across * down; }
};
// As many as a lattice of nx x ny blocks gives, and no more than `most`, in about its proportions.
Spread spread_over(std::int64_t nx, std::int64_t ny, std::int64_t most);
// The number of the k-th of m among n.
constexpr std::int64_t placed(std::int64_t k, std::int64_t m, std::int64_t n) { return (2 * k + 1) * n / (2 * m); }
// Windows of `side` cells, at most `most` of them, spread over a frame.
std::vector<Window> spread_windows(const Frame& frame, std::int64_t side, std::int64_t most);

// The mean of values, those that stand off weighed down (bisquare); and their robust deviation from it.
struct RobustMean {
  double mean = 0, spread = 0;
};
RobustMean robust_mean(std::vector<double>& values);

}  // namespace katoptra
