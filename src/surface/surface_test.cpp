// Mosaic, clip, reproject and fill, each against its slow and obvious twin.
#include <algorithm>
#include <fmt/format.h>
#include <random>

#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "distance.hpp"
#include "marrowick.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

Grid dated(const Grid& g, const std::string& name, const std::string& date) {
  return relabelled(g, [&](GridInfo& i) {
    i.name = name;
    i.sources[0].name = name;
    i.sources[0].date = date;
  });
}

// ------------------------------------------------------------------------------------------------------------ mosaic

TEST(Mosaic, TilesOnOneLatticeAreJoinedCellForCell) {
  for (unsigned seed = 1; seed <= 5; ++seed) {
    const Grid a = dated(rough_grid(utm_frame(61, 47), seed), "a", "2022-01-01"),
               b = dated(rough_grid(utm_frame(50, 33, 1, 676040, 5841990), seed + 50), "b", "2016-01-01");
    const Grid m = mosaic({b, a});
    EXPECT_EQ(m.frame().cols(), 90);
    EXPECT_EQ(m.frame().rows(), 47);
    const Block all = m.read(m.frame().window(), Planes::ValuesAndOrigin);
    for (std::int64_t r = 0; r < 47; ++r)
      for (std::int64_t c = 0; c < 90; ++c) {
        const float za = c < 61 ? a.at(c, r) : kVoid, zb = c >= 40 && r >= 10 && r < 43 ? b.at(c - 40, r - 10) : kVoid;
        const float expected = !std::isnan(za) ? za : zb;
        ASSERT_TRUE(same_bits(all.at(c, r), expected)) << c << ", " << r;
        ASSERT_EQ(all.origin_row(r)[c],
                  std::isnan(expected) ? 0u : origin_code(!std::isnan(za) ? 1 : 2, How::Measured));
      }
    expect_same_for_every_window(m, seed);
  }
}

TEST(Mosaic, PreferenceDecidesWhatLiesOnTop) {
  const Grid old_fine = dated(grid_from_values(utm_frame(4, 4, 1), std::vector<float>(16, 1), metres_above_egm2008()),
                              "old fine", "2010-01-01");
  const Grid new_coarse = dated(grid_from_values(utm_frame(2, 2, 2), std::vector<float>(4, 2), metres_above_egm2008()),
                                "new coarse", "2020-01-01");
  EXPECT_EQ(mosaic({old_fine, new_coarse}).at(1, 1), 2);
  EXPECT_EQ(mosaic({old_fine, new_coarse}, {.prefer = {Preference::Finest}}).at(1, 1), 1);
  EXPECT_EQ(mosaic({old_fine, new_coarse}, {.prefer = {Preference::Given}}).at(1, 1), 1);
  EXPECT_EQ(mosaic({new_coarse, old_fine}, {.prefer = {Preference::Given}}).at(1, 1), 2);
  // The lattice is the finest one whatever lies on top, and the resampling is told.
  const Grid m = mosaic({new_coarse, old_fine});
  EXPECT_EQ(m.frame().cell().x, 1);
  ASSERT_EQ(m.info().notes.size(), 1u);
  EXPECT_NE(m.info().notes[0].find("new coarse: resampled"), std::string::npos);
}

TEST(Mosaic, IntegersStayIntegersUntilSomethingMakesFractions) {
  auto integers = [](double west) {
    return grid_from_values(utm_frame(8, 8, 1, west), std::vector<float>(64, 5), metres_above_egm2008(),
                            SampleType::Int16);
  };
  EXPECT_EQ(mosaic({integers(676000), integers(676006)}).info().type, SampleType::Int16);
  EXPECT_EQ(mosaic({integers(676000), integers(676006)}, {.feather = 3_m}).info().type, SampleType::Float32);
  EXPECT_EQ(mosaic({integers(676000), integers(676006.5)}).info().type, SampleType::Float32);
}

TEST(Mosaic, AFeatherLeavesNoStep) {
  // Two flat tiles half a metre apart that overlap by 40 cells; the seam is spread over 20 m.
  const Grid a = dated(grid_from_values(utm_frame(60, 30), std::vector<float>(1800, 10), metres_above_egm2008()), "a",
                       "2022-01-01");
  const Grid b =
      dated(grid_from_values(utm_frame(60, 30, 1, 676020), std::vector<float>(1800, 10.5f), metres_above_egm2008()),
            "b", "2016-01-01");
  const Grid hard = mosaic({a, b}), soft = mosaic({a, b}, {.feather = 20_m});
  auto steepest = [](const Grid& g) {
    float most = 0;
    for (std::int64_t c = 0; c + 1 < 80; ++c) most = std::max(most, std::abs(g.at(c + 1, 15) - g.at(c, 15)));
    return most;
  };
  EXPECT_FLOAT_EQ(steepest(hard), 0.5f);
  EXPECT_LT(steepest(soft), 0.04f);
  EXPECT_FLOAT_EQ(soft.at(2, 15), 10);
  EXPECT_FLOAT_EQ(soft.at(75, 15), 10.5f);
  const Block row = soft.read({0, 15, 80, 1}, Planes::ValuesAndOrigin);
  EXPECT_EQ(how_of(row.origin_row(0)[2]), How::Measured);
  EXPECT_EQ(how_of(row.origin_row(0)[55]), How::Blended);
  expect_same_for_every_window(
      mosaic({rough_grid(utm_frame(61, 47), 1), rough_grid(utm_frame(50, 33, 1, 676040, 5841990), 2)},
             {.feather = 7_m}),
      3);
}

// The first feather weighed each sheet alone: where two sheets of the new survey met, both had no weight, and the old
// survey stood there as a ridge.
TEST(Mosaic, NothingOlderShowsThroughWhereTwoSheetsMeet) {
  auto flat = [](double west, std::int64_t cols, float z, const char* name, const char* date) {
    return dated(grid_from_values(utm_frame(cols, 30, 1, west),
                                  std::vector<float>(static_cast<std::size_t>(cols * 30), z), metres_above_egm2008()),
                 name, date);
  };
  const Grid west = flat(676000, 40, 10, "west", "2022-01-01"), east = flat(676040, 40, 10, "east", "2022-01-01");
  const Grid old = flat(676000, 100, 11, "old", "2016-01-01");
  const Grid m = mosaic({west, east, old}, {.feather = 8_m});
  for (std::int64_t c = 30; c < 50; ++c) EXPECT_EQ(m.at(c, 15), 10) << c;
  // At its outer edge the new survey still fades.
  EXPECT_GT(m.at(78, 15), 10.5f);
  EXPECT_EQ(m.at(90, 15), 11);
  expect_same_for_every_window(m, 5, 20);
}

