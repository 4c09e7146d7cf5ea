// Answers that are dear to find and stay true: each is looked for once. Thread-safe; when full, it begins anew.
#pragma once
#include <cstddef>
#include <functional>
#include <map>
#include <mutex>
#include <string>
#include <string_view>

namespace katoptra {

template <class Value>
class Kept {
 public:
  explicit Kept(std::size_t most = 4096) : most_(most) {}

  // The answer to this question, or what `find(question)` gives. What throws is not kept.
  template <class Find>
  Value get(std::string_view question, const Find& find) {
    {
      std::lock_guard lock(mutex_);
      if (auto it = known_.find(question); it != known_.end()) return it->second;
    }
    Value answer = find(question);  // without the lock: it may take long, and may ask here again
    std::lock_guard lock(mutex_);
    if (known_.size() >= most_) known_.clear();
    return known_.emplace(question, std::move(answer)).first->second;
  }

 private:
  std::mutex mutex_;
  std::map<std::string, Value, std::less<>> known_;
  std::size_t most_;
};

}  // namespace katoptra
