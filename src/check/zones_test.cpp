// Areas, volumes and statistics of zones against plain loops and shapes whose volume is known.
#include "katoptra/check/zones.hpp"

#include <algorithm>
#include <map>

#include "katoptra/grid/uncertainty.hpp"

#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

Grid cone(const Frame& f, double height, double radius) {
  const Point mid = f.bounds().centre();
  return grid_from_function(
      f, [=](double x, double y) { return std::max(0.0, height * (1 - std::hypot(x - mid.x, y - mid.y) / radius)); },
      metres_above_egm2008());
}

TEST(Zones, VolumeOfACone) {
  const Frame f = utm_frame(401, 401);
  const GroundSpacing s = ground_spacing(f);
  const double k = s.x.metres() * s.y.metres();
  const auto v = volumes_at(cone(f, 50, 150), {25, 0});
  ASSERT_EQ(v.size(), 2u);
  EXPECT_EQ(v[0].level, 0);
  EXPECT_NEAR(v[0].volume_above, M_PI * 150 * 150 * 50 / 3 * k, 600);
  EXPECT_NEAR(v[1].volume_above, M_PI * 75 * 75 * 25 / 3 * k, 150);
  EXPECT_NEAR(v[1].area_above, M_PI * 75 * 75 * k, 60);
  EXPECT_NEAR(v[1].area_above + v[1].area_below, 401 * 401 * k, 1);
  // What lies below 25 is the plain up to it, less the lower part of the cone.
  EXPECT_NEAR(v[1].volume_above - v[1].volume_below, v[0].volume_above - 25 * 401 * 401 * k, 1);
}

TEST(Zones, GroundAreasInDegrees) {
  const Frame f(Crs::wgs84(), -31, -60, {1e-4, 1e-4}, 300, 200);
  const Grid g = grid_from_values(f, std::vector<float>(60000, 10), metres_above_egm2008());
  const auto v = volumes_at(g, {9});
  const double area = Area::box(f.bounds()).ground_area();
  EXPECT_NEAR(v[0].area_above, area, 1e-5 * area);
  EXPECT_NEAR(v[0].volume_above, area, 1e-5 * area);
}

TEST(Zones, SameBitsForEveryBand) {
  const Grid g = rough_grid(utm_frame(133, 151), 7);
  const auto expected = volumes_at(g, {95, 100, 110}, nullptr, {.threads = 1});
  const Layer zones{.name = "zones",
                    .crs = g.frame().crs(),
                    .features = {{MultiPolygon{to_polygon(Bounds{676010, 5841900, 676090, 5841980})}, {}, {}}}};
  const auto one = statistics_by_polygon(g, zones, {.threads = 1});
  for (int block : {1, 6, 50}) {
    const RunOptions run{.threads = 3, .block = block};
    const auto got = volumes_at(g, {95, 100, 110}, nullptr, run);
    for (std::size_t i = 0; i < 3; ++i) {
      EXPECT_EQ(got[i].volume_above, expected[i].volume_above);
      EXPECT_EQ(got[i].area_below, expected[i].area_below);
    }
    EXPECT_EQ(statistics_by_polygon(g, zones, run)[0].mean, one[0].mean);
    EXPECT_EQ(statistics_by_polygon(g, zones, run)[0].deviation, one[0].deviation);
  }
}

TEST(Zones, PolygonsAndClassesAreThoseOfAPlainLoop) {
  const Frame f = utm_frame(120, 110);
  const Grid g = rough_grid(f, 8);
  std::vector<float> codes;
  for (std::int64_t r = 0; r < 110; ++r)
    for (std::int64_t c = 0; c < 120; ++c) codes.push_back(c < 5 ? kVoid : static_cast<float>((c / 40) * 10 + r / 60));
  Quantity code;
  code.kind = QuantityKind::Code;
  const auto zones = statistics_by_class(g, grid_from_values(f, codes, code));
  std::map<int, std::vector<double>> expected;
  const auto v = all_values(g);
  for (std::size_t i = 0; i < v.size(); ++i)
    if (!std::isnan(codes[i]) && !std::isnan(v[i]))
      expected[static_cast<int>(codes[i])].push_back(static_cast<double>(v[i]));
  ASSERT_EQ(zones.size(), expected.size());
  std::size_t i = 0;
  for (auto& [k, values] : expected) {
    const ZoneStatistics& z = zones[i++];
    const ErrorStatistics e = error_statistics(values);
    EXPECT_EQ(z.name, std::to_string(k));
    EXPECT_EQ(z.cells, e.count);
    EXPECT_NEAR(z.mean, e.mean, 1e-9 * e.mean);
    EXPECT_NEAR(z.deviation, e.deviation * std::sqrt(1 - 1.0 / static_cast<double>(e.count)), 1e-9 * e.deviation);
    EXPECT_EQ(z.lowest, e.lowest);
    EXPECT_NEAR(z.median, e.median, 2 * kQuantileError * e.median);
  }
  // Two polygons that overlap, one of them in degrees; a third has no cell.
  const Bounds a{676010, 5841920, 676060, 5841980};
  const MultiPolygon box{to_polygon(a)};
  const Layer lonlat{
      .name = "zones",
      .crs = Crs::wgs84(),
      .features = {{transformed(box, Transform(f.crs(), Crs::wgs84())), {{"name", std::string("field")}}, {}},
                   {MultiPolygon{to_polygon(Bounds{0, 0, 1, 1})}, {}, {}}}};
  const auto by_polygon = statistics_by_polygon(g, lonlat);
  ASSERT_EQ(by_polygon.size(), 2u);
  EXPECT_EQ(by_polygon[0].name, "field");
  EXPECT_EQ(by_polygon[0].cells + by_polygon[0].voids, 50 * 60);
  EXPECT_EQ(by_polygon[1].cells, 0);
  EXPECT_TRUE(std::isnan(by_polygon[1].mean));
}

