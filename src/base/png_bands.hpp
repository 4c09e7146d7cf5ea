// A PNG of bands of rows that are packed on any thread and put behind one another.
//
//   PngBands png(cols, rows, 3, take);
//   png.add(png.packed(first_rows));   // packed() anywhere, add() in order
//   png.finish();
//
// Bands are filtered and deflated by themselves and are one stream behind one another: deflate ends at whole bytes
// where it is flushed. The first row of a band is filtered without the one above.
#pragma once
#include <algorithm>
#include <cstdint>
#include <cstdlib>
#include <functional>
#include <initializer_list>
#include <span>
#include <utility>
#include <vector>
#include <zlib.h>

#include "katoptra/base/error.hpp"

namespace katoptra {

class PngBands {
 public:
  using Take = std::function<void(std::span<const std::uint8_t>)>;

  // `parts`: 3 bytes a pixel, red, green and blue, or 4 with opacity.
  PngBands(std::int64_t cols, std::int64_t rows, std::size_t parts, Take take)
      : stride_(static_cast<std::size_t>(cols) * parts), parts_(parts), take_(std::move(take)) {
    put({0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'});
    std::vector<std::uint8_t> head;
    for (const std::int64_t n : {cols, rows})
      for (int shift = 24; shift >= 0; shift -= 8) head.push_back(static_cast<std::uint8_t>(n >> shift));
    head.insert(head.end(), {8, static_cast<std::uint8_t>(parts == 4 ? 6 : 2), 0, 0, 0});
    chunk("IHDR", head);
    chunk("IDAT", std::vector<std::uint8_t>{0x78, 0x5E});  // how a stream of deflate begins
  }

  // Whole rows. The deflated band, behind it the sum of what it is and how long that was.
  std::vector<std::uint8_t> packed(std::span<const std::uint8_t> rows) const {
    const std::vector<std::uint8_t> plain = filtered(rows);
    z_stream z{};
    if (deflateInit2(&z, kLevel, Z_DEFLATED, -15, 9, Z_FILTERED) != Z_OK)
      throw Error(ErrorCode::TooLarge, "no memory for a picture", "picture", "take a smaller width");
    std::vector<std::uint8_t> out(deflateBound(&z, static_cast<uLong>(plain.size())) + 64);
    z.next_in = const_cast<Bytef*>(plain.data());
    z.avail_in = static_cast<uInt>(plain.size());
    z.next_out = out.data();
    z.avail_out = static_cast<uInt>(out.size());
    const int code = deflate(&z, Z_SYNC_FLUSH);
    out.erase(out.end() - static_cast<std::ptrdiff_t>(z.avail_out), out.end());
    deflateEnd(&z);
    if (code != Z_OK) throw Error(ErrorCode::Io, "a band of the picture cannot be packed", "picture");
    const std::uint64_t sum = adler32(1, plain.data(), static_cast<uInt>(plain.size()));
    for (const std::uint64_t v : {sum, static_cast<std::uint64_t>(plain.size())})
      for (int i = 0; i < 8; ++i) out.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
    return out;
  }
  void add(std::span<const std::uint8_t> band) {
    std::uint64_t told[2] = {};
    for (std::size_t k = 0; k < 16; ++k)
      told[k / 8] |= static_cast<std::uint64_t>(band[band.size() - 16 + k]) << (8 * (k % 8));
    sum_ = adler32_combine(sum_, static_cast<uLong>(told[0]), static_cast<z_off_t>(told[1]));
    chunk("IDAT", band.first(band.size() - 16));
  }
  void finish() {
    std::vector<std::uint8_t> end{3, 0};  // an empty last block
    for (int shift = 24; shift >= 0; shift -= 8) end.push_back(static_cast<std::uint8_t>(sum_ >> shift));
    chunk("IDAT", end);
    chunk("IEND", {});
  }

 private:
  static constexpr int kLevel = 2;  // of filtered relief: smaller than 4, and in half the time

  // Each byte less what the pixels to the left and above foretell (Paeth); of the first row, less that to the left.
  std::vector<std::uint8_t> filtered(std::span<const std::uint8_t> rows) const {
    const std::size_t stride = stride_, n = rows.size() / stride, parts = parts_;
    std::vector<std::uint8_t> out(n * (stride + 1));
    for (std::size_t r = 0; r < n; ++r) {
      const std::uint8_t* row = rows.data() + r * stride;
      std::uint8_t* to = out.data() + r * (stride + 1);
      *to++ = r > 0 ? 4 : 1;
      if (r == 0) {
        for (std::size_t i = 0; i < stride; ++i)
          to[i] = static_cast<std::uint8_t>(row[i] - (i >= parts ? row[i - parts] : 0));
        continue;
      }
      const std::uint8_t* above = row - stride;
      for (std::size_t i = 0; i < parts; ++i) to[i] = static_cast<std::uint8_t>(row[i] - above[i]);
      for (std::size_t i = parts; i < stride; ++i) {
        const int left = row[i - parts], up = above[i], corner = above[i - parts];
        const int a = std::abs(up - corner), b = std::abs(left - corner), c = std::abs(left + up - 2 * corner);
        const int other = b <= c ? up : corner;
        to[i] = static_cast<std::uint8_t>(row[i] - (a <= b && a <= c ? left : other));
      }
    }
    return out;
  }
  void put(std::initializer_list<std::uint8_t> bytes) { take_(std::span(bytes.begin(), bytes.size())); }
  void chunk(const char* name, std::span<const std::uint8_t> bytes) {
    const std::size_t n = bytes.size();
    std::vector<std::uint8_t> out(n + 12);
    const auto number = [&](std::size_t at, std::uint64_t v) {
      for (std::size_t k = 0; k < 4; ++k) out[at + k] = static_cast<std::uint8_t>(v >> (24 - 8 * k));
    };
    number(0, n);
    std::copy_n(name, 4, out.begin() + 4);
    std::copy(bytes.begin(), bytes.end(), out.begin() + 8);
    number(n + 8, crc32(0, out.data() + 4, static_cast<uInt>(n + 4)));
    take_(out);
  }

  std::size_t stride_, parts_;
  Take take_;
  uLong sum_ = 1;
};

}  // namespace katoptra
