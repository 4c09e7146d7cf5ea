// Decoded blocks as they lie in the scratch file: packed so fast that a slow disk is the only thing that notices.
#pragma once
#include <cstdint>
#include <span>

#include "katoptra/base/memory.hpp"

namespace katoptra {

// The differences of neighbouring words of 32 bits, by bytes of equal weight, through zstd at a level that hardly
// searches. As it is where that makes it no smaller.
RawBytes packed_block(std::span<const std::uint8_t> block);
// Into a block of the size it had. False when it is damaged.
bool unpack_block(std::span<const std::uint8_t> packed, std::span<std::uint8_t> block);

}  // namespace katoptra
