// Control points: residuals whose statistics are worked out by hand, classes at their bounds, references and units.
#include "katoptra/check/control.hpp"

#include <cmath>
#include <fmt/format.h>
#include <random>

#include "katoptra/grid/uncertainty.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

Layer points_on(const Frame& f, const std::vector<std::pair<double, std::string>>& points, double level) {
  Layer l{.name = "control", .crs = f.crs(), .features = {}};
  std::int64_t i = 0;
  for (const auto& [residual, cover] : points) {
    l.features.push_back({f.centre(static_cast<double>(2 + i % 40), static_cast<double>(2 + i / 40)),
                          {{"name", fmt::format("P{}", i)}, {"z", level - residual}, {"cover", cover}},
                          {}});
    ++i;
  }
  return l;
}

TEST(Control, ResidualsByGround) {
  const Frame f = utm_frame(50, 50);
  const Grid g = grid_from_values(f, std::vector<float>(2500, 100), metres_above_egm2008());
  std::vector<std::pair<double, std::string>> p;
  for (int i = 0; i < 30; ++i) p.emplace_back(i % 2 ? 0.02 : -0.02, "open");
  for (int i = 0; i < 20; ++i) p.emplace_back(0.1, "forest");
  p.emplace_back(0.5, "bare");
  const ControlReport r = check_control(g, control_from(points_on(f, p, 100)));
  EXPECT_EQ(r.open->count, 31);
  EXPECT_NEAR(r.open->mean, 0.5 / 31, 1e-6);
  EXPECT_NEAR(r.open->rmse, std::sqrt((30 * 0.0004 + 0.25) / 31), 1e-6);
  EXPECT_EQ(r.vegetated->count, 20);
  EXPECT_NEAR(r.vegetated->mean, 0.1, 1e-6);
  EXPECT_EQ(r.asprs->class_cm, 10);
  EXPECT_EQ(r.asprs->class_text, "10-cm vertical accuracy class");
  EXPECT_TRUE(r.asprs->enough);
  EXPECT_EQ(r.asprs->needed, 30);
  EXPECT_NEAR(r.asprs->vegetated_rmse->metres(), 0.1, 1e-6);
  int outliers = 0;
  for (const ControlResidual& row : r.rows) {
    outliers += row.outlier;
    if (row.outlier) {
      EXPECT_EQ(row.point.name, "P50");
    }
  }
  EXPECT_EQ(outliers, 1);
  EXPECT_FALSE(r.s44);
}

TEST(Control, ClassesNumbersAndBias) {
  const Frame f = utm_frame(50, 50);
  const Grid g = grid_from_values(f, std::vector<float>(2500, 100), metres_above_egm2008());
  auto report = [&](double size, int n, double survey, double mean = 0) {
    std::vector<std::pair<double, std::string>> p;
    for (int i = 0; i < n; ++i) p.emplace_back((i % 2 ? size : -size) + mean, "");
    ControlSet set = control_from(points_on(f, p, 100));
    set.error = Length::metres(survey);
    return *check_control(g, set).asprs;
  };
  EXPECT_EQ(report(0.0245, 40, 0).class_cm, 2.5);
  EXPECT_EQ(report(0.0255, 40, 0).class_cm, 5);
  // The error of the points' own survey counts.
  EXPECT_EQ(report(0.0245, 40, 0.02).class_cm, 5);
  EXPECT_NEAR(report(0.03, 40, 0.04).rmse.metres(), 0.05, 1e-5);
  EXPECT_FALSE(report(5, 40, 0).class_cm);
  EXPECT_FALSE(report(0.02, 28, 0).enough);
  EXPECT_FALSE(report(0.02, 40, 0).biased);
  EXPECT_TRUE(report(0.02, 40, 0, 0.01).biased);
  // 2500 square kilometres ask for ten more for each thousand begun.
  const Frame wide = utm_frame(50, 50, 1000);
  std::vector<std::pair<double, std::string>> p(20, {0.01, ""});
  const Grid big = grid_from_values(wide, std::vector<float>(2500, 100), metres_above_egm2008());
  EXPECT_EQ(check_control(big, control_from(points_on(wide, p, 100))).asprs->needed, 50);
}

