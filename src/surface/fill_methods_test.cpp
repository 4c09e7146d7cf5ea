// Ways to close voids: the membrane, a second surface bent onto the rim, what errs least; and how sure they are.
#include <cmath>
#include <map>

#include "katoptra/surface/correct.hpp"
#include "katoptra/surface/fill.hpp"

#include "fill_trials.hpp"
#include "marrowick.hpp"
#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Ground with a round void in the middle, and one at the edge.
Grid with_hole(const Frame& f, const Ground& ground, double radius, const Quantity& q = metres_above_egm2008()) {
  std::vector<float> z;
  const Point middle = f.bounds().centre();
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      const bool hole = std::hypot(p.x - middle.x, p.y - middle.y) < radius || (r < 3 && c < 4);
      z.push_back(hole ? kVoid : static_cast<float>(ground(p.x, p.y) / metres_per(q.unit)));
    }
  return grid_from_values(f, std::move(z), q);
}

double hills(double x, double y) {
  return 50 + 9 * std::sin(x / 37) + 7 * std::cos(y / 23) + 2 * std::sin((x - y) / 9);
}

double rms_of_filled(const FillResult& r, const Ground& ground, double unit = 1) {
  const Grid& g = r.grid;
  const Block b = g.read(g.frame().window(), Planes::ValuesAndOrigin);
  double sum = 0;
  std::int64_t n = 0;
  for (std::int64_t row = 0; row < g.frame().rows(); ++row)
    for (std::int64_t c = 0; c < g.frame().cols(); ++c) {
      if (how_of(b.origin_row(row)[c]) != How::Filled) continue;
      const Point p = g.frame().centre(static_cast<double>(c), static_cast<double>(row));
      sum += std::pow(static_cast<double>(b.at(c, row)) - ground(p.x, p.y) / unit, 2);
      ++n;
    }
  EXPECT_GT(n, 0);
  return std::sqrt(sum / static_cast<double>(n));
}

TEST(FillMethods, ByNames) {
  EXPECT_EQ(parse_fill_method("auto"), FillMethod::Automatic);
  EXPECT_EQ(parse_fill_method("membrane"), FillMethod::Membrane);
  EXPECT_EQ(error_of([] { parse_fill_method("spline"); }), ErrorCode::BadArgument);
}

TEST(FillMethods, TheMembraneIsHarmonicInEveryUnitAndCell) {
  for (const auto& [dx, dy] : {std::pair{1.0, 1.0}, {2.0, 1.0}, {0.7, 3.0}}) {
    const Frame f(Crs::parse("EPSG:32725"), 676000, 5842000, {dx, dy}, 60, 50);
    Quantity feet = metres_above_egm2008();
    feet.unit = LengthUnit::Foot;
    const Ground saddle = [](double x, double y) {
      const double u = x - 676020, v = y - 5841980;
      return 100 + 0.1 * u - 0.2 * v + 0.01 * u * v + 0.02 * (u * u - v * v);
    };
    for (const Quantity& q : {metres_above_egm2008(), feet}) {
      const FillResult r = fill_voids(with_hole(f, saddle, 12, q), {.method = FillMethod::Membrane, .run = {}});
      EXPECT_EQ(r.report.voids_by_membrane, 1);
      EXPECT_EQ(r.report.voids_left_at_edge, 1);
      EXPECT_LT(rms_of_filled(r, saddle, metres_per(q.unit)), 2e-3) << dx << " x " << dy;
      EXPECT_EQ(r.grid.info().sources.back().name, "fill: membrane");
      expect_same_for_every_window(r.grid, 4);
    }
  }
}

TEST(FillMethods, ASecondSurfaceIsMovedOntoTheRim) {
  // The second one is off by a plane, has other cells, counts in feet and lies in another zone: what is off goes.
  const Frame f = utm_frame(90, 80);
  const Ground off = [](double x, double y) { return hills(x, y) + 4 + 0.03 * (x - 676000) - 0.02 * (y - 5842000); };
  const Grid holed = with_hole(f, hills, 20);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid second = grid_from_function(
      utm_frame(250, 230, 0.5, 675990.3, 5842010.7), [&](double x, double y) { return off(x, y) / 0.3048; }, feet,
      "other.tif");
  const FillResult r = fill_voids(holed, {.edges = true, .second = second, .run = {}});
  EXPECT_EQ(r.report.voids_from_second, 2);
  EXPECT_LT(rms_of_filled(r, hills), 0.01)
      << "where the membrane alone errs by "
      << rms_of_filled(fill_voids(holed, {.edges = true, .method = FillMethod::Membrane, .run = {}}), hills);
  EXPECT_EQ(r.grid.info().sources.back().name, "fill: other.tif, bent onto the rim");
  expect_same_for_every_window(r.grid, 8);
  // In degrees and with a second surface in metres on the ground below.
  const Frame degrees(Crs::wgs84(), -31, -37.5, {0.0002, 0.0002}, 60, 60);
  const auto lonlat = [](double lon, double lat) {
    return 30 + 900 * (lon + 31) - 700 * (lat + 37.5) + 2e5 * (lon + 31) * (lon + 31);
  };
  const Grid there = with_hole(degrees, lonlat, 0.003),
             other = corrected(grid_from_function(degrees, lonlat, metres_above_egm2008()), {.offset = 7_m});
  EXPECT_LT(rms_of_filled(fill_voids(there, {.second = other, .run = {}}), lonlat), 1e-3);
}

