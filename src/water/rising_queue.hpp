// A queue of numbered heights for which nothing is added below what was taken last: a radix heap (Ahuja, Mehlhorn,
// Orlin & Tarjan 1990). An item moves to a lower bucket at most once for each bit of its height.
#pragma once
#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <vector>

namespace katoptra {

class RisingQueue {
 public:
  bool empty() const { return size_ == 0; }
  // `height`: no less than that of the last pop.
  void push(float height, std::uint32_t item) {
    const std::uint32_t key = ordered(height);
    buckets_[static_cast<std::size_t>(bucket(key))].push_back({key, item});
    ++size_;
  }
  // An item of least height.
  std::uint32_t pop() {
    if (buckets_[0].empty()) refill();
    const std::uint32_t item = buckets_[0].back().item;
    buckets_[0].pop_back();
    --size_;
    return item;
  }

 private:
  struct Entry {
    std::uint32_t key, item;
  };
  // Bits of a float, so that they sort as numbers do.
  static std::uint32_t ordered(float v) {
    const auto bits = std::bit_cast<std::uint32_t>(v + 0.0f);
    return bits & 0x80000000u ? ~bits : bits | 0x80000000u;
  }
  int bucket(std::uint32_t key) const { return 32 - std::countl_zero(key ^ last_); }
  void refill() {
    std::size_t b = 1;
    while (buckets_[b].empty()) ++b;
    std::vector<Entry> moved;
    moved.swap(buckets_[b]);
    last_ =
        std::min_element(moved.begin(), moved.end(), [](const Entry& x, const Entry& y) { return x.key < y.key; })->key;
    for (const Entry& e : moved) buckets_[static_cast<std::size_t>(bucket(e.key))].push_back(e);
    moved.clear();
    if (buckets_[b].empty()) moved.swap(buckets_[b]);  // its memory is kept
  }

  std::array<std::vector<Entry>, 33> buckets_;
  std::uint32_t last_ = 0;
  std::size_t size_ = 0;
};

}  // namespace katoptra
