// Ruggedness against planes, of which it is known, and against every window written out.
#include "katoptra/terrain/ruggedness.hpp"

#include <array>

#include "katoptra/terrain/derivatives.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

constexpr std::array kRuggednessKinds = {RuggednessKind::Riley, RuggednessKind::Vector, RuggednessKind::Range,
                                         RuggednessKind::Deviation};

Grid made(const Grid& g, RuggednessKind kind, int window) {
  return ruggedness(g, kind, kind == RuggednessKind::Riley ? 3 : window);
}

TEST(Ruggedness, OfAPlane) {
  // 0.5 to the east and -0.25 to the north a cell: whole steps, so sums are exact.
  const Frame f = utm_frame(40, 30);
  std::vector<float> v;
  for (int r = 0; r < 30; ++r)
    for (int c = 0; c < 40; ++c) v.push_back(static_cast<float>(700 + 0.5 * c + 0.25 * r));
  const Grid g = grid_from_values(f, v, metres_above_egm2008());
  for (int window : {3, 5, 11}) {
    const double n = window;
    EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Range, window), 20, 15), 0.75 * (n - 1), 1e-6);
    EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Deviation, window), 20, 15),
                std::sqrt((0.25 + 0.0625) * (n * n - 1) / 12), 1e-6);
    // However steep, a plane faces one way.
    EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Vector, window), 20, 15), 0, 1e-6);
    EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Vector, window), 0, 0), 0, 1e-6);
  }
  EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Riley), 20, 15), std::sqrt(6 * 0.25 + 6 * 0.0625), 1e-6);
  EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Riley), 0, 29), std::sqrt(6 * 0.25 + 6 * 0.0625), 1e-6);
}

// A roof: half the cells face one way and half the other, so the mean of the vectors stands upright.
TEST(Ruggedness, OfARoof) {
  for (const bool feet : {false, true}) {
    Quantity q = metres_above_egm2008();
    if (feet) q.unit = LengthUnit::Foot;
    const Frame f = utm_frame(41, 41, 1);
    const double s = GroundRuler(f.crs()).at(f.bounds().centre()).x, ridge = f.bounds().centre().x;
    const Grid g = grid_from_function(
        f, [&](double x, double) { return 50 - std::abs(x - ridge) * s * 0.75 / metres_per(q.unit); }, q);
    // In a window of 9 about the ridge: 4 columns lean each way, one is level. 1/sqrt(1 + 0.75²) = 0.8.
    EXPECT_NEAR(value_at(ruggedness(g, RuggednessKind::Vector, 9), 20, 20), 1 - (8 * 0.8 + 1) / 9, 1e-4) << feet;
    EXPECT_EQ(unit_name(ruggedness(g, RuggednessKind::Range).quantity()), feet ? "ft" : "m");
    EXPECT_EQ(unit_name(ruggedness(g, RuggednessKind::Vector).quantity()), "");
  }
}

double brute(const Grid& g, const Block& p, const Block& q, RuggednessKind kind, int m, std::int64_t col,
             std::int64_t row) {
  double sum = 0, squares = 0, n = 0, low = 1e30, high = -1e30, x = 0, y = 0, up = 0;
  for (std::int64_t r = row - m; r <= row + m; ++r)
    for (std::int64_t c = col - m; c <= col + m; ++c) {
      const double z = value_at(g, c, r);
      if (std::isnan(z)) continue;
      ++n;
      sum += z - 100;
      squares += (z - 100) * (z - 100);
      low = std::min(low, z);
      high = std::max(high, z);
      const double east = static_cast<double>(p.at(c, r)), north = static_cast<double>(q.at(c, r)),
                   l = std::sqrt(1 + east * east + north * north);
      x += east / l;
      y += north / l;
      up += 1 / l;
    }
  if (kind == RuggednessKind::Range) return high - low;
  if (kind == RuggednessKind::Deviation) return std::sqrt(std::max(0.0, squares / n - sum / n * (sum / n)));
  return 1 - std::sqrt(x * x + y * y + up * up) / n;
}

