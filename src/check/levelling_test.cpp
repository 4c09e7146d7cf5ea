#include "katoptra/check/levelling.hpp"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "katoptra/check/compare.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "check_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

double rolling(Point p) { return 60 + 25 * std::sin(p.x / 147) * std::cos(p.y / 161) + 3 * std::sin((p.x + p.y) / 39); }

struct Planted {
  double offset = 0, tilt_x = 0, tilt_y = 0;  // metres, and metres a metre about the middle
};

struct SurveyMaker {
  double noise = 0.05;
  double changed = 0;  // share of the ground that is not what others saw
  Quantity quantity = metres_above_egm2008();

  Grid operator()(const Frame& f, const std::string& name, const Planted& p, unsigned seed) const {
    std::mt19937 random(seed);
    std::normal_distribution<double> jitter(0, noise);
    const auto any = [&] { return static_cast<double>(random() % 100'000) / 100'000; };
    const double unit = metres_per(quantity.unit);
    std::vector<float> z;
    const Point m = f.bounds().centre();
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const Point at = f.centre(static_cast<double>(c), static_cast<double>(r));
        z.push_back(static_cast<float>(
            (rolling(at) + p.offset + p.tilt_x * (at.x - m.x) + p.tilt_y * (at.y - m.y) + jitter(random)) / unit));
      }
    for (double left = changed * static_cast<double>(z.size()); left > 0;) {
      const double radius = 4 + 20 * any(), dx = any() * static_cast<double>(f.cols()),
                   dy = any() * static_cast<double>(f.rows()), by = (any() < 0.3 ? 1 : -1) * (0.3 + 2 * any()) / unit;
      for (std::int64_t r = 0; r < f.rows(); ++r)
        for (std::int64_t c = 0; c < f.cols(); ++c)
          if (std::hypot(static_cast<double>(c) - dx, static_cast<double>(r) - dy) < radius)
            z[static_cast<std::size_t>(r * f.cols() + c)] += static_cast<float>(by);
      left -= 3.14 * radius * radius;
    }
    return named(grid_from_values(f, std::move(z), quantity), name);
  }
  static Grid named(const Grid& g, const std::string& name) {
    return relabelled(g, [&](GridInfo& info) {
      info.name = name;
      info.sources = {{.name = name, .survey = name, .cell = 1_m}};
    });
  }
};

Frame frame_at(double east, double north, std::int64_t cols = 200, std::int64_t rows = 200) {
  return {Crs::parse("EPSG:32725"), 500000 + east, 5844000 + north, {1, 1}, cols, rows};
}

