// Lines of sight against shapes whose horizons are known, and against each line walked by itself in double precision.
#include "katoptra/terrain/sight.hpp"

#include <numbers>
#include <set>

#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/position.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

constexpr double kPi = std::numbers::pi;

struct Horizon {
  double up = -1e9, down = 1e9;
  bool met() const { return up > -1e9; }
};

// What a line meets where it crosses columns, or rows where it runs more down than across.
Horizon walk(const Block& b, std::int64_t col, std::int64_t row, double azimuth, double radius, Point cells_per_metre,
             double vertical) {
  Horizon h;
  double x = std::sin(azimuth) * cells_per_metre.x, y = -std::cos(azimuth) * cells_per_metre.y;
  if (std::abs(x) < 1e-9) x = 0;
  if (std::abs(y) < 1e-9) y = 0;
  const double step = 1 / std::max(std::abs(x), std::abs(y)), own = static_cast<double>(b.at(col, row));
  for (int k = 1; k * step <= radius * (1 + 1e-9); ++k) {
    const double far = k * step, c = static_cast<double>(col) + far * x, r = static_cast<double>(row) + far * y;
    const double c0 = std::floor(c + 1e-6), r0 = std::floor(r + 1e-6),
                 s = std::max(c - c0, 0.0) + std::max(r - r0, 0.0);
    const auto at = [&](double cc, double rr) {
      return cc < 0 || rr < 0 || cc >= static_cast<double>(b.window().cols) ||
                     rr >= static_cast<double>(b.window().rows)
                 ? std::nan("")
                 : static_cast<double>(b.at(static_cast<std::int64_t>(cc), static_cast<std::int64_t>(rr)));
    };
    const bool across = std::abs(x) >= std::abs(y);
    const double a = at(c0, r0), z = s < 1e-6 ? a : a + s * ((across ? at(c0, r0 + 1) : at(c0 + 1, r0)) - a);
    if (std::isnan(z)) continue;
    h.up = std::max(h.up, (z - own) * vertical / far);
    h.down = std::min(h.down, (z - own) * vertical / far);
  }
  return h;
}

TEST(Sight, AgreesWithEachLineWalkedByItself) {
  for (const Frame& f : {utm_frame(45, 37, 2), Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 45, 37),
                         Frame(Crs::parse("EPSG:2263"), 1000000, 200000, {3, 3}, 45, 37)}) {
    SCOPED_TRACE(f.crs().label());
    Quantity q = metres_above_egm2008();
    if (f.crs().epsg() == 2263) q.unit = LengthUnit::UsFoot;
    const Grid g = rough_grid(f, 5, 8, q);
    const GroundSpacing cell = ground_spacing(f);
    const Length radius = Length::metres(7.3 * std::max(cell.x.metres(), cell.y.metres()));
    const SightOptions o{.radius = radius, .directions = 16};
    const Block all = g.read(f.window()), above = openness(g, OpennessKind::Above, o).read(f.window()),
                below = openness(g, OpennessKind::Below, o).read(f.window()), sky = sky_view(g, o).read(f.window());
    for (std::int64_t r = 0; r < f.rows(); ++r) {
      const GroundScale s =
          GroundRuler(f.crs()).at(f.centre(128, static_cast<double>(r)));  // the middle of the stretch
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        SCOPED_TRACE(::testing::Message() << c << ", " << r);
        double up = 0, down = 0, hidden = 0;
        int n = 0;
        for (int d = 0; d < 16; ++d) {
          const Horizon h = walk(all, c, r, 2 * kPi * d / 16, radius.metres(),
                                 {1 / (s.x * f.cell().x), 1 / (s.y * f.cell().y)}, metres_per(q.unit));
          if (!h.met()) continue;
          ++n;
          up += std::atan(h.up);
          down += std::atan(h.down);
          hidden += std::max(0.0, std::sin(std::atan(h.up)));
        }
        if (std::isnan(all.at(c, r))) {
          ASSERT_TRUE(std::isnan(above.at(c, r)) && std::isnan(below.at(c, r)) && std::isnan(sky.at(c, r)));
          continue;
        }
        ASSERT_GT(n, 0);
        ASSERT_NEAR(static_cast<double>(above.at(c, r)), 90 - up / n * 180 / kPi, 2e-3);
        ASSERT_NEAR(static_cast<double>(below.at(c, r)), 90 + down / n * 180 / kPi, 2e-3);
        ASSERT_NEAR(static_cast<double>(sky.at(c, r)), 1 - hidden / n, 2e-5);
      }
    }
  }
}

