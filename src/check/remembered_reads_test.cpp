#include "remembered_reads.hpp"

#include <atomic>
#include <gtest/gtest.h>
#include <random>

#include "katoptra/base/parallel.hpp"
#include "katoptra/check/compare.hpp"

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
    cells += out.window.cells();
    grid_.read_into(out);
  }
  mutable std::atomic<int> count = 0;
  mutable std::atomic<std::int64_t> cells = 0;

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

Grid with_voids(const Frame& f) {
  std::vector<float> z = hills(f, 3);
  for (std::size_t i = 0; i < z.size(); i += 7) z[i] = kVoid;
  return grid_of(f, z);
}

TEST(RememberedReads, AreTheGridsOwnWhateverIsAskedFor) {
  const Frame f(Crs(), 0, 101, {1, 1}, 137, 101);
  const Grid plain = with_voids(f);
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

TEST(KeptInPassing, IsTheGridsOwnWhileItPassesAndAfter) {
  const Frame f(Crs(), 0, 101, {1, 1}, 137, 101);
  const Grid plain = with_voids(f);
  const auto source = std::make_shared<KeptInPassing>(plain);
  source->keep({{0, 0, 64, 64}, {60, 30, 64, 64}, {100, 90, 64, 64}, {-5, -5, 9, 9}, {136, 100, 1, 1}, {500, 0, 3, 3}},
               60'000);
  const Grid kept(source);
  std::mt19937 random(8);
  std::vector<Window> windows;
  for (std::int64_t i = 0; i < 600; ++i) {
    const auto any = [&](int n) { return static_cast<std::int64_t>(random() % static_cast<unsigned>(n)); };
    windows.push_back(i % 3 == 0 ? Window{-1, i / 3 % 101 - 1, 139, 1 + any(9)}
                                 : Window{any(160) - 10, any(120) - 10, any(40) + 1, any(40) + 1});
  }
  RunOptions four;
  four.threads = 4;
  parallel_for(windows.size(), four, [&](std::size_t i) { expect_same(kept, plain, windows[i]); });
}

TEST(KeptInPassing, APlaceIsWholeWhenAllOfItsRowsHavePassed) {
  const Frame f(Crs(), 0, 300, {1, 1}, 300, 300);
  const auto counted = std::make_shared<CountedReads>(grid_of(f, hills(f, 4)));
  const auto source = std::make_shared<KeptInPassing>(Grid(counted));
  const Window near{10, 20, 50, 60}, far{200, 220, 50, 60};
  source->keep({near, far, {0, 0, 300, 300}}, 50'000);  // no room for the last
  const Grid kept(source);
  const auto read_anew = [&](const Window& w, Planes planes = Planes::Values) {
    const int before = counted->count;
    kept.read(w, planes);
    return counted->count - before;
  };
  EXPECT_EQ(read_anew({0, 40, 300, 40}, Planes::ValuesAndOrigin), 1);
  EXPECT_EQ(read_anew({0, 10, 59, 31}), 1) << "that is not all of its rows";
  EXPECT_EQ(read_anew(near), 1);
  EXPECT_EQ(read_anew(near), 0) << "the place itself has passed";
  EXPECT_EQ(read_anew({30, 30, 1, 7}), 0);
  EXPECT_EQ(read_anew(near, Planes::ValuesAndOrigin), 1) << "values alone are kept";
  EXPECT_EQ(read_anew(near.grown(1)), 1);
  EXPECT_EQ(read_anew({0, 200, 300, 79}), 1);
  EXPECT_EQ(read_anew(far), 1) << "one row is missing";
  EXPECT_EQ(read_anew(far), 0);
  EXPECT_EQ(read_anew({100, 100, 4, 4}), 1);
  source->forget();
  EXPECT_EQ(read_anew(near), 1);
}

// A shift and how errors of neighbours go together are looked for in places that lie in most tiles of a file.
TEST(KeptInPassing, SurfacesThatAreComparedAreReadOnce) {
  const Frame f(Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, 700, 700), wider = f.sub({-40, -30, 800, 800});
  const auto first = std::make_shared<CountedReads>(grid_of(f, hills(f, 4))),
             second = std::make_shared<CountedReads>(grid_of(wider, hills(wider, 5)));
  const Comparison c = compare(Grid(first), Grid(second), {.run = {.threads = 2, .block = 64}});
  ASSERT_TRUE(c.coregistration && c.coregistration->found);
  EXPECT_GT(c.coregistration->cells, 400'000);
  // Once, a row more on either side of a band for gradients, and some windows for a median beforehand.
  EXPECT_LT(first->cells, 1.3 * 700 * 700);
  // Of the second what lies beyond the first is looked at, too, which no band has: blocks at the rim come again.
  EXPECT_LT(second->cells, 1.8 * 700 * 700);
  const Comparison plain =
      compare(grid_of(f, hills(f, 4)), grid_of(wider, hills(wider, 5)), {.run = {.memory = 1 << 20}});
  EXPECT_EQ(c.coregistration->east, plain.coregistration->east);
  EXPECT_EQ(c.coregistration->north_error, plain.coregistration->north_error);
  EXPECT_EQ(c.independent_cells, plain.independent_cells);
}

}  // namespace
}  // namespace katoptra
