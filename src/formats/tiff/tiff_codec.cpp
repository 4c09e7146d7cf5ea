#include "tiff_codec.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <libdeflate.h>
#include <memory>
#include <zstd.h>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

#include "katoptra/base/error.hpp"

namespace katoptra::tiff {
namespace {

template <class T>
void difference(std::uint8_t* data, std::int64_t cols, std::int64_t rows, bool encode) {
  for (std::int64_t r = 0; r < rows; ++r) {
    T* row = reinterpret_cast<T*>(data) + r * cols;
    if (encode)
      for (std::int64_t c = cols - 1; c > 0; --c) row[c] = static_cast<T>(row[c] - row[c - 1]);
    else
      for (std::int64_t c = 1; c < cols; ++c) row[c] = static_cast<T>(row[c] + row[c - 1]);
  }
}

void any_difference(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per, bool encode) {
  switch (bytes_per) {
    case 1:
      return difference<std::uint8_t>(data, cols, rows, encode);
    case 2:
      return difference<std::uint16_t>(data, cols, rows, encode);
    case 4:
      return difference<std::uint32_t>(data, cols, rows, encode);
    default:
      return difference<std::uint64_t>(data, cols, rows, encode);
  }
}

// The sum of each byte and all before it.
void running_sums(const std::uint8_t* in, std::size_t n, std::uint8_t* out) {
  std::size_t i = 0;
  std::uint8_t sum = 0;
#ifdef __SSE2__
  // Sixteen at a time, in four steps of doubling reach; the last sum so far is added to all.
  __m128i carry = _mm_setzero_si128();
  for (; i + 16 <= n; i += 16) {
    __m128i v = _mm_loadu_si128(reinterpret_cast<const __m128i*>(in + i));
    v = _mm_add_epi8(v, _mm_slli_si128(v, 1));
    v = _mm_add_epi8(v, _mm_slli_si128(v, 2));
    v = _mm_add_epi8(v, _mm_slli_si128(v, 4));
    v = _mm_add_epi8(v, _mm_slli_si128(v, 8));
    v = _mm_add_epi8(v, carry);
    _mm_storeu_si128(reinterpret_cast<__m128i*>(out + i), v);
    const __m128i pair = _mm_unpackhi_epi8(v, v);
    carry = _mm_shuffle_epi32(_mm_shufflehi_epi16(pair, 0xFF), 0xFF);
  }
  if (i > 0) sum = out[i - 1];
#endif
  for (; i < n; ++i) out[i] = sum = static_cast<std::uint8_t>(sum + in[i]);
}

// Samples of four bytes from planes of their bytes, the most significant first; says how many were joined.
std::int64_t join_four_planes([[maybe_unused]] const std::uint8_t* planes, [[maybe_unused]] std::int64_t cols,
                              [[maybe_unused]] std::uint8_t* row) {
  std::int64_t c = 0;
#ifdef __SSE2__
  const auto plane = [&](std::int64_t k) {
    return _mm_loadu_si128(reinterpret_cast<const __m128i*>(planes + k * cols + c));
  };
  for (; c + 16 <= cols; c += 16) {
    const __m128i a = plane(3), b = plane(2), d = plane(1), e = plane(0);
    const __m128i low = _mm_unpacklo_epi8(a, b), low_high = _mm_unpackhi_epi8(a, b), high = _mm_unpacklo_epi8(d, e),
                  high_high = _mm_unpackhi_epi8(d, e);
    auto* to = reinterpret_cast<__m128i*>(row + 4 * c);
    _mm_storeu_si128(to, _mm_unpacklo_epi16(low, high));
    _mm_storeu_si128(to + 1, _mm_unpackhi_epi16(low, high));
    _mm_storeu_si128(to + 2, _mm_unpacklo_epi16(low_high, high_high));
    _mm_storeu_si128(to + 3, _mm_unpackhi_epi16(low_high, high_high));
  }
#endif
  return c;
}

struct FreeCompressor {
  void operator()(libdeflate_compressor* c) const { libdeflate_free_compressor(c); }
};
struct FreeDecompressor {
  void operator()(libdeflate_decompressor* d) const { libdeflate_free_decompressor(d); }
};
struct FreeZstd {
  void operator()(ZSTD_CCtx* c) const { ZSTD_freeCCtx(c); }
  void operator()(ZSTD_DCtx* d) const { ZSTD_freeDCtx(d); }
};

// Memory to pack into, as long as the longest that may come out; kept for the next time unless it is much.
class Room {
 public:
  std::span<std::uint8_t> of(std::size_t bytes) {
    if (bytes > size_) {
      bytes_ = std::make_unique_for_overwrite<std::uint8_t[]>(bytes);
      size_ = bytes;
    }
    return {bytes_.get(), bytes};
  }
  // The first so many of them.
  std::vector<std::uint8_t> taken(std::size_t bytes) {
    std::vector<std::uint8_t> out(bytes_.get(), bytes_.get() + bytes);
    constexpr std::size_t kMostKept = std::size_t{8} << 20;
    if (size_ > kMostKept) {
      bytes_.reset();
      size_ = 0;
    }
    return out;
  }

