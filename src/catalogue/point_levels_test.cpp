#include <cmath>
#include <fstream>
#include <set>

#include "katoptra/catalogue/point_index.hpp"
#include "katoptra/formats/point_file.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

namespace fs = std::filesystem;
using testing::TemporaryFolder;

PointBatch spread_points(std::size_t n) {
  PointBatch b;
  for (std::size_t i = 0; i < n; ++i) {
    const auto t = static_cast<double>(i);
    b.x.push_back(500000 + std::floor(std::fmod(t * 0.618034, 1) * 1000 * 1000) / 1000);
    b.y.push_back(5800000 + std::floor(t / static_cast<double>(n) * 1000 * 1000) / 1000);
    b.z.push_back(static_cast<double>(i % 1000) / 100);
    b.classification.push_back(static_cast<std::uint8_t>(i % 3 + 1));
  }
  return b;
}

void write_cloud(const fs::path& path, std::size_t n) {
  PointInfo info{.name = "cloud", .crs = Crs::parse("EPSG:32725"), .fields = PointFields::Class, .count = n};
  info.quantity.heights = HeightReference::parse("EGM2008");
  write_points(points_from_batch(spread_points(n), info), path, {.overwrite = true});
}

std::vector<fs::path> kept_in(const fs::path& cache) {
  std::vector<fs::path> out;
  for (const auto& e : fs::directory_iterator(cache / "points"))
    if (e.path().extension() == ".laz") out.push_back(e.path());
  std::sort(out.begin(), out.end());
  return out;
}

TEST(PointLevels, EachHasAQuarterOfThePointsBeforeAndIsMadeOnce) {
  TemporaryFolder folder;
  const fs::path file = folder / "a.laz", cache = folder / "cache";
  write_cloud(file, 2'000'000);
  const PointCloud cloud = open_points(file);
  const auto levels = kept_levels(cloud, file, cache);
  ASSERT_EQ(levels.size(), 2u);  // 500,000 and 125,000
  EXPECT_EQ(levels[0].info().count, 500'000u);
  EXPECT_EQ(levels[1].info().count, 125'000u);
  for (const PointCloud& level : levels) {
    EXPECT_TRUE(level.info().crs.same_place(cloud.info().crs));
    EXPECT_TRUE(level.info().quantity.heights == cloud.info().quantity.heights);
    EXPECT_FALSE(level.part(0).box.empty()) << "so that what lies near is read alone";
  }
  // They are points of the cloud: every sixteenth, as it is.
  const PointBatch whole = spread_points(2'000'000);
  std::size_t at = 0;
  for_each_batch(levels[1], PointFields::Class, {}, [&](const PointBatch& b) {
    for (std::size_t i = 0; i < b.size(); ++i, at += 16) {
      ASSERT_NEAR(b.x[i], whole.x[at], 1e-6);
      ASSERT_NEAR(b.z[i], whole.z[at], 1e-6);
      ASSERT_EQ(b.classification[i], whole.classification[at]);
    }
  });
  EXPECT_EQ(at, 2'000'000u);
  const auto kept = kept_in(cache);
  ASSERT_EQ(kept.size(), 2u);
  const auto made = fs::last_write_time(kept[0]);
  kept_levels(cloud, file, cache);
  EXPECT_EQ(fs::last_write_time(kept[0]), made);
  // Of another file under that name they are made anew, and the old ones go.
  write_cloud(folder / "b.laz", 1'000'000);
  fs::rename(folder / "b.laz", file);
  EXPECT_EQ(kept_levels(open_points(file), file, cache).size(), 1u);
  EXPECT_EQ(kept_in(cache).size(), 1u);
  EXPECT_NE(kept_in(cache)[0], kept[0]);
}

TEST(PointLevels, SmallFilesAndNowhereToKeepThemHaveNone) {
  TemporaryFolder folder;
  write_cloud(folder / "small.laz", 1000);
  EXPECT_TRUE(kept_levels(open_points(folder / "small.laz"), folder / "small.laz", folder / "cache").empty());
  write_cloud(folder / "large.laz", 500'000);
  EXPECT_TRUE(kept_levels(open_points(folder / "large.laz"), folder / "large.laz", {}).empty());
  // A cache that cannot be written to is none.
  std::ofstream(folder / "file") << "x";
  EXPECT_TRUE(kept_levels(open_points(folder / "large.laz"), folder / "large.laz", folder / "file").empty());
}

}  // namespace
}  // namespace katoptra