TEST(Zones, TheSteeperFlankIsTold) {
  // A ridge that rises at 10 degrees from the west and falls at 30 to the east.
  const Frame f = utm_frame(200, 100);
  const Grid g = grid_from_function(
      f,
      [](double x, double) {
        const double d = x - 676100;
        return d < 0 ? 100 + d * std::tan(10 * M_PI / 180) : 100 - d * std::tan(30 * M_PI / 180);
      },
      metres_above_egm2008());
  const auto zones = slope_by_aspect(g);
  std::map<std::string, ZoneStatistics> by;
  for (const auto& z : zones) by[z.name] = z;
  EXPECT_NEAR(by["west"].median, 10, 0.05);
  EXPECT_NEAR(by["east"].median, 30, 0.05);
  // On the crest itself rounding decides.
  EXPECT_GT(by["west"].cells + by["east"].cells, 200 * 100 - 100);
}

TEST(Zones, HypsometricCurveFallsFromAllToNothing) {
  const auto curve = hypsometric_curve(rough_grid(utm_frame(90, 80), 9), 40);
  ASSERT_EQ(curve.size(), 41u);
  for (std::size_t i = 1; i < curve.size(); ++i) EXPECT_LE(curve[i].area_above, curve[i - 1].area_above);
  EXPECT_EQ(curve.back().area_above, 0);
  EXPECT_EQ(error_of([] { volumes_at(rough_grid(utm_frame(5, 5), 1), {}); }), ErrorCode::BadArgument);
}

TEST(Sketch, HistogramAndRanks) {
  ValueSketch s(50);
  for (int i = 0; i < 10000; ++i) s.add(static_cast<float>(50 + 0.001 * (i - 5000)));
  EXPECT_NEAR(s.quantile(0.5), 50, 1e-3);
  EXPECT_NEAR(s.below(52.5), 7500, 3);
  EXPECT_NEAR(s.radius(50, 0.5), 2.5, 2e-3);
  const auto h = s.histogram(10, {45, 55});
  double all = 0;
  for (double n : h) {
    EXPECT_NEAR(n, 1000, 3);
    all += n;
  }
  EXPECT_NEAR(all, 10000, 1e-6);
}

// What a surface states of itself is what its volumes are known by, whatever its errors have in common.
TEST(Levels, VolumesAreKnownAsWellAsTheirCells) {
  const Frame f(Crs::parse("EPSG:32725"), 677300, 5841900, {2, 2}, 120, 90);
  const auto ground = [](double x, double y) { return 10 + 3 * std::sin(x / 20) * std::cos(y / 31); };
  const double truth = volumes_at(grid_from_function(f, ground, metres_above_egm2008()), {0})[0].volume_above;
  for (const double reach : {0.0, 8.0}) {
    int held = 0;
    constexpr int kTrials = 60;
    for (unsigned t = 1; t <= kTrials; ++t) {
      const LevelVolumes v = volumes_at(measured(f, ground, 0.2, Length::metres(reach), t), {0})[0];
      held += std::abs(v.volume_above - truth) <= v.give_or_take_above;
      EXPECT_EQ(v.known_above, 1);
      EXPECT_TRUE(std::isnan(v.give_or_take_below)) << "nothing lies below";
    }
    EXPECT_GE(held, 52) << reach;
    EXPECT_LE(held, kTrials - 1) << reach;
  }
}

TEST(Levels, ErrorsOfWhichNothingIsKnownAreOne) {
  const Frame f = utm_frame(40, 30);
  const Grid flat = grid_from_function(
      f, [](double, double) { return 5.0; }, metres_above_egm2008());
  EXPECT_TRUE(std::isnan(volumes_at(flat, {0})[0].give_or_take_above));
  const double ground_area = volumes_at(flat, {0})[0].area_above, cell = ground_area / 1200;
  const Grid sure = with_uncertainty(flat, {.constant = 0.1_m});
  EXPECT_NEAR(volumes_at(sure, {0})[0].give_or_take_above, 1.96 * 0.1 * ground_area, 1e-3 * ground_area);
  EXPECT_NEAR(volumes_at(with_error_reach(sure, Length()), {0})[0].give_or_take_above,
              1.96 * 0.1 * cell * std::sqrt(1200.0), 1e-6 * ground_area);
  // Half of the cells say nothing: they are taken to be like the others.
  std::vector<float> u(1200, 0.1f);
  for (std::size_t i = 0; i < 600; ++i) u[i] = kVoid;
  const Grid half = with_uncertainty(flat, grid_from_values(f, u, uncertainty_of(flat.quantity())));
  const LevelVolumes v = volumes_at(half, {0})[0];
  EXPECT_NEAR(v.known_above, 0.5, 1e-6);
  EXPECT_NEAR(v.give_or_take_above, 1.96 * 0.1 * ground_area, 1e-3 * ground_area);
  EXPECT_TRUE(std::isnan(v.give_or_take_below));
}

}  // namespace
}  // namespace katoptra
