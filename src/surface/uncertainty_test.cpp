// What operations make of uncertainties: against covariances summed by brute force, and against errors that are known.
#include <cmath>
#include <random>

#include "katoptra/geo/area.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/correct.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "grid/error_kernel.hpp"
#include "marrowick.hpp"
#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

GridInfo info_of(std::optional<Length> reach, double cell = 1) {
  GridInfo info;
  info.frame = utm_frame(10, 10, cell);
  info.error_reach = reach;
  return info;
}

// The variance of a weighted sum of cells from every pair of them.
double by_pairs(const std::vector<double>& weights, std::int64_t cols, double reach) {
  double v = 0;
  for (std::size_t i = 0; i < weights.size(); ++i)
    for (std::size_t j = 0; j < weights.size(); ++j) {
      const auto d = [&](std::size_t k) {
        return Point{static_cast<double>(static_cast<std::int64_t>(k) % cols),
                     static_cast<double>(static_cast<std::int64_t>(k) / cols)};
      };
      const double d2 = std::pow(d(i).x - d(j).x, 2) + std::pow(d(i).y - d(j).y, 2);
      v += weights[i] * weights[j] * (i == j ? 1 : reach > 0 ? std::exp(-d2 / (reach * reach)) : 0);
    }
  return v;
}

TEST(ErrorKernel, IsTheSumOverAllPairs) {
  std::mt19937 random(3);
  for (const double reach : {0.0, 0.4, 1.0, 2.5, 40.0}) {
    SCOPED_TRACE(reach);
    // Cells of 2 m; the ground is 0.04 % longer than the map there.
    const ErrorKernel kernel(info_of(Length::metres(2 * reach), 2));
    for (int i = 0; i < 20; ++i) {
      const auto any = [&] { return static_cast<double>(random() % 2000) / 1000 - 0.5; };
      const double a[2][2] = {{any(), any()}, {any(), any()}};
      EXPECT_NEAR(kernel.of_four(a), by_pairs({a[0][0], a[0][1], a[1][0], a[1][1]}, 2, reach), 2e-3);
      const float x[4] = {static_cast<float>(any()), static_cast<float>(any()), static_cast<float>(any()),
                          static_cast<float>(any())},
                  y[4] = {static_cast<float>(any()), static_cast<float>(any()), static_cast<float>(any()),
                          static_cast<float>(any())};
      std::vector<double> all;
      for (const float v : y)
        for (const float u : x) all.push_back(static_cast<double>(u) * static_cast<double>(v));
      EXPECT_NEAR(kernel.across(x, 4) * kernel.down(y, 4), by_pairs(all, 4, reach), 1e-2);
    }
    for (const auto& [wide, high] : {std::pair{1, 1}, {3, 2}, {7, 7}, {12, 5}})
      EXPECT_NEAR(
          kernel.of_box(wide, high),
          by_pairs(std::vector<double>(static_cast<std::size_t>(wide * high), 1.0 / (wide * high)), wide, reach), 1e-3);
    // A part of a cell at the end weighs less.
    EXPECT_NEAR(kernel.of_box(2.5, 1), by_pairs({0.4, 0.4, 0.2}, 3, reach), 1e-3);
  }
  // Not known: whichever is more, of errors apart and of one for all.
  const ErrorKernel unknown(info_of(std::nullopt));
  const double half[2][2] = {{0.25, 0.25}, {0.25, 0.25}}, apart[2][2] = {{1, -1}, {0, 0}};
  EXPECT_EQ(unknown.of_four(half), 1);
  EXPECT_EQ(unknown.of_four(apart), 2);
  EXPECT_EQ(unknown.of_box(10, 10), 1);
}

