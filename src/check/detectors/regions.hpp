// Regions of cells that have something in common, joined row by row as a grid streams by. Only those that reach the
// last row are kept open, and of the finished ones the largest: memory does not grow with the grid.
#pragma once
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

struct RegionRun {
  std::int32_t first = 0, last = 0;  // columns [first, last)
  float value = 0;                   // runs join those of the same value
};

struct Region {
  std::int64_t cells = 0;
  Window box;
  float value = 0;
};

class Regions {
 public:
  static constexpr std::size_t kKept = 1000;
  enum class Touching { Edges, EdgesAndCorners };
  // Of at least so many cells. `kept` is asked of each, in no particular order; those it refuses are not counted.
  explicit Regions(double least, Touching touching = Touching::Edges,
                   std::function<bool(const Region&)> kept = nullptr);
  // Runs of a row in order; rows in order.
  void add_row(std::span<const RegionRun> runs, std::int64_t row);
  // The largest, in order of their size, at most kKept.
  std::vector<Region> finish();
  std::int64_t count() const { return count_; }

 private:
  struct Open {
    RegionRun run;
    std::size_t label;
  };
  std::size_t root(std::size_t a);
  void keep_largest();
  void compact();

  std::int64_t least_, reach_, count_ = 0;
  std::function<bool(const Region&)> kept_;
  std::vector<Open> open_, next_;
  std::vector<std::size_t> labels_;
  std::vector<Region> regions_, done_;
};

}  // namespace katoptra
