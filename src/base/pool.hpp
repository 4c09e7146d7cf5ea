// Things that serve one thread at a time and are dear to make: they wait for the next caller. Thread-safe.
#pragma once
#include <mutex>
#include <utility>
#include <vector>

namespace katoptra {

template <class T>
class Pool {
 public:
  // One that waits, else what `make` gives.
  template <class Make>
  T take(const Make& make) {
    {
      std::lock_guard lock(mutex_);
      if (!free_.empty()) {
        T t = std::move(free_.back());
        free_.pop_back();
        return t;
      }
    }
    return make();
  }
  void give(T t) {
    std::lock_guard lock(mutex_);
    free_.push_back(std::move(t));
  }

 private:
  std::mutex mutex_;
  std::vector<T> free_;
};

}  // namespace katoptra
