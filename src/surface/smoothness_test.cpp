// How smooth ground is found to be, against ground of which that is known.
#include "smoothness.hpp"

#include <cmath>
#include <random>

#include "katoptra/grid/uncertainty.hpp"

#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::vector<Point> places(const Frame& f) {
  std::vector<Point> p;
  for (int j = 1; j < 6; ++j)
    for (int i = 1; i < 6; ++i)
      p.push_back({static_cast<double>(i * f.cols()) / 6, static_cast<double>(j * f.rows()) / 6});
  return p;
}
std::optional<double> growth(const Grid& g, int order) {
  return growth_of_differences(g, places(g.frame()), order, ErrorKernel(g.info()));
}
Grid sure_to(const Grid& g, double metres, Length reach = 0_m) {
  return with_error_reach(with_uncertainty(g, {.constant = Length::metres(metres)}), reach);
}

TEST(Smoothness, DifferencesOfSmoothGroundGrowByTheirOrder) {
  const Grid g = grid_from_function(
      utm_frame(200, 180), [](double x, double y) { return 30 * std::sin(x / 40) * std::cos(y / 50); },
      metres_above_egm2008());
  // Floats end where third differences begin to be small.
  for (const int order : {1, 2, 3}) {
    const auto grown = growth(sure_to(g, 1e-9), order);
    ASSERT_TRUE(grown) << order;
    EXPECT_NEAR(*grown, 2 * order, 0.1) << order;
  }
}

// A walk in both directions has independent first differences: they grow as the distance does.
TEST(Smoothness, DifferencesOfAWalkGrowAsTheDistance) {
  const Frame f = utm_frame(300, 300);
  std::mt19937 random(5);
  std::normal_distribution<double> step(0, 1);
  std::vector<double> across(300), down(300);
  for (std::size_t i = 1; i < 300; ++i) {
    across[i] = across[i - 1] + step(random);
    down[i] = down[i - 1] + step(random);
  }
  std::vector<float> z;
  for (std::size_t r = 0; r < 300; ++r)
    for (std::size_t c = 0; c < 300; ++c) z.push_back(static_cast<float>(across[c] + down[r]));
  const Grid g = grid_from_values(f, z, metres_above_egm2008());
  for (const int order : {1, 2, 3}) EXPECT_NEAR(*growth(sure_to(g, 0.01), order), 1, 0.2) << order;
}

TEST(Smoothness, NoiseIsNoGround) {
  const Frame f = utm_frame(240, 240);
  for (const double reach : {0.0, 2.0}) {
    const auto noisy = [&](double height) {
      return sure_to(measured(
                         f, [=](double x, double y) { return height * std::sin(x / 9) * std::cos(y / 11); }, 0.05,
                         Length::metres(reach), 3),
                     0.05, Length::metres(reach));
    };
    SCOPED_TRACE(reach);
    EXPECT_FALSE(growth(noisy(0), 2)) << "nothing stands out of it";
    ASSERT_TRUE(growth(noisy(30), 2));
    EXPECT_NEAR(*growth(noisy(30), 2), 4, 0.35);
  }
  // Where nobody knows how far errors go together, they are taken to be apart.
  const Grid unknown = with_uncertainty(rough_grid(f, 1, 0), {.constant = 100_m});
  EXPECT_FALSE(growth(unknown, 1));
}

TEST(Smoothness, VoidsAndEdgesAreLeftOut) {
  const Frame f = utm_frame(200, 200);
  const Grid whole = grid_from_function(
      f, [](double x, double y) { return 30 * std::sin(x / 40) * std::cos(y / 50); }, metres_above_egm2008());
  const Block b = whole.read(f.window());
  std::vector<float> z(b.row(0), b.row(0) + 200 * 200);
  for (std::size_t i = 0; i < z.size(); i += 61) z[i] = kVoid;
  const Grid holed = sure_to(grid_from_values(f, z, metres_above_egm2008()), 1e-9);
  ASSERT_TRUE(growth(holed, 1));
  EXPECT_NEAR(*growth(holed, 1), 2, 0.1);
  std::fill(z.begin(), z.end(), kVoid);
  EXPECT_FALSE(growth(sure_to(grid_from_values(f, z, metres_above_egm2008()), 1e-9), 1));
  const std::vector<Point> outside = {{-1e9, 4}, {std::nan(""), 2}, {1e300, 1e300}, {5000, 100}};
  EXPECT_FALSE(growth_of_differences(holed, outside, 1, ErrorKernel(holed.info())));
}

TEST(Smoothness, RougherGroundLeavesOutMore) {
  for (const int order : {1, 2, 3}) {
    double last = 1e9;
    for (double g = -1; g < 2 * order + 1; g += 0.05) {
      const double times = left_out_on(order, g);
      EXPECT_LE(times, last);
      EXPECT_GT(times, 0);
      last = times;
    }
    EXPECT_EQ(left_out_on(order, std::nullopt), 1);
  }
}

}  // namespace
}  // namespace katoptra
