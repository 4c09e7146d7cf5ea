#include "katoptra/grid/grid.hpp"

#include <atomic>
#include <random>
#include <thread>

#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/frame.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(Frame, CentresAndBack) {
  const Frame f = utm_frame(400, 300, 2);
  EXPECT_EQ(f.centre(0, 0), (Point{676001, 5841999}));
  EXPECT_DOUBLE_EQ(f.col_at(676001), 0.5);
  EXPECT_DOUBLE_EQ(f.row_at(5841999), 0.5);
  EXPECT_EQ(f.south(), 5841400);
}

TEST(Frame, NodesAreHalfACellFurtherOut) {
  const Frame f = NodeFrame{Crs::wgs84(), -32, -37, {1.0 / 1200, 1.0 / 1200}, 1201, 1201}.cells();
  EXPECT_NEAR(f.centre(0, 0).x, -32, 1e-12);
  EXPECT_NEAR(f.centre(1200, 1200).y, -38, 1e-12);
}

TEST(Frame, SnappedToWholeMultiples) {
  const Frame f = Frame::snapped(Crs::parse("EPSG:32725"), {676000.4, 5841000.2, 676100.1, 5841099.9}, {5, 5});
  EXPECT_EQ(f.west(), 676000);
  EXPECT_EQ(f.north(), 5841100);
  EXPECT_EQ(f.cols(), 21);
  EXPECT_EQ(f.rows(), 20);
  // Edges that are already round stay where they are.
  EXPECT_EQ(Frame::snapped(Crs::wgs84(), {0.1, 0.2, 0.4, 0.5}, {0.1, 0.1}).cols(), 3);
}

TEST(Frame, LatticesAreToldApart) {
  const Frame f = utm_frame(100, 100);
  EXPECT_EQ(*f.window_of(utm_frame(50, 40, 1, 676010, 5841990)), (Window{10, 10, 50, 40}));
  EXPECT_EQ(*f.window_of(utm_frame(50, 40, 1, 676010 + 1e-9, 5841990)), (Window{10, 10, 50, 40}));
  EXPECT_FALSE(f.window_of(utm_frame(50, 40, 1, 676010.5, 5841990)));
  EXPECT_FALSE(f.window_of(utm_frame(50, 40, 2, 676010, 5841990)));
  EXPECT_FALSE(f.window_of(f.with_crs(Crs::parse("EPSG:32724"))));
  // Cells that differ so little that they drift apart only over a large frame.
  const Frame wide(f.crs(), f.west(), f.north(), {1, 1}, 100000, 10),
      near(f.crs(), f.west(), f.north(), {1 + 1e-6, 1}, 100000, 10);
  EXPECT_FALSE(wide.window_of(near));
}