// Two tiles side by side, 10 m apart: 0.5 m a cell in the middle, and 5.1 m where the overlap met the outer rim.
TEST(Mosaic, AFeatherDoesNotStepAtTheOuterRim) {
  std::mt19937 random(7);
  auto pick = [&](int low, int high) {
    return low + static_cast<int>(random() % static_cast<unsigned>(high - low + 1));
  };
  for (int turn = 0; turn < 25; ++turn) {
    const int feather = turn == 0 ? 20 : pick(3, 24), rows = pick(5, 60), n = pick(2, 4);
    std::vector<Grid> tiles;
    std::vector<float> heights;
    int west = 0, last = 0;
    for (int i = 0; i < n; ++i) {
      const int overlap = turn == 0 ? 40 : pick(feather, 3 * feather), cols = 3 * feather + overlap + pick(40, 80);
      if (i > 0) west = last - overlap;
      last = west + cols;
      heights.push_back(turn == 0 ? static_cast<float>(10 * i) : static_cast<float>(pick(0, 30)));
      tiles.push_back(dated(grid_from_values(utm_frame(cols, rows, 1, 676000 + west),
                                             std::vector<float>(static_cast<std::size_t>(cols * rows), heights.back()),
                                             metres_above_egm2008()),
                            "t" + std::to_string(i), fmt::format("20{:02}-01-01", pick(10, 40))));
    }
    std::shuffle(tiles.begin(), tiles.end(), random);
    const Grid m = mosaic(tiles, {.feather = Length::metres(feather)});
    const Block b = m.read(m.frame().window());
    float widest = 0;
    for (std::size_t i = 1; i < heights.size(); ++i) widest = std::max(widest, std::abs(heights[i] - heights[i - 1]));
    const double ideal = static_cast<double>(widest) / feather;
    for (std::int64_t r = 0; r < m.frame().rows(); ++r)
      for (std::int64_t c = 0; c < m.frame().cols(); ++c) {
        ASSERT_FALSE(std::isnan(b.at(c, r)));
        if (c > 0) {
          ASSERT_LE(static_cast<double>(std::abs(b.at(c, r) - b.at(c - 1, r))), 1.5 * ideal + 1e-3)
              << "turn " << turn << ", feather " << feather << ", " << c << ", " << r;
        }
        if (r > 0) {
          ASSERT_LE(static_cast<double>(std::abs(b.at(c, r) - b.at(c, r - 1))), 1e-3) << "turn " << turn;
        }
      }
    if (turn < 4) expect_same_for_every_window(m, static_cast<unsigned>(turn), 10);
  }
}

// Sheets of one survey were known as such only when they followed one another in the order.
TEST(Mosaic, SheetsOfOneSurveyBelongTogetherWhereverTheyStand) {
  auto flat = [](double west, std::int64_t cols, float z, const char* survey) {
    return relabelled(
        grid_from_values(utm_frame(cols, 30, 1, west), std::vector<float>(static_cast<std::size_t>(cols * 30), z),
                         metres_above_egm2008()),
        [&](GridInfo& i) { i.sources[0].survey = survey; });
  };
  const Grid west = flat(676000, 40, 10, "new"), east = flat(676040, 40, 10, "new"), old = flat(676000, 100, 11, "old");
  const Grid m = mosaic({west, old, east}, {.prefer = {Preference::Given}, .feather = 8_m});
  for (std::int64_t c = 30; c < 50; ++c) EXPECT_EQ(m.at(c, 15), 10) << c;
}

TEST(Mosaic, AFeatherIsNotWiderThanWindowsCanBe) {
  const Grid g = rough_grid(utm_frame(10, 10), 1);
  EXPECT_EQ(error_of([&] { mosaic({g, g}, {.feather = 2000_m}); }), ErrorCode::BadArgument);
}

// After a copy undated tiles covered dated ones, for the time of the copy was newer than any survey.
TEST(Mosaic, AGuessedDateNeverOutranksAStatedOne) {
  auto tile = [](float z, const char* name, const char* date, bool guessed) {
    return relabelled(
        dated(grid_from_values(utm_frame(10, 10), std::vector<float>(100, z), metres_above_egm2008()), name, date),
        [&](GridInfo& i) { i.sources[0].date_guessed = guessed; });
  };
  const Grid stated = tile(1, "stated.tif", "2014-05-01", false), copied = tile(2, "copied.tif", "2026-01-01", true),
             other = tile(3, "other.tif", "2014-05-01", false);
  for (const auto& order : {std::vector{stated, copied}, std::vector{copied, stated}}) {
    const Grid m = mosaic(order);
    EXPECT_EQ(m.at(5, 5), 1);
    ASSERT_EQ(m.info().notes.size(), 1u);
    EXPECT_NE(m.info().notes[0].find("copied.tif"), std::string::npos);
  }
  // A tie is said.
  const Grid tie = mosaic({other, stated});
  EXPECT_EQ(tie.at(5, 5), 3);
  ASSERT_EQ(tie.info().notes.size(), 1u);
  EXPECT_NE(tie.info().notes[0].find("other.tif before stated.tif"), std::string::npos);
  const Grid three = mosaic({other, tile(4, "third.tif", "2014-05-01", false), stated});
  ASSERT_EQ(three.info().notes.size(), 1u);
  EXPECT_NE(three.info().notes[0].find("other.tif and 1 more before stated.tif"), std::string::npos);
}

// "Nearly as fine" compared inside a sort is no order: of cells each a hair coarser than the last, the coarsest could
// win.
TEST(Mosaic, CellSizesAHairApartAreOneClass) {
  std::vector<double> cells;
  for (int i = 0; i < 40; ++i) cells.push_back(1 + 0.0007 * ((i * 17) % 40));
  cells.push_back(0);
  const std::vector<int> classes = cell_classes(cells);
  for (std::size_t i = 0; i < cells.size(); ++i)
    for (std::size_t j = 0; j < cells.size(); ++j) {
      if (cells[i] > 0 && cells[i] < cells[j]) {
        EXPECT_LE(classes[i], classes[j]);
      }
      if (cells[i] == 0 && cells[j] > 0) {
        EXPECT_GT(classes[i], classes[j]);
      }
    }
  std::vector<TileRank> ranks;
  for (int c : classes) ranks.push_back({"", true, c});
  const std::vector<Preference> finest{Preference::Finest};
  for (const TileRank& a : ranks)
    for (const TileRank& b : ranks)
      for (const TileRank& c : ranks)
        if (outranks(a, b, finest) && outranks(b, c, finest)) {
          EXPECT_TRUE(outranks(a, c, finest));
        }
}

