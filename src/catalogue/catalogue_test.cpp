#include <algorithm>
#include <bit>
#include <cmath>
#include <numeric>
#include <random>
#include <set>

#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/places.hpp"
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

// ------------------------------------------------------------------------- convex outlines against exact clipping

using Convex = std::vector<Point>;  // counter-clockwise, not closed

// Sutherland and Hodgman 1974, written here so that nothing of the library judges itself.
Convex clipped(Convex subject, const Convex& by) {
  for (std::size_t i = 0; i < by.size() && !subject.empty(); ++i) {
    const Point a = by[i], b = by[(i + 1) % by.size()];
    auto side = [&](Point p) { return (b.x - a.x) * (p.y - a.y) - (b.y - a.y) * (p.x - a.x); };
    Convex out;
    for (std::size_t k = 0; k < subject.size(); ++k) {
      const Point p = subject[k], q = subject[(k + 1) % subject.size()];
      const double sp = side(p), sq = side(q);
      if (sp >= 0) out.push_back(p);
      if ((sp >= 0) != (sq >= 0)) {
        const double t = sp / (sp - sq);
        out.push_back({p.x + t * (q.x - p.x), p.y + t * (q.y - p.y)});
      }
    }
    subject = std::move(out);
  }
  return subject;
}
double area_of(const Convex& c) {
  double twice = 0;
  for (std::size_t i = 0; i < c.size(); ++i) {
    const Point a = c[i], b = c[(i + 1) % c.size()];
    twice += (a.x - c[0].x) * (b.y - c[0].y) - (b.x - c[0].x) * (a.y - c[0].y);
  }
  return twice / 2;
}
// Inclusion and exclusion over all subsets.
double union_within(const std::vector<Convex>& shapes, const Convex& area) {
  double sum = 0;
  for (std::size_t subset = 1; subset < (std::size_t{1} << shapes.size()); ++subset) {
    Convex common = area;
    for (std::size_t i = 0; i < shapes.size(); ++i)
      if (subset >> i & 1) common = clipped(common, shapes[i]);
    sum += (std::popcount(subset) % 2 ? 1 : -1) * (common.size() < 3 ? 0 : area_of(common));
  }
  return sum;
}

TileRecord outlined(const std::string& name, const Convex& shape, const std::string& date) {
  TileRecord t;
  t.path = t.id = t.survey = name;
  t.date = date;
  Ring ring(shape.begin(), shape.end());
  ring.push_back(ring.front());
  t.outline = {{ring, {}}};
  return t;
}

TEST(Find, TurnedFootprintsAgainstExactClipping) {
  for (unsigned seed = 1; seed <= 60; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> u(0, 1);
    const Convex area = {{10, 50}, {11, 50}, {11, 51}, {10, 51}};
    std::vector<Convex> shapes;
    Catalogue c;
    const int n = 1 + static_cast<int>(random() % 8);
    for (int i = 0; i < n; ++i) {
      Convex shape;
      const double x = 10 + u(random), y = 50 + u(random), turn = 6.3 * u(random), w = 0.1 + 0.4 * u(random),
                   h = 0.1 + 0.4 * u(random);
      for (auto [a, b] : {std::pair{-1., -1.}, std::pair{1., -1.}, std::pair{1., 1.}, std::pair{-1., 1.}})
        shape.push_back(
            {x + a * w * std::cos(turn) - b * h * std::sin(turn), y + a * w * std::sin(turn) + b * h * std::cos(turn)});
      c.tiles.push_back(outlined("t" + std::to_string(i), shape, "20" + std::to_string(10 + random() % 4) + "-01-01"));
      shapes.push_back(std::move(shape));
    }
    const double expected = union_within(shapes, area);
    const Shortlist s = find_tiles(c, Area::box({10, 50, 11, 51}));
    EXPECT_NEAR(s.covered_fraction, expected, 1e-9);
    EXPECT_NEAR(planar_area(s.gaps), 1 - expected, 1e-9);
    for (const ShortlistTile& t : s.tiles)
      EXPECT_NEAR(t.covered_fraction, union_within({shapes[static_cast<std::size_t>(t.tile.id[1] - '0')]}, area), 1e-9);
    // What was kept covers as much as everything does.
    std::vector<Convex> kept;
    for (const ShortlistTile& t : s.tiles)
      if (t.kept) kept.push_back(shapes[static_cast<std::size_t>(t.tile.id[1] - '0')]);
    EXPECT_NEAR(union_within(kept, area), expected, 1e-9);
  }
}

