// Curvature, and slopes of wider windows, against surfaces whose shape is known and against a fit that looks at every
// cell.
#include "katoptra/terrain/curvature.hpp"

#include <array>
#include <numbers>

#include "katoptra/terrain/derivatives.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

constexpr std::array kCurvatureKinds = {CurvatureKind::Profile, CurvatureKind::Plan,    CurvatureKind::Tangential,
                                        CurvatureKind::Mean,    CurvatureKind::Largest, CurvatureKind::Smallest,
                                        CurvatureKind::Gaussian};

// Of east and north of the middle of the frame, in metres on the ground; the heights in their own unit.
Grid shaped(const Frame& f, const std::function<double(double, double)>& height,
            const Quantity& q = metres_above_egm2008()) {
  const Point o = f.bounds().centre();
  const GroundScale s = GroundRuler(f.crs()).at(o);
  const double unit = metres_per(q.unit);
  return grid_from_function(
      f, [=](double x, double y) { return height((x - o.x) * s.x, (y - o.y) * s.y) / unit; }, q);
}

TEST(Curvature, ASphereBendsTheSameEveryWay) {
  const double radius = 2000;
  for (int window : {3, 5, 7}) {
    // The ball is fitted by a quadric: that is right to a tenth of (window / radius)².
    const Frame f = utm_frame(41, 37, 20.0 / window);
    const Point o = f.bounds().centre();
    for (double side : {1.0, -1.0}) {
      const Grid g =
          shaped(f, [&](double x, double y) { return side * (std::sqrt(radius * radius - x * x - y * y) - radius); });
      for (auto [c, r] : {std::pair{20, 10}, std::pair{14, 24}, std::pair{23, 17}, std::pair{11, 18}}) {
        SCOPED_TRACE(::testing::Message() << window << " " << side << " " << c << " " << r);
        const Point at = f.centre(c, r);
        const double from_axis = std::hypot(at.x - o.x, at.y - o.y);
        for (CurvatureKind kind : kCurvatureKinds) {
          const double k = value_at(curvature(g, kind, window), c, r);
          const double truth = kind == CurvatureKind::Plan       ? side / from_axis
                               : kind == CurvatureKind::Gaussian ? 1 / (radius * radius)
                                                                 : side / radius;
          // Largest and smallest are one here, and what they differ by is the root of roundings.
          const bool spread = kind == CurvatureKind::Largest || kind == CurvatureKind::Smallest;
          EXPECT_NEAR(k / truth, 1, spread ? 1e-2 : 1e-4) << static_cast<int>(kind);
        }
      }
    }
  }
}

// A cylinder along any direction bends across it alone, and a saddle both ways.
TEST(Curvature, CylindersAndSaddles) {
  const Frame f = utm_frame(33, 33, 2);
  for (double turn : {0.0, 0.6, 1.9}) {
    const double a = std::cos(turn), b = std::sin(turn);
    // z = -u²/(2 R) at u = 0, the crest, tilted along itself: the slope runs along the crest.
    const Grid crest = shaped(f, [&](double x, double y) {
      const double u = a * x + b * y, v = -b * x + a * y;
      return -u * u / 200 + 0.1 * v;
    });
    const double tilt = std::sqrt(1 + 0.01);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Tangential), 16, 16), 0.01 / tilt, 1e-6);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Plan), 16, 16), 0.01 / 0.1, 1e-5);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Profile), 16, 16), 0, 1e-6);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Largest), 16, 16), 0.01 / tilt, 1e-6);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Smallest), 16, 16), 0, 1e-6);
    EXPECT_NEAR(value_at(curvature(crest, CurvatureKind::Gaussian), 16, 16), 0, 1e-8);
    const Grid saddle = shaped(f, [&](double x, double y) {
      const double u = a * x + b * y, v = -b * x + a * y;
      return u * u / 100 - v * v / 50;
    });
    for (int window : {3, 9}) {
      EXPECT_NEAR(value_at(curvature(saddle, CurvatureKind::Largest, window), 16, 16), 0.04, 4e-6);
      EXPECT_NEAR(value_at(curvature(saddle, CurvatureKind::Smallest, window), 16, 16), -0.02, 2e-6);
      EXPECT_NEAR(value_at(curvature(saddle, CurvatureKind::Mean, window), 16, 16), 0.01, 1e-6);
      EXPECT_NEAR(value_at(curvature(saddle, CurvatureKind::Gaussian, window), 16, 16), -0.0008, 1e-7);
      // Level at the saddle: no direction to measure along.
      EXPECT_NEAR(value_at(slope(saddle, SlopeAs::Ratio, {.gradient = Gradient::Quadric, .window = window}), 16, 16), 0,
                  1e-6);
    }
  }
}

TEST(Curvature, SineRidges) {
  const Frame f = utm_frame(61, 9, 1);
  const double k = 2 * std::numbers::pi / 120;
  const Grid g = shaped(f, [&](double x, double) { return 8 * std::sin(k * x); });
  const Grid profile = curvature(g, CurvatureKind::Profile);
  for (std::int64_t c = 1; c < 60; ++c) {
    const double x = static_cast<double>(c) - 30, p = 8 * k * std::cos(k * x), bend = 8 * k * k * std::sin(k * x);
    EXPECT_NEAR(value_at(profile, c, 4), bend / std::pow(1 + p * p, 1.5), 1e-4 * 8 * k * k + 3e-6) << c;
  }
}

TEST(Curvature, FlatGroundIsFlatToTheRimAndBesideVoids) {
  for (float level : {0.0f, 3.7f, 812.345f, -11000.1f}) {
    std::vector<float> v(23 * 17, level);
    for (std::size_t i : {40, 41, 200, 230, 390}) v[i] = kVoid;
    const Grid g = grid_from_values(utm_frame(23, 17), v, metres_above_egm2008());
    for (int window : {3, 5, 9, 21})
      for (CurvatureKind kind : kCurvatureKinds) {
        const std::vector<float> k = all_values(curvature(g, kind, window));
        for (std::size_t i = 0; i < k.size(); ++i)
          ASSERT_TRUE(std::isnan(v[i]) ? std::isnan(k[i]) : k[i] == 0)
              << level << " " << window << " " << i << " " << k[i];
      }
    for (float a : all_values(aspect(g, {.window = 5}))) ASSERT_TRUE(std::isnan(a)) << level;
  }
}

TEST(Curvature, AQuadricIsRightOnEveryCrsAndInFeet) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::UsFoot;
  const std::array frames = {utm_frame(25, 21, 5), Frame(Crs::wgs84(), -31, -37.5, {1.0 / 3600, 1.0 / 3600}, 25, 21),
                             Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 25, 21),
                             Frame(Crs::parse("EPSG:2263"), 1000000, 200000, {3, 3}, 25, 21)};
  for (const Frame& f : frames)
    for (const Quantity& q : {metres_above_egm2008(), feet}) {
      SCOPED_TRACE(f.crs().label());
      const double reach = f.bounds().width() * GroundRuler(f.crs()).at(f.bounds().centre()).x / 2;
      const Grid g = shaped(
          f, [&](double x, double y) { return (0.3 * x * x - 0.5 * x * y + 0.8 * y * y) / reach + 0.2 * x - 0.1 * y; },
          q);
      const double r = 0.6 / reach, s = -0.5 / reach, t = 1.6 / reach, p = 0.2, e = -0.1, w = 1 + p * p + e * e;
      const double mean = -((1 + e * e) * r - 2 * p * e * s + (1 + p * p) * t) / (2 * std::pow(w, 1.5));
      for (int window : {3, 7})
        EXPECT_NEAR(value_at(curvature(g, CurvatureKind::Mean, window), 12, 10) / mean, 1, 2e-3);
      EXPECT_NEAR(value_at(slope(g, SlopeAs::Ratio, {.window = 5}), 12, 10), std::hypot(p, e), 2e-4);
    }
}

// The fit written out over the cells that are there: terms in their order, each freed of those before it.
std::array<double, 6> brute_fit(const Grid& g, std::int64_t col, std::int64_t row, int m) {
  std::vector<std::array<long double, 6>> terms;
  std::vector<long double> z;
  const float centre = g.at(col, row);
  const Block b = g.read({col - m, row - m, 2 * m + 1, 2 * m + 1});
  for (int j = -m; j <= m; ++j)
    for (int i = -m; i <= m; ++i) {
      const float v = b.at(i + m, j + m);
      if (std::isnan(v)) continue;
      const long double x = i, y = -j;
      terms.push_back({1, x, y, x * x, y * y, x * y});
      z.push_back(static_cast<long double>(v) - static_cast<long double>(centre));
    }
  const std::size_t n = z.size();
  std::array<std::vector<long double>, 6> q;
  std::array<std::array<long double, 6>, 6> r{};
  std::array<bool, 6> used{};
  for (std::size_t k = 0; k < 6; ++k) {
    q[k].resize(n);
    long double alone = 0, left = 0;
    for (std::size_t i = 0; i < n; ++i) alone += terms[i][k] * terms[i][k];
    for (std::size_t i = 0; i < n; ++i) q[k][i] = terms[i][k];
    for (std::size_t j = 0; j < k; ++j) {
      if (!used[j]) continue;
      for (std::size_t i = 0; i < n; ++i) r[j][k] += q[j][i] * q[k][i];
      for (std::size_t i = 0; i < n; ++i) q[k][i] -= r[j][k] * q[j][i];
    }
    for (std::size_t i = 0; i < n; ++i) left += q[k][i] * q[k][i];
    used[k] = alone > 0 && left > 1e-9L * alone;
    r[k][k] = std::sqrt(left);
    if (used[k])
      for (std::size_t i = 0; i < n; ++i) q[k][i] /= r[k][k];
  }
  std::array<double, 6> x{};
  for (std::size_t k = 6; k-- > 0;) {
    if (!used[k]) continue;
    long double v = 0;
    for (std::size_t i = 0; i < n; ++i) v += q[k][i] * z[i];
    for (std::size_t j = k + 1; j < 6; ++j)
      if (used[j]) v -= r[k][j] * static_cast<long double>(x[j]);
    x[k] = static_cast<double>(v / r[k][k]);
  }
  return x;
}

TEST(Curvature, AgreesWithTheFitWrittenOutBesideVoidsAndAtTheRim) {
  for (unsigned seed = 1; seed <= 3; ++seed)
    for (int m : {1, 2, 5}) {
      SCOPED_TRACE(::testing::Message() << "seed " << seed << " m " << m);
      const Frame f = utm_frame(31, 23, 3);
      const Grid g = rough_grid(f, seed, 9);
      const GroundScale s = GroundRuler(f.crs()).at(f.bounds().centre());
      const double dx = 3 * s.x, dy = 3 * s.y;
      const int window = 2 * m + 1;
      const Block steep = slope(g, SlopeAs::Ratio, {.gradient = Gradient::Quadric, .window = window}).read(f.window()),
                  mean = curvature(g, CurvatureKind::Mean, window).read(f.window()),
                  largest = curvature(g, CurvatureKind::Largest, window).read(f.window());
      for (std::int64_t r = 0; r < f.rows(); ++r)
        for (std::int64_t c = 0; c < f.cols(); ++c) {
          SCOPED_TRACE(::testing::Message() << c << ", " << r);
          if (std::isnan(g.at(c, r))) {
            ASSERT_TRUE(std::isnan(steep.at(c, r)) && std::isnan(mean.at(c, r)));
            continue;
          }
          const auto fit = brute_fit(g, c, r, m);
          const double p = fit[1] / dx, q = fit[2] / dy, xx = 2 * fit[3] / (dx * dx), yy = 2 * fit[4] / (dy * dy),
                       xy = fit[5] / (dx * dy), w = 1 + p * p + q * q;
          const double h = -((1 + q * q) * xx - 2 * p * q * xy + (1 + p * p) * yy) / (2 * std::pow(w, 1.5)),
                       gauss = (xx * yy - xy * xy) / (w * w);
          ASSERT_NEAR(static_cast<double>(steep.at(c, r)), std::hypot(p, q), 1e-5);
          ASSERT_NEAR(static_cast<double>(mean.at(c, r)), h, 1e-5);
          ASSERT_NEAR(static_cast<double>(largest.at(c, r)), h + std::sqrt(std::max(h * h - gauss, 0.0)), 2e-5);
        }
    }
}

TEST(Curvature, TheSameThroughEveryWindow) {
  const Grid g = rough_grid(utm_frame(61, 47, 2), 5, 7);
  for (int window : {3, 5, 13}) {
    expect_same_for_every_window(curvature(g, CurvatureKind::Profile, window), 11, 20);
    expect_same_for_every_window(slope(g, SlopeAs::Degrees, {.gradient = Gradient::Quadric, .window = window}), 12, 20);
  }
  expect_same_for_every_window(aspect(g, {.gradient = Gradient::ZevenbergenThorne}), 13, 20);
}

TEST(Curvature, ASingleRowBendsAlongItself) {
  const auto in = [](const Frame& f) { return shaped(f, [](double x, double y) { return -(x * x + y * y) / 100; }); };
  for (const Frame& f : {utm_frame(15, 1), utm_frame(1, 15)}) {
    const Grid g = in(f);
    const std::int64_t c = f.cols() / 2, r = f.rows() / 2;
    EXPECT_NEAR(value_at(curvature(g, CurvatureKind::Mean, 5), c, r), 0.01, 1e-5);
    EXPECT_NEAR(value_at(curvature(g, CurvatureKind::Smallest, 5), c, r), 0, 1e-7);
    EXPECT_NEAR(value_at(curvature(g, CurvatureKind::Largest, 5), c, r), 0.02, 2e-5);
  }
  EXPECT_EQ(value_at(curvature(in(utm_frame(1, 1)), CurvatureKind::Mean), 0, 0), 0);
  const Grid none = grid_from_values(utm_frame(3, 2), std::vector<float>(6, kVoid), metres_above_egm2008());
  for (float v : all_values(curvature(none, CurvatureKind::Mean, 5))) EXPECT_TRUE(std::isnan(v));
}

// Four neighbours: exact on a plane, and on z = x³ off by a third of the cell squared; eight blur across, too.
TEST(Gradients, OfFourNeighbours) {
  const Frame f = utm_frame(21, 21, 2);
  const GradientOptions four{.gradient = Gradient::ZevenbergenThorne};
  const Grid plane = shaped(f, [](double x, double y) { return 0.3 * x - 0.4 * y; });
  for (auto [c, r] : {std::pair{10, 10}, std::pair{0, 0}, std::pair{20, 7}}) {
    EXPECT_NEAR(value_at(slope(plane, SlopeAs::Ratio, four), c, r), 0.5, 1e-4);
    EXPECT_NEAR(value_at(aspect(plane, four), c, r), 360 - 36.87, 0.02);
  }
  const Grid wave = shaped(f, [](double x, double y) { return std::sin(x / 4) * std::cos(y / 3); });
  const double h = 2, at = 0, east = std::sin(h / 4) / h;
  EXPECT_NEAR(value_at(slope(wave, SlopeAs::Ratio, four), 10, 10), east * std::cos(at), 2e-4);
  EXPECT_NEAR(value_at(slope(wave, SlopeAs::Ratio), 10, 10), east * (1 + std::cos(h / 3)) / 2, 2e-4);
  const Grid rough = rough_grid(f, 9, 5);
  const std::vector<float> v = all_values(rough), k = all_values(slope(rough, SlopeAs::Ratio, four));
  for (std::size_t i = 0; i < v.size(); ++i) ASSERT_EQ(std::isnan(v[i]), std::isnan(k[i])) << i;
}

TEST(Gradients, WhatDoesNotGoTogetherIsRefused) {
  const Grid g = rough_grid(utm_frame(9, 9), 1, 0);
  std::string text;
  for (int window : {-3, 0, 1, 2, 4, 1003})
    EXPECT_EQ(error_of([&] { curvature(g, CurvatureKind::Mean, window); }, &text), ErrorCode::BadArgument) << window;
  EXPECT_NE(text.find("odd"), text.npos) << text;
  EXPECT_EQ(error_of([&] { slope(g, SlopeAs::Ratio, {.gradient = Gradient::Horn, .window = 5}); }, &text),
            ErrorCode::BadArgument);
  EXPECT_NE(text.find("quadric"), text.npos) << text;
  EXPECT_EQ(error_of([&] { curvature(slope(g), CurvatureKind::Mean); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([] { parse_curvature_kind("round"); }), ErrorCode::BadArgument);
  EXPECT_EQ(parse_gradient("quadric"), Gradient::Quadric);
  EXPECT_EQ(error_of([] { parse_gradient("steep"); }), ErrorCode::BadArgument);
  // A window wider than the grid takes what is there.
  EXPECT_FALSE(std::isnan(curvature(g, CurvatureKind::Mean, 99).at(4, 4)));
}

}  // namespace
}  // namespace katoptra
