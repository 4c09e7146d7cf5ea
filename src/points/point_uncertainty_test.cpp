// How sure cells are that were made of points: their stated 95 % against the ground.
#include <cmath>
#include <random>

#include "katoptra/points/gridding.hpp"
#include "katoptra/points/soundings.hpp"

#include "marrowick.hpp"
#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Points at random places over a square, `per_metre` of them on a square metre, with noise.
PointCloud points_over(const Ground& ground, double edge, double per_metre, double noise, unsigned seed) {
  std::mt19937_64 random(seed);
  std::uniform_real_distribution<double> place(0, edge);
  std::normal_distribution<double> error(0, noise);
  PointBatch b;
  const auto n = static_cast<std::size_t>(edge * edge * per_metre);
  for (std::size_t i = 0; i < n; ++i) {
    b.x.push_back(677300 + place(random));
    b.y.push_back(5841900 - place(random));
    b.z.push_back(ground(b.x.back(), b.y.back()) + error(random));
  }
  PointInfo info;
  info.crs = Crs::parse("EPSG:32725");
  info.quantity = metres_above_egm2008();
  info.count = n;
  info.bounds = {677300, 5841900 - edge, 677300 + edge, 5841900};
  info.exact = true;
  return points_from_batch(std::move(b), info);
}

double island_ground(double x, double y) { return marrowick::ground_utm(x, y); }
double flat_slope(double x, double y) { return 20 + 0.2 * (x - 677300) - 0.1 * (y - 5841900); }

TEST(PointUncertainty, ItsStated95Holds) {
  for (const Ground& ground : {Ground(flat_slope), Ground(island_ground)})
    for (const auto& [density, noise] : {std::pair{1.5, 0.04}, {0.2, 0.05}, {4.0, 0.1}}) {
      Held all;
      for (unsigned seed = 1; seed <= 3; ++seed) {
        const PointCloud cloud = points_over(ground, 110, density, noise, seed);
        const Grid g = grid_points(cloud, {.cell = 1_m, .run = {}}).grids[0];
        all.add(held(with_point_uncertainty(g, cloud), ground));
      }
      EXPECT_GE(all.share(), 0.93) << density << " points, errors " << all.ratio() << " of what is stated";
      EXPECT_LE(all.share(), 0.97) << density << " points, errors " << all.ratio() << " of what is stated";
    }
}

TEST(PointUncertainty, IsTheSameThroughEveryWindowAndNotKnownWherePointsAreFew) {
  const PointCloud cloud = points_over(flat_slope, 60, 2, 0.05, 3);
  const Grid g =
      with_point_uncertainty(grid_points(cloud, {.cell = 1_m, .longest_edge = 30_m, .run = {}}).grids[0], cloud);
  EXPECT_TRUE(g.carries_uncertainty());
  ASSERT_TRUE(g.info().error_reach);
  EXPECT_NEAR(g.info().error_reach->metres(), std::sqrt(0.5), 0.1);
  expect_same_for_every_window(g, 2, 12);
  const Grid counts = grid_points(cloud, {.methods = {{PointMethod::Count}}, .cell = 1_m, .run = {}}).grids[0];
  EXPECT_EQ(error_of([&] { with_point_uncertainty(counts, cloud); }), ErrorCode::BadArgument);
  const PointCloud few = points_over(flat_slope, 60, 0.001, 0.05, 4);
  const Grid sparse =
      with_point_uncertainty(grid_points(few, {.cell = 5_m, .longest_edge = 90_m, .run = {}}).grids[0], few);
  const Block b = sparse.read(sparse.frame().window(), Planes::All);
  for (std::int64_t i = 0; i < b.window().cells(); ++i) EXPECT_TRUE(std::isnan(b.uncertainty_row(0)[i]));
}

}  // namespace
}  // namespace katoptra
