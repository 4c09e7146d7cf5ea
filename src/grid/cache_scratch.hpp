// Decoded blocks that found no room in the cache and come back all the same: a row of tiles that is larger than the
// cache is read band by band, and the least recently used tile is always the one that is wanted next. They wait in a
// temporary file, so that none is decoded twice.
#pragma once
#include <cstdint>
#include <deque>
#include <memory>
#include <optional>
#include <unordered_map>
#include <vector>

#include "katoptra/grid/cache.hpp"

namespace katoptra {

struct BlockKey {
  std::uint64_t owner, index;
  bool operator==(const BlockKey&) const = default;
};
struct HashBlockKey {
  std::size_t operator()(const BlockKey& k) const {
    std::uint64_t h = k.owner * 0x9E3779B97F4A7C15u ^ (k.index + 0xD1B54A32D192ED03u);
    h ^= h >> 32;
    h *= 0xD6E8FEB86659FD93u;
    return static_cast<std::size_t>(h ^ (h >> 32));
  }
};

// All but `read` and `write` under the lock of the cache.
class CacheScratch {
 public:
  // At most so many bytes of a temporary file, and no more than a quarter of what is free there.
  explicit CacheScratch(std::uint64_t most) : most_(most) {}
  ~CacheScratch();
  CacheScratch(const CacheScratch&) = delete;
  CacheScratch& operator=(const CacheScratch&) = delete;

  struct Place {
    std::uint64_t offset = 0, size = 0, turn = 0;
  };
  // A block was asked for that is not in the cache. Where it waits, if it does.
  std::optional<Place> missed(const BlockKey& key);
  // It was dropped from the cache, which keeps so many others. Where it shall be written, if blocks keep coming back
  // and it is not there yet.
  std::optional<Place> dropped(const BlockKey& key, std::uint64_t size, std::size_t kept);
  void written(const BlockKey& key, const Place& place, bool good);
  // Whether a place still holds what it held when it was told.
  bool holds(const BlockKey& key, const Place& place) const;
  void forget(std::uint64_t owner);

  // False when the file does not give or take it.
  bool read(const Place& place, BlockCache::Bytes& out) const;
  bool write(const Place& place, const BlockCache::Bytes& block) const;

 private:
  bool opened();
  std::optional<Place> room_for(std::uint64_t size);

  std::uint64_t most_, end_ = 0, turn_ = 0;
  int descriptor_ = -1;
  bool useless_ = false, returning_ = false;
  // Keys that were dropped not long ago, the oldest first.
  std::deque<BlockKey> order_;
  std::unordered_map<BlockKey, std::uint32_t, HashBlockKey> dropped_;
  std::uint32_t misses_ = 0, returns_ = 0;
  std::uint64_t writes_ = 0, hits_ = 0;
  // What waits, in the order of the file from the oldest on.
  struct Waiting {
    BlockKey key;
    Place place;
  };
  std::deque<Waiting> ring_;
  void pop_oldest();
  std::vector<Place> being_written_;
  std::unordered_map<BlockKey, Place, HashBlockKey> places_;
};

}  // namespace katoptra
