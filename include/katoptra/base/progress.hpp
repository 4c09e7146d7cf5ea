// How a long operation tells how far it is and hears that it should stop.
//
//   Progress progress([](double done) { draw(done); });
//   std::thread([&] { wait_for_key(); progress.cancel(); });
//   write_grid(grid, "out.tif", {.run = {.progress = &progress}});      // throws Error(Cancelled)
//
// Thread-safe. The callback is called from worker threads, one call at a time, with values that never fall.
#pragma once
#include <atomic>
#include <cstddef>
#include <functional>
#include <memory>
#include <mutex>

namespace katoptra {

class Progress {
 public:
  using Callback = std::function<void(double done)>;  // 0..1
  explicit Progress(Callback callback = {}) : callback_(std::move(callback)) {}

  void report(double done);
  void cancel() { cancelled_.store(true, std::memory_order_relaxed); }
  bool cancelled() const { return cancelled_.load(std::memory_order_relaxed); }
  // Throws Error(Cancelled) when cancel() was called.
  void check() const;

 private:
  Callback callback_;
  std::mutex mutex_;
  double last_ = -1;
  std::atomic<bool> cancelled_{false};
};

// How an operation that computes cells may use the machine. The result never depends on any of it.
struct RunOptions {
  int threads = 0;                          // 0: all cores
  std::size_t memory = 512u * 1024 * 1024;  // budget in bytes for blocks under way and the block cache
  int block = 512;                          // edge of a working block in cells, where the output format leaves it open
  Progress* progress = nullptr;
};

// The number of threads that `options` stands for on this machine.
int thread_count(const RunOptions& options);

// Runs body(i) for i in [0, n) on the threads of `options`; rethrows the first error. Cancellation is checked between
// items.
void parallel_for(std::size_t n, const RunOptions& options, const std::function<void(std::size_t)>& body);

// The same inside a `make` or `place` of the run that is under way, on its threads; waits for nothing else meanwhile.
void parallel_within(std::size_t n, const std::function<void(std::size_t)>& body);

// Makers and one placer: make(i) runs on any thread, place(i, result) on one thread at a time and in order of i, with
// at most `in_flight` results alive. This is the only place where work is spread, so the makers could sit elsewhere.
// `make` returns an opaque result that is handed to `place`.
void parallel_ordered(std::size_t n, std::size_t in_flight, const RunOptions& options,
                      const std::function<std::shared_ptr<void>(std::size_t)>& make,
                      const std::function<void(std::size_t, std::shared_ptr<void>)>& place);

}  // namespace katoptra
