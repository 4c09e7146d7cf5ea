// LAS and LAZ as they are written: one pass over the points, the header last.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <limits>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"

#include "las_header.hpp"
#include "laz_items.hpp"

namespace katoptra::las {

// What a header tells of the points, from their records.
struct Tally {
  std::int32_t low[3], high[3];
  std::uint64_t points = 0;
  std::array<std::uint64_t, 15> by_return{};

  Tally() {
    std::fill_n(low, 3, std::numeric_limits<std::int32_t>::max());
    std::fill_n(high, 3, std::numeric_limits<std::int32_t>::min());
  }
  void add(const std::uint8_t* r, std::size_t n, std::size_t stride, bool wide) {
    for (std::size_t i = 0; i < n; ++i, r += stride) {
      for (int a = 0; a < 3; ++a) {
        const auto v = laz::load<std::int32_t>(r + 4 * a);
        low[a] = std::min(low[a], v);
        high[a] = std::max(high[a], v);
      }
      const int number = r[14] & (wide ? 15 : 7);
      if (number >= 1) ++by_return[static_cast<std::size_t>(number - 1)];
    }
    points += n;
  }
  void tell(Header& h) const {
    h.points = points;
    h.by_return = by_return;
    for (int a = 0; a < 3 && points > 0; ++a) {
      h.lowest[a] = low[a] * h.lattice.step[a] + h.lattice.origin[a];
      h.highest[a] = high[a] * h.lattice.step[a] + h.lattice.origin[a];
    }
  }
};

// What a file of such points says at its head; no points yet.
Header header_for(const PointInfo& info, const PointWriteOptions& options, bool compressed,
                  std::vector<std::string>& notes);
void tell(const Header& h, PointWriteReport& report);

// Fills in what came out; the caller commits the sink.
void write_las(const PointCloud& cloud, ByteSink& sink, bool compressed, const PointWriteOptions& options,
               PointWriteReport& report);

// As an octree of chunks, coarse levels first (COPC 1.0): each level has at most one point in each of 128 x 128 x 128
// boxes of a node, the first that came; what is left goes to the eight nodes below, and 25,000 points or fewer stay
// together. Points within a node keep their order. The cloud is read twice, three times where there are more than
// `heap`; then points wait in a temporary file. Refused in degrees, in which no cube is one; TooLarge where the samples
// of the levels above the heaps do not fit into memory (some 10^10 points in 512 MiB). Other values of `heap` are for
// tests.
inline constexpr std::size_t kPointsOfHeap = 4'000'000;
void write_copc(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options, PointWriteReport& report,
                std::size_t heap = kPointsOfHeap);

}  // namespace katoptra::las