TEST(Mosaic, FeetThatNobodyStatedAreNotRelabelled) {
  Quantity unsaid = metres_above_egm2008();
  unsaid.unit_known = false;
  const Grid g = dated(grid_from_values(utm_frame(4, 4), std::vector<float>(16, 100), unsaid), "nw.tif", "2020-01-01");
  const Grid feet = in_unit(g, LengthUnit::Foot);
  EXPECT_NEAR(static_cast<double>(feet.at(1, 1)), 100 / 0.3048, 1e-3);
  ASSERT_EQ(feet.info().notes.size(), 2u);
  EXPECT_NE(feet.info().notes[0].find("nw.tif: does not say in which unit its heights are: m was taken"),
            std::string::npos);
  EXPECT_NEAR(static_cast<double>(mosaic({g}, {.unit = LengthUnit::Foot}).at(1, 1)), 100 / 0.3048, 1e-3);
  EXPECT_FALSE(mosaic({g, g}).quantity().unit_known);
}

TEST(Mosaic, WhatDoesNotBelongTogetherIsRefusedByName) {
  const Grid good = dated(rough_grid(utm_frame(10, 10), 1), "good.tif", "");
  const Grid lost = dated(rough_grid(utm_frame(10, 10).with_crs(Crs()), 2), "lost.tif", "");
  Quantity ellipsoid = metres_above_egm2008();
  ellipsoid.heights = HeightReference::ellipsoid();
  const Grid high = dated(rough_grid(utm_frame(10, 10), 3, 0, ellipsoid), "high.tif", "");
  Quantity slope;
  slope.kind = QuantityKind::Slope;
  const Grid steep = dated(rough_grid(utm_frame(10, 10), 3, 0, slope), "steep.tif", "");
  std::string text;
  EXPECT_EQ(error_of([&] { mosaic({good, lost}); }, &text), ErrorCode::Refused);
  EXPECT_NE(text.find("lost.tif"), text.npos);
  EXPECT_EQ(error_of([&] { mosaic({good, high}); }, &text), ErrorCode::Refused);
  EXPECT_NE(text.find("high.tif"), text.npos);
  EXPECT_NE(text.find("ellipsoid"), text.npos);
  EXPECT_EQ(error_of([&] { mosaic({good, steep}); }, &text), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { mosaic({}); }), ErrorCode::BadArgument);
}

TEST(Mosaic, OfLandAndSeaFloorIsNeitherAlone) {
  auto sheet = [](double west, SurfaceKind kind) {
    Quantity q = metres_above_egm2008();
    q.surface = kind;
    return grid_from_values(Frame(Crs::parse("EPSG:32725"), west, 5842100, {10, 10}, 4, 4), std::vector<float>(16, 1.f),
                            q);
  };
  const Grid land = sheet(677000, SurfaceKind::Ground), more = sheet(677040, SurfaceKind::Ground),
             sea = sheet(677080, SurfaceKind::SeaFloor);
  EXPECT_EQ(mosaic({land, more}).quantity().surface, SurfaceKind::Ground);
  EXPECT_EQ(mosaic({land, more, sea}).quantity().surface, SurfaceKind::Unknown);
}

TEST(Mosaic, FeetAndMetresMeetExactly) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid a =
      dated(grid_from_values(utm_frame(4, 4), std::vector<float>(16, 10), metres_above_egm2008()), "a", "2022-01-01");
  const Grid b =
      dated(grid_from_values(utm_frame(4, 4, 1, 676004), std::vector<float>(16, 100), feet), "b", "2016-01-01");
  const Grid m = mosaic({a, b});
  EXPECT_FLOAT_EQ(m.at(6, 1), 30.48f);
  EXPECT_EQ(m.quantity().unit, LengthUnit::Metre);
  EXPECT_FLOAT_EQ(mosaic({a, b}, {.unit = LengthUnit::Foot}).at(6, 1), 100);
}

// -------------------------------------------------------------------------------------------------------------- clip

TEST(Clip, KeepsCellsWhoseCentreIsInside) {
  const Grid g = rough_grid(utm_frame(80, 60, 2), 1, 0);
  Polygon p{{{676020.3, 5841900.7},
             {676150.1, 5841930.2},
             {676110.9, 5841985.5},
             {676030.0, 5841970.0},
             {676020.3, 5841900.7}},
            {}};
  p.holes.push_back(to_polygon({676070, 5841930, 676090, 5841950}).outer);
  const Grid c = clip(g, Area({p}, g.frame().crs()));
  const auto where = g.frame().window_of(c.frame());
  ASSERT_TRUE(where);
  std::int64_t inside = 0, c0 = 1000, c1 = -1, r0 = 1000, r1 = -1;
  for (std::int64_t r = 0; r < 60; ++r)
    for (std::int64_t k = 0; k < 80; ++k) {
      if (!contains({p}, g.frame().centre(static_cast<double>(k), static_cast<double>(r)))) continue;
      ++inside;
      c0 = std::min(c0, k);
      c1 = std::max(c1, k);
      r0 = std::min(r0, r);
      r1 = std::max(r1, r);
      ASSERT_TRUE(same_bits(c.at(k - where->col, r - where->row), g.at(k, r)));
    }
  const auto v = all_values(c);
  EXPECT_EQ(std::count_if(v.begin(), v.end(), [](float z) { return !std::isnan(z); }), inside);
  EXPECT_EQ(*where, (Window{c0, r0, c1 - c0 + 1, r1 - r0 + 1}));
  expect_same_for_every_window(c, 2);
}

