#include "cache_scratch.hpp"

#include <algorithm>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/scratch.hpp"

namespace katoptra {
namespace {

// Keys of blocks that were dropped are remembered, so many for each that is kept: what comes back later than that is
// another pass over all, for which nothing is written.
constexpr std::size_t kRemembered = 16, kFewest = 64;
constexpr std::uint32_t kWatched = 64;  // misses after which it is judged whether blocks come back
constexpr std::uint64_t kTried = 512;   // writes after which it is judged whether they were of use

}  // namespace

CacheScratch::~CacheScratch() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

std::optional<CacheScratch::Place> CacheScratch::missed(const BlockKey& key) {
  ++misses_;
  returns_ += dropped_.contains(key) ? 1 : 0;
  if (misses_ == kWatched) {
    returning_ = returns_ * 4 >= misses_;
    misses_ = returns_ = 0;
  }
  const auto found = places_.find(key);
  if (found == places_.end()) return std::nullopt;
  ++hits_;
  return found->second;
}

std::optional<CacheScratch::Place> CacheScratch::dropped(const BlockKey& key, std::uint64_t size, std::size_t kept) {
  order_.push_back(key);
  ++dropped_[key];
  while (order_.size() > std::max(kFewest, kRemembered * kept)) {
    const auto oldest = dropped_.find(order_.front());
    if (--oldest->second == 0) dropped_.erase(oldest);
    order_.pop_front();
  }
  if (!returning_ || useless_ || size == 0 || places_.contains(key) || !opened()) return std::nullopt;
  // Where more comes back than there is room for, what is written is overwritten before it is read.
  if (++writes_ == kTried) {
    useless_ = hits_ * 4 < writes_;
    writes_ = hits_ = 0;
  }
  return room_for(size);
}

bool CacheScratch::opened() {
  if (descriptor_ >= 0) return true;
  struct statvfs s = {};
  if (::statvfs(temporary_folder().c_str(), &s) == 0)
    most_ = std::min(most_, std::uint64_t{s.f_bavail} * s.f_frsize / 4);
  try {
    descriptor_ = open_unnamed_file("blocks of the cache");
  } catch (const Error&) {
    useless_ = true;  // as it was before there was a scratch file
  }
  return descriptor_ >= 0;
}

// Round and round in the file: what lies in the way is the oldest.
std::optional<CacheScratch::Place> CacheScratch::room_for(std::uint64_t size) {
  if (size > most_) return std::nullopt;
  if (end_ + size > most_) {
    end_ = 0;
    ++turn_;
    // What the last round left at the end of the file, from the one before.
    while (!ring_.empty() && ring_.front().place.turn + 1 < turn_) pop_oldest();
  }
  const Place place{end_, size, turn_};
  // Another thread is still writing there.
  if (std::any_of(being_written_.begin(), being_written_.end(),
                  [&](const Place& p) { return p.offset < place.offset + size && place.offset < p.offset + p.size; }))
    return std::nullopt;
  while (!ring_.empty() && ring_.front().place.turn < turn_ && ring_.front().place.offset < end_ + size) pop_oldest();
  end_ += size;
  being_written_.push_back(place);
  return place;
}

void CacheScratch::pop_oldest() {
  const Waiting& oldest = ring_.front();
  if (holds(oldest.key, oldest.place)) places_.erase(oldest.key);
  ring_.pop_front();
}

void CacheScratch::written(const BlockKey& key, const Place& place, bool good) {
  std::erase_if(being_written_, [&](const Place& p) { return p.offset == place.offset && p.turn == place.turn; });
  if (!good) {
    useless_ = true;
    return;
  }
  // Another block may have been given its place meanwhile.
  if (place.turn + 1 < turn_ || (place.turn < turn_ && place.offset < end_)) return;
  places_[key] = place;
  ring_.insert(std::upper_bound(ring_.begin(), ring_.end(), place,
                                [](const Place& p, const Waiting& w) {
                                  return std::pair(p.turn, p.offset) < std::pair(w.place.turn, w.place.offset);
                                }),
               {key, place});
}

bool CacheScratch::holds(const BlockKey& key, const Place& place) const {
  const auto there = places_.find(key);
  return there != places_.end() && there->second.offset == place.offset && there->second.turn == place.turn;
}

void CacheScratch::forget(std::uint64_t owner) {
  std::erase_if(places_, [&](const auto& p) { return p.first.owner == owner; });
}

bool CacheScratch::read(const Place& place, BlockCache::Bytes& out) const {
  try {
    return read_descriptor(descriptor_, place.offset, {out.data(), out.size()}, "blocks of the cache") == out.size();
  } catch (const Error&) {
    return false;
  }
}

bool CacheScratch::write(const Place& place, const BlockCache::Bytes& block) const {
  try {
    write_descriptor(descriptor_, place.offset, {block.data(), block.size()}, "blocks of the cache");
    return true;
  } catch (const Error&) {
    return false;
  }
}

}  // namespace katoptra
