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
  // What was written of some batches, by which others find it.
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
    std::random_device random;
    if (is_seen(folder_)) own_ = std::uint64_t{random()} << 32 | random();
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
      heaps_[w.heaps[i]].pieces.push_back(w.pieces[i]);
      file(w.pieces[i].file);
    }
  }
  // Into the folder, the batches one after the other. Any thread.
  Written write(std::span<const HeapBatch<T>> batches) {
    Written out;
    std::unordered_map<std::uint64_t, std::size_t> place;
    std::uint64_t all = 0;
    for (const HeapBatch<T>& b : batches)
      for (std::uint64_t k : b.order()) {
        const auto [it, is_new] = place.try_emplace(k, out.heaps.size());
        if (is_new) {
          out.heaps.push_back(k);
          out.pieces.push_back({own_, 0, 0});
        }
        out.pieces[it->second].records += b.records(k).size();
        all += b.records(k).size();
      }
    std::vector<std::uint64_t> next;
    std::uint64_t begin = 0;
    File* into = nullptr;
    {
      std::lock_guard lock(mutex_);
      begin = std::exchange(spilled_, spilled_ + all);
      into = &file(own_);
    }
    std::uint64_t at = begin;
    for (Piece& p : out.pieces) {
      p.at = std::exchange(at, at + p.records);
      next.push_back(p.at - begin);
    }
    RawBytes bytes(static_cast<std::size_t>(all) * sizeof(T));
    for (const HeapBatch<T>& b : batches)
      for (std::uint64_t k : b.order()) {
        const std::vector<T>& records = b.records(k);
        std::uint64_t& to = next[place.at(k)];
        std::memcpy(bytes.data() + to * sizeof(T), records.data(), records.size() * sizeof(T));
        to += records.size();
      }
    if (all > 0) into->write(begin * sizeof(T), bytes);
    return out;
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
      files_.at(p.file)->reading().read(p.at * sizeof(T), {reinterpret_cast<std::uint8_t*>(out.data() + at),
                                                           static_cast<std::size_t>(p.records) * sizeof(T)});
    }
    out.insert(out.end(), it->second.held.begin(), it->second.held.end());
  }

 private:
  struct Heap {
    std::vector<Piece> pieces;  // in files, older than those that are held
    std::vector<T> held;
  };
  // Once somebody reads it, it stays open: nobody writes any more.
  class File {
   public:
    File(const std::string& wanted_for, const std::shared_ptr<const CommonFolder>& folder, const std::string& name)
        : file_(wanted_for, folder, name) {}
    void write(std::uint64_t at, std::span<const std::uint8_t> bytes) const {
      ScratchFile::Turn turn(file_);
      turn.write(at, bytes);
      turn.end();
    }
    ScratchFile::Turn& reading() {
      std::call_once(once_, [&] { turn_ = std::make_unique<ScratchFile::Turn>(file_); });
      return *turn_;
    }

   private:
    ScratchFile file_;
    std::once_flag once_;
    std::unique_ptr<ScratchFile::Turn> turn_;
  };

  File& file(std::uint64_t number) {
    std::unique_ptr<File>& f = files_[number];
    if (!f) f = std::make_unique<File>(wanted_for_, folder_, fmt::format("points-{:016x}", number));
    return *f;
  }
  // Moves long runs to the temporary file; short ones wait, unless all together are too many.
  void spill(bool all) {
    constexpr std::size_t kShort = 4096;
    for (auto& [k, heap] : heaps_) {
      if (heap.held.empty() || (!all && heap.held.size() < kShort)) continue;
      file(own_).write(spilled_ * sizeof(T),
                       {reinterpret_cast<const std::uint8_t*>(heap.held.data()), heap.held.size() * sizeof(T)});
      heap.pieces.push_back({own_, spilled_, heap.held.size()});
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
  std::map<std::uint64_t, std::unique_ptr<File>> files_;
  std::mutex mutex_;
};

}  // namespace katoptra