// A block of overlapping surveys, and what was planted in each but the one that is right.
struct BlockOfSurveys {
  std::vector<Grid> tiles;
  std::vector<Planted> planted;
};
BlockOfSurveys block_of(int across, int down, bool tilted, int right, unsigned seed, const SurveyMaker& make,
                        std::int64_t side = 300, int step = 200) {
  std::mt19937 random(seed);
  const auto any = [&] { return static_cast<double>(random() % 200'000) / 100'000 - 1; };
  BlockOfSurveys b;
  for (int j = 0; j < down; ++j)
    for (int i = 0; i < across; ++i) {
      Planted p{.offset = any()};
      if (tilted) p = {p.offset, any() * 0.002, any() * 0.002};
      if (b.tiles.size() == static_cast<std::size_t>(right)) p = {};
      b.tiles.push_back(make(frame_at(i * step, -j * step, side, side), fmt::format("survey {}", b.tiles.size()), p,
                             seed * 1000 + static_cast<unsigned>(random() % 997)));
      b.planted.push_back(p);
    }
  return b;
}

// Points of known height, evenly at random over a box.
ControlSet control_over(const Bounds& box, int n, double error, unsigned seed) {
  std::mt19937 random(seed);
  std::normal_distribution<double> jitter(0, error);
  const auto any = [&] { return static_cast<double>(random() % 100'000) / 100'000; };
  ControlSet c{
      .name = "control", .crs = Crs::parse("EPSG:32725"), .error = Length::metres(error), .points = {}, .notes = {}};
  c.heights = HeightReference::parse("EGM2008");
  for (int i = 0; i < n; ++i) {
    const Point p{box.west + any() * box.width(), box.south + any() * box.height()};
    c.points.push_back({.name = std::to_string(i), .place = p, .height = rolling(p) + jitter(random)});
  }
  return c;
}

// What is left of a planted plane at a place.
double left_at(const Planted& p, const SurveyLevel& s, const Grid& tile, Point at) {
  const Point m = tile.frame().bounds().centre();
  const Correction& c = s.correction;
  return p.offset + c.offset.metres() + (p.tilt_x + c.tilt_x) * (at.x - m.x) + (p.tilt_y + c.tilt_y) * (at.y - m.y);
}

TEST(Levelling, ThirtySurveysThatAreAboveTiltedAndChanged) {
  std::int64_t offsets = 0, within = 0, stated = 0;
  double seam = 0;
  for (unsigned seed = 1; seed <= 3; ++seed) {
    const BlockOfSurveys b = block_of(6, 5, true, 14, seed, {.changed = 0.1});
    const ControlSet control = control_over({500000, 5842900, 501300, 5844300}, 60, 0.01, seed);
    const Levelling l = level(b.tiles, {.fit = LevelFit::Planes, .hold = {"survey 14"}, .control = &control});
    ASSERT_EQ(l.surveys.size(), 30u);
    for (std::size_t i = 0; i < 30; ++i) {
      const double e = b.planted[i].offset + l.surveys[i].offset.metres();
      ++offsets;
      within += std::abs(e) <= 0.01;
      stated += std::abs(e) <= kTwoSided95 * l.surveys[i].error.metres();
    }
    for (const OverlapLevel& o : l.overlaps) {
      EXPECT_TRUE(o.fits) << l.surveys[o.first].name << ", " << l.surveys[o.second].name;
      const Bounds x = b.tiles[o.first].frame().bounds(), y = b.tiles[o.second].frame().bounds();
      for (const double east : {std::max(x.west, y.west), std::min(x.east, y.east)})
        for (const double north : {std::max(x.south, y.south), std::min(x.north, y.north)})
          seam = std::max(
              seam, std::abs(left_at(b.planted[o.first], l.surveys[o.first], b.tiles[o.first], {east, north}) -
                             left_at(b.planted[o.second], l.surveys[o.second], b.tiles[o.second], {east, north})));
    }
  }
  EXPECT_GE(static_cast<double>(within), 0.95 * static_cast<double>(offsets));
  EXPECT_GE(static_cast<double>(stated), 0.9 * static_cast<double>(offsets));
  EXPECT_LE(seam, 0.02);
}

// Surveys in feet, in degrees and with coarser cells are levelled on what they are, and each is moved in its own unit.
TEST(Levelling, FeetDegreesAndCoarserCells) {
  const Frame here = frame_at(0, 0, 240, 240);
  const Grid right = SurveyMaker{}(here, "right", {}, 1);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid in_feet = SurveyMaker{.quantity = feet}(frame_at(100, 0, 240, 240), "feet", {.offset = 0.4}, 2);
  const Grid fine = SurveyMaker{}(frame_at(0, -120, 240, 240), "coarse", {.offset = -0.25}, 3);
  const Grid coarse = SurveyMaker::named(
      reproject(fine, Frame(here.crs(), here.west(), here.north() - 120, {3, 3}, 80, 80), Resampling::Mean), "coarse");
  const Frame geo = frame_for(here, Crs::parse("EPSG:4326"), {});
  const Grid degrees = SurveyMaker::named(
      reproject(SurveyMaker{}(here, "lifted", {.offset = 0.1}, 4), geo, Resampling::Cubic), "degrees");
  const Levelling l = level({right, in_feet, coarse, degrees}, {.hold = {"right"}});
  const double expected[] = {0, -0.4, 0.25, -0.1};
  for (std::size_t i = 0; i < 4; ++i)
    EXPECT_NEAR(l.surveys[i].offset.metres(), expected[i], 0.004) << l.surveys[i].name;
  const std::vector<Grid> moved = levelled({right, in_feet, coarse, degrees}, l);
  EXPECT_NEAR(moved[1].at(10, 10) - in_feet.at(10, 10), -0.4 / 0.3048, 0.02);
  EXPECT_EQ(moved[1].quantity().unit, LengthUnit::Foot);
  EXPECT_EQ(moved[0].at(5, 5), right.at(5, 5));
}

// One told east of Greenwich, the other west of it: they overlap at 180 degrees.
TEST(Levelling, SurveysOnBothSidesOfTheAntimeridianAreNeighbours) {
  const double cell = 1e-5;
  const auto hills = [](double lon, double lat) {
    const double x = (lon < 0 ? lon + 360 : lon) * 1e5, y = lat * 1e5;
    return 40 + 9 * std::sin(x / 61) * std::cos(y / 53) + 2 * std::sin((x + y) / 17);
  };
  const auto survey = [&](double west, const char* name, double offset, double slope, unsigned seed) {
    const Frame f(Crs::parse("EPSG:4326"), west, -17, {cell, cell}, 300, 200);
    std::mt19937 random(seed);
    std::normal_distribution<double> jitter(0, 0.02);
    std::vector<float> z;
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
        z.push_back(static_cast<float>(hills(p.x, p.y) + offset + slope * (p.x - west) * 1e5 + jitter(random)));
      }
    return SurveyMaker::named(grid_from_values(f, z, metres_above_egm2008()), name);
  };
  const Grid east = survey(180 - 200 * cell, "east", 0, 0, 1), west = survey(-180 - 50 * cell, "west", 0.6, 0, 2),
             tilted = survey(-180 - 100 * cell, "tilted", 0.3, 0.001, 3);
  const Levelling l = level({east, west}, {.hold = {"east"}});
  ASSERT_TRUE(l.surveys[1].known);
  EXPECT_NEAR(l.surveys[1].offset.metres(), -0.6, 0.01);
  // In either order, and when what is held is told from the other side.
  EXPECT_NEAR(level({west, east}, {.hold = {"east"}}).surveys[0].offset.metres(), -0.6, 0.01);
  // A plane is taken out of cells that are told from their own side.
  const std::vector<Grid> both{east, tilted};
  const std::vector<Grid> moved = levelled(both, level(both, {.fit = LevelFit::Planes, .hold = {"east"}}));
  const Block z = moved[1].read(moved[1].frame().window());
  double off = 0;
  for (std::int64_t c = 0; c < 300; ++c) {
    const Point p = moved[1].frame().centre(static_cast<double>(c), 100);
    off = std::max(off, std::abs(static_cast<double>(z.at(c, 100)) - hills(p.x, p.y)));
  }
  EXPECT_LT(off, 0.12) << "five times the noise, and what its plane is known to";
  const Comparison c = compare(east, west);
  EXPECT_EQ(c.frame.cols(), 150);
  EXPECT_NEAR(c.overall.mean, -0.6, 0.01);
}

TEST(Levelling, WhatIsHeldStaysAndWhatIsJoinedToNothingIsTold) {
  const SurveyMaker make;
  const Grid a = make(frame_at(0, 0), "a", {}, 1), b = make(frame_at(100, 0), "b", {.offset = 0.3}, 2),
             far = make(frame_at(5000, 0), "far", {.offset = 9}, 3),
             by = make(frame_at(5100, 0), "by", {.offset = 8}, 4);
  const Levelling l = level({a, b, far, by}, {.hold = {"a"}});
  EXPECT_TRUE(l.surveys[0].held);
  EXPECT_TRUE(l.surveys[0].correction.does_nothing());
  EXPECT_TRUE(l.surveys[1].known);
  EXPECT_FALSE(l.surveys[2].known);
  EXPECT_FALSE(l.surveys[3].known) << "they overlap one another only";
  EXPECT_TRUE(l.surveys[2].correction.does_nothing());
  std::string notes;
  for (const std::string& n : l.notes) notes += n + "\n";
  EXPECT_NE(notes.find("far: overlaps nothing that is held"), std::string::npos) << notes;
  // A difference between two that stay is told as it is.
  ASSERT_EQ(l.overlaps.size(), 2u);
  EXPECT_NEAR(l.overlaps[1].after.metres(), 1, 0.01);
  EXPECT_NEAR(l.overlaps[0].before.metres(), -0.3, 0.01);
  EXPECT_NEAR(l.overlaps[0].after.metres(), 0, 0.005);
}

TEST(Levelling, WhatCannotBeDoneIsRefused) {
  const SurveyMaker make;
  const Grid a = make(frame_at(0, 0), "a", {}, 1), b = make(frame_at(100, 0), "b", {.offset = 0.3}, 2);
  std::string text;
  EXPECT_EQ(error_of([&] { level({a, b}, {.hold = {}}); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("nothing says which level is right"), std::string::npos) << text;
  EXPECT_EQ(error_of([&] { level({a, b}, {.hold = {"c"}}); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("hold one of: a, b"), std::string::npos) << text;
  const ControlSet elsewhere = control_over({0, 0, 10, 10}, 5, 0.01, 1);
  EXPECT_EQ(error_of([&] { level({a, b}, {.hold = {}, .control = &elsewhere}); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("no control point lies on"), std::string::npos) << text;
  EXPECT_EQ(error_of([&] { level({}, {.hold = {"a"}}); }), ErrorCode::BadArgument);
  const Grid lost = grid_from_function(Frame({}, 0, 0, {1, 1}, 9, 9), [](double, double) { return 1.0; });
  EXPECT_EQ(error_of([&] { level({a, lost}, {.hold = {"a"}}); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([] { parse_level_fit("splines"); }), ErrorCode::BadArgument);
}

// Errors that no plane takes out: the two halves of a survey lie at different levels.
TEST(Levelling, WhatDoesNotFitIsTold) {
  const SurveyMaker make;
  const Grid left = make(frame_at(0, 0, 150, 200), "left", {}, 1),
             right = make(frame_at(170, 0, 150, 200), "right", {}, 2), across = make(frame_at(60, 0), "across", {}, 3);
  const Block z = across.read(across.frame().window());
  std::vector<float> broken(z.row(0), z.row(0) + 200 * 200);
  for (std::size_t i = 0; i < broken.size(); ++i) broken[i] += i % 200 < 100 ? 0.2F : -0.2F;
  const Grid torn = SurveyMaker::named(grid_from_values(across.frame(), broken, across.quantity()), "torn");
  const Levelling l = level({left, right, torn}, {.hold = {"left", "right"}});
  std::string notes;
  for (const std::string& n : l.notes) notes += n + "\n";
  EXPECT_NE(notes.find("do not fit"), std::string::npos) << notes;
  EXPECT_FALSE(l.overlaps[0].fits && l.overlaps[1].fits);
}

TEST(Levelling, TreesAreNoError) {
  SurveyMaker roofs;
  roofs.quantity.surface = SurfaceKind::FirstReturn;
  SurveyMaker bare;
  bare.quantity.surface = SurfaceKind::Ground;
  const Levelling l = level({bare(frame_at(0, 0), "bare", {}, 1), roofs(frame_at(50, 0), "roofs", {.offset = 7}, 2)},
                            {.hold = {"bare"}});
  EXPECT_FALSE(l.surveys[1].known);
  EXPECT_TRUE(l.overlaps.empty());
  ASSERT_FALSE(l.notes.empty());
  EXPECT_NE(l.notes[0].find("first returns"), std::string::npos);
}

// The lineage says by how much; the uncertainty takes in how well that is known; the seam is gone.
TEST(Levelling, AMosaicOfLevelledTilesHasNoStep) {
  const SurveyMaker make;
  std::vector<Grid> tiles{make(frame_at(0, 0), "a", {}, 1), make(frame_at(100, 0), "b", {.offset = 0.5}, 2)};
  tiles[1] = with_uncertainty(tiles[1], {.constant = 0.05_m});
  const Levelling l = level(tiles, {.hold = {"a"}});
  const std::vector<Grid> moved = levelled(tiles, l);
  EXPECT_NE(moved[1].info().sources[0].treatment.find("everywhere, give or take"), std::string::npos)
      << moved[1].info().sources[0].treatment;
  const Block b = moved[1].read({0, 0, 1, 1}, Planes::All);
  EXPECT_FLOAT_EQ(b.uncertainty_row(0)[0], static_cast<float>(std::hypot(0.05F, l.surveys[1].error.metres())));
  const Grid whole = mosaic(moved, {.prefer = {Preference::Given}});
  double step = 0;
  for (std::int64_t r = 0; r < 200; ++r)
    step += static_cast<double>(whole.at(200, r) - whole.at(199, r)) -
            (rolling(whole.frame().centre(200, static_cast<double>(r))) -
             rolling(whole.frame().centre(199, static_cast<double>(r))));
  EXPECT_NEAR(step / 200, 0, 0.012);
}

TEST(Levelling, SheetsOfOneSurveyMoveTogetherOrOneByOne) {
  const SurveyMaker make;
  const auto sheet = [&](double east, double offset, unsigned seed) {
    return relabelled(make(frame_at(east, 0, 120, 200), "sheets", {.offset = offset}, seed),
                      [&](GridInfo& info) { info.name = fmt::format("sheet {}", seed); });
  };
  const std::vector<Grid> tiles{make(frame_at(0, 0, 300, 200), "right", {}, 9), sheet(0, 0.2, 1), sheet(100, 0.3, 2)};
  const Levelling together = level(tiles, {.hold = {"right"}});
  ASSERT_EQ(together.surveys.size(), 2u);
  EXPECT_NEAR(together.surveys[1].offset.metres(), -0.25, 0.02);
  const Levelling alone = level(tiles, {.hold = {"right"}, .each_tile = true});
  ASSERT_EQ(alone.surveys.size(), 3u);
  EXPECT_NEAR(alone.surveys[1].offset.metres(), -0.2, 0.004);
  EXPECT_NEAR(alone.surveys[2].offset.metres(), -0.3, 0.004);
}

// What was joined of two surveys is neither of them.
TEST(Levelling, AJoinedSurfaceIsOneByItself) {
  const SurveyMaker make;
  const Grid a = make(frame_at(0, 0), "a", {}, 1), b = make(frame_at(100, 0), "b", {.offset = 0.3}, 2),
             both = relabelled(mosaic({a, b}, {.prefer = {Preference::Given}}),
                               [](GridInfo&info) { info.name = "both.tif"; }),
             next = make(frame_at(250, 0), "c", {.offset = -0.2}, 3);
  const Levelling l = level({both, next}, {.hold = {"both.tif"}});
  EXPECT_EQ(l.surveys[0].name, "both.tif");
  EXPECT_TRUE(l.surveys[0].held);
  EXPECT_NEAR(l.surveys[1].offset.metres(), 0.5, 0.01) << "both is b there";
  EXPECT_EQ(error_of([&] { level({both, next}, {.hold = {"a"}}); }), ErrorCode::BadArgument);
}

TEST(Levelling, TheSameBitsForEveryNumberOfThreads) {
  const BlockOfSurveys b = block_of(3, 2, true, 0, 7, {.changed = 0.1}, 120, 80);
  Levelling first;
  for (const int threads : {1, 2, 5}) {
    const Levelling l = level(b.tiles, {.fit = LevelFit::Planes, .hold = {"survey 0"}, .run = {.threads = threads}});
    if (threads == 1) first = l;
    for (std::size_t i = 0; i < l.surveys.size(); ++i) {
      EXPECT_EQ(l.surveys[i].offset, first.surveys[i].offset);
      EXPECT_EQ(l.surveys[i].correction.tilt_x, first.surveys[i].correction.tilt_x);
      EXPECT_EQ(l.surveys[i].error, first.surveys[i].error);
    }
  }
}

// Offsets alone, without tilts and without change: what is stated of them holds.
TEST(Levelling, StatedErrorsHold) {
  int all = 0, held = 0;
  for (unsigned seed = 1; seed <= 12; ++seed) {
    const BlockOfSurveys b = block_of(4, 3, false, 0, seed, {}, 100, 70);
    const Levelling l = level(b.tiles, {.hold = {"survey 0"}});
    for (std::size_t i = 1; i < 12; ++i, ++all)
      held += std::abs(b.planted[i].offset + l.surveys[i].offset.metres()) <= kTwoSided95 * l.surveys[i].error.metres();
  }
  EXPECT_GE(held, 0.9 * all);
}

}  // namespace
}  // namespace katoptra
