// Position against shapes of which it is known, and against every disc written out.
#include "katoptra/terrain/position.hpp"

#include "katoptra/terrain/derivatives.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Less what lies around, in heights and in deviations.
struct Around {
  double rise = 0, deviation = 0;
  int cells = 0;
};
Around around(const Grid& g, std::int64_t col, std::int64_t row, double across, double down, double inner_share) {
  double sum = 0, squares = 0;
  Around a;
  const double own = value_at(g, col, row);
  const auto reach_x = static_cast<std::int64_t>(across) + 1, reach_y = static_cast<std::int64_t>(down) + 1;
  const Block b = g.read({col - reach_x, row - reach_y, 2 * reach_x + 1, 2 * reach_y + 1});
  for (std::int64_t y = -reach_y; y <= reach_y; ++y)
    for (std::int64_t x = -reach_x; x <= reach_x; ++x) {
      const double far = std::hypot(static_cast<double>(x) / across, static_cast<double>(y) / down);
      const double z = static_cast<double>(b.at(x + reach_x, y + reach_y));
      if (far > 1 + 1e-10 || far < inner_share - 1e-10 || std::isnan(z)) continue;
      ++a.cells;
      sum += z - own;
      squares += (z - own) * (z - own);
    }
  if (a.cells == 0) return a;
  a.rise = -sum / a.cells;
  a.deviation = std::sqrt(std::max(0.0, squares / a.cells - a.rise * a.rise));
  return a;
}

TEST(Position, AgreesWithEveryDiscWrittenOut) {
  for (const Frame& f : {utm_frame(37, 29, 2), Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 37, 29),
                         Frame(Crs::parse("EPSG:2263"), 1000000, 200000, {3, 3}, 37, 29)})
    for (double inner : {0.0, 0.5}) {
      SCOPED_TRACE(f.crs().label() + (inner > 0 ? ", ring" : ", disc"));
      const Grid g = rough_grid(f, 5, 8);
      const GroundSpacing cell = ground_spacing(f);
      const double radius = 4.3 * std::max(cell.x.metres(), cell.y.metres());
      PositionOptions o{.radii = {Length::metres(radius)}, .inner = Length::metres(inner * radius)};
      const Block rise = position(g, o).read(f.window());
      o.as = PositionAs::Deviations;
      const Block deviations = position(g, o).read(f.window());
      for (std::int64_t r = 0; r < f.rows(); ++r)
        for (std::int64_t c = 0; c < f.cols(); ++c) {
          SCOPED_TRACE(::testing::Message() << c << ", " << r);
          const GroundScale s =
              GroundRuler(f.crs()).at(f.centre(128, static_cast<double>(r)));  // the middle of the stretch
          const Around a = around(g, c, r, radius / (s.x * f.cell().x), radius / (s.y * f.cell().y), inner);
          if (std::isnan(g.at(c, r)) || a.cells == 0) {
            ASSERT_TRUE(std::isnan(rise.at(c, r)));
            continue;
          }
          ASSERT_NEAR(static_cast<double>(rise.at(c, r)), a.rise, 3e-5);
          if (a.deviation > 1e-3) {
            ASSERT_NEAR(static_cast<double>(deviations.at(c, r)), a.rise / a.deviation, 1e-3 / a.deviation);
          }
        }
    }
}

// A dome of radius R stands r² / 4R above the mean of a disc of radius r (but for the cells on its rim), and a plane
// nowhere above or below.
TEST(Position, OfADomeAndAPlane) {
  const Frame f = utm_frame(121, 121, 1);
  const Point o = f.centre(60, 60);
  const double s = GroundRuler(f.crs()).at(o).x;
  const auto dome = grid_from_function(
      f, [&](double x, double y) { return -(std::pow((x - o.x) * s, 2) + std::pow((y - o.y) * s, 2)) / 400; },
      metres_above_egm2008());
  for (double radius : {10.0, 25.0, 50.0})
    EXPECT_NEAR(value_at(position(dome, {.radii = {Length::metres(radius)}}), 60, 60), radius * radius / 800,
                0.4 / radius * radius * radius / 800);
  const auto plane = grid_from_function(
      f, [&](double x, double y) { return 0.3 * (x - o.x) - 0.2 * (y - o.y); }, metres_above_egm2008());
  for (PositionAs as : {PositionAs::Height, PositionAs::Deviations})
    EXPECT_NEAR(value_at(position(plane, {.radii = {20_m}, .as = as}), 60, 60), 0, 1e-5);
}

