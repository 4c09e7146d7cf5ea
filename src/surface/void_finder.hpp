// Regions of void cells, joined row by row as a grid streams by.
#pragma once
#include <cmath>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "katoptra/surface/fill.hpp"

namespace katoptra {

class VoidFinder {
 public:
  // `memory`: what the list of runs may take; `name`: of the grid, for the error.
  VoidFinder(const Frame& frame, std::size_t memory, std::string name);
  // The runs of void cells of a row, in order.
  static void runs_of(const float* row, std::int64_t cols, std::vector<VoidRun>& out);
  // Rows in order from the first. TooLarge when there are more runs than memory allows.
  void add_row(std::span<const VoidRun> runs);
  VoidMap finish();

 private:
  std::uint32_t root(std::uint32_t a);
  void join(std::uint32_t a, std::uint32_t b);

  Frame frame_;
  std::size_t most_;
  std::string name_;
  VoidMap map_;
  std::vector<std::uint32_t> parent_;  // disjoint sets; the smaller number is the root, so numbers follow the order met
  std::size_t above_begin_ = 0;
};

}  // namespace katoptra
