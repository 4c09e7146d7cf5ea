#include <algorithm>
#include <random>

#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TileRecord tile(const std::string& name, const Bounds& box, double cell, const std::string& date) {
  TileRecord t;
  t.path = name;
  t.date = date;
  t.bytes = 1000;
  t.frame = Frame(Crs::parse("EPSG:32725"), box.west, box.north, {cell, cell}, std::llround(box.width() / cell),
                  std::llround(box.height() / cell));
  t.spacing = ground_spacing(*t.frame);
  return t;
}

Area area_of(const Bounds& b) { return Area::box(b, Crs::parse("EPSG:32725")); }

const ShortlistTile& named(const Shortlist& s, const std::string& name) {
  for (const ShortlistTile& t : s.tiles)
    if (t.tile.path == name) return t;
  throw std::runtime_error(name);
}

TEST(Find, CoverageAndGapsAreExact) {
  const Bounds area{676000, 5841000, 676100, 5841100};
  const Catalogue c{{tile("west", {675900, 5840900, 676060, 5841200}, 1, "2022-01-01"),
                     tile("far", {680000, 5841000, 680100, 5841100}, 1, "2022-01-01")}};
  const Shortlist s = find_tiles(c, area_of(area));
  EXPECT_NEAR(s.covered_fraction, 0.6, 1e-12);
  ASSERT_EQ(s.gaps.size(), 1u);
  EXPECT_EQ(bounds_of(s.gaps), (Bounds{676060, 5841000, 676100, 5841100}));
  EXPECT_NEAR(s.gap_area, 4000, 10);
  EXPECT_EQ(s.tiles.size(), 1u);
  EXPECT_EQ(s.bytes, 1000u);
}

TEST(Find, RandomFootprintsAgainstCounting) {
  for (unsigned seed = 1; seed <= 20; ++seed) {
    std::mt19937 random(seed);
    Catalogue c;
    std::vector<bool> covered(100 * 100, false);
    for (int i = 0; i < 8; ++i) {
      const int x = static_cast<int>(random() % 90), y = static_cast<int>(random() % 90),
                w = 5 + static_cast<int>(random() % 40), h = 5 + static_cast<int>(random() % 40);
      c.tiles.push_back(tile("t" + std::to_string(i),
                             {676000.0 + x, 5841000.0 + y, 676000.0 + x + w, 5841000.0 + y + h}, 1,
                             "20" + std::to_string(10 + random() % 10) + "-01-01"));
      for (int b = y; b < std::min(100, y + h); ++b)
        for (int a = x; a < std::min(100, x + w); ++a) covered[static_cast<std::size_t>(b * 100 + a)] = true;
    }
    const double expected = static_cast<double>(std::count(covered.begin(), covered.end(), true)) / 10000;
    const Shortlist s = find_tiles(c, area_of({676000, 5841000, 676100, 5841100}));
    EXPECT_NEAR(s.covered_fraction, expected, 1e-9) << "seed " << seed;
    EXPECT_NEAR(planar_area(s.gaps), (1 - expected) * 10000, 1e-5);
    // The kept tiles alone cover as much as all of them.
    Catalogue kept;
    for (const ShortlistTile& t : s.tiles)
      if (t.kept) kept.tiles.push_back(t.tile);
    EXPECT_NEAR(find_tiles(kept, s.area).covered_fraction, expected, 1e-9);
  }
}

