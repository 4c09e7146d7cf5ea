// Work spread over plain threads: for builds that check threads, because a checker sees nothing of what a library that
// it was not built into does to keep threads apart. Slower, and with the same results.
#ifdef KATOPTRA_CHECK_THREADS
#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"

#include "ranks.hpp"

namespace katoptra {
namespace {

// Runs `body` on so many threads, this one among them; the first error is thrown when all have come back.
template <class Body>
void on_threads(std::size_t count, const Body& body) {
  std::vector<std::thread> others;
  for (std::size_t i = 1; i < count; ++i) others.emplace_back(body);
  body();
  for (std::thread& t : others) t.join();
}

class FirstError {
 public:
  void keep(std::exception_ptr e) {
    std::lock_guard lock(mutex_);
    if (!error_) error_ = std::move(e);
    any_ = true;
  }
  bool any() const { return any_; }
  void rethrow() {
    if (error_) std::rethrow_exception(error_);
  }

 private:
  std::mutex mutex_;
  std::exception_ptr error_;
  std::atomic<bool> any_{false};
};

void spread(std::size_t n, std::size_t threads, const std::function<void(std::size_t)>& body) {
  std::atomic<std::size_t> next{0};
  FirstError error;
  on_threads(std::min(n, threads), [&] {
    for (std::size_t i = next++; i < n && !error.any(); i = next++) try {
        body(i);
      } catch (...) {
        error.keep(std::current_exception());
      }
  });
  error.rethrow();
}

// Results wait in slots until it is their turn; whoever brings the next one places all that are ready.
class Ordered {
 public:
  Ordered(std::size_t n, std::size_t lanes, const RunOptions& options,
          const std::function<std::shared_ptr<void>(std::size_t)>& make,
          const std::function<void(std::size_t, std::shared_ptr<void>)>& place)
      : n_(n), options_(options), make_(make), place_(place), slots_(lanes), ready_(lanes, false) {}

  void run(std::size_t threads) {
    on_threads(threads, [&] { work(); });
    error_.rethrow();
  }

 private:
  void work() {
    std::unique_lock lock(mutex_);
    while (true) {
      changed_.wait(lock, [&] { return error_.any() || next_ >= n_ || next_ - placed_ < slots_.size(); });
      if (error_.any() || next_ >= n_) return;
      const std::size_t i = next_++;
      lock.unlock();
      std::shared_ptr<void> result = made(i);
      lock.lock();
      slots_[i % slots_.size()] = std::move(result);
      ready_[i % slots_.size()] = true;
      place_ready(lock);
      changed_.notify_all();
    }
  }
  std::shared_ptr<void> made(std::size_t i) {
    try {
      if (options_.progress) options_.progress->check();
      const WithinWork within;
      return make_(i);
    } catch (...) {
      error_.keep(std::current_exception());
      return nullptr;
    }
  }
  void place_ready(std::unique_lock<std::mutex>& lock) {
    if (placing_) return;
    placing_ = true;
    while (!error_.any() && placed_ < n_ && ready_[placed_ % slots_.size()]) {
      const std::size_t i = placed_;
      std::shared_ptr<void> result = std::move(slots_[i % slots_.size()]);
      lock.unlock();
      try {
        place_(i, std::move(result));
        if (options_.progress && !options_.silent)
          options_.progress->report(static_cast<double>(i + 1) / static_cast<double>(n_));
      } catch (...) {
        error_.keep(std::current_exception());
      }
      lock.lock();
      ready_[i % slots_.size()] = false;
      ++placed_;
      changed_.notify_all();
    }
    placing_ = false;
  }

  std::size_t n_;
  const RunOptions& options_;
  const std::function<std::shared_ptr<void>(std::size_t)>& make_;
  const std::function<void(std::size_t, std::shared_ptr<void>)>& place_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::vector<std::shared_ptr<void>> slots_;
  std::vector<bool> ready_;
  std::size_t next_ = 0, placed_ = 0;
  bool placing_ = false;
  FirstError error_;
};

}  // namespace

int thread_count(const RunOptions& options) {
  return options.threads > 0 ? options.threads : std::max(1, static_cast<int>(std::thread::hardware_concurrency()));
}

void parallel_for(std::size_t n, const RunOptions& options, const std::function<void(std::size_t)>& body) {
  spread(n, static_cast<std::size_t>(thread_count(options)), [&](std::size_t i) {
    if (options.progress) options.progress->check();
    const WithinWork within;
    body(i);
  });
}

void parallel_within(std::size_t n, const std::function<void(std::size_t)>& body) {
  spread(n, static_cast<std::size_t>(thread_count({})), [&](std::size_t i) {
    const WithinWork within;
    body(i);
  });
}

void parallel_ordered(std::size_t n, std::size_t in_flight, const RunOptions& options,
                      const std::function<std::shared_ptr<void>(std::size_t)>& make,
                      const std::function<void(std::size_t, std::shared_ptr<void>)>& place) {
  Ordered(n, std::max<std::size_t>(1, in_flight), options, make, place)
      .run(std::min(n, static_cast<std::size_t>(thread_count(options))));
}

}  // namespace katoptra
#endif
