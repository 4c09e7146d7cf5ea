// Records in numbered heaps: in memory while the budget lasts, else in a temporary file; those of processes that share
// work in files that all of them see.
#pragma once
#include <algorithm>
#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <random>
#include <span>
#include <string>
#include <type_traits>
#include <unordered_map>
#include <utility>
#include <vector>

#include "katoptra/base/memory.hpp"

#include "base/common_folder.hpp"

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
  // All of another batch behind what is here.
  void add(HeapBatch&& other) {
    if (order_.empty()) {
      std::swap(*this, other);
      return;
    }
    for (std::uint64_t heap : other.order_) {
      const auto [it, is_new] = by_heap_.try_emplace(heap);
      if (is_new) order_.push_back(heap);
      const std::vector<T>& records = other.records(heap);
      it->second.insert(it->second.end(), records.begin(), records.end());
    }
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
  // Records in a file: which, from where, and how many.
  struct Piece {
    std::uint64_t file = 0, at = 0, records = 0;
  };
  // What was written of a batch, by which others find it.
  struct Written {
    std::vector<std::uint64_t> heaps;
    std::vector<Piece> pieces;  // one a heap
    template <class Fields>
    void fields(Fields& f) {
      f(heaps, pieces);
    }
  };

  // `budget`: bytes that may be held in memory, what is set aside for records to come included. `wanted_for`: the file
  // in an Error. `folder`: of the processes that share this work, or null.
  explicit Heaps(std::size_t budget, std::string wanted_for,
                 const std::shared_ptr<const CommonFolder>& folder = nullptr)
      : budget_(budget), wanted_for_(std::move(wanted_for)), folder_(folder) {
    if (!is_shared()) return;
    std::random_device random;
    own_ = std::uint64_t{random()} << 32 | random();
  }

  // Whether what was written by others is found here.
  bool is_shared() const { return is_seen(folder_); }
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
  void add(const Written& w) {
    std::lock_guard lock(mutex_);
    for (std::size_t i = 0; i < w.heaps.size(); ++i) {
      heaps_[w.heaps[i]].add(w.pieces[i]);
      file(w.pieces[i].file);
    }
  }
  // Into the folder. Any thread.
  Written write(const HeapBatch<T>& batch) {
    Written out{batch.order(), {}};
    std::uint64_t all = 0;
    for (std::uint64_t k : out.heaps) {
      const std::uint64_t n = batch.records(k).size();
      out.pieces.push_back({own_, std::exchange(all, all + n), n});
    }
    RawBytes bytes(static_cast<std::size_t>(all) * sizeof(T));
    for (std::size_t i = 0; i < out.heaps.size(); ++i)
      std::memcpy(bytes.data() + out.pieces[i].at * sizeof(T), batch.records(out.heaps[i]).data(),
                  static_cast<std::size_t>(out.pieces[i].records) * sizeof(T));
    const std::uint64_t begin = append(bytes);
    for (Piece& p : out.pieces) p.at += begin;
    return out;
  }
  // The same for one heap.
  Written write(std::uint64_t heap, std::span<const T> records) {
    const std::uint64_t at =
        append({reinterpret_cast<const std::uint8_t*>(records.data()), records.size() * sizeof(T)});
    return {{heap}, {{own_, at, records.size()}}};
  }
  // All numbers in use, in order.
  std::vector<std::uint64_t> numbers() const {
    std::vector<std::uint64_t> out;
    for (const auto& [k, heap] : heaps_) out.push_back(k);
    std::sort(out.begin(), out.end());
    return out;
  }
  // Appends the records of a heap, from any thread while nothing is added. Of each file in one turn, so that no more
  // are open than there are readers, however many processes wrote.
  template <class Records>
  void read(std::uint64_t number, Records& out) const {
    const auto it = heaps_.find(number);
    if (it == heaps_.end()) return;
    std::map<std::uint64_t, std::vector<std::pair<std::uint64_t, std::span<std::uint8_t>>>> wanted;
    std::size_t at = out.size();
    out.resize(at + static_cast<std::size_t>(it->second.in_files));
    for (const Piece& p : it->second.pieces) {
      const auto n = static_cast<std::size_t>(p.records);
      wanted[p.file].push_back({p.at * sizeof(T), {reinterpret_cast<std::uint8_t*>(out.data() + at), n * sizeof(T)}});
      at += n;
    }
    for (const auto& [name, pieces] : wanted) {
      ScratchFile::Turn turn(*files_.at(name));
      for (const auto& [offset, into] : pieces) turn.read(offset, into);
    }
    out.insert(out.end(), it->second.held.begin(), it->second.held.end());
  }

 private:
  struct Heap {
    std::vector<Piece> pieces;  // in files, older than those that are held
    std::uint64_t in_files = 0;
    std::vector<T> held;
    void add(const Piece& p) {
      pieces.push_back(p);
      in_files += p.records;
    }
  };
  const ScratchFile& file(std::uint64_t number) {
    std::unique_ptr<ScratchFile>& f = files_[number];
    if (!f) f = std::make_unique<ScratchFile>(wanted_for_, folder_, fmt::format("heaps-{:016x}", number));
    return *f;
  }
  // Behind what this process wrote into the folder; where it begins, in records.
  std::uint64_t append(std::span<const std::uint8_t> bytes) {
    std::uint64_t begin = 0;
    const ScratchFile* into = nullptr;
    {
      std::lock_guard lock(mutex_);
      begin = std::exchange(spilled_, spilled_ + bytes.size() / sizeof(T));
      into = &file(own_);
    }
    write_bytes(*into, begin, bytes);
    return begin;
  }
  static void write_bytes(const ScratchFile& file, std::uint64_t at, std::span<const std::uint8_t> bytes) {
    ScratchFile::Turn turn(file);
    turn.write(at * sizeof(T), bytes);
    turn.end();
  }
  // Moves long runs to the temporary file; short ones wait, unless all together are too many.
  void spill(bool all) {
    constexpr std::size_t kShort = 4096;
    for (auto& [k, heap] : heaps_) {
      if (heap.held.empty() || (!all && heap.held.size() < kShort)) continue;
      write_bytes(file(own_), spilled_,
                  {reinterpret_cast<const std::uint8_t*>(heap.held.data()), heap.held.size() * sizeof(T)});
      heap.add({own_, spilled_, heap.held.size()});
      spilled_ += heap.held.size();
      in_memory_ -= heap.held.capacity();
      std::vector<T>().swap(heap.held);
    }
    if (!all && in_memory_ * sizeof(T) > budget_ / 2) spill(true);
  }
  std::unordered_map<std::uint64_t, Heap> heaps_;
  std::size_t budget_;
  std::string wanted_for_;
  std::shared_ptr<const CommonFolder> folder_;
  std::uint64_t in_memory_ = 0, spilled_ = 0;  // records
  std::uint64_t own_ = 0;                      // the number of the file that this process writes
  std::map<std::uint64_t, std::unique_ptr<ScratchFile>> files_;
  std::mutex mutex_;
};

}  // namespace katoptra