// ------------------------------------------------------------------------------------------------- smallest cover

std::size_t covered(const std::vector<std::vector<std::size_t>>& sets, const std::vector<std::size_t>& chosen) {
  std::set<std::size_t> all;
  for (std::size_t s : chosen) all.insert(sets[s].begin(), sets[s].end());
  return all.size();
}

std::size_t plain_greedy(const std::vector<std::vector<std::size_t>>& sets) {
  std::set<std::size_t> open;
  for (const auto& s : sets) open.insert(s.begin(), s.end());
  std::size_t taken = 0;
  while (!open.empty()) {
    const auto best = std::max_element(sets.begin(), sets.end(), [&](const auto& a, const auto& b) {
      auto left = [&](const auto& v) {
        return std::count_if(v.begin(), v.end(), [&](std::size_t e) { return open.count(e); });
      };
      return left(a) < left(b);
    });
    for (std::size_t e : *best) open.erase(e);
    ++taken;
  }
  return taken;
}

TEST(SmallestCover, IsMinimalAgainstAllSubsetsAndNeverAboveGreedy) {
  for (unsigned seed = 1; seed <= 400; ++seed) {
    std::mt19937 random(seed);
    const std::size_t n = 1 + random() % 11, elements = 1 + random() % 20;
    std::vector<std::vector<std::size_t>> sets(n);
    for (auto& s : sets)
      for (std::size_t e = 0; e < elements; ++e)
        if (random() % 4 == 0) s.push_back(e);
    const auto chosen = smallest_cover(sets, elements);
    std::vector<std::size_t> all(n);
    std::iota(all.begin(), all.end(), std::size_t{0});
    ASSERT_EQ(covered(sets, chosen), covered(sets, all)) << "seed " << seed;
    std::size_t fewest = n;
    for (std::size_t subset = 0; subset < (std::size_t{1} << n); ++subset) {
      std::vector<std::size_t> some;
      for (std::size_t s = 0; s < n; ++s)
        if (subset >> s & 1) some.push_back(s);
      if (some.size() < fewest && covered(sets, some) == covered(sets, all)) fewest = some.size();
    }
    ASSERT_EQ(chosen.size(), fewest) << "seed " << seed;
  }
  for (unsigned seed = 1; seed <= 20; ++seed) {
    std::mt19937 random(seed);
    std::vector<std::vector<std::size_t>> sets(60 + random() % 60);
    for (auto& s : sets)
      for (std::size_t e = 0; e < 200; ++e)
        if (random() % 12 == 0) s.push_back(e);
    // Even when it may hardly search.
    for (int steps : {0, 1, 1000})
      EXPECT_LE(smallest_cover(sets, 200, steps).size(), plain_greedy(sets)) << "seed " << seed;
  }
}

TEST(SmallestCover, GreedyWouldTakeOneTooMany) {
  // Two halves cover it; the greedy choice begins with the large one across both.
  EXPECT_EQ(smallest_cover({{0, 1, 2, 3, 8, 9, 10, 11}, {0, 1, 2, 3, 4, 5, 6}, {7, 8, 9, 10, 11, 12, 13}}, 14),
            (std::vector<std::size_t>{1, 2}));
}