TEST(Frame, AbsurdSizesAreErrors) {
  const Crs crs = Crs::parse("EPSG:32725");
  EXPECT_EQ(error_of([&] { Frame(crs, 0, 0, {1, 1}, 0, 5); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { Frame(crs, 0, 0, {-1, 1}, 5, 5); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { Frame(crs, 0, 0, {1, 1}, 1ll << 40, 5); }), ErrorCode::TooLarge);
  EXPECT_EQ(error_of([&] { Frame::snapped(crs, {0, 0, 1e30, 1}, {1e-3, 1}); }), ErrorCode::TooLarge);
}

TEST(Grid, CellsOutsideTheFrameAreVoids) {
  const Grid g = grid_from_values(utm_frame(2, 2), {1, 2, 3, 4});
  const Block b = g.read({-1, -1, 4, 4});
  EXPECT_TRUE(std::isnan(b.at(0, 0)));
  EXPECT_EQ(b.at(1, 1), 1);
  EXPECT_EQ(b.at(2, 2), 4);
  EXPECT_TRUE(std::isnan(b.at(3, 2)));
  EXPECT_TRUE(std::isnan(g.read({10, 10, 2, 2}).at(0, 0)));
}

TEST(Grid, UnitsAreConvertedExactlyAndSaid) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid g = in_unit(grid_from_values(utm_frame(2, 1), {100, kVoid}, feet, SampleType::Int16), LengthUnit::Metre);
  EXPECT_FLOAT_EQ(g.at(0, 0), 30.48f);
  EXPECT_TRUE(std::isnan(g.at(1, 0)));
  EXPECT_EQ(g.info().type, SampleType::Float32);
  EXPECT_EQ(g.info().notes.size(), 1u);
  EXPECT_EQ(g.info().sources[0].treatment, "ft to m");
}

TEST(Grid, BandsCoverEveryCellOnceInOrder) {
  const Grid g = rough_grid(utm_frame(301, 517), 1);
  const auto all = all_values(g);
  for (int threads : {1, 2, 3})
    for (int block : {1, 7, 64, 1000}) {
      std::size_t at = 0;
      bool same = true;
      for_each_band(g, Planes::Values, {.threads = threads, .block = block}, [&](const Block& b) {
        for (std::int64_t i = 0; i < b.window().cells(); ++i)
          same = same && same_bits(b.row(0)[i], all[at + static_cast<std::size_t>(i)]);
        at += static_cast<std::size_t>(b.window().cells());
      });
      EXPECT_TRUE(same) << threads << " threads, bands of " << block;
      EXPECT_EQ(at, all.size());
    }
}

TEST(SampleType, CommonTypeHoldsBoth) {
  EXPECT_EQ(common_type(SampleType::UInt8, SampleType::Int16), SampleType::Int16);
  EXPECT_EQ(common_type(SampleType::UInt8, SampleType::Int8), SampleType::Int16);
  EXPECT_EQ(common_type(SampleType::UInt16, SampleType::Int16), SampleType::Int32);
  EXPECT_EQ(common_type(SampleType::Int16, SampleType::Float32), SampleType::Float32);
  EXPECT_EQ(common_type(SampleType::Float64, SampleType::UInt8), SampleType::Float64);
}

TEST(BlockCache, NothingIsMadeTwiceAndTheBudgetHolds) {
  BlockCache cache(10 * 1000);
  const auto owner = cache.new_owner();
  std::atomic<int> made{0};
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&] {
      for (std::uint64_t i = 0; i < 8; ++i)
        EXPECT_EQ((*cache.get(owner, i,
                              [&] {
                                ++made;
                                std::this_thread::sleep_for(std::chrono::milliseconds(2));
                                return BlockCache::Bytes(1000, static_cast<std::uint8_t>(i));
                              }))[0],
                  i);
    });
  for (auto& t : threads) t.join();
  EXPECT_EQ(made, 8);
  for (std::uint64_t i = 100; i < 200; ++i) cache.get(owner, i, [] { return BlockCache::Bytes(1000); });
  EXPECT_LE(cache.bytes(), 10000u);
  cache.forget(owner);
  EXPECT_EQ(cache.bytes(), 0u);
}

TEST(BlockCache, WhatIsUnderWayElsewhereIsComeBackTo) {
  // Room for nothing: who asked while it was made has it all the same, and it is not made again.
  BlockCache cache(0);
  for (const bool fails : {false, true}) {
    std::atomic<bool> begun{false}, go_on{false};
    std::atomic<int> made{0};
    std::thread maker([&] {
      const auto block = [&]() -> BlockCache::Bytes {
        begun = true;
        while (!go_on) std::this_thread::yield();
        ++made;
        if (fails) throw Error(ErrorCode::BadFile, "broken");
        return BlockCache::Bytes(300, 5);
      };
      if (fails)
        EXPECT_THROW(cache.get(1, 7, block), Error);
      else
        cache.get(1, 7, block);
    });
    while (!begun) std::this_thread::yield();
    std::shared_ptr<BlockCache::UnderWay> here, there;
    const auto mine = [&] {
      ++made;
      return BlockCache::Bytes(300, 6);
    };
    EXPECT_EQ(cache.get_unless_under_way(1, 7, mine, there), nullptr);
    ASSERT_TRUE(there);
    EXPECT_EQ((*cache.get_unless_under_way(1, 8, mine, here))[0], 6);
    EXPECT_FALSE(here);
    go_on = true;
    const auto data = cache.wait_for(*there);
    maker.join();
    EXPECT_EQ(made, 2);
    EXPECT_EQ(data == nullptr, fails);
    if (data) {
      EXPECT_EQ((*data)[299], 5);
    }
  }
}

