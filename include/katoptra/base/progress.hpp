// How a long operation tells how far it is and hears that it should stop.
//
//   Progress progress([](double done) { draw(done); });
//   std::thread([&] { wait_for_key(); progress.cancel(); });
//   write_grid(grid, "out.tif", {.run = {.progress = &progress}});      // throws Error(Cancelled)
//
// Thread-safe. The callback is called from worker threads, one call at a time, with values that never fall.
#pragma once
#include <atomic>
#include <functional>
#include <mutex>

#include "katoptra/base/run_options.hpp"

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

}  // namespace katoptra