TEST(Control, SeaFloorByItsOrders) {
  const Frame f = utm_frame(50, 50);
  Quantity q = metres_above_egm2008();
  q.surface = SurfaceKind::SeaFloor;
  const Grid g = grid_from_values(f, std::vector<float>(2500, -20), q);
  auto order = [&](double size) {
    std::vector<std::pair<double, std::string>> p(40, {size, "sounding"});
    return check_control(g, control_from(points_on(f, p, -20))).s44->order;
  };
  // At 20 m: exclusive hypot(0.15, 0.0075 x 20) = 0.212, special hypot(0.25, 0.15) = 0.292, first hypot(0.5, 0.26) =
  // 0.564.
  EXPECT_EQ(order(0.20), S44Order::Exclusive);
  EXPECT_EQ(order(0.25), S44Order::Special);
  EXPECT_EQ(order(0.5), S44Order::One);
  EXPECT_EQ(order(1.0), S44Order::Two);
  EXPECT_EQ(order(1.5), S44Order::None);
}

TEST(Control, UnitsReferencesAndPlaces) {
  const Frame f = utm_frame(50, 50);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid g = grid_from_values(f, std::vector<float>(2500, 100), feet);
  ControlSet set = control_from(points_on(f, {{0, ""}, {0, ""}}, 30.48));
  set.unit = LengthUnit::Metre;
  set.points.push_back({"far", {700000, 5800000}, 0});
  ControlReport r = check_control(g, set);
  EXPECT_NEAR(r.rows[0].residual, 0, 1e-4);
  EXPECT_EQ(r.unit, LengthUnit::Foot);
  EXPECT_EQ(r.without_value, 1);
  EXPECT_TRUE(std::isnan(r.rows[2].residual));
  // In degrees, above the ellipsoid: brought over, as PROJ has it.
  const Grid metres = grid_from_values(f, std::vector<float>(2500, 100), [] {
    Quantity q;
    q.unit_known = true;
    q.heights = HeightReference::parse("EGM96");
    return q;
  }());
  const Point lonlat = Transform(f.crs(), Crs::wgs84()).forward(f.centre(10, 10));
  ControlSet globe{.name = "globe", .crs = Crs::wgs84(), .heights = HeightReference::ellipsoid()};
  globe.points.push_back({"a", lonlat, 100});
  r = check_control(metres, globe);
  EXPECT_NEAR(r.rows[0].here.x, f.centre(10, 10).x, 1e-3);
  EXPECT_GT(std::abs(r.rows[0].residual), 4) << "the geoid is metres away from the ellipsoid here";
  const Grid unknown = grid_from_values(f, std::vector<float>(2500, 100), Quantity());
  EXPECT_EQ(error_of([&] { check_control(unknown, globe); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] {
              control_from({.name = "none", .crs = {}, .features = {{Point{1, 2}, {}, {}}}});
            }),
            ErrorCode::BadFile);
}

// Residuals in units of what the surface and the points' own survey state: those of true statements are normal.
TEST(Control, ResidualsByWhatTheSurfaceStates) {
  std::mt19937 random(7);
  std::normal_distribution<double> noise;
  const Frame f = utm_frame(60, 60, 2);
  std::vector<float> z;
  for (int i = 0; i < 3600; ++i) z.push_back(static_cast<float>(50 + 0.1 * noise(random)));
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid heights = grid_from_values(f, z, feet);
  ControlSet set{.name = "points", .crs = f.crs(), .error = Length::feet(0.05)};
  for (int i = 0; i < 300; ++i) {
    const Point p = f.centre(static_cast<double>(random() % 60), static_cast<double>(random() % 60));
    set.points.push_back({std::to_string(i), p, 50 + 0.05 * noise(random)});
  }
  EXPECT_FALSE(check_control(heights, set).normalised);
  const Grid sure = with_error_reach(with_uncertainty(heights, {.constant = Length::feet(0.1)}), 0_m);
  const ControlReport r = check_control(sure, set);
  ASSERT_TRUE(r.normalised);
  EXPECT_EQ(r.normalised->points, 300);
  EXPECT_NEAR(r.normalised->rms, 1, 0.1);
  EXPECT_NEAR(static_cast<double>(r.normalised->within) / 300, 0.95, 0.04);
  EXPECT_NEAR(r.rows[5].normalised, r.rows[5].residual / std::hypot(0.1, 0.05), 1e-6);
  EXPECT_NE(control_layer(r).features[0].properties.back().first, "outlier");
}

}  // namespace
}  // namespace katoptra