// `height` of what lies (east, north) metres from the middle of the grid.
Grid shaped(std::int64_t edge, double cell, const std::function<double(double, double)>& height) {
  const Frame f = utm_frame(edge, edge, cell);
  const Point o = f.centre(static_cast<double>(edge / 2), static_cast<double>(edge / 2));
  const GroundScale s = GroundRuler(f.crs()).at(o);
  return grid_from_function(
      f, [=](double x, double y) { return height((x - o.x) * s.x, (y - o.y) * s.y); }, metres_above_egm2008());
}

TEST(Sight, OpennessOfAConeAPlaneAndATrench) {
  constexpr int kMiddle = 60;
  const SightOptions o{.radius = 40_m}, straight{.radius = 40_m, .directions = 8};
  const Grid cone = shaped(121, 1, [](double x, double y) { return -0.5 * std::hypot(x, y); });
  EXPECT_NEAR(value_at(openness(cone, OpennessKind::Above, straight), kMiddle, kMiddle),
              90 + std::atan(0.5) * 180 / kPi, 0.01);
  EXPECT_NEAR(value_at(openness(cone, OpennessKind::Below, straight), kMiddle, kMiddle),
              90 - std::atan(0.5) * 180 / kPi, 0.01);
  // A plane, however steep, is as open above as below, and each direction is made good by the one across.
  const Grid plane = shaped(121, 1, [](double x, double y) { return 0.7 * x - 0.4 * y; });
  for (OpennessKind k : {OpennessKind::Above, OpennessKind::Below})
    EXPECT_NEAR(value_at(openness(plane, k, o), kMiddle, kMiddle), 90, 1e-3);
  // Of the sky a plane hides the half above it: the mean of the sines over the directions.
  double hidden = 0;
  for (int d = 0; d < 32; ++d) {
    const double a = 2 * kPi * d / 32;
    hidden += std::max(0.0, std::sin(std::atan(0.7 * std::sin(a) - 0.4 * std::cos(a))));
  }
  EXPECT_NEAR(value_at(sky_view(plane, {.radius = 40_m, .directions = 32}), kMiddle, kMiddle), 1 - hidden / 32, 1e-4);
  // A well with walls of 10 m at 8 m: higher than 51 degrees all around, less where a line meets them at a slant.
  const Grid well =
      shaped(121, 1, [](double x, double y) { return std::max(std::abs(x), std::abs(y)) > 7.5 ? 10 : 0; });
  const double sky = value_at(sky_view(well, o), kMiddle, kMiddle);
  EXPECT_LT(sky, 1 - 10 / std::hypot(10, 8 * std::sqrt(2)));
  EXPECT_GT(sky, 1 - 10 / std::hypot(10, 8));
  EXPECT_EQ(value_at(sky_view(cone, o), kMiddle, kMiddle), 1);
}

TEST(Sight, TheTenFormsWhereTheyAre) {
  const auto form = [](const std::function<double(double, double)>& height) {
    const int code = static_cast<int>(value_at(landforms(shaped(81, 1, height), {.radii = {30_m}}), 40, 40));
    return std::string(classes_of(QuantityKind::Landform)[static_cast<std::size_t>(code - 1)]);
  };
  EXPECT_EQ(form([](double, double) { return 3; }), "flat");
  EXPECT_EQ(form([](double x, double y) { return 0.004 * x + 0.002 * y; }), "flat");
  EXPECT_EQ(form([](double x, double y) { return -0.2 * std::hypot(x, y); }), "summit");
  EXPECT_EQ(form([](double x, double y) { return 0.2 * std::hypot(x, y); }), "pit");
  EXPECT_EQ(form([](double x, double) { return -0.3 * std::abs(x); }), "ridge");
  EXPECT_EQ(form([](double x, double) { return 0.3 * std::abs(x); }), "valley");
  EXPECT_EQ(form([](double x, double y) { return 0.3 * x + 0.1 * y; }), "slope");
  EXPECT_EQ(form([](double x, double) { return x > 0 ? -0.3 * x : 0; }), "shoulder");
  EXPECT_EQ(form([](double x, double) { return x > 0 ? 0.3 * x : 0; }), "footslope");
  EXPECT_EQ(form([](double x, double y) { return -0.1 * std::abs(x) + 0.3 * y; }), "spur");
  EXPECT_EQ(form([](double x, double y) { return 0.1 * std::abs(x) - 0.3 * y; }), "hollow");
}

