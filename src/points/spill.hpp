// Records in numbered heaps: in memory while the budget lasts, else in a temporary file.
#pragma once
#include <algorithm>
#include <cstdint>
#include <type_traits>
#include <unordered_map>
#include <vector>

#include "base/scratch.hpp"

namespace katoptra {

// A heap's number from a column and a row.
inline std::uint64_t heap_of(std::int64_t col, std::int64_t row) {
  return static_cast<std::uint64_t>(col) << 32 | (static_cast<std::uint64_t>(row) & 0xFFFFFFFF);
}

// What a batch adds, sorted by heap, the heaps in the order of their first record.
template <class T>
class HeapBatch {
 public:
  void add(std::uint64_t heap, const T& record) {
    if (!into_ || heap != last_) {
      const auto [it, is_new] = by_heap_.try_emplace(heap);
      if (is_new) order_.push_back(heap);
      into_ = &it->second;
      last_ = heap;
    }
    into_->push_back(record);
  }
  const std::vector<std::uint64_t>& order() const { return order_; }
  const std::vector<T>& records(std::uint64_t heap) const { return by_heap_.at(heap); }

 private:
  std::unordered_map<std::uint64_t, std::vector<T>> by_heap_;
  std::vector<std::uint64_t> order_;
  std::vector<T>* into_ = nullptr;
  std::uint64_t last_ = 0;
};

template <class T>
class Heaps {
  static_assert(std::is_trivially_copyable_v<T>);

 public:
  // `budget`: bytes that may be held in memory, what is set aside for records to come included.
  explicit Heaps(std::size_t budget) : budget_(budget) {}
  ~Heaps() {
    if (scratch_ >= 0) ::close(scratch_);
  }
  Heaps(const Heaps&) = delete;
  Heaps& operator=(const Heaps&) = delete;

  // One caller at a time. Records of a heap stay in the order of adding.
  void add(const HeapBatch<T>& batch) {
    for (std::uint64_t k : batch.order()) {
      const std::vector<T>& records = batch.records(k);
      std::vector<T>& held = heaps_[k].held;
      in_memory_ -= held.capacity();
      held.insert(held.end(), records.begin(), records.end());
      in_memory_ += held.capacity();
    }
    if (in_memory_ * sizeof(T) > budget_) spill(false);
  }
  // All numbers in use, in order.
  std::vector<std::uint64_t> numbers() const {
    std::vector<std::uint64_t> out;
    for (const auto& [k, heap] : heaps_) out.push_back(k);
    std::sort(out.begin(), out.end());
    return out;
  }
  // Appends the records of a heap, from any thread while nothing is added.
  void read(std::uint64_t number, std::vector<T>& out) const {
    const auto it = heaps_.find(number);
    if (it == heaps_.end()) return;
    for (const Piece& p : it->second.pieces) {
      const std::size_t at = out.size();
      out.resize(at + static_cast<std::size_t>(p.records));
      const std::span bytes(reinterpret_cast<std::uint8_t*>(out.data() + at),
                            static_cast<std::size_t>(p.records) * sizeof(T));
      if (read_descriptor(scratch_, p.at * sizeof(T), bytes, kName) != bytes.size())
        throw Error(ErrorCode::Io, "the temporary file ends early", kName, "check the disk");
    }
    out.insert(out.end(), it->second.held.begin(), it->second.held.end());
  }

 private:
  static constexpr const char* kName = "a temporary file";
  struct Piece {
    std::uint64_t at, records;
  };
  struct Heap {
    std::vector<Piece> pieces;  // in the temporary file, older than those that are held
    std::vector<T> held;
  };
  // Moves long runs to the temporary file; short ones wait, unless all together are too many.
  void spill(bool all) {
    if (scratch_ < 0) scratch_ = open_unnamed_file("points");
    constexpr std::size_t kShort = 4096;
    for (auto& [k, heap] : heaps_) {
      if (heap.held.empty() || (!all && heap.held.size() < kShort)) continue;
      const auto* bytes = reinterpret_cast<const std::uint8_t*>(heap.held.data());
      write_descriptor(scratch_, spilled_ * sizeof(T), {bytes, heap.held.size() * sizeof(T)}, kName);
      heap.pieces.push_back({spilled_, heap.held.size()});
      spilled_ += heap.held.size();
      in_memory_ -= heap.held.capacity();
      std::vector<T>().swap(heap.held);
    }
    if (!all && in_memory_ * sizeof(T) > budget_ / 2) spill(true);
  }
  std::unordered_map<std::uint64_t, Heap> heaps_;
  std::size_t budget_;
  std::uint64_t in_memory_ = 0, spilled_ = 0;  // records
  int scratch_ = -1;
};

}  // namespace katoptra
