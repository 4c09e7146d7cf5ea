#include "block_codec.hpp"

#include <algorithm>
#include <cstring>
#include <memory>
#include <vector>
#include <zstd.h>

#include "base/clones.hpp"

namespace katoptra {
namespace {

constexpr int kLevel = -5;
constexpr std::size_t kWord = 4;
using Words = std::vector<std::uint32_t, RecyclingAllocator<std::uint32_t>>;

// Small differences of either sign have small numbers.
KATOPTRA_CLONES void split_words(const std::uint32_t* __restrict words, std::size_t n, std::uint8_t* __restrict out) {
  const auto put = [&](std::size_t i, std::uint32_t v) {
    for (std::size_t k = 0; k < kWord; ++k) out[k * n + i] = static_cast<std::uint8_t>(v >> (8 * k));
  };
  if (n > 0) put(0, words[0]);
  for (std::size_t i = 1; i < n; ++i) {
    const std::uint32_t d = words[i] - words[i - 1];
    put(i, d << 1 ^ (0u - (d >> 31)));
  }
}

KATOPTRA_CLONES void join_words(const std::uint8_t* __restrict split, std::size_t n, std::uint32_t* __restrict words) {
  for (std::size_t i = 0; i < n; ++i) {
    std::uint32_t v = 0;
    for (std::size_t k = 0; k < kWord; ++k) v |= static_cast<std::uint32_t>(split[k * n + i]) << (8 * k);
    words[i] = i == 0 ? v : v >> 1 ^ (0u - (v & 1));
  }
  for (std::size_t i = 1; i < n; ++i) words[i] += words[i - 1];
}

// What a thread needs again for each block.
struct Coder {
  std::unique_ptr<ZSTD_CCtx, std::size_t (*)(ZSTD_CCtx*)> pack{ZSTD_createCCtx(), ZSTD_freeCCtx};
  std::unique_ptr<ZSTD_DCtx, std::size_t (*)(ZSTD_DCtx*)> unpack{ZSTD_createDCtx(), ZSTD_freeDCtx};
};
Coder& coder() {
  thread_local Coder c;
  return c;
}

}  // namespace

RawBytes packed_block(std::span<const std::uint8_t> block) {
  const std::size_t words = block.size() / kWord, whole = words * kWord;
  Words in(words);
  if (words > 0) std::memcpy(in.data(), block.data(), whole);
  RawBytes split(block.begin(), block.end());
  split_words(in.data(), words, split.data());
  RawBytes out(ZSTD_compressBound(split.size()));
  const std::size_t n =
      ZSTD_compressCCtx(coder().pack.get(), out.data(), out.size(), split.data(), split.size(), kLevel);
  if (ZSTD_isError(n) || n >= block.size()) return {block.begin(), block.end()};
  out.resize(n);
  return out;
}

bool unpack_block(std::span<const std::uint8_t> packed, std::span<std::uint8_t> block) {
  if (packed.size() == block.size()) {
    std::copy(packed.begin(), packed.end(), block.begin());
    return true;
  }
  RawBytes split(block.size());
  if (ZSTD_decompressDCtx(coder().unpack.get(), split.data(), split.size(), packed.data(), packed.size()) !=
      block.size())
    return false;
  const std::size_t words = block.size() / kWord, whole = words * kWord;
  Words out(words);
  join_words(split.data(), words, out.data());
  if (words > 0) std::memcpy(block.data(), out.data(), whole);
  std::copy(split.begin() + static_cast<std::ptrdiff_t>(whole), split.end(),
            block.begin() + static_cast<std::ptrdiff_t>(whole));
  return true;
}

}  // namespace katoptra
