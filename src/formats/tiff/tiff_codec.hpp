// Compression of TIFF tiles outside libtiff, so that tiles are coded and decoded on every core: the codecs and the two
// predictors. Samples are in the machine's (little-endian) order.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

#include "katoptra/grid/quantity.hpp"

namespace katoptra::tiff {

// TIFF compression tags that are handled here.
inline constexpr int kNone = 1, kLzw = 5, kDeflate = 8, kOldDeflate = 32946, kZstd = 50000;
inline constexpr int kNoPredictor = 1, kDifference = 2, kFloatingPoint = 3;

bool codes_here(int compression);
// Methods that describe values (LERC) or repeat long runs (LZMA), and pack what is even almost without end.
bool models(int compression);

// Exactly, with subnormals, infinities and what is no number (IEEE 754, binary16).
float half_to_float(std::uint16_t half);

// In place, rows of `cols` samples of `bytes_per` bytes.
void encode_difference(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per);
void decode_difference(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per);
void encode_floating_point(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per);
void decode_floating_point(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per);

// Turns the bytes of every sample around.
void swap_samples(std::uint8_t* data, std::size_t samples, int bytes_per);

std::vector<std::uint8_t> compress(std::span<const std::uint8_t> raw, int compression, int level);
// Fills `out` exactly; false when the data are damaged or of another length.
bool decompress(std::span<const std::uint8_t> packed, int compression, std::span<std::uint8_t> out);

}  // namespace katoptra::tiff
