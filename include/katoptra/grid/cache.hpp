// Decoded blocks of files, shared by everything that reads them: overlapping windows and halos never decode twice while
// the budget lasts. Thread-safe; the least recently used blocks go first. A block that is being decoded is waited for,
// not decoded again.
//
//   BlockCache::Entry block = BlockCache::shared().get(file, 17, [&] { return decode(17); });
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>

#include "katoptra/base/memory.hpp"

namespace katoptra {

class BlockCache {
 public:
  using Bytes = RawBytes;
  using Entry = std::shared_ptr<const Bytes>;

  explicit BlockCache(std::size_t budget);
  ~BlockCache();
  BlockCache(const BlockCache&) = delete;
  BlockCache& operator=(const BlockCache&) = delete;

  // The cache of the process; 256 MiB until told otherwise.
  static BlockCache& shared();

  // A number for a new owner of blocks (an open file).
  std::uint64_t new_owner();
  // The block of an owner, made by `make` when it is not there. An error of `make` is passed on and nothing is kept.
  Entry get(std::uint64_t owner, std::uint64_t index, const std::function<Bytes()>& make);
  // A block that another thread is making. It is kept for who holds this, whatever the budget.
  struct UnderWay {
    Entry data;  // null when it could not be made
    bool done = false;
  };
  // The same, but where another thread is making that block, null and the block under way: the caller goes on with its
  // other blocks and comes back, so that threads that want the same ones share the work instead of waiting for each in
  // turn.
  Entry get_unless_under_way(std::uint64_t owner, std::uint64_t index, const std::function<Bytes()>& make,
                             std::shared_ptr<UnderWay>& under_way);
  // Null when it could not be made; get() then says why, or makes it.
  Entry wait_for(const UnderWay& block);
  void forget(std::uint64_t owner);
  void set_budget(std::size_t bytes);
  std::size_t bytes() const;
  // How often `make` was called so far.
  std::uint64_t made() const;

 private:
  Entry found_or_made(std::uint64_t owner, std::uint64_t index, const std::function<Bytes()>& make,
                      std::shared_ptr<UnderWay>* under_way);
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra
