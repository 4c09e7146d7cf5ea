// Processes that share work (base/ranks.hpp), played by one: results travel as bytes and come in another order.
#pragma once
#include <cstdint>
#include <vector>

#include "base/ranks.hpp"

namespace katoptra::testing {

// Makes everything from the last to the first, sends it, and places it in order.
class PlayedRanks final : public Ranks {
 public:
  explicit PlayedRanks(bool first) : first_(first) { use_ranks(this); }
  ~PlayedRanks() override { use_ranks(nullptr); }
  bool is_first() const override { return first_; }
  void share(const SharedWork& work) override {
    ++runs;
    std::vector<std::vector<std::uint8_t>> sent(work.n);
    for (std::size_t i = work.n; i-- > 0;) {
      const WithinWork within;
      sent[i] = work.pack(work.make(i));
    }
    if (first_ || work.to_all)
      for (std::size_t i = 0; i < work.n; ++i) work.place(i, work.unpack(sent[i]));
  }
  int runs = 0;

 private:
  bool first_;
};

}  // namespace katoptra::testing