TEST(Clip, BoxesOnCellCentresAreInsideByAHair) {
  const Grid g = rough_grid(utm_frame(20, 20), 1, 0);
  const Crs& crs = g.frame().crs();
  // From centre to centre: both ends belong.
  EXPECT_EQ(clip(g, Area::box({676002.5, 5841990.5, 676007.5, 5841995.5}, crs)).frame().cols(), 6);
  EXPECT_EQ(clip(g, Area::box({676002.5 + 1e-7, 5841990.5, 676007.5, 5841995.5}, crs)).frame().cols(), 6);
  EXPECT_EQ(clip(g, Area::box({676002.6, 5841990.5, 676007.5, 5841995.5}, crs)).frame().cols(), 5);
  // The same rectangle as a polygon with a needless corner takes the slow way and the same cells.
  const MultiPolygon shape{{{{676002.5, 5841990.5},
                             {676005, 5841990.5},
                             {676007.5, 5841990.5},
                             {676007.5, 5841995.5},
                             {676002.5, 5841995.5},
                             {676002.5, 5841990.5}},
                            {}}};
  const Grid slow = clip(g, Area(shape, crs));
  EXPECT_EQ(slow.frame(), clip(g, Area::box({676002.5, 5841990.5, 676007.5, 5841995.5}, crs)).frame());
  for (float z : all_values(slow)) EXPECT_FALSE(std::isnan(z));
}

TEST(Clip, MarginAndMisses) {
  const Grid g = rough_grid(utm_frame(100, 100), 1, 0);
  const Area box = Area::box({676040, 5841940, 676060, 5841960}, g.frame().crs());
  EXPECT_EQ(clip(g, box).frame().cols(), 20);
  EXPECT_NEAR(static_cast<double>(clip(g, box, {.margin = 10_m}).frame().cols()), 40, 1);
  EXPECT_EQ(error_of([&] { clip(g, Area::box({0, 0, 1, 1})); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] {
              clip(g, Area::box({676040.1, 5841940.1, 676040.3, 5841940.3}, g.frame().crs()));
            }),
            ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { clip(relabelled(g, [](GridInfo& i) { i.frame = i.frame.with_crs(Crs()); }), box); }),
            ErrorCode::Refused);
}

// --------------------------------------------------------------------------------------------------------- reproject

// Source cells of all cells of a frame, each from PROJ.
std::vector<Point> exact_places(const Frame& source, const Frame& to) {
  std::vector<Point> p;
  for (std::int64_t r = 0; r < to.rows(); ++r)
    for (std::int64_t c = 0; c < to.cols(); ++c) p.push_back({static_cast<double>(c), static_cast<double>(r)});
  exact_source_cells(source, to, p);
  return p;
}

// Every cell by itself: the twin of the fast path. `in` has a margin of four cells.
double exact_value(const Block& in, Point p, Resampling method) {
  if (std::isnan(p.x)) return std::nan("");
  const auto c = static_cast<std::int64_t>(std::floor(p.x)), r = static_cast<std::int64_t>(std::floor(p.y));
  if (c < 0 || r < 0 || c >= in.window().cols - 8 || r >= in.window().rows - 8 || std::isnan(in.at(c + 4, r + 4)))
    return std::nan("");
  if (method == Resampling::Nearest) return static_cast<double>(in.at(c + 4, r + 4));
  const double x = p.x - 0.5, y = p.y - 0.5, u = x - std::floor(x), v = y - std::floor(y);
  const auto c0 = static_cast<std::int64_t>(std::floor(x)), r0 = static_cast<std::int64_t>(std::floor(y));
  auto keys = [](double t) {
    t = std::abs(t);
    return t < 1 ? 1.5 * t * t * t - 2.5 * t * t + 1 : t < 2 ? -0.5 * t * t * t + 2.5 * t * t - 4 * t + 2 : 0.0;
  };
  if (method == Resampling::Cubic) {
    double sum = 0;
    for (int j = -1; j <= 2; ++j)
      for (int i = -1; i <= 2; ++i)
        sum += keys(u - i) * keys(v - j) * static_cast<double>(in.at(c0 + i + 4, r0 + j + 4));
    if (!std::isnan(sum)) return sum;
  }
  double sum = 0, weight = 0;
  for (int j = 0; j <= 1; ++j)
    for (int i = 0; i <= 1; ++i) {
      const double w = (i ? u : 1 - u) * (j ? v : 1 - v), z = static_cast<double>(in.at(c0 + i + 4, r0 + j + 4));
      if (std::isnan(z)) continue;
      sum += w * z;
      weight += w;
    }
  return sum / weight;
}

TEST(Reproject, AgreesWithTheExactTwin) {
  const Frame degrees(Crs::wgs84(), -31.0021, -37.5489, {1.0 / 10800, 1.0 / 10800}, 90, 70);
  const Grid in = rough_grid(degrees, 3, 4);
  const Frame to = frame_for(degrees, Crs::parse("EPSG:32725"));
  EXPECT_EQ(std::fmod(to.west(), to.cell().x), 0);
  EXPECT_EQ(std::fmod(to.north(), to.cell().y), 0);
  const std::vector<Point> places = exact_places(degrees, to);
  const Block source = in.read(degrees.window().grown(4));
  for (Resampling method : {Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic}) {
    const Block b = reproject(in, to, method).read(to.window());
    int voids_apart = 0;
    for (std::int64_t r = 0; r < to.rows(); ++r)
      for (std::int64_t c = 0; c < to.cols(); ++c) {
        const double expected = exact_value(source, places[static_cast<std::size_t>(r * to.cols() + c)], method),
                     got = static_cast<double>(b.at(c, r));
        if (std::isnan(expected) != std::isnan(got)) {
          ++voids_apart;
          continue;
        }
        if (std::isnan(expected)) continue;
        if (method == Resampling::Nearest && expected != got) ++voids_apart;
        if (method != Resampling::Nearest) {
          // Places are off by up to kTransformTolerance cells, on slopes of up to one in two.
          ASSERT_NEAR(got, expected, 5e-3) << name_of(method) << " " << c << ", " << r;
        }
      }
    EXPECT_LE(voids_apart, 10) << "cells whose place is within the tolerance of a border";
  }
}

