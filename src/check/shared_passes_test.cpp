// Passes over a whole grid that several processes share: each ends with what one alone would have.
#include <algorithm>
#include <fmt/format.h>

#include "katoptra/check/check.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "played_ranks.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::string told(const CheckReport& r) {
  std::string text;
  for (const Finding& f : r.findings)
    text += fmt::format("{} {} {} {} {}\n", f.code, f.message, f.measure.value_or(-1), f.unit, f.place.size());
  return text;
}

// Passes over the whole: every process ends with the same, whoever looked at which band.
TEST(SharedPasses, ALookAtTheWholeIsSharedAndToldToAll) {
  std::mt19937 random(8);
  for (int i = 0; i < 12; ++i) {
    const Grid g = rough_grid(
        utm_frame(1 + static_cast<std::int64_t>(random() % 300), 1 + static_cast<std::int64_t>(random() % 400)),
        static_cast<unsigned>(i), i % 2 ? 25 : 0);
    RunOptions run{.threads = 1 + i % 3, .memory = std::size_t{1} << (18 + i % 4)};
    const VoidMap voids = find_voids(g, run);
    const Statistics s = statistics(g, run);
    for (const bool first : {true, false}) {
      PlayedRanks ranks(first);
      run.threads = 4 - run.threads;
      const VoidMap again = find_voids(g, run);
      EXPECT_EQ(again.row_begin, voids.row_begin);
      EXPECT_EQ(again.cells, voids.cells);
      ASSERT_EQ(again.runs.size(), voids.runs.size());
      for (std::size_t k = 0; k < voids.runs.size(); ++k) {
        EXPECT_EQ(again.runs[k].first, voids.runs[k].first);
        EXPECT_EQ(again.runs[k].last, voids.runs[k].last);
        EXPECT_EQ(again.runs[k].region, voids.runs[k].region);
      }
      ASSERT_EQ(again.regions.size(), voids.regions.size());
      const Statistics t = statistics(g, run);
      EXPECT_EQ(ranks.runs, 2);
      const auto same = [](double a, double b) { return a == b || (std::isnan(a) && std::isnan(b)); };
      EXPECT_TRUE(same(t.mean, s.mean) && same(t.deviation, s.deviation) && same(t.lowest, s.lowest) &&
                  same(t.highest, s.highest));
      EXPECT_EQ(t.voids, s.voids);
      EXPECT_EQ(t.sketch.packed(), s.sketch.packed());
      for (int k = 0; k < 7; ++k) EXPECT_TRUE(same(t.percentiles[k], s.percentiles[k]));
      EXPECT_TRUE(same(t.lowest_at.x, s.lowest_at.x) && same(t.highest_at.y, s.highest_at.y));
    }
  }
}

// A check of flawed ground: what each detector found in a band arrives whole.
TEST(SharedPasses, AJudgementIsSharedAndToldToAll) {
  const Frame f = utm_frame(700, 640);
  std::mt19937 random(3);
  std::normal_distribution<double> noise(0, 0.02);
  std::vector<float> v;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      double z =
          100 + 12 * std::sin(static_cast<double>(c) / 60) + 9 * std::cos(static_cast<double>(r) / 45) + noise(random);
      if (r % 40 == 7) z += 0.4;                                      // stripes
      if (3 * r + c > 1500) z += 0.7;                                 // an oblique step
      if (r > 500 && c > 500) z = 90 + std::round(z - 90);            // terraces
      if (r > 200 && r < 260 && c > 100 && c < 180) z = 97.5;         // something flat
      if (r > 300 && r < 340 && c > 80 && c < 130) z = std::nan("");  // a void
      if (r % 111 == 50 && c % 97 == 20) z += 30;                     // spikes
      v.push_back(static_cast<float>(z));
    }
  const Grid ground = grid_from_values(f, v, metres_above_egm2008());
  const Grid joined = mosaic({relabelled(ground, [](GridInfo& i) { i.sources[0].date = "2024-01-01"; }),
                              relabelled(scaled(cut(rough_grid(f, 2, 0), {0, 0, 900, 640}), 1, 0.9, [](GridInfo&) {}),
                                         [](GridInfo& i) { i.sources[0].date = "2020-01-01"; })});
  const Grid sure = with_uncertainty(joined, UncertaintyModel{.constant = Length::metres(0.001)});
  const Area area = Area::box(f.bounds(), f.crs());
  for (const Grid& g : {ground, joined, sure}) {
    RunOptions run{.threads = 2, .memory = 1 << 20};
    const CheckOptions options{.area = &area, .thresholds = {}, .run = run};
    const CheckReport alone = check(g, options);
    EXPECT_GE(alone.findings.size(), 6u);
    for (const bool first : {true, false}) {
      PlayedRanks ranks(first);
      const CheckReport shared = check(g, options);
      EXPECT_GT(ranks.runs, 0);
      EXPECT_EQ(told(shared), told(alone));
      EXPECT_EQ(shared.statistics.sketch.packed(), alone.statistics.sketch.packed());
      EXPECT_EQ(shared.statistics.mean, alone.statistics.mean);
    }
  }
}

}  // namespace
}  // namespace katoptra
