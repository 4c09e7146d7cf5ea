#include "plane_bytes.hpp"

#include <algorithm>
#include <cmath>
#include <libdeflate.h>
#include <memory>

#include "katoptra/base/parallel.hpp"

namespace katoptra {
namespace {

// The median of left, above and their plane.
std::int32_t foretold(std::int32_t left, std::int32_t above, std::int32_t corner) {
  const std::int32_t low = std::min(left, above), high = std::max(left, above);
  return corner >= high ? low : corner <= low ? high : left + above - corner;
}

// `all`: bits that any of them has.
std::vector<std::uint8_t> laid_out(const std::vector<std::uint32_t>& folded, std::uint32_t all,
                                   const std::vector<std::uint8_t>* mask) {
  const std::size_t n = folded.size();
  std::size_t width = 0;
  while (width < 4 && all >> (8 * width)) ++width;
  std::vector<std::uint8_t> out{static_cast<std::uint8_t>(width), static_cast<std::uint8_t>(mask ? 1 : 0)};
  if (mask) out.insert(out.end(), mask->begin(), mask->end());
  const std::size_t head = out.size();
  out.resize(head + width * n);
  for (std::size_t b = 0; b < width; ++b)
    for (std::size_t i = 0; i < n; ++i) out[head + b * n + i] = static_cast<std::uint8_t>(folded[i] >> (8 * b));
  return out;
}

std::uint32_t folded_of(std::int64_t d) { return static_cast<std::uint32_t>(d >= 0 ? 2 * d : -2 * d - 1); }

struct Tile {
  const std::vector<float>& values;
  std::int64_t stride, col, row, cols, rows;
  double step;

  std::vector<std::uint8_t> raw() const {
    const auto n = static_cast<std::size_t>(cols * rows);
    std::vector<std::uint32_t> folded(n);
    std::vector<std::uint8_t> mask((n + 7) / 8, 0);
    std::vector<std::int32_t> above(static_cast<std::size_t>(cols), 0);
    std::uint32_t all = 0;
    bool voids = false;
    for (std::int64_t r = 0; r < rows; ++r) {
      const float* line = values.data() + (row + r) * stride + col;
      std::int32_t left = 0, corner = 0;
      for (std::int64_t c = 0; c < cols; ++c) {
        const auto at = static_cast<std::size_t>(r * cols + c);
        const std::int32_t up = above[static_cast<std::size_t>(c)];
        const std::int32_t guess = c == 0 ? up : r == 0 ? left : foretold(left, up, corner);
        std::int32_t q = guess;
        if (std::isnan(line[c])) {
          voids = true;
        } else {
          q = static_cast<std::int32_t>(std::llround(static_cast<double>(line[c]) / step));
          mask[at / 8] = static_cast<std::uint8_t>(mask[at / 8] | 1u << at % 8);
        }
        // Differences of whole numbers up to 2^30 fit, folded, into 32 bits.
        const std::int64_t d = std::int64_t{q} - guess;
        folded[at] = folded_of(d);
        all |= folded[at];
        corner = up;
        left = above[static_cast<std::size_t>(c)] = q;
      }
    }
    return laid_out(folded, all, voids ? &mask : nullptr);
  }
};

std::vector<std::uint8_t> packed(const std::vector<std::uint8_t>& raw) {
  constexpr int kLevel = 2;
  const std::unique_ptr<libdeflate_compressor, void (*)(libdeflate_compressor*)> c(libdeflate_alloc_compressor(kLevel),
                                                                                   libdeflate_free_compressor);
  if (!c) throw std::bad_alloc();
  std::vector<std::uint8_t> out(libdeflate_zlib_compress_bound(c.get(), raw.size()));
  out.resize(libdeflate_zlib_compress(c.get(), raw.data(), raw.size(), out.data(), out.size()));
  return out;
}

}  // namespace

std::vector<std::uint8_t> column_bytes(const std::vector<std::int32_t>& values) {
  std::vector<std::uint32_t> folded;
  folded.reserve(values.size());
  std::uint32_t all = 0;
  std::int64_t before = 0;
  for (const std::int32_t v : values) {
    folded.push_back(folded_of(v - before));
    all |= folded.back();
    before = v;
  }
  return packed(laid_out(folded, all, nullptr));
}

PlaneBytes plane_bytes(const std::vector<float>& values, std::int64_t cols, std::int64_t rows, double step,
                       const RunOptions& run) {
  const std::int64_t across = (cols + kPageTile - 1) / kPageTile, down = (rows + kPageTile - 1) / kPageTile;
  std::vector<std::vector<std::uint8_t>> tiles(static_cast<std::size_t>(across * down));
  parallel_for(tiles.size(), run, [&](std::size_t i) {
    const std::int64_t col = static_cast<std::int64_t>(i) % across * kPageTile,
                       row = static_cast<std::int64_t>(i) / across * kPageTile;
    tiles[i] = packed(
        Tile{values, cols, col, row, std::min(kPageTile, cols - col), std::min(kPageTile, rows - row), step}.raw());
  });
  PlaneBytes out;
  for (const auto& t : tiles) {
    out.lengths.push_back(t.size());
    out.bytes.insert(out.bytes.end(), t.begin(), t.end());
  }
  return out;
}

}  // namespace katoptra
