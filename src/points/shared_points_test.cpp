// What several processes sort and look through together: each ends with what one alone has.
#include "shared_points.hpp"

#include "katoptra/points/gridding.hpp"
#include "katoptra/points/ground.hpp"

#include "played_ranks.hpp"
#include "point_testing.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Ground with a few boxes on it and a few points far above; some on the same place, in no order.
PointCloud scattered(unsigned seed, std::size_t n, std::size_t part_size) {
  Dice r(seed);
  PointBatch b;
  for (std::size_t i = 0; i < n; ++i) {
    const double x = static_cast<double>(r(60'000)) * 0.001, y = static_cast<double>(r(45'000)) * 0.001;
    b.x.push_back(676000 + x);
    b.y.push_back(5'842'000 + y);
    const double rises = std::fmod(x, 20) < 4 && std::fmod(y, 20) < 4 ? 6 : r(400) == 0 ? 60 : 0;
    b.z.push_back(std::round((10 + 0.1 * x + std::sin(y / 5) + rises) * 1000) / 1000);
    b.return_number.push_back(1);
    b.return_count.push_back(1);
    b.classification.push_back(0);
  }
  PointInfo info = point_info(6);
  info.crs = utm_frame(1, 1).crs();
  info.exact = seed % 2 == 0;
  info.count = n;
  info.bounds = {676000, 5'842'000, 676060, 5'842'045};
  return points_from_batch(std::move(b), info, part_size);
}

void expect_same_grids(const GriddedPoints& a, const GriddedPoints& b) {
  EXPECT_EQ(a.points, b.points);
  EXPECT_EQ(a.outside, b.outside);
  EXPECT_EQ(a.spacing.metres(), b.spacing.metres());
  ASSERT_EQ(a.grids.size(), b.grids.size());
  for (std::size_t m = 0; m < a.grids.size(); ++m) {
    const std::vector<float> x = all_values(a.grids[m]), y = all_values(b.grids[m]);
    ASSERT_EQ(x.size(), y.size());
    for (std::size_t i = 0; i < x.size(); ++i) ASSERT_TRUE(same_bits(x[i], y[i])) << "method " << m << " at " << i;
  }
}

// Played: 0 the first, 1 another, 2 another that does not see the folder.
TEST(SharedPoints, GridsOfSeveralProcessesAreThoseOfOne) {
  for (unsigned seed = 1; seed <= 4; ++seed)
    for (const std::size_t part_size : {97u, 5u, 2600u}) {  // groups of one part, of several, two parts
      const PointCloud cloud = scattered(seed, 5000, part_size);
      PointGridding o{.methods = {{PointMethod::Tin, 50}, {PointMethod::Mean, 50}, {PointMethod::Median, 50}},
                      .tile = 16};
      o.cell = seed < 3 ? Length::metres(1) : Length();
      const GriddedPoints alone = grid_points(cloud, o);
      ASSERT_GT(alone.points, 4000u);
      for (const int played : {0, 1, 2}) {
        SCOPED_TRACE(::testing::Message() << seed << " " << part_size << " " << played);
        PlayedRanks ranks(played == 0);
        ranks.disk_is_elsewhere = played == 2;
        const GriddedPoints shared = grid_points(cloud, o);
        EXPECT_GE(ranks.runs, 2);  // the folder, the points
        EXPECT_EQ(ranks.listened, played == 2 ? 1 : 0);
        expect_same_grids(shared, alone);
      }
    }
}