// Eight ways to flatten the globe, each cell against its own place by PROJ.
TEST(Reproject, InEightProjectionsEveryCellIsWhatItsTwinSays) {
  const struct {
    const char* text;
    double lon, lat;
  } kinds[] = {{"EPSG:32725", -31, -37.5},
               {"EPSG:3857", 10, 60},
               {"+proj=lcc +lat_1=40 +lat_2=60 +lat_0=50 +lon_0=10 +datum=WGS84 +type=crs", 12, 48},
               {"+proj=laea +lat_0=-75 +lon_0=30 +datum=WGS84 +type=crs", 20, -72},
               {"+proj=stere +lat_0=90 +lat_ts=70 +lon_0=-45 +datum=WGS84 +type=crs", -60, 82},
               {"+proj=aea +lat_1=29.5 +lat_2=45.5 +lat_0=23 +lon_0=-96 +units=us-ft +datum=NAD83 +type=crs", -100, 38},
               {"+proj=omerc +lat_0=4 +lonc=102 +alpha=323 +gamma=323 +k=0.99984 +ellps=GRS80 +type=crs", 103, 5},
               {"EPSG:4326", 179.95, -16}};
  unsigned seed = 40;
  for (const auto& kind : kinds) {
    SCOPED_TRACE(kind.text);
    const Crs crs = Crs::parse(kind.text);
    // The source lies askew in each of them: a plane of its own around the place.
    const Crs own =
        Crs::parse(fmt::format("+proj=tmerc +lat_0={} +lon_0={} +datum=WGS84 +type=crs", kind.lat, kind.lon + 0.35));
    const Point at = Transform(Crs::wgs84(), own).forward({kind.lon, kind.lat});
    const Frame source(own, std::round(at.x) - 450, std::round(at.y) + 400, {10, 10}, 91, 83);
    const Grid g = rough_grid(source, ++seed, 5);
    const Frame to = crs.is_geographic() ? frame_for(source, crs) : frame_for(source, crs, {.cell = 9_m});
    const std::vector<Point> places = exact_places(source, to);
    const Block in = g.read(source.window().grown(4));
    for (const Resampling method : {Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic}) {
      const Grid out = reproject(g, to, method);
      const Block b = out.read(to.window());
      std::int64_t compared = 0, apart = 0;
      for (std::int64_t r = 0; r < to.rows(); ++r)
        for (std::int64_t c = 0; c < to.cols(); ++c) {
          const double expected = exact_value(in, places[static_cast<std::size_t>(r * to.cols() + c)], method),
                       got = static_cast<double>(b.at(c, r));
          if (std::isnan(expected) != std::isnan(got) || (method == Resampling::Nearest && expected != got)) {
            apart += !(std::isnan(expected) && std::isnan(got));
            continue;
          }
          if (std::isnan(expected)) continue;
          ++compared;
          ASSERT_NEAR(got, expected, 5e-3) << name_of(method) << " " << c << ", " << r;
        }
      EXPECT_GT(compared, 5000) << name_of(method);
      EXPECT_LE(apart, 20) << name_of(method) << ": cells whose place is within the tolerance of a border";
      expect_same_for_every_window(out, seed, 4);
    }
  }
}

// The ground of the example study, at a metre, every cell against its own exact transformation.
TEST(Reproject, OfTheDemoTerrainIsWithinTwoCentimetres) {
  const Frame f(Crs::parse("EPSG:32725"), 676600, 5842300, {1, 1}, 340, 310);
  const Grid land = grid_from_function(f, marrowick::ground_utm, metres_above_egm2008());
  for (const Crs& crs : {Crs::parse("EPSG:32724"), Crs::wgs84(), Crs::parse("EPSG:3857")}) {
    const Frame to = frame_for(f, crs, {.cell = 1_m});
    const std::vector<Point> places = exact_places(f, to);
    const Block in = land.read(f.window().grown(4)), out = reproject(land, to, Resampling::Cubic).read(to.window());
    double worst = 0;
    std::int64_t cells = 0;
    for (std::int64_t r = 0; r < to.rows(); ++r)
      for (std::int64_t c = 0; c < to.cols(); ++c) {
        const double expected = exact_value(in, places[static_cast<std::size_t>(r * to.cols() + c)], Resampling::Cubic);
        if (std::isnan(expected) || std::isnan(out.at(c, r))) continue;
        worst = std::max(worst, std::abs(static_cast<double>(out.at(c, r)) - expected));
        ++cells;
      }
    EXPECT_GT(cells, 100000) << crs.label();
    EXPECT_LE(worst, 0.02) << crs.label();
  }
}

TEST(Reproject, CoordinatesKeepTheirBound) {
  // A plane in source cells shows where each output cell was taken from.
  const Frame source(Crs::wgs84(), -31.4, -37.2, {0.001, 0.001}, 800, 700);
  const Frame to = frame_for(source, Crs::parse("EPSG:32725"), {.cell = 100_m});
  Grid columns = grid_from_function(source, [&](double x, double) { return source.col_at(x); });
  const Block b = reproject(columns, to, Resampling::Bilinear).read(to.window());
  const std::vector<Point> places = exact_places(source, to);
  double worst = 0;
  for (std::int64_t r = 0; r < to.rows(); ++r)
    for (std::int64_t c = 0; c < to.cols(); ++c) {
      const Point p = places[static_cast<std::size_t>(r * to.cols() + c)];
      if (p.x > 2 && p.x < 798 && p.y > 2 && p.y < 698)
        worst = std::max(worst, std::abs(static_cast<double>(b.at(c, r)) - p.x));
    }
  EXPECT_LT(worst, kTransformTolerance);
  EXPECT_GT(worst, 0);
}

TEST(Reproject, SameForEveryWindowAndMethod) {
  const Frame degrees(Crs::wgs84(), -31.0021, -37.5489, {1.0 / 10800, 1.0 / 10800}, 70, 60);
  const Grid in = rough_grid(degrees, 5, 5);
  const Frame to = frame_for(degrees, Crs::parse("EPSG:32725"));
  for (Resampling m : {Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic, Resampling::Mean})
    expect_same_for_every_window(reproject(in, to, m), 6, 15);
}

TEST(Reproject, APlaneStaysAPlaneUnderCubic) {
  const Grid in = grid_from_function(utm_frame(100, 100),
                                     [](double x, double y) { return 0.3 * (x - 676000) - 0.2 * (y - 5842000); });
  const Frame to = utm_frame(150, 150, 0.5, 676010.25, 5841990.25);
  const Block b = reproject(in, to).read(to.window());
  for (std::int64_t r = 0; r < 150; r += 11)
    for (std::int64_t c = 0; c < 150; c += 13) {
      const Point p = to.centre(static_cast<double>(c), static_cast<double>(r));
      EXPECT_NEAR(static_cast<double>(b.at(c, r)), 0.3 * (p.x - 676000) - 0.2 * (p.y - 5842000), 1e-4);
    }
}

