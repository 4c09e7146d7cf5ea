#include "correlation.hpp"

#include <gtest/gtest.h>
#include <vector>

#include "sureness.hpp"

namespace katoptra {
namespace {

using namespace testing;

ErrorModel model_of(double reach, std::int64_t edge, unsigned seed) {
  const std::vector<double> noise = noise_of_reach(edge, edge, reach, seed);
  Variogram v;
  v.add(std::vector<float>(noise.begin(), noise.end()), edge, edge);
  return v.fit();
}

// What counts as one cell is what the variance of means says, by simulation.
TEST(Correlation, TheVarianceOfAMeanIsWhatItsModelSays) {
  for (const double reach : {0.0, 2.0, 6.0, 15.0}) {
    constexpr std::int64_t kEdge = 128;
    constexpr int kTrials = 60;
    double squares = 0, stated = 0;
    for (unsigned t = 0; t < kTrials; ++t) {
      const std::vector<double> noise = noise_of_reach(kEdge, kEdge, reach, t + 1);
      double mean = 0;
      for (double n : noise) mean += n / static_cast<double>(noise.size());
      squares += mean * mean / kTrials;
      Variogram v;
      v.add(std::vector<float>(noise.begin(), noise.end()), kEdge, kEdge);
      const ErrorModel m = v.fit();
      stated += m.variance() * m.alike(kEdge) / static_cast<double>(noise.size()) / kTrials;
    }
    EXPECT_NEAR(std::sqrt(stated / squares), 1, 0.25) << reach;
  }
}

TEST(Correlation, NoiseFromCellToCellIsIndependent) {
  for (unsigned seed = 1; seed <= 30; ++seed) EXPECT_EQ(model_of(0, 160, seed).alike(160), 1) << seed;
}

TEST(Correlation, TheReachComesBack) {
  for (const double reach : {3.0, 10.0, 25.0}) EXPECT_NEAR(model_of(reach, 400, 5).reach / reach, 1, 0.2) << reach;
}

TEST(Correlation, OfNothingNothingIsKnown) {
  Variogram none;
  EXPECT_EQ(none.fit().variance(), 0);
  EXPECT_EQ(none.fit().alike(100), 1);
  none.add(std::vector<float>(100, NAN), 10, 10);
  EXPECT_EQ(none.fit().variance(), 0);
  Variogram level;
  level.add(std::vector<float>(2500, 3.5f), 50, 50);
  EXPECT_EQ(level.fit().variance(), 0) << "what all have in common does not count";
}

TEST(Correlation, FewValuesWidenTheInterval) {
  EXPECT_NEAR(two_sided_95(1e9), 1.960, 1e-3);
  EXPECT_NEAR(two_sided_95(30), 2.042, 2e-3);
  EXPECT_NEAR(two_sided_95(5), 2.571, 0.02);
}

}  // namespace
}  // namespace katoptra
