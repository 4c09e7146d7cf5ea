// The scratch file of the cache, against what should be in it: rounds in a small file, blocks of many sizes, places
// that are overwritten while they are read.
#include "grid/cache_scratch.hpp"

#include <gtest/gtest.h>
#include <map>
#include <random>

namespace katoptra {
namespace {

TEST(CacheScratch, HoldsWhatWasWrittenLastAndNothingElse) {
  for (unsigned seed = 0; seed < 20; ++seed) {
    std::mt19937 random(seed);
    CacheScratch scratch(5000 + random() % 20'000);
    std::map<std::uint64_t, std::uint8_t> content;
    int held = 0;
    for (int i = 0; i < 3000; ++i) {
      const BlockKey key{1, random() % 60};
      const auto place = scratch.missed(key);
      if (place) {
        ++held;
        BlockCache::Bytes out(place->size);
        ASSERT_TRUE(scratch.read(*place, out));
        ASSERT_TRUE(scratch.holds(key, *place));
        for (const std::uint8_t b : out) ASSERT_EQ(b, content[key.index]) << key.index;
      }
      const std::uint64_t size = 1 + random() % 900;
      if (const auto to = scratch.dropped(key, size, 8)) {
        ASSERT_FALSE(place);  // what is there is not written again
        content[key.index] = static_cast<std::uint8_t>(random());
        const BlockCache::Bytes block(size, content[key.index]);
        // Sometimes another is given room before this one is written.
        std::optional<CacheScratch::Place> other;
        const BlockKey second{2, random() % 60};
        if (random() % 3 == 0) other = scratch.dropped(second, 1 + random() % 900, 8);
        ASSERT_TRUE(scratch.write(*to, block));
        scratch.written(key, *to, true);
        if (other) {
          ASSERT_TRUE(other->offset >= to->offset + size || to->offset >= other->offset + other->size);
          scratch.written(second, *other, scratch.write(*other, BlockCache::Bytes(other->size, 0)));
        }
      }
      if (i % 500 == 499) {
        scratch.forget(2);
        ASSERT_FALSE(scratch.missed({2, 5}));
      }
    }
    EXPECT_GT(held, 100) << seed;
  }
}

TEST(CacheScratch, WritesNothingForWhatPassesBy) {
  CacheScratch scratch(1 << 20);
  for (std::uint64_t i = 0; i < 5000; ++i) {
    EXPECT_FALSE(scratch.missed({1, i}));
    EXPECT_FALSE(scratch.dropped({1, i}, 100, 8));
  }
}

}  // namespace
}  // namespace katoptra
