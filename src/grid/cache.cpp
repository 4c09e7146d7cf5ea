#include "katoptra/grid/cache.hpp"

#include <atomic>
#include <condition_variable>
#include <list>
#include <mutex>
#include <unordered_map>
#include <utility>
#include <vector>

#include "cache_scratch.hpp"

namespace katoptra {
namespace {

using Key = BlockKey;
struct Slot {
  BlockCache::Entry data;  // null while it is being made
  std::shared_ptr<BlockCache::UnderWay> awaited;
  std::list<Key>::iterator place;
};

constexpr std::uint64_t kMostScratch = std::uint64_t{8} << 30;

}  // namespace

struct BlockCache::Impl {
  mutable std::mutex mutex;
  std::condition_variable ready;
  std::unordered_map<Key, Slot, HashBlockKey> slots;
  std::list<Key> recent;  // front: most recently used; only finished blocks
  std::size_t budget, bytes = 0;
  std::atomic<std::uint64_t> owners{0}, made{0};

  CacheScratch scratch{kMostScratch};

  // A block on its way into the scratch file.
  struct Leaving {
    Key key;
    Entry data;
    CacheScratch::Place place;
  };
  // Those that shall be written are given back: that is done without the lock.
  std::vector<Leaving> shrink() {
    std::vector<Leaving> leaving;
    while (bytes > budget && !recent.empty()) {
      const auto last = slots.find(recent.back());
      const Key key = last->first;
      if (const auto place = scratch.dropped(key, last->second.data->size(), recent.size()))
        leaving.push_back({key, last->second.data, *place});
      drop(last);
    }
    return leaving;
  }
  // Null when it was overwritten meanwhile.
  Entry read_again(const Key& key, const CacheScratch::Place& place) {
    Bytes block(place.size);
    if (!scratch.read(place, block)) return nullptr;
    std::lock_guard lock(mutex);
    return scratch.holds(key, place) ? std::make_shared<const Bytes>(std::move(block)) : nullptr;
  }
  void write(const std::vector<Leaving>& leaving) {
    for (const Leaving& l : leaving) {
      const bool good = scratch.write(l.place, *l.data);
      std::lock_guard lock(mutex);
      scratch.written(l.key, l.place, good);
    }
  }
  void drop(std::unordered_map<Key, Slot, HashBlockKey>::iterator it) {
    bytes -= it->second.data->size();
    recent.erase(it->second.place);
    slots.erase(it);
  }
};

BlockCache::BlockCache(std::size_t budget) : impl_(std::make_unique<Impl>()) { impl_->budget = budget; }
BlockCache::~BlockCache() = default;

BlockCache& BlockCache::shared() {
  static BlockCache cache(256u << 20);
  return cache;
}

std::uint64_t BlockCache::new_owner() { return ++impl_->owners; }

BlockCache::Entry BlockCache::get(std::uint64_t owner, std::uint64_t index, const std::function<Bytes()>& make) {
  return found_or_made(owner, index, make, nullptr);
}

BlockCache::Entry BlockCache::get_unless_under_way(std::uint64_t owner, std::uint64_t index,
                                                   const std::function<Bytes()>& make,
                                                   std::shared_ptr<UnderWay>& under_way) {
  return found_or_made(owner, index, make, &under_way);
}

BlockCache::Entry BlockCache::wait_for(const UnderWay& block) {
  std::unique_lock lock(impl_->mutex);
  impl_->ready.wait(lock, [&] { return block.done; });
  return block.data;
}

BlockCache::Entry BlockCache::found_or_made(std::uint64_t owner, std::uint64_t index,
                                            const std::function<Bytes()>& make, std::shared_ptr<UnderWay>* under_way) {
  Impl& m = *impl_;
  const Key key{owner, index};
  std::unique_lock lock(m.mutex);
  for (;;) {
    auto it = m.slots.find(key);
    if (it == m.slots.end()) break;
    if (it->second.data) {
      m.recent.splice(m.recent.begin(), m.recent, it->second.place);
      return it->second.data;
    }
    if (under_way) {
      std::shared_ptr<UnderWay>& awaited = it->second.awaited;
      if (!awaited) awaited = std::make_shared<UnderWay>();
      *under_way = awaited;
      return nullptr;
    }
    m.ready.wait(lock);
  }
  m.slots.emplace(key, Slot());
  const auto waits = m.scratch.missed(key);
  lock.unlock();
  Entry made;
  try {
    if (waits) made = m.read_again(key, *waits);
    if (!made) {
      made = std::make_shared<const Bytes>(make());
      ++m.made;
    }
  } catch (...) {
    lock.lock();
    if (const auto slot = m.slots.find(key); slot->second.awaited) slot->second.awaited->done = true;
    m.slots.erase(key);
    m.ready.notify_all();
    throw;
  }
  lock.lock();
  Slot& slot = m.slots[key];
  slot.data = made;
  if (slot.awaited) {
    slot.awaited->data = made;
    slot.awaited->done = true;
    slot.awaited = nullptr;
  }
  m.recent.push_front(key);
  slot.place = m.recent.begin();
  m.bytes += made->size();
  const auto leaving = m.shrink();
  m.ready.notify_all();
  lock.unlock();
  m.write(leaving);
  return made;
}

void BlockCache::forget(std::uint64_t owner) {
  std::lock_guard lock(impl_->mutex);
  for (auto it = impl_->slots.begin(); it != impl_->slots.end();) {
    auto next = std::next(it);
    if (it->first.owner == owner && it->second.data) impl_->drop(it);
    it = next;
  }
  impl_->scratch.forget(owner);
}

void BlockCache::set_budget(std::size_t bytes) {
  std::unique_lock lock(impl_->mutex);
  impl_->budget = bytes;
  const auto leaving = impl_->shrink();
  lock.unlock();
  impl_->write(leaving);
}

std::size_t BlockCache::bytes() const {
  std::lock_guard lock(impl_->mutex);
  return impl_->bytes;
}

std::uint64_t BlockCache::made() const { return impl_->made; }

}  // namespace katoptra