 private:
  std::unique_ptr<std::uint8_t[]> bytes_;
  std::size_t size_ = 0;
};

}  // namespace

bool models(int compression) {
  constexpr int kLerc = 34887, kLzma = 34925;
  return compression == kLerc || compression == kLzma;
}

float half_to_float(std::uint16_t half) {
  const std::uint32_t sign = static_cast<std::uint32_t>(half & 0x8000u) << 16, exponent = (half >> 10) & 31u,
                      fraction = half & 0x3ffu;
  if (exponent == 0) {
    const float v = std::ldexp(static_cast<float>(fraction), -24);
    return sign ? -v : v;
  }
  const std::uint32_t bits = sign | (exponent == 31 ? 0x7f800000u : (exponent + 112) << 23) | fraction << 13;
  float v = 0;
  std::memcpy(&v, &bits, 4);
  return v;
}

bool codes_here(int compression) {
  return compression == tiff::kNone || compression == kDeflate || compression == kOldDeflate || compression == kZstd;
}

void encode_difference(std::uint8_t* d, std::int64_t cols, std::int64_t rows, int bytes_per) {
  any_difference(d, cols, rows, bytes_per, true);
}
void decode_difference(std::uint8_t* d, std::int64_t cols, std::int64_t rows, int bytes_per) {
  any_difference(d, cols, rows, bytes_per, false);
}

// TIFF Technical Note 3: the bytes of a row are sorted into planes, most significant first, then differenced as bytes.
void encode_floating_point(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per) {
  const auto n = static_cast<std::size_t>(cols * bytes_per);
  std::vector<std::uint8_t> planes(n);
  for (std::int64_t r = 0; r < rows; ++r) {
    std::uint8_t* row = data + static_cast<std::size_t>(r) * n;
    for (int b = 0; b < bytes_per; ++b) {
      std::uint8_t* plane = planes.data() + static_cast<std::int64_t>(bytes_per - 1 - b) * cols;
      for (std::int64_t c = 0; c < cols; ++c) plane[c] = row[c * bytes_per + b];
    }
    row[0] = planes[0];
    for (std::size_t i = 1; i < n; ++i) row[i] = static_cast<std::uint8_t>(planes[i] - planes[i - 1]);
  }
}

void decode_floating_point(std::uint8_t* data, std::int64_t cols, std::int64_t rows, int bytes_per) {
  const auto n = static_cast<std::size_t>(cols * bytes_per);
  std::vector<std::uint8_t> planes(n);
  for (std::int64_t r = 0; r < rows; ++r) {
    std::uint8_t* row = data + static_cast<std::size_t>(r) * n;
    running_sums(row, n, planes.data());
    const std::int64_t joined = bytes_per == 4 ? join_four_planes(planes.data(), cols, row) : 0;
    for (int b = 0; b < bytes_per; ++b) {
      const std::uint8_t* plane = planes.data() + static_cast<std::int64_t>(bytes_per - 1 - b) * cols;
      for (std::int64_t c = joined; c < cols; ++c) row[c * bytes_per + b] = plane[c];
    }
  }
}

void swap_samples(std::uint8_t* data, std::size_t samples, int bytes_per) {
  for (std::size_t i = 0; i < samples; ++i)
    std::reverse(data + i * static_cast<std::size_t>(bytes_per), data + (i + 1) * static_cast<std::size_t>(bytes_per));
}

std::vector<std::uint8_t> compress(std::span<const std::uint8_t> raw, int compression, int level) {
  if (compression == tiff::kNone) return {raw.begin(), raw.end()};
  // Into room that the thread keeps: what waits to be written takes no more memory than it is long.
  thread_local Room room;
  if (compression == kZstd) {
    thread_local std::unique_ptr<ZSTD_CCtx, FreeZstd> context(ZSTD_createCCtx());
    const std::span<std::uint8_t> out = room.of(ZSTD_compressBound(raw.size()));
    const std::size_t n = ZSTD_compressCCtx(context.get(), out.data(), out.size(), raw.data(), raw.size(), level);
    if (ZSTD_isError(n)) throw Error(ErrorCode::TooLarge, "a tile could not be compressed", "zstd");
    return room.taken(n);
  }
  thread_local int made_for = -1;
  thread_local std::unique_ptr<libdeflate_compressor, FreeCompressor> compressor;
  if (made_for != level) {
    compressor.reset(libdeflate_alloc_compressor(level));
    made_for = level;
  }
  const std::span<std::uint8_t> out = room.of(libdeflate_zlib_compress_bound(compressor.get(), raw.size()));
  return room.taken(libdeflate_zlib_compress(compressor.get(), raw.data(), raw.size(), out.data(), out.size()));
}

bool decompress(std::span<const std::uint8_t> packed, int compression, std::span<std::uint8_t> out) {
  if (compression == tiff::kNone) {
    if (packed.size() < out.size()) return false;
    std::memcpy(out.data(), packed.data(), out.size());
    return true;
  }
  if (compression == kZstd) {
    thread_local std::unique_ptr<ZSTD_DCtx, FreeZstd> context(ZSTD_createDCtx());
    return ZSTD_decompressDCtx(context.get(), out.data(), out.size(), packed.data(), packed.size()) == out.size();
  }
  thread_local std::unique_ptr<libdeflate_decompressor, FreeDecompressor> decompressor(libdeflate_alloc_decompressor());
  std::size_t got = 0;
  const auto status =
      libdeflate_zlib_decompress(decompressor.get(), packed.data(), packed.size(), out.data(), out.size(), &got);
  return status == LIBDEFLATE_SUCCESS && got == out.size();
}

}  // namespace katoptra::tiff