TEST(Reproject, MeanKeepsTheVolume) {
  const Grid in = rough_grid(utm_frame(100, 100), 8, 0);
  const Grid out = reproject(in, utm_frame(10, 10, 10));
  EXPECT_EQ(resolved(Resampling::Automatic, in, out.frame()), Resampling::Mean);
  for (std::int64_t r = 0; r < 10; ++r)
    for (std::int64_t c = 0; c < 10; ++c) {
      double sum = 0;
      for (std::int64_t j = 0; j < 10; ++j)
        for (std::int64_t i = 0; i < 10; ++i) sum += static_cast<double>(in.at(c * 10 + i, r * 10 + j));
      EXPECT_NEAR(static_cast<double>(out.at(c, r)), sum / 100, 1e-4);
    }
}

TEST(Reproject, VoidsDoNotBleed) {
  std::vector<float> v(400, 10);
  v[10 * 20 + 10] = kVoid;
  const Grid in = grid_from_values(utm_frame(20, 20), v);
  const Frame to = utm_frame(40, 40, 0.5);
  for (Resampling m : {Resampling::Bilinear, Resampling::Cubic}) {
    const auto out = all_values(reproject(in, to, m));
    EXPECT_EQ(std::count_if(out.begin(), out.end(), [](float z) { return std::isnan(z); }), 4);
    for (float z : out) EXPECT_TRUE(std::isnan(z) || z == 10) << z;
  }
}

TEST(Reproject, HugeReductionsAreSplitOrRefused) {
  const Grid in = grid_from_function(utm_frame(6000, 6000), [](double, double) { return 7.0; });
  EXPECT_FLOAT_EQ(reproject(in, utm_frame(3, 3, 2000)).at(1, 1), 7);
  EXPECT_EQ(error_of([&] { reproject(in, utm_frame(1, 1, 6000)).at(0, 0); }), ErrorCode::TooLarge);
}

TEST(Reproject, NeedsACrsAndSaysWhatItWidens) {
  const Grid in =
      grid_from_values(utm_frame(4, 4), std::vector<float>(16, 1), metres_above_egm2008(), SampleType::Int16);
  const Grid lost = relabelled(in, [](GridInfo& i) { i.frame = i.frame.with_crs(Crs()); });
  EXPECT_EQ(error_of([&] { reproject(lost, utm_frame(4, 4)); }), ErrorCode::Refused);
  EXPECT_EQ(reproject(in, utm_frame(4, 4, 1, 676000.5), Resampling::Nearest).info().type, SampleType::Int16);
  const Grid cubic = reproject(in, utm_frame(4, 4, 1, 676000.5));
  EXPECT_EQ(cubic.info().type, SampleType::Float32);
  EXPECT_EQ(cubic.info().notes.size(), 1u);
}

TEST(Reproject, FramesAreRoundAndTrueToTheGround) {
  const Frame arc_second(Crs::wgs84(), -31.1, -37.5, {1.0 / 3600, 1.0 / 3600}, 400, 300);
  const Frame to = frame_for(arc_second, Crs::parse("EPSG:32725"));
  EXPECT_TRUE(to.cell().x == 25 || to.cell().x == 30) << to.cell().x;
  const Frame feet = frame_for(arc_second, Crs::parse("EPSG:32725"), {.cell = Length::feet(10)});
  EXPECT_NEAR(feet.cell().x, 3.048, 1e-12);
  const Frame seconds = frame_for(to, Crs::wgs84(), {.cell = parse_cell_edge("3\"")});
  EXPECT_DOUBLE_EQ(seconds.cell().x, 3.0 / 3600);
  EXPECT_DOUBLE_EQ(seconds.cell().y, 3.0 / 3600);
  EXPECT_NEAR(seconds.west() * 1200, std::round(seconds.west() * 1200), 1e-9) << "its lines at whole multiples";
  EXPECT_EQ(parse_cell_edge("0.5ft"), CellEdge(Length::feet(0.5)));
  EXPECT_EQ(parse_cell_edge("0.25deg"), CellEdge(Angle::degrees(0.25)));
  EXPECT_EQ(error_of([&] { frame_for(arc_second, Crs::parse("EPSG:32725"), {.cell = Angle::degrees(1)}); }),
            ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { frame_for(arc_second, Crs::wgs84(), {.cell = Angle()}); }), ErrorCode::BadArgument);
  for (const char* bad : {"wide", "2", "\"", "1''"})
    EXPECT_EQ(error_of([&] { parse_cell_edge(bad); }), ErrorCode::BadArgument) << bad;
}

// -------------------------------------------------------------------------------------------------------------- fill

TEST(Voids, RegionsAcrossBlocksAndCorners) {
  // A ring, a diagonal, a lone cell, and a void at the edge.
  std::vector<float> v(40 * 30, 1);
  auto hole = [&](std::int64_t c, std::int64_t r) { v[static_cast<std::size_t>(r * 40 + c)] = kVoid; };
  for (std::int64_t i = 5; i <= 15; ++i) {
    hole(i, 5);
    hole(i, 15);
    hole(5, i);
    hole(15, i);
  }
  for (std::int64_t i = 0; i < 6; ++i) hole(20 + i, 8 + i);
  hole(30, 20);
  for (std::int64_t i = 0; i < 4; ++i) hole(39, 25 + i);
  const Grid g = grid_from_values(utm_frame(40, 30), v);
  for (int block : {1, 3, 7, 30}) {
    const VoidMap m = find_voids(g, {.threads = 3, .block = block});
    ASSERT_EQ(m.regions.size(), 4u) << block;
    EXPECT_EQ(m.regions[0].cells, 40);
    EXPECT_EQ(m.regions[0].box, (Window{5, 5, 11, 11}));
    EXPECT_EQ(m.regions[1].cells, 6);
    EXPECT_EQ(m.regions[2].cells, 1);
    EXPECT_TRUE(m.regions[3].at_edge);
    EXPECT_FALSE(m.regions[0].at_edge);
    EXPECT_EQ(m.cells, 51);
  }
}

