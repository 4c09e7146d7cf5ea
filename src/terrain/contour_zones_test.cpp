// Where contours may lie: a plane whose zone is known, and how often true lines lie within.
#include <cmath>

#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/water/inundation.hpp"

#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(ContourZones, OfAPlaneAreAsWideAsItsSlopeSays) {
  // A tenth up to the east: 5 cm of deviation are half a metre, 95 % are 0.98 m to either side.
  const Frame f = utm_frame(80, 40);
  const Grid plane =
      with_uncertainty(grid_from_function(
                           f, [](double x, double) { return 0.1 * (x - 676000); }, metres_above_egm2008()),
                       UncertaintyModel{.constant = Length::metres(0.05)});
  const std::vector<ContourZone> zones = contour_zones(plane, {.interval = Length::metres(1)});
  ASSERT_EQ(zones.size(), 9u) << "1 to 7 m, and 0 and 8 m that lie just beyond the ends";
  for (const ContourZone& z : zones) {
    const Bounds b = bounds_of(z.shape);
    if (z.level < 1 || z.level > 7) continue;
    EXPECT_NEAR(b.west, 676000 + 10 * z.level - 0.98, 1e-4);
    EXPECT_NEAR(b.east, 676000 + 10 * z.level + 0.98, 1e-4);
    EXPECT_NEAR(planar_area(z.shape), 2 * 0.98 * 39, 1e-2);
  }
  const Layer layer = zone_layer(zones, plane);
  EXPECT_EQ(std::get<std::int64_t>(*property_of(layer.features[0], "confidence")), 95);
  // In feet the same places.
  const std::vector<ContourZone> feet =
      contour_zones(in_unit(plane, LengthUnit::Foot), {.levels = {Length::metres(3)}});
  ASSERT_EQ(feet.size(), 1u);
  EXPECT_NEAR(bounds_of(feet[0].shape).west, 676000 + 30 - 0.98, 1e-3);
}

TEST(ContourZones, HoldTrueLines) {
  const auto ground = [](double x, double y) {
    return 40 + 9 * std::sin((x - 676000) / 31) * std::cos((y - 5842000) / 27) + 0.05 * (x - 676000);
  };
  const Frame f = utm_frame(150, 130);
  const std::vector<ContourLine> truth =
      contours(grid_from_function(f, ground, metres_above_egm2008()), {.interval = Length::metres(5)});
  for (const double reach : {0.0, 4.0, 15.0}) {
    std::int64_t within = 0, all = 0;
    for (unsigned seed = 1; seed <= 25; ++seed) {
      const Grid g = measured(f, ground, 0.3, Length::metres(reach), seed);
      const std::vector<ContourZone> zones = contour_zones(g, {.interval = Length::metres(5)});
      for (const ContourLine& line : truth)
        for (const ContourZone& z : zones) {
          if (z.level != line.level) continue;
          for (std::size_t i = 3; i + 3 < line.points.size(); i += 7) {
            ++all;
            within += contains(z.shape, line.points[i]);
          }
        }
    }
    // Between cells noise is a mean of theirs, so more lie within where it goes from cell to cell.
    EXPECT_GT(static_cast<double>(within), 0.93 * static_cast<double>(all)) << "reach " << reach;
    EXPECT_GT(all, 500);
    EXPECT_LT(static_cast<double>(within), (reach < 4 ? 1 : 0.975) * static_cast<double>(all)) << "reach " << reach;
  }
}

TEST(ContourZones, AreBounded) {
  const Grid g = rough_grid(utm_frame(60, 50), 3);
  EXPECT_EQ(error_of([&] { contour_zones(g, {.interval = Length::metres(5)}); }), ErrorCode::BadArgument);
  const Grid sure = with_uncertainty(g, UncertaintyModel{.constant = Length::metres(0.1)});
  EXPECT_EQ(error_of([&] { contour_zones(sure, {.interval = Length::metres(0.01)}); }), ErrorCode::TooLarge);
  // Perfectly sure: zones are lines, without area; places exactly at the level do no harm.
  const Grid perfect =
      with_uncertainty(g, grid_from_function(
                              g.frame(), [](double, double) { return 0.0; }, uncertainty_of(g.quantity())));
  for (const ContourZone& z : contour_zones(perfect, {.levels = {Length::metres(110)}}))
    EXPECT_LT(planar_area(z.shape), 0.1);
  EXPECT_TRUE(contour_zones(sure, {.levels = {Length::metres(900)}}).empty());
}

TEST(Chance, OfLyingBelowALevelIsThatOfTheNormal) {
  const Frame f = utm_frame(9, 1);
  std::vector<float> z{0, 1, 1.9F, 2, 2.1F, 3, kVoid, 2, 5}, u{1, 1, 1, 1, 1, 0.5F, 1, kVoid, 0};
  const Grid g = with_uncertainty(grid_from_values(f, z, metres_above_egm2008()),
                                  grid_from_values(f, u, uncertainty_of(metres_above_egm2008())));
  const Grid c = chance_below(g, 2);
  EXPECT_EQ(c.quantity().kind, QuantityKind::Chance);
  EXPECT_EQ(unit_name(c.quantity()), "percent");
  // Of the table of the normal distribution.
  const double expected[] = {97.725, 84.134, 53.983, 50, 46.017, 2.275};
  for (int i = 0; i < 6; ++i) EXPECT_NEAR(value_at(c, i, 0), expected[i], 2e-3);
  EXPECT_TRUE(std::isnan(c.at(6, 0)));
  EXPECT_TRUE(std::isnan(c.at(7, 0))) << "not known";
  EXPECT_EQ(c.at(8, 0), 0);
  expect_same_for_every_window(c, 3);
  EXPECT_EQ(error_of([&] { chance_below(without_uncertainty(g), 2); }), ErrorCode::BadArgument);
}

// Of places that are likely by so much, so many really lie below.
TEST(Chance, ComesTrue) {
  const auto ground = [](double x, double y) { return 0.05 * (x - 676000) + 0.2 * std::sin((y - 5842000) / 9); };
  std::int64_t n[10] = {}, below[10] = {};
  for (unsigned seed = 1; seed <= 10; ++seed) {
    const Frame f = utm_frame(120, 100);
    const Grid c = chance_below(measured(f, ground, 0.2, Length::metres(2), seed), 3);
    for (std::int64_t r = 0; r < 100; ++r)
      for (std::int64_t k = 0; k < 120; ++k) {
        const Point p = f.centre(static_cast<double>(k), static_cast<double>(r));
        const auto bin = std::min(9, static_cast<int>(c.at(k, r) / 10));
        ++n[bin];
        below[bin] += ground(p.x, p.y) <= 3;
      }
  }
  // Of the first and the last tenth most lie at its end.
  for (int i = 1; i < 9; ++i)
    EXPECT_NEAR(static_cast<double>(below[i]) / static_cast<double>(n[i]), (i + 0.5) / 10, 0.05) << i;
}

}  // namespace
}  // namespace katoptra