TEST(UncertaintyOf, LevelGroundIsThatOfTheKernelAlone) {
  // Nothing is left out between the cells, so what remains is the noise; at the rim of a void, too.
  const Frame f = utm_frame(20, 20);
  std::vector<float> z(400, 7), u(400);
  for (std::size_t i = 0; i < u.size(); ++i) u[i] = 0.1f + 0.01f * static_cast<float>(i % 7);
  z[5 * 20 + 5] = kVoid;
  const Grid g = with_error_reach(with_uncertainty(grid_from_values(f, z, metres_above_egm2008()),
                                                   grid_from_values(f, u, {.kind = QuantityKind::Uncertainty})),
                                  0_m);
  const Frame to = utm_frame(15, 15, 1, 676002.3, 5841997.8);
  const Grid moved = reproject(g, to, Resampling::Bilinear);
  const Block b = moved.read(to.window(), Planes::ValuesAndUncertainty);
  for (std::int64_t r = 0; r < 15; ++r)
    for (std::int64_t c = 0; c < 15; ++c) {
      const std::int64_t col = c + 2, row = r + 2;
      double v = 0, all = 0;
      for (int j = 0; j < 2; ++j)
        for (int i = 0; i < 2; ++i) {
          const auto k = static_cast<std::size_t>((row + j) * 20 + col + i);
          const double w = (i ? 0.3 : 0.7) * (j ? 0.2 : 0.8);
          if (std::isnan(z[k])) continue;
          v += w * w * static_cast<double>(u[k] * u[k]);
          all += w;
        }
      if (std::isnan(b.at(c, r))) continue;
      EXPECT_NEAR(b.uncertainty_row(r)[c], std::sqrt(v) / all, 2e-3 * std::sqrt(v) / all + 1e-4) << c << ", " << r;
    }
  EXPECT_EQ(moved.info().error_reach, Length::metres(0.75 * ground_spacing(f).y.metres()));
  // One neighbour of which nothing is known makes the sum unknown.
  u[8 * 20 + 8] = kVoid;
  const Grid hole = with_uncertainty(g, grid_from_values(f, u, {.kind = QuantityKind::Uncertainty}));
  const Block h = reproject(hole, to, Resampling::Bilinear).read(to.window(), Planes::ValuesAndUncertainty);
  EXPECT_TRUE(std::isnan(h.uncertainty_row(6)[6]));
  EXPECT_FALSE(std::isnan(h.at(6, 6)));
  EXPECT_FALSE(std::isnan(h.uncertainty_row(4)[4]));
}

TEST(UncertaintyOf, CorrectionsSeparationsAndReferences) {
  const Grid g = with_uncertainty(rough_grid(utm_frame(12, 10), 1, 0), {.constant = Length::metres(0.3)});
  const auto first = [](const Grid& x) { return x.read({0, 0, 1, 1}, Planes::All).uncertainty_row(0)[0]; };
  EXPECT_FLOAT_EQ(first(corrected(g, {.offset = 2_m})), 0.3f);
  EXPECT_NEAR(first(corrected(g, {.factor = 0.3048})), 0.3 * 0.3048, 1e-6);
  EXPECT_NEAR(first(corrected(g, {.factor = -2, .tilt_x = 1e-3, .pivot = g.frame().centre(0, 0)})), 0.6, 1e-6);
  const HeightReference chart = HeightReference::parse("chart datum");
  EXPECT_FLOAT_EQ(first(shifted_heights(g, 2_m, chart)), 0.3f);
  const Grid separation = with_uncertainty(rough_grid(utm_frame(12, 10), 2, 0), {.constant = Length::metres(0.4)});
  EXPECT_NEAR(first(shifted_heights(g, separation, chart)), 0.5, 1e-3) << "both errors count";
  EXPECT_NEAR(first(shifted_heights(g, without_uncertainty(separation), chart)), 0.3, 1e-6);
  // By what PROJ states of the step.
  const Grid older = relabelled(g, [](GridInfo& i) { i.quantity.heights = HeightReference::parse("EGM96"); });
  const HeightReference ellipsoid = HeightReference::parse("ellipsoid");
  const VerticalTransform step(g.frame().crs(), older.quantity().heights, ellipsoid, g.frame().bounds());
  ASSERT_TRUE(step.accuracy());
  EXPECT_NEAR(first(to_heights(older, ellipsoid)), std::hypot(0.3, step.accuracy()->metres()), 1e-6);
}

