// How an operation that computes cells may use the machine. The result never depends on any of it.
//
//   write_grid(grid, "out.tif", {.run = {.threads = 4, .memory = 256u << 20}});
#pragma once
#include <cstddef>

namespace katoptra {

class Progress;  // base/progress.hpp

struct RunOptions {
  int threads = 0;                          // 0: all cores
  std::size_t memory = 512u * 1024 * 1024;  // budget in bytes for blocks under way and the block cache
  int block = 512;                          // edge of a working block in cells, where the output format leaves it open
  Progress* progress = nullptr;
  bool silent = false;  // it hears nothing of this, and is asked all the same whether to stop
};

// The number of threads that `options` stands for on this machine.
int thread_count(const RunOptions& options);

}  // namespace katoptra
