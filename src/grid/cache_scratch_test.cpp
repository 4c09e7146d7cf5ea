// The scratch file of the cache, against what should be in it: rounds in a small file, blocks of many sizes, places
// that are overwritten while they are read.
#include "grid/cache_scratch.hpp"

#include <cmath>
#include <cstring>
#include <gtest/gtest.h>
#include <map>
#include <random>

#include "grid/block_codec.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kBlock = 700;

// One that packs to anything between almost nothing and all of itself.
RawBytes block_of(std::mt19937& random) {
  RawBytes block(kBlock, 0);
  for (std::size_t i = 0, noisy = random() % kBlock; i < noisy; ++i) block[i] = static_cast<std::uint8_t>(random());
  return packed_block(block);
}

TEST(CacheScratch, HoldsWhatWasWrittenLastAndNothingElse) {
  for (unsigned seed = 0; seed < 20; ++seed) {
    std::mt19937 random(seed);
    CacheScratch scratch(5000 + random() % 20'000);
    std::map<std::uint64_t, RawBytes> content;
    int held = 0;
    for (int i = 0; i < 3000; ++i) {
      const BlockKey key{1, random() % 60};
      const auto place = scratch.missed(key);
      if (place) {
        ++held;
        BlockCache::Bytes out(place->whole);
        ASSERT_TRUE(scratch.read(*place, out));
        ASSERT_TRUE(scratch.holds(key, *place));
        BlockCache::Bytes want(kBlock);
        ASSERT_TRUE(unpack_block(content[key.index], want));
        ASSERT_EQ(out, want) << key.index;
      }
      if (scratch.dropped(key, 8)) {
        ASSERT_FALSE(place);  // what is there is not written again
        // Sometimes another is given room before this one is written.
        const auto first = block_of(random), second = block_of(random);
        const BlockKey other{2, random() % 60};
        const auto to = scratch.room_for(first.size(), kBlock);
        const auto beside = random() % 3 == 0 ? scratch.room_for(second.size(), kBlock) : std::nullopt;
        if (to && beside) {
          ASSERT_TRUE(beside->offset >= to->offset + to->size || to->offset >= beside->offset + beside->size);
        }
        if (to) {
          content[key.index] = first;
          ASSERT_TRUE(scratch.write(*to, first));
          scratch.written(key, *to, true);
        }
        if (beside) scratch.written(other, *beside, scratch.write(*beside, second));
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
    EXPECT_FALSE(scratch.dropped({1, i}, 8));
  }
}

// Cells as files hold them: smooth with voids, whole numbers, noise, all the same.
TEST(BlockCodec, GivesBackTheBytes) {
  std::mt19937 random(5);
  for (int kind = 0; kind < 4; ++kind)
    for (const std::size_t size : {0, 1, 2, 3, 4, 5, 7, 8, 255, 1021, 4096, 262'144, 1'048'575}) {
      RawBytes block(size);
      std::vector<float> z(size / 4 + 1);
      for (std::size_t i = 0; i < z.size(); ++i)
        z[i] = i % 97 == 0 ? std::nanf("") : 250 + 40 * std::sin(static_cast<float>(i) / 300);
      if (size > 0) std::memcpy(block.data(), z.data(), size);
      for (std::size_t i = 0; i < size && kind > 0; ++i)
        block[i] = static_cast<std::uint8_t>(kind == 1 ? i / 2 % 7 : kind == 2 ? random() : 0);
      const RawBytes packed = packed_block(block);
      EXPECT_LE(packed.size(), size);
      if (size > 4096 && kind != 2) {
        EXPECT_LT(packed.size(), size * 2 / 3) << kind;
      }
      RawBytes out(size, 1);
      ASSERT_TRUE(unpack_block(packed, out));
      ASSERT_EQ(out, block) << kind << ' ' << size;
    }
}

TEST(BlockCodec, TellsWhatIsDamaged) {
  std::mt19937 random(6);
  RawBytes block(4000, 0), out(4000);
  for (std::size_t i = 0; i < block.size(); i += 3) block[i] = static_cast<std::uint8_t>(i);
  const RawBytes packed = packed_block(block);
  for (std::size_t n = 0; n < packed.size(); ++n) EXPECT_FALSE(unpack_block(std::span(packed).first(n), out)) << n;
  RawBytes wider(5000);
  EXPECT_FALSE(unpack_block(packed, wider));
  for (int i = 0; i < 500; ++i) {  // whatever comes, it ends
    RawBytes bad = packed;
    bad[random() % bad.size()] ^= static_cast<std::uint8_t>(1 + random() % 255);
    unpack_block(bad, out);
  }
}

}  // namespace
}  // namespace katoptra