TEST(UncertaintyOf, ASeam) {
  const auto survey = [](const Grid& g, double u, const char* date) {
    return relabelled(with_error_reach(with_uncertainty(g, {.constant = Length::metres(u)}), 1_m), [&](GridInfo& i) {
      i.sources[0].date = i.sources[0].survey = date;
      i.name = date;
    });
  };
  const Grid left = rough_grid(utm_frame(40, 20), 1, 0), right = rough_grid(utm_frame(40, 20, 1, 676020), 2, 0);
  const Grid m = mosaic({survey(left, 0.3, "2022-01-01"), survey(right, 0.4, "2010-01-01")}, {.feather = 10_m});
  const Block b = m.read(m.frame().window(), Planes::All);
  const auto at = [&](std::int64_t c) { return static_cast<double>(b.uncertainty_row(10)[c]); };
  EXPECT_NEAR(at(3), 0.3, 1e-3);
  EXPECT_NEAR(at(55), 0.4, 1e-3);
  // Half of each, of different surveys: less than either.
  double least = 1;
  for (std::int64_t c = 28; c < 42; ++c) least = std::min(least, at(c));
  EXPECT_NEAR(least, 0.24, 0.003) << "0.3 x 0.4 / 0.5 at the best place";
  // Two sheets of one survey may err together.
  const Grid same = mosaic({survey(left, 0.3, "2022-01-01"), survey(right, 0.3, "2022-01-01")}, {.feather = 10_m});
  const Block s = same.read(same.frame().window(), Planes::All);
  for (std::int64_t c = 0; c < 60; ++c) EXPECT_NEAR(s.uncertainty_row(10)[c], 0.3, 1e-3) << c;
  // What states nothing is not known, and the rest goes on.
  const Grid half = mosaic({survey(left, 0.3, "2022-01-01"), right});
  EXPECT_TRUE(half.carries_uncertainty());
  const Block h = half.read(half.frame().window(), Planes::All);
  EXPECT_FLOAT_EQ(h.uncertainty_row(5)[10], 0.3f);
  EXPECT_TRUE(std::isnan(h.uncertainty_row(5)[55]));
  EXPECT_EQ(half.info().error_reach, 1_m);
}

// ---- the stated 95 %

double waves(double x, double y) {
  return 40 + 12 * std::sin((x - 677000) / 31) * std::cos((y - 5841000) / 47) + 3 * std::sin((x + y) / 13);
}
double island(double x, double y) { return marrowick::ground_utm(x, y); }
Frame there(double cell, std::int64_t n, double shift = 0) {
  return {Crs::parse("EPSG:32725"), 677300 + shift, 5841900 - shift, {cell, cell}, n, n};
}
void expect_held(const Held& h, const std::string& what) {
  EXPECT_GT(h.cells, 500) << what;
  EXPECT_GE(h.share(), 0.93) << what << ", errors " << h.ratio() << " of what is stated";
  EXPECT_LE(h.share(), 0.97) << what << ", errors " << h.ratio() << " of what is stated";
}