// What is sampled is made once, by all; tiles that are void are not written, and read as such.
TEST(SharedPoints, GridsThatAreSampledAreMadeTogether) {
  const PointCloud cloud = scattered(2, 5000, 97);
  PointGridding o{.methods = {{PointMethod::Tin, 50}, {PointMethod::Lowest, 50}}, .tile = 16};
  const Frame near = grid_points(cloud, {.cell = Length::metres(1)}).grids[0].frame();
  o.frame = near.sub(near.window().grown(50));
  const GriddedPoints alone = grid_points(cloud, o);
  const auto origins = [&](const Grid& g) {
    const Block b = g.read(o.frame->window(), Planes::ValuesAndOrigin);
    return std::vector<Origin>(b.origin_row(0), b.origin_row(0) + b.window().cells());
  };
  o.sampled = true;
  expect_same_grids(grid_points(cloud, o), alone);
  for (const int played : {0, 1, 2}) {
    SCOPED_TRACE(played);
    PlayedRanks ranks(played == 0);
    ranks.disk_is_elsewhere = played == 2;
    const GriddedPoints shared = grid_points(cloud, o);
    EXPECT_EQ(ranks.runs, 4);  // a folder and the points, another and the tiles
    EXPECT_EQ(ranks.listened, played == 2 ? 2 : 0);
    expect_same_grids(shared, alone);
    for (std::size_t m = 0; m < 2; ++m) EXPECT_EQ(origins(shared.grids[m]), origins(alone.grids[m]));
  }
}

TEST(SharedPoints, NoiseAndGroundAreFoundTogether) {
  const PointCloud cloud = scattered(3, 6000, 100);
  const PointBatch alone = all_points(classify_ground(cloud, {}));
  int ground = 0, noise = 0;
  for (std::uint8_t c : alone.classification) {
    ground += c == 2;
    noise += c == 18;
  }
  ASSERT_GT(ground, 1000);
  ASSERT_GT(noise, 5);
  for (const int played : {0, 1, 2}) {
    SCOPED_TRACE(played);
    PlayedRanks ranks(played == 0);
    ranks.disk_is_elsewhere = played == 2;
    expect_same_points(all_points(classify_ground(cloud, {})), alone);
    // The tally, what is sorted to find noise, its tiles; the points of four grids, the tiles of four.
    EXPECT_GE(ranks.runs, 19);
  }
}

// Pieces of a heap from several writers come in the order in which they were told, whoever was late.
TEST(SharedPoints, HeapsKeepTheOrderInWhichTheyAreTold) {
  PlayedRanks ranks(true);
  const auto folder = CommonFolder::made({}, "points");
  Heaps<int> one(1 << 20, "points", folder), other(1 << 20, "points", folder);
  ASSERT_TRUE(one.is_shared());
  HeapBatch<int> first, more, second;
  first.add(7, 1);
  first.add(8, 2);
  more.add(7, 3);
  first.add(std::move(more));
  second.add(7, 4);
  const auto late = one.write(second), early = other.write(first), again = one.write(second),
             none = one.write(HeapBatch<int>());
  for (Heaps<int>* h : {&one, &other}) {
    for (const auto* w : {&early, &none, &again}) h->add(*w);
    std::vector<int> seven, eight, nine;
    h->read(7, seven);
    h->read(8, eight);
    h->read(9, nine);
    EXPECT_EQ(seven, (std::vector<int>{1, 3, 4}));
    EXPECT_EQ(eight, (std::vector<int>{2}));
    EXPECT_TRUE(nine.empty());
    EXPECT_EQ(h->numbers(), (std::vector<std::uint64_t>{7, 8}));
  }
  EXPECT_EQ(late.heaps, again.heaps);
}

TEST(SharedPoints, AFolderThatIsGoneIsTold) {
  PlayedRanks ranks(true);
  const auto folder = CommonFolder::made({}, "cloud.laz");
  Heaps<int> heaps(1 << 20, "cloud.laz", folder);
  std::filesystem::remove_all(folder->file("").parent_path());
  HeapBatch<int> batch;
  batch.add(1, 1);
  std::string said;
  EXPECT_EQ(error_of([&] { heaps.write(batch); }, &said), ErrorCode::Io);
  EXPECT_NE(said.find("cloud.laz"), std::string::npos) << said;
}

}  // namespace
}  // namespace katoptra