// Counted by flood fill, one cell at a time.
TEST(Voids, AgreeWithAFloodFill) {
  for (unsigned seed = 1; seed <= 20; ++seed) {
    std::mt19937 random(seed);
    std::vector<float> v(37 * 29);
    for (float& z : v) z = random() % 100 < 20 + seed ? kVoid : 1;
    const Grid g = grid_from_values(utm_frame(37, 29), v);
    std::vector<int> label(v.size(), -1);
    int regions = 0;
    for (std::size_t i = 0; i < v.size(); ++i) {
      if (!std::isnan(v[i]) || label[i] >= 0) continue;
      std::vector<std::size_t> stack{i};
      label[i] = regions;
      while (!stack.empty()) {
        const auto at = static_cast<std::int64_t>(stack.back());
        stack.pop_back();
        for (std::int64_t j = -1; j <= 1; ++j)
          for (std::int64_t k = -1; k <= 1; ++k) {
            const std::int64_t r = at / 37 + j, c = at % 37 + k;
            if (r < 0 || c < 0 || r >= 29 || c >= 37) continue;
            const auto n = static_cast<std::size_t>(r * 37 + c);
            if (std::isnan(v[n]) && label[n] < 0) {
              label[n] = regions;
              stack.push_back(n);
            }
          }
      }
      ++regions;
    }
    const VoidMap m = find_voids(g, {.threads = 2, .block = 1 + static_cast<int>(seed % 9)});
    ASSERT_EQ(m.regions.size(), static_cast<std::size_t>(regions)) << "seed " << seed;
    for (std::int64_t r = 0; r < 29; ++r)
      for (std::size_t i = m.row_begin[static_cast<std::size_t>(r)]; i < m.row_begin[static_cast<std::size_t>(r) + 1];
           ++i)
        for (std::int64_t c = m.runs[i].first; c < m.runs[i].last; ++c)
          ASSERT_EQ(static_cast<int>(m.runs[i].region), label[static_cast<std::size_t>(r * 37 + c)]);
  }
}

TEST(Fill, InverseDistanceAgreesWithItsDefinition) {
  const Frame f = utm_frame(60, 50);
  std::vector<float> v = all_values(rough_grid(f, 4, 0));
  for (std::int64_t r = 0; r < 50; ++r)
    for (std::int64_t c = 0; c < 60; ++c)
      if (std::hypot(static_cast<double>(c) - 30, static_cast<double>(r) - 25) < 11)
        v[static_cast<std::size_t>(r * 60 + c)] = kVoid;
  const Grid g = grid_from_values(f, v, metres_above_egm2008());
  const FillResult filled = fill_voids(g);
  EXPECT_EQ(filled.report.voids_closed, 1);
  EXPECT_EQ(filled.report.voids_by_distance, 1);
  auto is_void = [&](std::int64_t c, std::int64_t r) { return std::isnan(v[static_cast<std::size_t>(r * 60 + c)]); };
  for (std::int64_t r = 0; r < 50; ++r)
    for (std::int64_t c = 0; c < 60; ++c) {
      if (!is_void(c, r)) {
        ASSERT_TRUE(same_bits(filled.grid.at(c, r), g.at(c, r)));
        continue;
      }
      double sum = 0, weight = 0;
      for (std::int64_t j = 0; j < 50; ++j)
        for (std::int64_t i = 0; i < 60; ++i) {
          bool rim = false;
          for (std::int64_t b = -1; b <= 1; ++b)
            for (std::int64_t a = -1; a <= 1; ++a)
              rim = rim || (i + a >= 0 && j + b >= 0 && i + a < 60 && j + b < 50 && is_void(i + a, j + b));
          if (is_void(i, j) || !rim) continue;
          const double w = 1 / (std::pow(static_cast<double>(i - c), 2) + std::pow(static_cast<double>(j - r), 2));
          sum += w * static_cast<double>(v[static_cast<std::size_t>(j * 60 + i)]);
          weight += w;
        }
      ASSERT_NEAR(static_cast<double>(filled.grid.at(c, r)), sum / weight, 1e-3);
    }
}

// Distances were counted in cells: far north a cell is half as wide as it is high, and the rim to the east counted a
// quarter of what it should.
TEST(Fill, WeighsByDistanceOnTheGround) {
  const Frame f(Crs::wgs84(), 20, 70.3, {0.01, 0.01}, 60, 60);
  const Grid whole = grid_from_function(f, [](double x, double y) { return 4000 * (x - 20) + 900 * (y - 70); });
  std::vector<float> v = all_values(whole);
  auto is_void = [](std::int64_t c, std::int64_t r) { return c >= 12 && c < 45 && r >= 20 && r < 38; };
  for (std::int64_t r = 0; r < 60; ++r)
    for (std::int64_t c = 0; c < 60; ++c)
      if (is_void(c, r)) v[static_cast<std::size_t>(r * 60 + c)] = kVoid;
  const Grid filled = fill_voids(grid_from_values(f, v)).grid;
  const GroundScale s = GroundRuler(f.crs()).at(f.centre(28, 28.5));
  for (std::int64_t r = 20; r < 38; ++r)
    for (std::int64_t c = 12; c < 45; ++c) {
      double sum = 0, weight = 0;
      for (std::int64_t j = 19; j <= 38; ++j)
        for (std::int64_t i = 11; i <= 45; ++i) {
          if (is_void(i, j)) continue;
          const double w =
              1 / (std::pow(static_cast<double>(i - c) * s.x, 2) + std::pow(static_cast<double>(j - r) * s.y, 2));
          sum += w * static_cast<double>(v[static_cast<std::size_t>(j * 60 + i)]);
          weight += w;
        }
      ASSERT_NEAR(static_cast<double>(filled.at(c, r)), sum / weight, 0.01) << c << ", " << r;
    }
}

// A mean of nothing was marked as filled.
TEST(Fill, AMeanOfNothingIsNoValue) {
  std::vector<float> v(40 * 40, 7);
  for (std::size_t r = 5; r < 35; ++r)
    for (std::size_t c = 5; c < 35; ++c) v[r * 40 + c] = kVoid;
  const FillResult r = fill_voids(grid_from_values(utm_frame(40, 40), v), {.small = 100000});
  const Block b = r.grid.read(r.grid.frame().window(), Planes::ValuesAndOrigin);
  for (std::int64_t j = 0; j < 40; ++j)
    for (std::int64_t i = 0; i < 40; ++i) {
      ASSERT_FLOAT_EQ(b.at(i, j), 7) << i << ", " << j;
      ASSERT_NE(b.origin_row(j)[i], 0u);
    }
}

