// The threads of a process of a cluster, which make results.
#pragma once
#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <exception>
#include <memory>
#include <mutex>
#include <optional>
#include <tbb/global_control.h>
#include <tbb/task_arena.h>
#include <utility>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"

#include "base/ranks.hpp"
#include "messages.hpp"

namespace katoptra {

// Makes results on threads of its own, and keeps what is done until it is asked for.
class Makers {
 public:
  enum class For { Itself, Another, AnotherWithoutPieces, All };
  Makers(const SharedWork& work, For whom)
      : work_(work),
        for_(whom),
        at_once_(work.at_once > 0 ? static_cast<int>(work.at_once) : thread_count(work.options)),
        allow_(tbb::global_control::max_allowed_parallelism, static_cast<std::size_t>(thread_count(work.options)) + 1),
        // One place more, for the thread that talks: it does not make anything.
        arena_(at_once_ + 1, 1) {}
  // What has not been begun is not made any more.
  ~Makers() {
    ends_ = true;
    wait();
  }
  Makers(const Makers&) = delete;
  Makers& operator=(const Makers&) = delete;

  struct Made {
    std::size_t number = 0;
    std::shared_ptr<void> result;  // for itself, or because its pieces stay
    std::vector<std::uint8_t> packed;
    std::uint64_t size = 0;  // for all: bytes of both, about
    std::exception_ptr error;
  };
  // Before anything is made.
  void keep_pieces() { for_ = For::AnotherWithoutPieces; }

  // More than are made at once, so that no thread waits for the next number, least of all where parts are small; but
  // none of those that take long, for another process would wait for it.
  std::size_t wanted() const {
    return static_cast<std::size_t>(at_once_) + (work_.at_once > 0 ? 0 : work_.to_all ? 3 : 1);
  }
  void make(std::size_t number) {
    {
      std::lock_guard lock(mutex_);
      ++under_way_;
    }
    arena_.enqueue([this, number] {
      Made m{.number = number, .result = nullptr, .packed = {}, .size = 0, .error = nullptr};
      if (ends_) {
        std::lock_guard lock(mutex_);
        --under_way_;
        changed_.notify_all();
        return;
      }
      try {
        const WithinWork within;
        if (work_.options.progress) work_.options.progress->check();
        m.result = work_.make(number);
        if (for_ == For::AnotherWithoutPieces)
          m.packed = work_.long_pieces->pack(m.result);
        else if (for_ != For::Itself)
          pack(m);
      } catch (...) {
        m.error = std::current_exception();
      }
      std::lock_guard lock(mutex_);
      done_.push_back(std::move(m));
      --under_way_;
      changed_.notify_all();
    });
  }
  std::optional<Made> taken() {
    std::lock_guard lock(mutex_);
    if (done_.empty()) return std::nullopt;
    Made m = std::move(done_.front());
    done_.pop_front();
    return m;
  }
  // Until something is done here, or a moment has passed: a longer one each time nothing was heard.
  void nap(bool heard, bool on_its_way) {
    nap_ = on_its_way ? kNapOnItsWay : heard ? kNap : std::clamp(2 * nap_, kNap, kLongNap);
    if (heard) return;
    std::unique_lock lock(mutex_);
    if (done_.empty()) changed_.wait_for(lock, nap_);
  }
  void wait() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return under_way_ == 0; });
  }

 private:
  void pack(Made& m) const {
    std::vector<std::uint8_t> bytes = work_.pack(m.result);
    if (for_ == For::Another) m.result = nullptr;
    m.size = bytes.size();
    m.packed = packed(work_, std::move(bytes));
    m.size += m.packed.size();
  }

  const SharedWork& work_;
  For for_;
  int at_once_;
  tbb::global_control allow_;
  tbb::task_arena arena_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Made> done_;
  std::size_t under_way_ = 0;
  std::atomic<bool> ends_{false};
  std::chrono::microseconds nap_ = kNap;
};

}  // namespace katoptra