TEST(StatedUncertainty, HoldsWhereCellsWereMeasuredResampledAveragedAndBlended) {
  for (const Ground& ground : {Ground(waves), Ground(island)})
    for (const double reach : {0.0, 3.0}) {
      Held seen, cubic, linear, mean, blend, other;
      for (unsigned seed = 1; seed <= 4; ++seed) {
        SCOPED_TRACE(seed);
        const Length l = Length::metres(reach);
        const Grid g = measured(there(1, 120), ground, 0.05, l, seed);
        seen.add(held(g, ground));
        cubic.add(held(reproject(g, there(1, 100, 7.37), Resampling::Cubic), ground));
        linear.add(held(reproject(g, there(1, 100, 7.37), Resampling::Bilinear), ground));
        const Frame turned = frame_for(cut(g, {10, 10, 90, 90}).frame(), Crs::parse("EPSG:32724"), {.cell = 1_m});
        const Transform home(turned.crs(), g.frame().crs());
        other.add(held(reproject(g, turned, Resampling::Cubic), [&](double x, double y) {
          const Point p = home.forward({x, y});
          return ground(p.x, p.y);
        }));
        const double cell = 4.6;
        mean.add(held(reproject(g, there(cell, 22, 7.37), Resampling::Mean), [&](double x, double y) {
          double sum = 0;
          for (int j = 0; j < 12; ++j)
            for (int i = 0; i < 12; ++i)
              sum += ground(x + cell * ((i + 0.5) / 12 - 0.5), y + cell * ((j + 0.5) / 12 - 0.5)) / 144;
          return sum;
        }));
        const auto dated = [](const Grid& grid, const char* date) {
          return relabelled(grid, [&](GridInfo& i) { i.sources[0].date = i.sources[0].survey = date; });
        };
        blend.add(held(mosaic({dated(measured(there(1, 80), ground, 0.03, l, seed + 50), "2022-01-01"),
                               dated(measured(there(1, 80, 30), ground, 0.1, l, seed + 90), "2016-01-01")},
                              {.feather = 12_m}),
                       ground, [](const Block& b, std::int64_t c, std::int64_t r) {
                         return how_of(b.origin_row(r)[c]) == How::Blended;
                       }));
      }
      const std::string where = "reach " + std::to_string(reach);
      expect_held(seen, "measured, " + where);
      expect_held(cubic, "cubic, " + where);
      expect_held(linear, "bilinear, " + where);
      expect_held(other, "in another zone, " + where);
      expect_held(mean, "mean, " + where);
      expect_held(blend, "blended, " + where);
    }
}

// Ground that is as rough at every scale from kilometres to a third of a metre: waves each a fifth shorter than those
// before, in directions of their own, and lower by the power H of their length.
Ground self_affine(double hurst, unsigned seed) {
  struct Wave {
    double x, y, phase, height;
  };
  std::vector<Wave> waves;
  std::mt19937 random(seed);
  const auto any = [&] { return 6.283185 * static_cast<double>(random() % 100'000) / 100'000; };
  for (double length = 2000; length > 0.3; length /= 1.2)
    for (int k = 0; k < 4; ++k) {
      const double turn = any(), pace = 6.283185 / length;
      waves.push_back({pace * std::cos(turn), pace * std::sin(turn), any(), 20 * std::pow(length / 2000, hurst)});
    }
  return [waves](double x, double y) {
    double z = 0;
    for (const Wave& w : waves) z += w.height * std::sin(w.x * (x - 677000) + w.y * (y - 5841000) + w.phase);
    return z;
  };
}

TEST(StatedUncertainty, HoldsWhereTheGroundBetweenTheCellsIsWhatIsNotKnown) {
  const std::vector<std::pair<std::string, Ground>> grounds = {{"island", island},
                                                               {"waves", waves},
                                                               {"H 0.3", self_affine(0.3, 1)},
                                                               {"H 0.6", self_affine(0.6, 2)},
                                                               {"H 0.9", self_affine(0.9, 3)}};
  for (const auto& [name, ground] : grounds)
    for (const Resampling how : {Resampling::Cubic, Resampling::Bilinear, Resampling::Nearest}) {
      // Without that part it would hold nowhere near: the noise is a hundredth of what a line leaves out.
      const Grid coarse = measured(there(10, 100), ground, 0.02, 0_m, 1);
      const Held h = held(reproject(coarse, there(7, 120, 73.7), how), ground);
      // One place of one ground: what an error that has an end is does not spread over all that it could be.
      EXPECT_GE(h.share(), 0.925) << name << ", " << name_of(how);
      EXPECT_LE(h.share(), 0.98) << name << ", " << name_of(how);
    }
}

}  // namespace
}  // namespace katoptra