// A narrow dyke on a wide hill: each is told by the radius that suits it.
TEST(Position, TheStrongestRadiusIsTaken) {
  const Frame f = utm_frame(201, 201, 1);
  const Point o = f.centre(100, 100);
  const Grid g = grid_from_function(
      f,
      [&](double x, double y) {
        return 10 * std::exp(-(std::pow(x - o.x, 2) + std::pow(y - o.y, 2)) / 4000) +
               (std::abs(y - o.y + 60) < 2 ? 2 : 0);
      },
      metres_above_egm2008());
  const PositionOptions several{.radii = {80_m, 6_m, 25_m}, .as = PositionAs::Radius};
  const Grid which = position(g, several);
  EXPECT_EQ(value_at(which, 100, 160), 6);
  EXPECT_EQ(value_at(which, 100, 100), 80);
  EXPECT_EQ(unit_name(which.quantity()), "m");
  PositionOptions all = several, one;
  all.as = one.as = PositionAs::Deviations;
  const Block strongest = position(g, all).read(f.window());
  for (Length r : several.radii) {
    one.radii = {r};
    const Block alone = position(g, one).read(f.window());
    for (std::int64_t c = 0; c < 201; c += 3)
      for (std::int64_t row = 0; row < 201; row += 3)
        ASSERT_GE(std::abs(strongest.at(c, row)), std::abs(alone.at(c, row)));
  }
}

TEST(Position, TheSameThroughEveryWindow) {
  // Wider than a stretch, so that windows begin within one.
  for (const Frame& f : {utm_frame(311, 41, 2), Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 311, 41)}) {
    const Grid g = rough_grid(f, 6, 20);
    expect_same_for_every_window(position(g, {.radii = {Length::metres(150)}}), 3, 12);
    expect_same_for_every_window(
        position(g, {.radii = {Length::metres(100), Length::metres(400)}, .inner = 40_m, .as = PositionAs::Deviations}),
        4, 12);
  }
}

// A block without voids around it need not count its cells: the same as where the whole is read, to its rim.
TEST(Position, WhereNothingIsMissingTheSame) {
  const Frame f = utm_frame(70, 60, 2);
  const Grid g = rough_grid(f, 4, 0);
  for (const PositionAs as : {PositionAs::Height, PositionAs::Deviations, PositionAs::Radius})
    for (const double inner : {0.0, 5.0}) {
      const Grid p = position(g, {.radii = {9_m, 16_m}, .inner = Length::metres(inner), .as = as});
      const Block all = p.read(f.window());
      const Window middle{20, 15, 30, 30};
      const Block part = p.read(middle);
      for (std::int64_t r = 0; r < middle.rows; ++r)
        for (std::int64_t c = 0; c < middle.cols; ++c)
          ASSERT_TRUE(same_bits(part.at(c, r), all.at(middle.col + c, middle.row + r))) << c << " " << r;
    }
}

TEST(Position, FlatIsZeroAndSmallGridsHaveOne) {
  std::vector<float> v(19 * 13, 3.7f);
  v[30] = v[31] = kVoid;
  const Grid g = grid_from_values(utm_frame(19, 13), v, metres_above_egm2008());
  for (PositionAs as : {PositionAs::Height, PositionAs::Deviations}) {
    const std::vector<float> k = all_values(position(g, {.radii = {3_m, 7_m}, .as = as}));
    for (std::size_t i = 0; i < k.size(); ++i) ASSERT_TRUE(std::isnan(v[i]) ? std::isnan(k[i]) : k[i] == 0) << i;
  }
  for (const auto& [cols, rows] : {std::pair{1, 1}, std::pair{9, 1}, std::pair{1, 9}})
    for (float k : all_values(position(rough_grid(utm_frame(cols, rows), 2, 0), {.radii = {50_m}})))
      EXPECT_FALSE(std::isnan(k));
  // A ring of which nothing is there says nothing.
  EXPECT_TRUE(std::isnan(position(rough_grid(utm_frame(1, 1), 2, 0), {.radii = {50_m}, .inner = 5_m}).at(0, 0)));
}

TEST(Position, WhatCannotBeIsRefused) {
  const Grid g = rough_grid(utm_frame(9, 9, 10), 1, 0);
  std::string text;
  const auto refused = [&](const PositionOptions& o) { return error_of([&] { position(g, o); }, &text); };
  EXPECT_EQ(refused({.radii = {5_m}}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("shorter than a cell"), text.npos) << text;
  EXPECT_EQ(refused({.radii = {Length::metres(20000)}}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("--cell"), text.npos) << text;
  EXPECT_EQ(refused({.radii = {}}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.radii = {30_m}, .inner = 30_m}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.radii = {30_m}, .inner = Length::metres(-1)}), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { position(slope(g)); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([] { parse_position_as("steep"); }), ErrorCode::BadArgument);
}

}  // namespace
}  // namespace katoptra