TEST(Fill, SmallVoidsTakeTheMeanOfTheSmallestHalfKnownWindow) {
  std::vector<float> v(121);
  for (std::size_t i = 0; i < 121; ++i) v[i] = static_cast<float>(i);
  v[5 * 11 + 5] = kVoid;
  const FillResult one = fill_voids(grid_from_values(utm_frame(11, 11), v));
  EXPECT_EQ(one.report.voids_by_mean, 1);
  EXPECT_FLOAT_EQ(one.grid.at(5, 5), 60);  // the mean of its eight neighbours on a plane
  for (std::int64_t r = 4; r <= 6; ++r)
    for (std::int64_t c = 4; c <= 6; ++c) v[static_cast<std::size_t>(r * 11 + c)] = kVoid;
  EXPECT_FLOAT_EQ(fill_voids(grid_from_values(utm_frame(11, 11), v)).grid.at(5, 5),
                  60);  // only the window of 5 is half known
}

TEST(Fill, WhatIsLeftIsToldAndWhatIsClosedIsMarked) {
  const Frame f = utm_frame(120, 90);
  std::vector<float> v(static_cast<std::size_t>(120 * 90), 5);
  auto block = [&](std::int64_t c0, std::int64_t r0, std::int64_t n, std::int64_t m) {
    for (std::int64_t r = r0; r < r0 + m; ++r)
      for (std::int64_t c = c0; c < c0 + n; ++c) v[static_cast<std::size_t>(r * 120 + c)] = kVoid;
  };
  block(0, 40, 10, 10);   // at the edge
  block(30, 20, 40, 30);  // large
  block(90, 60, 4, 4);    // closed by distance
  block(100, 10, 1, 1);   // closed by mean
  const Grid g = grid_from_values(f, v, metres_above_egm2008(), SampleType::Int16);
  const FillResult r = fill_voids(g, {.largest = 20_m});
  EXPECT_EQ(r.report.voids_closed, 2);
  EXPECT_EQ(r.report.cells_closed, 17);
  EXPECT_EQ(r.report.voids_left_at_edge, 1);
  EXPECT_EQ(r.report.voids_left_large, 1);
  EXPECT_EQ(r.report.cells_left, 1300);
  EXPECT_NEAR(r.report.largest_left.metres(), 40, 0.01);
  EXPECT_EQ(r.grid.info().type, SampleType::Float32);
  const Block b = r.grid.read(f.window(), Planes::ValuesAndOrigin);
  EXPECT_EQ(how_of(b.origin_row(61)[91]), How::Filled);
  EXPECT_EQ(r.grid.info().sources[source_of(b.origin_row(61)[91]) - 1].name, "fill: inverse distance");
  EXPECT_EQ(r.grid.info().sources[source_of(b.origin_row(10)[100]) - 1].name, "fill: window mean");
  EXPECT_EQ(how_of(b.origin_row(5)[5]), How::Measured);
  EXPECT_TRUE(std::isnan(b.at(40, 30)));
  EXPECT_FLOAT_EQ(fill_voids(g, {.largest = 1000_m, .edges = true}).grid.at(2, 45), 5);
}

TEST(Fill, SameForEveryWindowAndNothingFromNothing) {
  for (unsigned seed = 1; seed <= 3; ++seed)
    expect_same_for_every_window(fill_voids(rough_grid(utm_frame(90, 70), seed, 12), {.edges = seed == 2}).grid, seed);
  const Grid nothing = grid_from_values(utm_frame(5, 5), std::vector<float>(25, kVoid));
  EXPECT_EQ(fill_voids(nothing, {.edges = true}).report.voids_closed, 0);
  EXPECT_TRUE(std::isnan(fill_voids(nothing, {.edges = true}).grid.at(2, 2)));
}

TEST(Fill, LongRimsInClustersStayNearTheirDefinition) {
  // A void of 1200 x 1200 cells in a tilted plane: 4804 rim cells, more than kRimCells.
  const Frame f = utm_frame(1210, 1210);
  std::vector<float> v(static_cast<std::size_t>(1210 * 1210));
  for (std::int64_t r = 0; r < 1210; ++r)
    for (std::int64_t c = 0; c < 1210; ++c)
      v[static_cast<std::size_t>(r * 1210 + c)] =
          c >= 5 && c < 1205 && r >= 5 && r < 1205
              ? kVoid
              : static_cast<float>(0.1 * static_cast<double>(c) + 0.05 * static_cast<double>(r));
  const Grid filled = fill_voids(grid_from_values(f, v), {.largest = 5000_m}).grid;
  for (auto [c, r] : {std::pair{600, 600}, std::pair{10, 700}, std::pair{1203, 20}}) {
    double sum = 0, weight = 0;
    for (int i = 4; i <= 1205; ++i)
      for (int j = 4; j <= 1205; j += (i == 4 || i == 1205) ? 1 : 1201) {
        const double w = 1 / (std::pow(i - c, 2) + std::pow(j - r, 2));
        sum += w * (0.1 * i + 0.05 * j);
        weight += w;
      }
    EXPECT_NEAR(static_cast<double>(filled.at(c, r)), sum / weight, 0.01 * 180 / 100);
  }
}

TEST(Distance, AgreesWithItsDefinition) {
  for (unsigned seed = 1; seed <= 6; ++seed) {
    const Grid g = rough_grid(utm_frame(41, 33), seed, 3);
    const Block b = g.read({-3, -3, 47, 39});
    std::vector<std::uint8_t> voids;
    for (std::int64_t i = 0; i < b.window().cells(); ++i) voids.push_back(std::isnan(b.row(0)[i]));
    const auto d = distance_to_marked(voids, b.window().cols, b.window().rows, 9);
    for (std::int64_t r = 0; r < 39; ++r)
      for (std::int64_t c = 0; c < 47; ++c) {
        double best = 9;
        for (std::int64_t j = 0; j < 39; ++j)
          for (std::int64_t i = 0; i < 47; ++i)
            if (std::isnan(b.at(i, j)))
              best = std::min(best, std::hypot(static_cast<double>(i - c), static_cast<double>(j - r)));
        ASSERT_NEAR(static_cast<double>(d[static_cast<std::size_t>(r * 47 + c)]), best, 1e-5);
      }
  }
}

}  // namespace
}  // namespace katoptra
