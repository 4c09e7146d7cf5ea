// How numbers lie in a page: tiles of 256 x 256 cells, each packed by itself (zlib, RFC 1950), so that both sides can
// work on several at once. A value is a whole number of steps; each is told from its neighbours to the left and above
// (the median of left, above and their plane, as in lossless JPEG, ITU-T T.87), differences are folded (0, -1, 1, -2
// ...), and their bytes lie apart, lowest first. A tile is
//
//   1 byte   how many bytes a difference has, 0 to 4
//   1 byte   1 where a mask of known cells follows: a bit a cell, row by row, lowest bit first, 0 for a void
//   mask     ceil(cells / 8) bytes
//   bytes    the lowest of every cell, then the next ...
//
// A void takes part as the value that was foretold, so its difference is 0.
#pragma once
#include <cstdint>
#include <vector>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

inline constexpr std::int64_t kPageTile = 256;

struct PlaneBytes {
  std::vector<std::size_t> lengths;  // of the tiles, row by row
  std::vector<std::uint8_t> bytes;
};
// `values`: cols x rows, NaN for voids; each within 2^30 steps of zero.
PlaneBytes plane_bytes(const std::vector<float>& values, std::int64_t cols, std::int64_t rows, double step,
                       const RunOptions& run);

// A column of whole numbers as a tile of one row.
std::vector<std::uint8_t> column_bytes(const std::vector<std::int32_t>& values);

}  // namespace katoptra