TEST(Find, SeveralYearsOnTheSameSpot) {
  const Bounds box{676000, 5841000, 676100, 5841100};
  TileRecord restricted = tile("locked", box, 1, "2024-01-01");
  restricted.access = Access::Restricted;
  restricted.custodian = "the Land Office";
  TileRecord broken = tile("broken", box, 1, "2025-01-01");
  broken.problems = {"truncated: 3 of 4 tiles"};
  TileRecord lost = tile("lost", box, 1, "2025-01-01");
  lost.frame = lost.frame->with_crs(Crs());
  const Catalogue c{{tile("2016", box, 1, "2016-01-01"), tile("2022", box, 1, "2022-01-01"),
                     tile("2022 coarse", box, 10, "2022-01-01"), restricted, broken, lost}};
  const Shortlist s = find_tiles(c, area_of(box));
  EXPECT_TRUE(named(s, "2022").kept);
  EXPECT_FALSE(named(s, "2016").kept);
  EXPECT_FALSE(named(s, "2022 coarse").kept);
  EXPECT_NE(named(s, "2016").reason.find("which is newer"), std::string::npos);
  EXPECT_NE(named(s, "locked").reason.find("Land Office"), std::string::npos);
  EXPECT_NE(named(s, "broken").reason.find("truncated"), std::string::npos);
  EXPECT_NE(named(s, "lost").reason.find("no coordinate reference"), std::string::npos);
  EXPECT_EQ(s.covered_fraction, 1);
  EXPECT_TRUE(s.gaps.empty());
  EXPECT_TRUE(
      named(find_tiles(c, area_of(box), {.prefer = {Preference::Finest, Preference::Newest}, .all = true}), "2016")
          .kept);
}

TEST(Find, FootprintsInAnotherCrs) {
  const Catalogue c{{tile("t", {676000, 5841000, 678000, 5843000}, 1, "2022-01-01")}};
  EXPECT_EQ(find_tiles(c, parse_area("circle:-31,-37.55,500m")).covered_fraction, 1);
  EXPECT_EQ(find_tiles(c, parse_area("circle:-30.5,-37.55,500m")).covered_fraction, 0);
}

TEST(Folder, RecordsDatesAndSurveys) {
  TemporaryFolder folder;
  std::filesystem::create_directories(folder / "a/deep");
  write_grid(rough_grid(utm_frame(20, 20), 1), folder / "a/deep/one.tif",
             {.lineage = true, .date = "2021-05-06", .run = {}});
  write_grid(rough_grid(utm_frame(20, 20), 1), folder / "two.tif", {.date = "2021-05-06", .run = {}});
  write_grid(rough_grid(utm_frame(20, 20), 1), folder / "three.tif", {});
  write_text_file(folder / "a/survey.toml", "name = \"Survey A\"\nyear = 2019\nrestricted = [\"one\"]\n");
  write_text_file(folder / "readme.txt", "not a tile");
  write_text_file(folder / "bad.tif", "not a tile either");
  const Catalogue c = open_folder(folder.path());
  ASSERT_EQ(c.tiles.size(), 4u);
  EXPECT_EQ(c.tiles[0].survey, "Survey A");
  EXPECT_EQ(c.tiles[0].date, "2019-01-01");
  EXPECT_EQ(c.tiles[0].access, Access::Restricted);
  EXPECT_FALSE(c.tiles[1].openable);
  EXPECT_TRUE(c.tiles[2].date_guessed);
  EXPECT_EQ(c.tiles[3].date, "2021-05-06");
  EXPECT_FALSE(c.tiles[3].date_guessed);
  write_text_file(folder / "a/survey.toml", "name = ", {.overwrite = true});
  EXPECT_EQ(error_of([&] { open_folder(folder.path()); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { open_folder(folder / "nowhere"); }), ErrorCode::Io);
}

TEST(Shortlist, IsReadBackFromBothFormats) {
  TemporaryFolder folder;
  const Bounds box{676000, 5841000, 676100, 5841100};
  const Catalogue c{{tile("dir/a, \"first\".tif", box, 1, "2022-01-01"), tile("b.tif", box, 1, "2016-01-01")}};
  const Shortlist s = find_tiles(c, area_of(box));
  write_text_file(folder / "s.csv", shortlist_csv(s));
  write_layer(shortlist_layer(s), folder / "s.geojson");
  for (const char* name : {"s.csv", "s.geojson"}) {
    const auto paths = read_shortlist(folder / name);
    ASSERT_EQ(paths.size(), 1u) << name;
    EXPECT_EQ(paths[0].path, "dir/a, \"first\".tif");
  }
  write_text_file(folder / "x.csv", "name,value\n1,2\n");
  EXPECT_EQ(error_of([&] { read_shortlist(folder / "x.csv"); }), ErrorCode::BadFile);
}

}  // namespace
}  // namespace katoptra