TEST(SmallestCover, LargeSheetLinesAreQuick) {
  // 20 000 sheets, each overlapping its neighbours by a third.
  std::vector<std::vector<std::size_t>> sets;
  for (std::size_t i = 0; i < 20'000; ++i) sets.push_back({3 * i, 3 * i + 1, 3 * i + 2, 3 * i + 3});
  EXPECT_EQ(smallest_cover(sets, 60'001).size(), 20'000u);
}

// -------------------------------------------------------------------------------------------------- the choice

TEST(Find, TakesTheFewestOfARank) {
  // Three sheets of one survey: the two outer ones do it.
  const Catalogue c{{tile("middle", {676020, 5841000, 676080, 5841100}, 1, "2022-01-01"),
                     tile("west", {676000, 5841000, 676050, 5841100}, 1, "2022-01-01"),
                     tile("east", {676050, 5841000, 676100, 5841100}, 1, "2022-01-01")}};
  const Shortlist s = find_tiles(c, area_of(Bounds{676000, 5841000, 676100, 5841100}));
  EXPECT_FALSE(named(s, "middle").kept);
  EXPECT_NE(named(s, "middle").reason.find("with fewer"), std::string::npos);
  EXPECT_TRUE(named(s, "west").kept && named(s, "east").kept);
}

TEST(Find, TwinsAndDuplicates) {
  const Bounds box{676000, 5841000, 676100, 5841100};
  Catalogue c{{tile("a", box, 1, "2022-01-01"), tile("copy", box, 1, "2022-01-01"), tile("old", box, 1, "2016-01-01")}};
  c.tiles[0].checksum = c.tiles[1].checksum = "1220aa";
  const Shortlist s = find_tiles(c, area_of(box));
  EXPECT_EQ(named(s, "copy").reason, "a duplicate of a (same checksum)");
  EXPECT_EQ(named(s, "old").reason, "a twin of a, which is newer");
  TileRecord slopes = tile("slopes", box, 1, "2024-01-01");
  slopes.quantity.kind = QuantityKind::Slope;
  EXPECT_EQ(named(find_tiles({{slopes}}, area_of(box)), "slopes").reason, "holds slope, no heights");
  TileRecord replaced = tile("replaced", box, 1, "2023-01-01");
  replaced.superseded = "its catalogue marks it as replaced";
  c.tiles.push_back(replaced);
  EXPECT_FALSE(named(find_tiles(c, area_of(box)), "replaced").kept);
}

TEST(Find, GapsKnowWhatWouldCloseThem) {
  const Bounds box{676000, 5841000, 676100, 5841100};
  Catalogue c{{tile("west", {676000, 5841000, 676060, 5841100}, 1, "2022-01-01"), tile("all", box, 1, "2024-01-01"),
               tile("coarse", box, 30, "2000-01-01")}};
  c.tiles[1].access = Access::Restricted;
  c.tiles[1].custodian = "the Land Office";
  c.tiles[1].survey = "Survey 2024";
  c.tiles[2].survey = "Orbit";
  const Shortlist s = find_tiles(c, area_of(box), {.filter = {.coarsest = Length::metres(5)}});
  ASSERT_EQ(s.gap_list.size(), 1u);
  EXPECT_EQ(s.gap_list[0].closed_by, "Survey 2024");
  EXPECT_NE(s.gap_list[0].how.find("the Land Office"), std::string::npos);
  EXPECT_NEAR(s.gap_list[0].area, 4000, 10);
  EXPECT_NEAR(s.gap_list[0].fraction, 1, 1e-9);
  // Without that one, what the filter left out is named with the reason.
  c.tiles.erase(c.tiles.begin() + 1);
  const Shortlist t = find_tiles(c, area_of(box), {.filter = {.coarsest = Length::metres(5)}});
  EXPECT_EQ(t.gap_list.at(0).closed_by, "Orbit");
  EXPECT_NE(t.gap_list[0].how.find("30 m"), std::string::npos);
}

// A gap of an odd shape was told by the box around it alone.
TEST(Find, GapsAreToldByTheirSideOfTheArea) {
  const Bounds box{676000, 5841000, 676100, 5841100};
  const auto where = [&](std::vector<Bounds> covered) {
    Catalogue c;
    for (const Bounds& b : covered) c.tiles.push_back(tile("t" + std::to_string(c.tiles.size()), b, 1, "2022-01-01"));
    const Shortlist s = find_tiles(c, area_of(box));
    return s.gap_list.empty() ? std::string("none") : s.gap_list[0].where;
  };
  EXPECT_EQ(where({{676000, 5841000, 676060, 5841100}}), "the east side from corner to corner");
  EXPECT_EQ(where({{676000, 5841000, 676100, 5841070}}), "the north side from corner to corner");
  EXPECT_EQ(where({{676000, 5841000, 676070, 5841100}, {676000, 5841030, 676100, 5841100}}), "the south-east corner");
  // An L around the covered part.
  EXPECT_EQ(where({{676035, 5841035, 676100, 5841100}}),
            "the south side from corner to corner, the west side from corner to corner");
  const Catalogue c{{tile("t", {676000, 5841000, 676100, 5841080}, 1, "2022-01-01")}};
  const Shortlist s = find_tiles(c, area_of(box));
  EXPECT_NEAR(s.gap_list.at(0).share, 0.2, 1e-9);
  EXPECT_TRUE(s.notes.empty()) << "nothing is said of no tiles of points: " << s.notes[0];
}

TEST(Find, OneReferenceIsTheOneThatCoversMost) {
  const Bounds box{676000, 5841000, 676100, 5841100};
  Catalogue c{{tile("new", {676000, 5841000, 676040, 5841100}, 1, "2024-01-01"), tile("old", box, 1, "2016-01-01")}};
  c.tiles[0].quantity.heights = HeightReference::ellipsoid();
  c.tiles[1].quantity.heights = HeightReference::parse("EGM2008");
  EXPECT_TRUE(named(find_tiles(c, area_of(box)), "new").kept);
  const Shortlist s = find_tiles(c, area_of(box), {.one_reference = true});
  EXPECT_FALSE(named(s, "new").kept);
  EXPECT_NE(named(s, "new").reason.find("ellipsoid"), std::string::npos);
  EXPECT_EQ(s.covered_fraction, 1);
}

TEST(Find, FiltersSayWhatDoesNotPass) {
  TileRecord t = tile("t", {676000, 5841000, 676100, 5841100}, 2, "2016-05-01");
  t.format = "GeoTIFF";
  t.survey = "Ground 2016";
  t.quantity.heights = HeightReference::parse("EGM2008");
  t.classes = {2, 9};
  t.density = 4;
  const auto passes = [&](const TileFilter& f) { return f.refuses(t).empty(); };
  EXPECT_TRUE(passes({}));
  EXPECT_TRUE(passes({.kind = TileKind::Grid, .from_year = 2016, .to_year = 2016, .coarsest = Length::metres(2)}));
  EXPECT_TRUE(
      passes({.density = 4, .heights = HeightReference::parse("EGM2008"), .format = "tiff", .survey = "ground"}));
  EXPECT_TRUE(passes({.point_class = 9, .access = Access::Open}));
  EXPECT_FALSE(passes({.kind = TileKind::Points}));
  EXPECT_FALSE(passes({.from_year = 2017}));
  EXPECT_FALSE(passes({.to_year = 2015}));
  EXPECT_FALSE(passes({.coarsest = Length::metres(1)}));
  EXPECT_FALSE(passes({.density = 5}));
  EXPECT_FALSE(passes({.heights = HeightReference::ellipsoid()}));
  EXPECT_FALSE(passes({.format = "LAZ"}));
  EXPECT_FALSE(passes({.survey = "Sonar"}));
  EXPECT_FALSE(passes({.point_class = 6}));
  EXPECT_FALSE(passes({.access = Access::Restricted}));
  // What is not known passes no test that asks for it.
  EXPECT_FALSE(TileFilter{.coarsest = Length::metres(1)}.refuses(TileRecord{}).empty());
}

TEST(Find, AcrossTheAntimeridian) {
  const Area area = parse_area("box:179.5,-17,-179.5,-16");
  Catalogue c{{outlined("west", {{179, -18}, {180, -18}, {180, -15}, {179, -15}}, "2022-01-01"),
               outlined("east", {{-180, -18}, {-179, -18}, {-179, -15}, {-180, -15}}, "2022-01-01"),
               outlined("far", {{0, -18}, {1, -18}, {1, -15}, {0, -15}}, "2022-01-01")}};
  const Shortlist s = find_tiles(c, area);
  EXPECT_EQ(s.covered_fraction, 1);
  EXPECT_EQ(s.tiles.size(), 2u);
  EXPECT_NEAR(named(s, "east").covered_fraction, 0.5, 1e-9);
  // One outline that RFC 7946 cut in two.
  TileRecord both = outlined("both", {{179, -18}, {180, -18}, {180, -15}, {179, -15}}, "2022-01-01");
  both.outline.push_back(c.tiles[1].outline[0]);
  EXPECT_EQ(find_tiles({{both}}, area).covered_fraction, 1);
  const Shortlist circle = find_tiles(c, parse_area("circle:180,-16.5,40km"));
  EXPECT_NEAR(circle.covered_fraction, 1, 1e-6);
  EXPECT_EQ(circle.tiles.size(), 2u);
}

TEST(Find, OverAPole) {
  Catalogue c{{outlined("west", {{-180, 80}, {0, 80}, {0, 90}, {-180, 90}}, "2022-01-01"),
               outlined("east", {{0, 80}, {180, 80}, {180, 90}, {0, 90}}, "2022-01-01"),
               outlined("far", {{0, 60}, {1, 60}, {1, 70}, {0, 70}}, "2022-01-01")}};
  const Shortlist s = find_tiles(c, parse_area("circle:0,89.9,100km"));
  EXPECT_NEAR(s.covered_fraction, 1, 1e-6);
  ASSERT_EQ(s.tiles.size(), 2u);
  EXPECT_NEAR(named(s, "west").covered_fraction, 0.5, 1e-3);
}

TEST(Places, AreFoundByWholeNameBeginningAndPart) {
  Layer places{.name = "g", .crs = Crs::wgs84(), .features = {}};
  auto add = [&](const char* name, auto shape, double radius = 0) {
    places.features.push_back({shape, {{"name", std::string(name)}, {"radius", radius}}});
  };
  add("Kessa Inlet", MultiPolygon{to_polygon(Bounds{-31, -37.6, -30.9, -37.5})});
  add("Kessa", Point{-30.99, -37.55}, 200);
  add("Tolvane Ridge", Point{-31.01, -37.54}, 500);
  add("Jetty", Point{-31.02, -37.53});
  const Gazetteer g(places);
  EXPECT_NEAR(g.area_of("kessa").ground_area(), 3.1416 * 200 * 200, 100);
  EXPECT_EQ(g.area_of("KESSA IN").bounds().west, -31);
  EXPECT_NEAR(g.area_of("ridge").ground_area(), 3.1416 * 500 * 500, 1000);
  EXPECT_EQ(error_of([&] { g.area_of("jetty"); }), ErrorCode::BadArgument);
  EXPECT_NEAR(g.area_of("jetty", Length::metres(100)).ground_area(), 31416, 50);
  try {
    g.area_of("tolvan rigde");
    FAIL();
  } catch (const Error& e) {
    EXPECT_NE(e.advice().find("Tolvane Ridge"), std::string::npos);
  }
  EXPECT_EQ(error_of([&] { g.area_of("e"); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { g.area_of(""); }), ErrorCode::BadArgument);
}

TEST(Places, SheetsByName) {
  std::vector<TileRecord> tiles = {tile("dir/sheet_b2.tif", {676000, 5841000, 676100, 5841100}, 1, "2022-01-01"),
                                   tile("old/b7.hgt.zip", {677000, 5841000, 677100, 5841100}, 1, "2022-01-01")};
  EXPECT_EQ(sheet_area(tiles, "Sheet_B2").bounds(), (Bounds{676000, 5841000, 676100, 5841100}));
  EXPECT_EQ(sheet_area(tiles, "b7").bounds().west, 677000);
  EXPECT_EQ(error_of([&] { sheet_area(tiles, "b9"); }), ErrorCode::BadArgument);
  tiles.push_back(tile("else/sheet_b2.tif", {679000, 5841000, 679100, 5841100}, 1, "2022-01-01"));
  EXPECT_EQ(error_of([&] { sheet_area(tiles, "sheet_b2"); }), ErrorCode::BadArgument);
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

TEST(Folder, ARecordSaysHowSureItsTilesAre) {
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(20, 20), 1), folder / "one.tif", {});
  const auto record = [&](const char* text) { write_text_file(folder / "survey.toml", text, {.overwrite = true}); };
  record("uncertainty = \"0.1m+0.2m*slope\"\nconfidence = 95\nerror_reach = \"3m\"\n");
  const TileRecord t = open_folder(folder.path()).tiles.at(0);
  EXPECT_EQ(t.uncertainty, (StatedUncertainty{.text = "0.1m+0.2m*slope", .confidence = 95, .reach = 3_m}));
  // A record states, it names no file; what it says wrongly is told with its name.
  for (const char* bad : {"uncertainty = \"/etc/passwd\"\n", "uncertainty = \"0.1\"\n", "uncertainty = \"-1m\"\n",
                          "uncertainty = \"1m\"\nconfidence = 90\n", "error_reach = \"far\"\n"}) {
    record(bad);
    std::string text;
    EXPECT_EQ(error_of([&] { open_folder(folder.path()); }, &text), ErrorCode::BadFile) << bad;
    EXPECT_NE(text.find("survey.toml"), std::string::npos) << text;
  }
}

TEST(Folder, SoundingsAreTilesToo) {
  TemporaryFolder folder;
  std::mt19937 random(3);
  std::uniform_real_distribution<double> u(0, 100);
  std::string text = "east,north,depth\n";
  for (int i = 0; i < 2000; ++i)
    text += std::to_string(676000 + u(random)) + "," + std::to_string(5841000 + u(random)) + ",3.5\n";
  write_text_file(folder / "line.xyz", text);
  EXPECT_FALSE(open_folder(folder.path()).tiles.at(0).placed());
  write_text_file(folder / "line.prj", Crs::parse("EPSG:32725").file_wkt());
  const Catalogue c = open_folder(folder.path());
  ASSERT_EQ(c.tiles.size(), 1u);
  EXPECT_EQ(c.tiles[0].kind, TileKind::Soundings);
  EXPECT_TRUE(c.tiles[0].openable);
  EXPECT_NEAR(c.tiles[0].density, 0.2, 0.01);
  const Shortlist s =
      find_tiles(c, area_of(Bounds{676000, 5841000, 676100, 5841100}), {.filter = {.kind = TileKind::Soundings}});
  EXPECT_GT(s.covered_fraction, 0.98);
  // Through a catalogue file, as a STAC item, it is the same.
  const Catalogue kept = read_catalogue(folder.path().string(), {}, {.cache = folder / "cache"});
  EXPECT_EQ(kept.tiles.at(0).kind, TileKind::Soundings);
  EXPECT_NEAR(kept.tiles[0].density, c.tiles[0].density, 1e-12);
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
