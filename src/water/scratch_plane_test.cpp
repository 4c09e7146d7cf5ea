// Planes in a file, whatever the windows in which they are written and read.
#include "scratch_plane.hpp"

#include <gtest/gtest.h>
#include <random>

#include "katoptra/base/parallel.hpp"

#include "played_ranks.hpp"

namespace katoptra {
namespace {

// What a plane should hold, as an array.
template <class T>
T cell(std::int64_t col, std::int64_t row) {
  return static_cast<T>(col * 7 + row * 131 + 1);
}

template <class T>
void expect_cells(const ScratchPlane<T>& plane, std::int64_t cols, std::int64_t rows, const Window& w, T outside) {
  constexpr std::int64_t kMore = 3;  // of a wider array
  const T untouched = cell<T>(-9, -9);
  std::vector<T> got(static_cast<std::size_t>((w.cols + kMore) * w.rows), untouched);
  plane.read(w, outside, got.data(), w.cols + kMore);
  for (std::int64_t r = 0; r < w.rows; ++r)
    for (std::int64_t c = 0; c < w.cols + kMore; ++c) {
      const std::int64_t col = w.col + c, row = w.row + r;
      const bool inside = col >= 0 && row >= 0 && col < cols && row < rows;
      const T expected = c >= w.cols ? untouched : inside ? cell<T>(col, row) : outside;
      ASSERT_EQ(got[static_cast<std::size_t>(r * (w.cols + kMore) + c)], expected) << col << ", " << row;
    }
}

template <class T>
void written_and_read(std::int64_t cols, std::int64_t rows, std::int64_t edge, PlaneLayout layout) {
  SCOPED_TRACE(std::to_string(cols) + " x " + std::to_string(rows) + " in tiles of " + std::to_string(edge));
  ScratchPlane<T> plane(cols, rows, "a plane", nullptr, {}, layout);
  std::vector<Window> tiles;
  for (std::int64_t r = 0; r < rows; r += edge)
    for (std::int64_t c = 0; c < cols; c += edge)
      tiles.push_back(Window{c, r, edge, edge}.intersected({0, 0, cols, rows}));
  std::mt19937 random(3);
  std::shuffle(tiles.begin(), tiles.end(), random);
  RunOptions three;
  three.threads = 3;
  parallel_for(tiles.size(), three, [&](std::size_t t) {
    const Window& w = tiles[t];
    const std::int64_t stride = w.cols + static_cast<std::int64_t>(t % 3);
    std::vector<T> cells(static_cast<std::size_t>(stride * w.rows));
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c)
        cells[static_cast<std::size_t>(r * stride + c)] = cell<T>(w.col + c, w.row + r);
    plane.write(w, cells.data(), stride);
  });
  std::vector<Window> windows{{0, 0, cols, rows},
                              {-1, -1, cols + 2, rows + 2},
                              {0, rows - 1, cols, 1},
                              {cols - 1, 0, 1, rows},
                              {cols + 5, 0, 3, 3}};
  for (const Window& tile : tiles) windows.push_back(tile.grown(1));
  const auto below = [&](std::int64_t n) {
    return static_cast<std::int64_t>(random() % static_cast<std::uint64_t>(n));
  };
  for (int i = 0; i < 60; ++i)
    windows.push_back({below(cols + 20) - 10, below(rows + 20) - 10, 1 + below(cols), 1 + below(rows)});
  parallel_for(windows.size(), three,
               [&](std::size_t i) { expect_cells<T>(plane, cols, rows, windows[i], cell<T>(-5, 2)); });
}

TEST(ScratchPlane, HoldsWhatWasWrittenInWhateverTiles) {
  for (const PlaneLayout layout : {PlaneLayout::Blocks, PlaneLayout::Rows}) {
    for (const std::int64_t edge : {7, 64, 100, 512}) {
      written_and_read<std::uint8_t>(333, 151, edge, layout);
      written_and_read<float>(64, 513, edge, layout);
    }
    written_and_read<std::int64_t>(130, 1030, 512, layout);
    written_and_read<std::int32_t>(1, 1, 512, layout);
    written_and_read<std::int32_t>(65, 3, 2, layout);
  }
}

// Parts of another process come when they come: a reader meets the end of the file nowhere.
TEST(ScratchPlane, BesideWhatIsWrittenNothingIsTouched) {
  ScratchPlane<std::int32_t> plane(200, 600, "a plane");
  const std::vector<std::int32_t> ones(50 * 600, 1), twos(3 * 3, 2);
  plane.write({70, 0, 50, 600}, ones.data());
  plane.write({80, 510, 3, 3}, twos.data());
  std::int64_t sum = 0;
  for (const std::int32_t v : plane.read({0, 0, 200, 600}, 0)) sum += v;
  EXPECT_EQ(sum, 50 * 600 + 9);
}

// Where processes have files in common, a row that is written and not taken over stays what it was.
TEST(ScratchPlane, RowsChangeFromRoundToRound) {
  constexpr std::int64_t kParts = 9;
  for (const bool common : {false, true}) {
    testing::PlayedRanks ranks(true);
    const auto folder = common ? CommonFolder::made({}, "a plane") : nullptr;
    ASSERT_EQ(is_seen(folder), common);
    ChangingRows<std::int32_t> plane(7, kParts, "a plane", folder, "rounds");
    std::vector<std::int32_t> now(kParts);
    const auto write = [&](std::int64_t part, std::int32_t value) {
      plane.write(static_cast<std::size_t>(part), std::vector<std::int32_t>(5, value));
    };
    for (std::int32_t round = 0; round < 4; ++round) {
      if (round > 0) plane.next_round();
      for (std::int64_t p = 0; p < kParts; ++p)
        if (round == 0 || p % 4 < round) write(p, 100 * round + static_cast<std::int32_t>(p));
      for (std::int64_t p = 0; p < kParts; ++p) {
        if (round > 0 && (p % 4 >= round || (common && p == 4))) continue;
        plane.renew(static_cast<std::size_t>(p));
        now[static_cast<std::size_t>(p)] = 100 * round + static_cast<std::int32_t>(p);
      }
      for (std::int64_t p = 0; p < kParts; ++p)
        EXPECT_EQ(plane.read(static_cast<std::size_t>(p), 5),
                  std::vector<std::int32_t>(5, now[static_cast<std::size_t>(p)]))
            << round << ", " << p;
    }
  }
}

}  // namespace
}  // namespace katoptra