// A row of blocks that is larger than the cache, read again and again: decoded once, then read from the scratch file.
TEST(BlockCache, ARowLargerThanTheCacheIsDecodedOnce) {
  for (const int threads : {1, 4}) {
    BlockCache cache(40 * 1000);
    const auto owner = cache.new_owner();
    std::atomic<int> made{0}, wrong{0};
    constexpr std::uint64_t kRow = 100;
    const auto read = [&](std::uint64_t i) {
      const auto block = cache.get(owner, i, [&] {
        ++made;
        return BlockCache::Bytes(900 + i, static_cast<std::uint8_t>(i));
      });
      wrong +=
          block->size() != 900 + i || block->front() != static_cast<std::uint8_t>(i) || block->back() != block->front();
    };
    for (int band = 0; band < 60; ++band) parallel_for(kRow, {.threads = threads}, [&](std::size_t i) { read(i); });
    EXPECT_EQ(wrong, 0);
    // Until it is seen that they come back; then not again.
    EXPECT_LE(made, 3 * static_cast<int>(kRow));
    EXPECT_LE(cache.bytes(), 40'000u);
    // The next row, and the one after: each once or twice.
    const int before = made;
    for (std::uint64_t row = 1; row < 4; ++row)
      for (int band = 0; band < 30; ++band)
        for (std::uint64_t i = 0; i < kRow; ++i) read(row * kRow + i);
    EXPECT_LE(made - before, 3 * 2 * static_cast<int>(kRow));
    EXPECT_EQ(wrong, 0);
    cache.forget(owner);
    const int forgotten = made;
    for (std::uint64_t i = 0; i < 10; ++i) read(i);
    EXPECT_EQ(made, forgotten + 10);
  }
}

// What passes by once, or comes back after everything else, is not written anywhere.
TEST(BlockCache, RandomReadingIsRightWhateverWaitsElsewhere) {
  BlockCache cache(30 * 1000);
  const auto owner = cache.new_owner();
  std::atomic<int> wrong{0};
  parallel_for(8, {.threads = 8}, [&](std::size_t t) {
    std::mt19937 random(static_cast<unsigned>(t));
    for (int i = 0; i < 4000; ++i) {
      const std::uint64_t k = i / 1000 % 2 ? random() % 90 : static_cast<std::uint64_t>(i) % 120;
      const auto block =
          cache.get(owner, k, [&] { return BlockCache::Bytes(500 + 10 * k, static_cast<std::uint8_t>(k)); });
      wrong += block->size() != 500 + 10 * k || block->front() != static_cast<std::uint8_t>(k) ||
               block->back() != static_cast<std::uint8_t>(k);
      if (i % 997 == 0) cache.set_budget(20'000 + random() % 20'000);
    }
  });
  EXPECT_EQ(wrong, 0);
}

TEST(BlockCache, AnErrorIsPassedOnAndTheNextTryMakesAgain) {
  BlockCache cache(1000);
  EXPECT_EQ(
      error_of([&] { cache.get(1, 1, []() -> BlockCache::Bytes { throw Error(ErrorCode::BadFile, "broken"); }); }),
      ErrorCode::BadFile);
  EXPECT_EQ(cache.get(1, 1, [] { return BlockCache::Bytes(5); })->size(), 5u);
}

}  // namespace
}  // namespace katoptra
