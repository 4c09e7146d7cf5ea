// Regions joined row by row against a plain flood fill.
#include "regions.hpp"

#include <algorithm>
#include <map>

#include "check/check_testing.hpp"
#include "detector.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Sizes of all regions of equal values other than zero, largest first.
std::vector<std::int64_t> flooded(const std::vector<int>& v, std::int64_t cols, bool corners) {
  const auto rows = static_cast<std::int64_t>(v.size()) / cols;
  std::vector<bool> done(v.size());
  std::vector<std::int64_t> sizes;
  for (std::int64_t start = 0; start < cols * rows; ++start) {
    if (done[static_cast<std::size_t>(start)] || v[static_cast<std::size_t>(start)] == 0) continue;
    std::vector<std::int64_t> open{start};
    done[static_cast<std::size_t>(start)] = true;
    std::int64_t n = 0;
    while (!open.empty()) {
      const std::int64_t at = open.back();
      open.pop_back();
      ++n;
      for (std::int64_t dr = -1; dr <= 1; ++dr)
        for (std::int64_t dc = -1; dc <= 1; ++dc) {
          const std::int64_t r = at / cols + dr, c = at % cols + dc;
          if (r < 0 || c < 0 || r >= rows || c >= cols || (!corners && dr != 0 && dc != 0)) continue;
          const auto i = static_cast<std::size_t>(r * cols + c);
          if (done[i] || v[i] != v[static_cast<std::size_t>(at)]) continue;
          done[i] = true;
          open.push_back(r * cols + c);
        }
    }
    sizes.push_back(n);
  }
  std::sort(sizes.rbegin(), sizes.rend());
  return sizes;
}

std::vector<RegionRun> runs_of(const int* row, std::int64_t cols) {
  std::vector<RegionRun> runs;
  for (std::int64_t c = 0; c < cols;) {
    std::int64_t end = c + 1;
    while (end < cols && row[end] == row[c]) ++end;
    if (row[c] != 0)
      runs.push_back({static_cast<std::int32_t>(c), static_cast<std::int32_t>(end), static_cast<float>(row[c])});
    c = end;
  }
  return runs;
}

TEST(Regions, AgreeWithAFloodFill) {
  for (unsigned seed = 1; seed <= 40; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937 random(seed);
    const std::int64_t cols = 1 + random() % 60, rows = 1 + random() % 50;
    const unsigned kinds = 2 + seed % 3;
    std::vector<int> v;
    for (std::int64_t i = 0; i < cols * rows; ++i) v.push_back(static_cast<int>(random() % kinds));
    for (const bool corners : {false, true}) {
      Regions regions(1, corners ? Regions::Touching::EdgesAndCorners : Regions::Touching::Edges);
      for (std::int64_t r = 0; r < rows; ++r) regions.add_row(runs_of(&v[static_cast<std::size_t>(r * cols)], cols), r);
      std::vector<std::int64_t> sizes;
      for (const Region& r : regions.finish()) {
        sizes.push_back(r.cells);
        EXPECT_LE(r.cells, r.box.cols * r.box.rows);
      }
      EXPECT_EQ(sizes, flooded(v, cols, corners)) << corners;
      EXPECT_EQ(regions.count(), static_cast<std::int64_t>(sizes.size()));
    }
  }
}

// A raw grid of points has a void in every other cell: it must be judged, not refused, and only the largest are kept.
TEST(Check, MillionsOfVoidsAreCounted) {
  const std::int64_t edge = 2500;
  const Frame f = utm_frame(edge, edge);
  std::mt19937 random(7);
  std::vector<float> v;
  std::vector<int> gone;
  for (std::int64_t i = 0; i < edge * edge; ++i) {
    const std::int64_t c = i % edge, r = i / edge;
    const bool inside = c > 0 && r > 0 && c + 1 < edge && r + 1 < edge;
    gone.push_back(inside && (random() % 3 == 0 || std::hypot(c - 900, r - 1700) < 40));
    v.push_back(gone.back() ? kVoid : static_cast<float>(50 + 0.001 * static_cast<double>(random() % 100)));
  }
  const CheckReport report = check(grid_of(f, v), {.run = {.memory = 32u << 20}});
  const Finding* k = found(report, "voids");
  ASSERT_TRUE(k);
  const auto sizes = flooded(gone, edge, true);
  EXPECT_GT(sizes.size(), Regions::kKept);
  EXPECT_EQ(*k->measure, std::count(gone.begin(), gone.end(), 1));
  EXPECT_EQ(k->place.size(), kMostPlaces);
  const std::string told = std::to_string(sizes.size()) + " voids inside with " +
                           std::to_string(std::count(gone.begin(), gone.end(), 1)) + " cells",
                    most = "the largest has " + std::to_string(sizes[0]) + " cells";
  EXPECT_NE(k->message.find(told), std::string::npos) << k->message << "\n" << told;
  EXPECT_NE(k->message.find(most), std::string::npos) << k->message << "\n" << most;
}

}  // namespace
}  // namespace katoptra