TEST(Ruggedness, AgreesWithEveryWindowWrittenOut) {
  for (unsigned seed = 1; seed <= 3; ++seed) {
    const Frame f = utm_frame(37, 29, 2);
    const Grid g = rough_grid(f, seed, 9);
    // The rises from steepness and direction, which have tests of their own.
    Block p = slope(g, SlopeAs::Ratio).read(f.window()), q = aspect(g).read(f.window());
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const double steep = static_cast<double>(p.at(c, r)),
                     way = static_cast<double>(q.at(c, r)) / 180 * 3.14159265358979;
        p.row(r)[c] = static_cast<float>(steep > 0 ? -steep * std::sin(way) : 0);
        q.row(r)[c] = static_cast<float>(steep > 0 ? -steep * std::cos(way) : 0);
      }
    for (int m : {1, 2, 6})
      for (RuggednessKind kind : {RuggednessKind::Vector, RuggednessKind::Range, RuggednessKind::Deviation}) {
        const Block b = ruggedness(g, kind, 2 * m + 1).read(f.window());
        for (std::int64_t r = 0; r < f.rows(); ++r)
          for (std::int64_t c = 0; c < f.cols(); ++c) {
            SCOPED_TRACE(::testing::Message() << "seed " << seed << " m " << m << " kind " << static_cast<int>(kind)
                                              << " at " << c << ", " << r);
            if (std::isnan(g.at(c, r)))
              ASSERT_TRUE(std::isnan(b.at(c, r)));
            else
              ASSERT_NEAR(static_cast<double>(b.at(c, r)), brute(g, p, q, kind, m, c, r),
                          kind == RuggednessKind::Vector ? 1e-6 : 3e-5);
          }
      }
  }
}

TEST(Ruggedness, TheSameThroughEveryWindow) {
  for (const Frame& f : {utm_frame(53, 41, 2), Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 53, 41)})
    for (RuggednessKind kind : kRuggednessKinds)
      for (int window : {3, 9, 31}) expect_same_for_every_window(made(rough_grid(f, 6, 7), kind, window), 3, 15);
}

TEST(Ruggedness, FlatIsZeroAndSmallGridsHaveOne) {
  for (float level : {0.0f, 3.7f, -10994.25f}) {
    std::vector<float> v(19 * 13, level);
    v[30] = v[31] = v[100] = kVoid;
    const Grid g = grid_from_values(utm_frame(19, 13), v, metres_above_egm2008());
    for (RuggednessKind kind : kRuggednessKinds) {
      const std::vector<float> k = all_values(made(g, kind, 7));
      for (std::size_t i = 0; i < k.size(); ++i) ASSERT_TRUE(std::isnan(v[i]) ? std::isnan(k[i]) : k[i] == 0) << i;
    }
  }
  for (const auto& [cols, rows] : {std::pair{1, 1}, std::pair{9, 1}, std::pair{1, 9}})
    for (RuggednessKind kind : kRuggednessKinds) {
      const Grid g = rough_grid(utm_frame(cols, rows), 2, 0);
      for (float k : all_values(made(g, kind, 21))) EXPECT_TRUE(k >= 0) << cols << " " << rows;
    }
  const Grid none = grid_from_values(utm_frame(3, 2), std::vector<float>(6, kVoid), metres_above_egm2008());
  for (RuggednessKind kind : kRuggednessKinds)
    for (float k : all_values(made(none, kind, 5))) EXPECT_TRUE(std::isnan(k));
}

TEST(Ruggedness, WhatCannotBeIsRefused) {
  const Grid g = rough_grid(utm_frame(9, 9), 1, 0);
  std::string text;
  EXPECT_EQ(error_of([&] { ruggedness(g, RuggednessKind::Riley, 5); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("range"), text.npos) << text;
  for (int window : {0, 2, -5, 1003})
    EXPECT_EQ(error_of([&] { ruggedness(g, RuggednessKind::Range, window); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { ruggedness(slope(g), RuggednessKind::Range); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([] { parse_ruggedness_kind("bumpy"); }), ErrorCode::BadArgument);
  // An undeclared void value of 1e30 is no height.
  std::vector<float> v(25, 5);
  v[7] = 1e30f;
  const Grid odd = grid_from_values(utm_frame(5, 5), v, metres_above_egm2008());
  EXPECT_EQ(error_of([&] { all_values(ruggedness(odd, RuggednessKind::Deviation)); }, &text), ErrorCode::BadFile);
  EXPECT_NE(text.find("--from-void"), text.npos) << text;
}

}  // namespace
}  // namespace katoptra