TEST(FillMethods, ASecondSurfaceIsBentNearTheRimOnly) {
  // Off by 1 on one side of the rim and by 3 on the other: deep inside by the mean of the rim.
  const Frame f = utm_frame(120, 120);
  const Ground off = [](double x, double y) { return hills(x, y) - (x < 676060 ? 1 : 3); };
  const Grid holed = with_hole(f, hills, 40), second = grid_from_function(f, off, metres_above_egm2008());
  const Grid all = fill_voids(holed, {.second = second, .run = {}}).grid,
             near = fill_voids(holed, {.second = second, .blend = 10_m, .run = {}}).grid;
  const auto bend = [&](const Grid& g, std::int64_t c) {
    const Point p = f.centre(static_cast<double>(c), 60);
    return static_cast<double>(g.at(c, 60)) - off(p.x, p.y);
  };
  EXPECT_NEAR(bend(near, 45), 2, 0.05) << "fifteen cells from the middle, twenty-five from the rim";
  EXPECT_LT(bend(all, 45), 1.8);
  for (const Grid& g : {all, near}) EXPECT_NEAR(bend(g, 21), 1, 0.15) << "beside the rim it meets it";
}

TEST(FillMethods, WhatTheSecondSurfaceDoesNotCoverIsClosedWithoutItAndSaid) {
  const Frame f = utm_frame(90, 80);
  const Grid holed = with_hole(f, hills, 15);
  const Grid part = relabelled(grid_from_function(utm_frame(45, 80), hills, metres_above_egm2008()),
                               [](GridInfo& i) { i.name = "west.tif"; });
  const FillResult r = fill_voids(holed, {.method = FillMethod::Membrane, .second = part, .run = {}});
  EXPECT_EQ(r.report.voids_second_misses, 1);
  EXPECT_EQ(r.report.voids_by_membrane, 1);
  EXPECT_NE(r.grid.info().notes.back().find("west.tif covers 1 of the voids only in part"), std::string::npos)
      << r.grid.info().notes.back();
  // What it does not meet at all is no miss.
  const Grid away = grid_from_function(utm_frame(10, 10), hills, metres_above_egm2008());
  EXPECT_EQ(fill_voids(holed, {.second = away, .run = {}}).report.voids_second_misses, 0);
  std::string text;
  const Grid ellipsoid =
      relabelled(part, [](GridInfo& i) { i.quantity.heights = HeightReference::parse("ellipsoid"); });
  EXPECT_EQ(error_of([&] { fill_voids(holed, {.second = ellipsoid, .run = {}}); }, &text), ErrorCode::Refused);
  EXPECT_NE(text.find("ellipsoid"), std::string::npos) << text;
  const Grid slope =
      relabelled(part, [](GridInfo& i) { i.quantity = {.kind = QuantityKind::Slope, .other_unit = "degree"}; });
  EXPECT_EQ(error_of([&] { fill_voids(holed, {.second = slope, .run = {}}); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { fill_voids(holed, {.blend = Length::metres(-1), .run = {}}); }), ErrorCode::BadArgument);
}

TEST(FillMethods, TheWayThatErrsLeastIsTaken) {
  for (unsigned seed = 1; seed <= 3; ++seed) {
    const Grid g = with_voids(measured(utm_frame(260, 240), hills, 0.02, 0_m, seed), seed);
    const FillResult best = fill_voids(g, {.largest = 500_m, .method = FillMethod::Automatic, .run = {}});
    const double err = rms_of_filled(best, hills);
    // Few voids are large, so hidden ones need not tell exactly which way is best there.
    for (const FillMethod m : {FillMethod::Usual, FillMethod::Distance, FillMethod::Membrane})
      EXPECT_LT(err, 1.1 * rms_of_filled(fill_voids(g, {.largest = 500_m, .method = m, .run = {}}), hills));
    // What was taken has the least error of its size, and what was seen is told.
    std::map<std::int64_t, std::pair<double, bool>> least;
    for (const FillTrial& t : best.report.trials) {
      EXPECT_GT(t.cells, 0);
      auto [it, is_new] = least.emplace(t.from, std::pair{t.rms, t.taken});
      if (!is_new && t.rms < it->second.first) it->second = {t.rms, t.taken};
    }
    EXPECT_GE(least.size(), 3u);
    // With a good second surface that is what errs least for the large ones; the same for every number of threads.
    const Grid second =
        corrected(grid_from_function(utm_frame(260, 240), hills, metres_above_egm2008()), {.offset = 2_m});
    FillOptions o{.largest = 500_m, .method = FillMethod::Automatic, .second = second, .run = {.threads = 1}};
    const FillResult one = fill_voids(g, o);
    EXPECT_GT(one.report.voids_from_second, 0);
    EXPECT_LT(rms_of_filled(one, hills), 0.3 * err) << "a third of the best way without it";
    o.run.threads = 3;
    const std::vector<float> a = all_values(one.grid), b = all_values(fill_voids(g, o).grid);
    for (std::size_t i = 0; i < a.size(); ++i) ASSERT_TRUE(same_bits(a[i], b[i])) << i;
  }
}

// Water that was laid flat stands beside the voids of its shore: hidden cells on it erred by nothing, and cells of the
// shore came out as known to the last bit.
TEST(FillMethods, LevelWaterTellsNothingOfHowFillingErrs) {
  const Frame f = utm_frame(90, 60);
  const Grid water = with_uncertainty(
      grid_from_function(
          f, [](double x, double y) { return std::hypot(x - 676030, y - 5841970) < 4 ? std::nan("") : 0.0; },
          metres_above_egm2008()),
      // Of a level that was given it is not known.
      grid_from_function(
          f, [](double x, double) { return x < 676080 ? std::nan("") : 0.05; },
          uncertainty_of(metres_above_egm2008())));
  const Block b = fill_voids(water, {.method = FillMethod::Membrane, .run = {}}).grid.read(f.window(), Planes::All);
  EXPECT_EQ(b.at(30, 30), 0);
  EXPECT_TRUE(std::isnan(b.uncertainty_row(30)[30])) << b.uncertainty_row(30)[30];
  EXPECT_FLOAT_EQ(b.uncertainty_row(10)[85], 0.05F);
}

TEST(FillMethods, FilledTwiceOrNothingToFill) {
  const Grid g = rough_grid(utm_frame(70, 60), 3);
  for (const FillMethod m : {FillMethod::Membrane, FillMethod::Automatic}) {
    const FillOptions o{.edges = true, .method = m, .run = {}};
    const Grid once = fill_voids(g, o).grid;
    const FillResult twice = fill_voids(once, o);
    EXPECT_EQ(twice.report.voids_closed, 0);
    const std::vector<float> a = all_values(once), b = all_values(twice.grid);
    for (std::size_t i = 0; i < a.size(); ++i) ASSERT_TRUE(same_bits(a[i], b[i]));
    // A grid that is all void, one of a single row, one cell that is known.
    const Grid none = grid_from_values(utm_frame(5, 4), std::vector<float>(20, kVoid), metres_above_egm2008());
    EXPECT_EQ(fill_voids(none, o).report.voids_closed, 0);
    const Grid row = grid_from_values(utm_frame(6, 1), {1, kVoid, kVoid, kVoid, 5, kVoid}, metres_above_egm2008());
    const std::vector<float> z = all_values(fill_voids(row, o).grid);
    EXPECT_NEAR(z[2], 3, 1e-4);
    EXPECT_NEAR(z[5], 5, 1e-4);
    std::vector<float> lone(20, kVoid);
    lone[7] = 4;
    for (const float v :
         all_values(fill_voids(grid_from_values(utm_frame(5, 4), lone, metres_above_egm2008()), o).grid))
      EXPECT_NEAR(v, 4, 1e-4);
  }
}

TEST(StatedUncertainty, HoldsWhereVoidsWereFilled) {
  const Ground island = [](double x, double y) { return marrowick::ground_utm(x, y); };
  const Frame f(Crs::parse("EPSG:32725"), 677300, 5841900, {1, 1}, 300, 300);
  for (const Ground& ground : {Ground(hills), island})
    for (const double reach : {0.0, 3.0, 20.0}) {
      Held held_by_way[2];
      for (unsigned seed = 1; seed <= 5; ++seed) {
        const Grid g = with_voids(measured(f, ground, 0.05, Length::metres(reach), seed), seed);
        const Grid second = measured(
            Frame(f.crs(), 677280, 5841920, {5, 5}, 70, 70), [&](double x, double y) { return ground(x, y) + 1.5; },
            0.2, Length::metres(reach), seed + 40);
        for (const int k : {0, 1}) {
          FillOptions o{.largest = 500_m, .method = FillMethod::Automatic, .run = {}};
          if (k) o.second = second;
          held_by_way[k].add(held(fill_voids(g, o).grid, ground, [](const Block& b, std::int64_t c, std::int64_t r) {
            return how_of(b.origin_row(r)[c]) == How::Filled;
          }));
        }
      }
      for (const Held& h : held_by_way) {
        EXPECT_GE(h.share(), 0.93) << reach << ", errors " << h.ratio() << " of what is stated";
        EXPECT_LE(h.share(), 0.98) << reach << ", errors " << h.ratio() << " of what is stated";
      }
    }
}

}  // namespace
}  // namespace katoptra