TEST(Sight, PlacesOnASlopeAndFormsAtTwoScales) {
  const Grid g = rough_grid(utm_frame(61, 53, 2), 4, 5);
  const Block steep = slope(g).read(g.frame().window()),
              near = position(g, {.radii = {10_m}, .as = PositionAs::Deviations}).read(g.frame().window()),
              far = position(g, {.radii = {30_m}, .as = PositionAs::Deviations}).read(g.frame().window());
  const Grid places = landforms(g, {.by = LandformsBy::Position, .radii = {10_m}}),
             forms = landforms(g, {.by = LandformsBy::Position, .radii = {30_m, 10_m}, .flat = 20_deg});
  EXPECT_EQ(places.quantity().kind, QuantityKind::SlopePosition);
  EXPECT_EQ(forms.quantity().kind, QuantityKind::LandformByScale);
  const Block p = places.read(g.frame().window()), k = forms.read(g.frame().window());
  std::set<std::string> seen;
  for (std::int64_t r = 0; r < 53; ++r)
    for (std::int64_t c = 0; c < 61; ++c) {
      const float s = steep.at(c, r), n = near.at(c, r), f = far.at(c, r);
      if (std::isnan(s)) {
        ASSERT_TRUE(std::isnan(p.at(c, r)) && std::isnan(k.at(c, r)));
        continue;
      }
      const std::string place = classes_of(QuantityKind::SlopePosition)[static_cast<std::size_t>(p.at(c, r)) - 1],
                        form = classes_of(QuantityKind::LandformByScale)[static_cast<std::size_t>(k.at(c, r)) - 1];
      ASSERT_EQ(place, n <= -1      ? "valley"
                       : n <= -0.5f ? "lower slope"
                       : n >= 1     ? "ridge"
                       : n >= 0.5f  ? "upper slope"
                       : s <= 5     ? "flat"
                                    : "middle slope");
      const bool low = f <= -1, high = f >= 1;
      ASSERT_EQ(form, n <= -1   ? (low    ? "canyon, deep stream"
                                   : high ? "drainage high up"
                                          : "drainage on a slope")
                      : n >= 1  ? (low    ? "hill in a valley"
                                   : high ? "high ridge"
                                          : "ridge on a slope")
                      : low     ? "open valley"
                      : high    ? "upper slope, mesa"
                      : s <= 20 ? "plain"
                                : "open slope");
      seen.insert(form);
    }
  EXPECT_GE(seen.size(), 6u);
}

TEST(Sight, TheSameThroughEveryWindow) {
  for (const Frame& f : {utm_frame(311, 41, 2), Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 311, 41)}) {
    const Grid g = rough_grid(f, 6, 20);
    expect_same_for_every_window(openness(g, OpennessKind::Below, {.radius = Length::metres(200)}), 3, 10);
    expect_same_for_every_window(landforms(g, {.radii = {Length::metres(150)}}), 4, 10);
    expect_same_for_every_window(landforms(g, {.by = LandformsBy::Position, .radii = {Length::metres(150)}}), 5, 10);
  }
}

TEST(Sight, SmallGridsAndTheirRims) {
  for (const auto& [cols, rows] : {std::pair{9, 1}, std::pair{1, 9}, std::pair{2, 2}}) {
    const Grid g = rough_grid(utm_frame(cols, rows), 2, 0);
    for (const Grid& made : {openness(g), sky_view(g), landforms(g)})
      for (float v : all_values(made)) EXPECT_FALSE(std::isnan(v));
  }
  const Grid lonely = rough_grid(utm_frame(1, 1), 2, 0);
  EXPECT_TRUE(std::isnan(openness(lonely).at(0, 0)));
  EXPECT_EQ(sky_view(lonely).at(0, 0), 1);
  EXPECT_EQ(landforms(lonely).at(0, 0), 1);
}

TEST(Sight, WhatCannotBeIsRefused) {
  const Grid g = rough_grid(utm_frame(9, 9, 10), 1, 0);
  std::string text;
  const auto refused = [&](const SightOptions& o) { return error_of([&] { sky_view(g, o); }, &text); };
  EXPECT_EQ(refused({.radius = 5_m}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("shorter than a cell"), text.npos) << text;
  EXPECT_EQ(refused({.radius = Length::metres(20000)}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("--cell"), text.npos) << text;
  EXPECT_EQ(refused({.directions = 7}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.exaggeration = 0}), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { openness(slope(g)); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { landforms(g, {.radii = {20_m, 40_m}}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] {
              landforms(g, {.by = LandformsBy::Position, .radii = {20_m, 30_m, 40_m}});
            }),
            ErrorCode::BadArgument);
  for (double flat : {0.0, -1.0, 90.0})
    EXPECT_EQ(error_of([&] { landforms(g, {.flat = Angle::degrees(flat)}); }), ErrorCode::BadArgument);
}

}  // namespace
}  // namespace katoptra
