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
  void forget(std::uint64_t owner);
  void set_budget(std::size_t bytes);
  std::size_t bytes() const;
  // How often `make` was called so far.
  std::uint64_t made() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra
