// How sure slopes and curvatures are: by simulation, by exact sums of weights, at rims, and for every window.
#include "terrain/derivative_errors.hpp"

#include <cmath>
#include <random>

#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/terrain/curvature.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

double rolling(double x, double y) {
  return 60 + 9 * std::sin((x - 676000) / 23) * std::cos((y - 5842000) / 31) + 0.15 * (x - 676000);
}

using Make = std::function<Grid(const Grid&)>;

// How often the product of measured ground lies within its 95 % of that of the ground itself.
Held product_held(const Make& make, double noise, double reach, int trials) {
  const Frame f = utm_frame(90, 80);
  const Grid exact = make(measured(f, rolling, 0, Length(), 1));
  const std::vector<float> truth = all_values(exact);
  Held all;
  for (int t = 1; t <= trials; ++t)
    all.add(held(make(measured(f, rolling, noise, Length::metres(reach), static_cast<unsigned>(t))),
                 [&](double x, double y) {
                   const auto c = static_cast<std::size_t>(f.col_at(x)), r = static_cast<std::size_t>(f.row_at(y));
                   return static_cast<double>(truth[r * 90 + c]);
                 }));
  return all;
}

TEST(DerivativeErrors, StatedUncertaintyOfProductsHolds) {
  struct Case {
    const char* name;
    Make make;
    double noise;
  };
  const Case cases[] = {
      {"Horn", [](const Grid& g) { return slope(g); }, 0.05},
      {"four neighbours, percent",
       [](const Grid& g) { return slope(g, SlopeAs::Percent, {.gradient = Gradient::ZevenbergenThorne}); }, 0.05},
      {"quadric of 9", [](const Grid& g) { return slope(g, SlopeAs::Degrees, {.window = 9}); }, 0.05},
      {"mean curvature", [](const Grid& g) { return curvature(g, CurvatureKind::Mean, 3); }, 0.02},
      {"profile curvature of 9", [](const Grid& g) { return curvature(g, CurvatureKind::Profile, 9); }, 0.02},
      {"tangential curvature of 7", [](const Grid& g) { return curvature(g, CurvatureKind::Tangential, 7); }, 0.02}};
  for (const Case& c : cases)
    for (const double reach : {0.0, 3.0, 20.0}) {
      const Held h = product_held(c.make, c.noise, reach, 12);
      EXPECT_GT(h.share(), 0.93) << c.name << ", reach " << reach;
      EXPECT_LT(h.share(), 0.985) << c.name << ", reach " << reach;
    }
}

// Of sums of cells the variance is that of all pairs.
double by_pairs(const AxisWeights& a, const AxisWeights& b, double reach) {
  const auto n = a.across.size();
  double sum = 0;
  for (std::size_t j = 0; j < n; ++j)
    for (std::size_t i = 0; i < n; ++i)
      for (std::size_t v = 0; v < n; ++v)
        for (std::size_t u = 0; u < n; ++u) {
          const double d2 = std::pow(static_cast<double>(i) - static_cast<double>(u), 2) +
                            std::pow(static_cast<double>(j) - static_cast<double>(v), 2);
          sum += a.across[i] * a.down[j] * b.across[u] * b.down[v] *
                 (d2 == 0     ? 1
                  : reach > 0 ? std::exp(-d2 / reach / reach)
                              : 0);
        }
  return sum;
}

TEST(DerivativeErrors, CovariancesAreThoseOfAllPairs) {
  const AxisWeights step{{-2, -1, 0, 1, 2}, {1, 1, 1, 1, 1}}, xx{{2, -1, -2, -1, 2}, {1, 1, 1, 1, 1}},
      yy{{1, 1, 1, 1, 1}, {2, -1, -2, -1, 2}};
  for (const double reach : {0.0, 0.7, 3.0, 40.0}) {
    GridInfo info;
    info.frame = utm_frame(10, 10);
    info.error_reach = Length::metres(reach);
    const WindowCovariance c(info);
    const GroundSpacing s = ground_spacing(info.frame);
    const double cells = reach / s.x.metres();
    EXPECT_NEAR(c.of(step), by_pairs(step, step, cells), 1e-2) << reach;
    EXPECT_NEAR(c.of(xx, yy), by_pairs(xx, yy, cells), 1e-2) << reach;
  }
  // Where the reach is not known no reach does more harm.
  GridInfo info;
  info.frame = utm_frame(10, 10);
  const WindowCovariance unknown(info);
  for (double reach = 0; reach < 30; reach += 0.37) EXPECT_GE(unknown.of(step), 0.97 * by_pairs(step, step, reach));
}

TEST(DerivativeErrors, LevelGroundAndRimsAreLessSure) {
  const Frame f = utm_frame(40, 30);
  const Grid flat = measured(
      f, [](double, double) { return 5.0; }, 0, Length(), 1);
  std::vector<float> v = all_values(flat);
  for (std::int64_t r = 10; r < 15; ++r)
    for (std::int64_t c = 10; c < 14; ++c) v[static_cast<std::size_t>(r * 40 + c)] = kVoid;
  const Grid g = with_error_reach(
      with_uncertainty(grid_from_values(f, v, flat.quantity()), UncertaintyModel{.constant = Length::metres(0.1)}),
      Length());
  for (const Make& make : {Make([](const Grid& s) { return slope(s, SlopeAs::Ratio); }),
                           Make([](const Grid& s) { return slope(s, SlopeAs::Ratio, {.window = 5}); }),
                           Make([](const Grid& s) { return curvature(s, CurvatureKind::Mean, 5); })}) {
    const Grid made = make(g);
    ASSERT_TRUE(made.carries_uncertainty());
    const Block b = made.read(f.window(), Planes::All);
    EXPECT_TRUE(std::isnan(b.uncertainty_row(12)[12]));
    EXPECT_GT(b.uncertainty_row(20)[20], 0);
    EXPECT_GT(b.uncertainty_row(12)[9], 1.5F * b.uncertainty_row(20)[20]) << "beside a void";
    EXPECT_GT(b.uncertainty_row(0)[20], 1.5F * b.uncertainty_row(20)[20]) << "at the edge";
    expect_same_for_every_window(made, 7);
  }
  // Horn's rise of cells of a metre: 12 times the variance over 64, along both axes.
  const Block b = slope(g, SlopeAs::Ratio).read(f.window(), Planes::All);
  EXPECT_NEAR(b.uncertainty_row(22)[22], 0.1 * std::sqrt(2 * 12 / 64.0), 0.001);
  EXPECT_FALSE(hillshade(g).carries_uncertainty()) << "a picture says nothing";
  EXPECT_FALSE(slope(without_uncertainty(g)).carries_uncertainty());
}

TEST(DerivativeErrors, FeetAndDegreesCountAsMetresOnTheGround) {
  const Frame f = utm_frame(60, 60);
  const Grid g = measured(f, rolling, 0.05, Length(), 3), feet = in_unit(g, LengthUnit::Foot);
  const Block a = slope(g).read(f.window(), Planes::All), b = slope(feet).read(f.window(), Planes::All);
  for (std::int64_t i = 5; i < 55; ++i) EXPECT_NEAR(a.uncertainty_row(i)[i] / b.uncertainty_row(i)[i], 1, 0.01);
}

}  // namespace
}  // namespace katoptra
