// Whole-grid statistics in one streaming pass.
#pragma once
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Counts of values in bins that grow with the value, so that any range fits: a quantile read from it is within
// kQuantileError of the value itself, relative.
class ValueSketch {
 public:
  ValueSketch();
  void add(float v);
  void add(const ValueSketch& other);
  std::int64_t count() const { return count_; }
  // q in 0..1; NaN when empty.
  double quantile(double q) const;

 private:
  std::vector<std::int64_t> bins_;
  std::int64_t count_ = 0;
};
inline constexpr double kQuantileError = 1.0 / 2048;

struct Statistics {
  std::int64_t cells = 0, voids = 0;
  double lowest = 0, highest = 0, mean = 0, deviation = 0;  // NaN when all cells are void
  Point lowest_at, highest_at;                              // first cell centre in row order that has it
  // 1, 5, 25, 50, 75, 95, 99 percent
  double percentiles[7] = {};
};
inline constexpr double kPercents[7] = {1, 5, 25, 50, 75, 95, 99};

Statistics statistics(const Grid& grid, const RunOptions& options = {});

}  // namespace katoptra
