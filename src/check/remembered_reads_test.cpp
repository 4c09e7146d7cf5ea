#include "remembered_reads.hpp"

#include <atomic>
#include <gtest/gtest.h>
#include <random>

#include "katoptra/base/parallel.hpp"

#include "check_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

class CountedReads final : public GridSource {
 public:
  explicit CountedReads(Grid grid) : grid_(std::move(grid)) {}
  const GridInfo& info() const override { return grid_.info(); }
  void read(const BlockView& out) const override {
    ++count;
    grid_.read_into(out);
  }
  mutable std::atomic<int> count = 0;

 private:
  Grid grid_;
};

void expect_same(const Grid& a, const Grid& b, const Window& w) {
  const Block x = a.read(w), y = b.read(w);
  for (std::int64_t r = 0; r < w.rows; ++r)
    for (std::int64_t c = 0; c < w.cols; ++c)
      if (const float u = x.at(c, r), v = y.at(c, r); u != v && !(std::isnan(u) && std::isnan(v)))
        FAIL() << u << " is not " << v << " at " << w.col + c << ", " << w.row + r;
}

TEST(RememberedReads, AreTheGridsOwnWhateverIsAskedFor) {
  const Frame f(Crs(), 0, 101, {1, 1}, 137, 101);
  std::vector<float> z = hills(f, 3);
  for (std::size_t i = 0; i < z.size(); i += 7) z[i] = kVoid;
  const Grid plain = grid_of(f, z);
  const Grid kept(std::make_shared<RememberedReads>(plain, 5, 60'000));
  std::mt19937 random(8);
  std::vector<Window> windows;
  for (int i = 0; i < 400; ++i)
    windows.push_back({static_cast<std::int64_t>(random() % 160) - 10, static_cast<std::int64_t>(random() % 120) - 10,
                       static_cast<std::int64_t>(random() % 40) + 1, static_cast<std::int64_t>(random() % 40) + 1});
  RunOptions four;
  four.threads = 4;
  parallel_for(windows.size(), four, [&](std::size_t i) { expect_same(kept, plain, windows[i]); });
}

TEST(RememberedReads, PlacesALittleFurtherOnAreNotReadAgain) {
  const Frame f(Crs(), 0, 300, {1, 1}, 300, 300);
  const auto source = std::make_shared<CountedReads>(grid_of(f, hills(f, 4)));
  const RememberedReads kept(Grid(source), 6, 1 << 20);
  const Grid grid(std::shared_ptr<const GridSource>(&kept, [](auto*) {}));
  for (const std::int64_t on : {0, 1, -5, 6})
    for (const std::int64_t at : {0, 100, 200}) grid.read({at + on, at - on, 64, 64});
  EXPECT_EQ(source->count, 3);
  grid.read({107, 100, 64, 64});
  EXPECT_EQ(source->count, 4);
}

TEST(RememberedReads, NoMoreIsKeptThanThereIsRoomFor) {
  const Frame f(Crs(), 0, 300, {1, 1}, 300, 300);
  const auto source = std::make_shared<CountedReads>(grid_of(f, hills(f, 4)));
  const RememberedReads kept(Grid(source), 0, 100'000);
  const Grid grid(std::shared_ptr<const GridSource>(&kept, [](auto*) {}));
  for (int again = 0; again < 2; ++again)
    for (std::int64_t at = 0; at < 10; ++at) grid.read({at * 10, at * 10, 100, 100});  // 40 kB each
  EXPECT_EQ(kept.kept(), 80'000u);
  EXPECT_EQ(source->count, 18);
}

}  // namespace
}  // namespace katoptra
