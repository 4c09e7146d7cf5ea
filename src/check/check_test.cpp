// Each flaw is planted alone and must be named, with its place; the clean twin must raise nothing.
#include "katoptra/check/check.hpp"

#include <algorithm>
#include <random>

#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::vector<float> hills(const Frame& f, unsigned seed, double noise = 0.03) {
  std::mt19937 random(seed);
  std::normal_distribution<double> jitter(0, noise);
  std::vector<float> v;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      v.push_back(static_cast<float>(60 + 25 * std::sin(p.x / 47) * std::cos(p.y / 61) +
                                     8 * std::sin((p.x + p.y) / 19) + jitter(random)));
    }
  return v;
}

Grid grid_of(const Frame& f, std::vector<float> v, const Quantity& q = metres_above_egm2008()) {
  return grid_from_values(f, std::move(v), q);
}

const Finding* found(const CheckReport& r, const std::string& code) {
  for (const Finding& f : r.findings)
    if (f.code == code) return &f;
  return nullptr;
}

TEST(Check, CleanGroundRaisesNothing) {
  for (unsigned seed = 1; seed <= 10; ++seed) {
    const CheckReport r = check(grid_of(utm_frame(300, 260), hills(utm_frame(300, 260), seed)));
    EXPECT_TRUE(r.findings.empty()) << "seed " << seed << ": " << r.findings[0].code << " " << r.findings[0].message;
    EXPECT_FALSE(r.failed());
  }
}

TEST(Check, MissingReferences) {
  const Frame f = utm_frame(50, 50);
  Quantity bare;
  const CheckReport r = check(grid_of(f.with_crs(Crs()), hills(f, 1), bare));
  EXPECT_EQ(found(r, "no-crs")->severity, Severity::Failure);
  EXPECT_EQ(found(r, "no-heights")->severity, Severity::Warning);
  EXPECT_EQ(found(r, "no-unit")->severity, Severity::Warning);
  EXPECT_TRUE(r.failed());
}

TEST(Check, DegreesAndMercatorAreNotForMeasuring) {
  const Frame degrees(Crs::wgs84(), -31, -37.5, {1.0 / 3600, 1.0 / 3600}, 50, 50);
  const CheckReport r = check(grid_of(degrees, std::vector<float>(2500, 5)));
  EXPECT_EQ(found(r, "degrees")->severity, Severity::Warning);
  EXPECT_FALSE(r.failed());
  const Point web = Transform(Crs::wgs84(), Crs::parse("EPSG:3857")).forward({-31, -60});
  const CheckReport m =
      check(grid_of(Frame(Crs::parse("EPSG:3857"), web.x, web.y, {10, 10}, 50, 50), std::vector<float>(2500, 5)));
  ASSERT_TRUE(found(m, "mercator"));
  EXPECT_NEAR(*found(m, "mercator")->measure, 2, 0.01);
}

TEST(Check, ASpikeIsPlaced) {
  const Frame f = utm_frame(300, 260);
  for (double off : {35.0, -12.0, 10.0}) {
    auto v = hills(f, 2);
    v[100 * 300 + 77] += static_cast<float>(off);
    const CheckReport r = check(grid_of(f, v));
    ASSERT_TRUE(found(r, "spike")) << off;
    EXPECT_NEAR(*found(r, "spike")->measure, off, 1.5);
    EXPECT_TRUE(contains(found(r, "spike")->place, f.centre(77, 100)));
    EXPECT_EQ(r.findings.size(), 1u) << "a spike is no stripe: " << r.findings.back().message;
  }
}

TEST(Check, AScarpIsNoSpike) {
  const Frame f = utm_frame(200, 200);
  auto v = hills(f, 3);
  for (std::int64_t r = 0; r < 200; ++r)
    for (std::int64_t c = 100 + r / 4; c < 200; ++c) v[static_cast<std::size_t>(r * 200 + c)] += 20;
  EXPECT_FALSE(found(check(grid_of(f, v)), "spike"));
}

TEST(Check, StripesWithTheirPeriod) {
  const Frame f = utm_frame(300, 260);
  auto v = hills(f, 4);
  for (std::int64_t r = 20; r < 260; r += 40)
    for (std::int64_t c = 0; c < 300; ++c) v[static_cast<std::size_t>(r * 300 + c)] += 0.3f;
  const CheckReport r = check(grid_of(f, v));
  ASSERT_TRUE(found(r, "stripe"));
  EXPECT_NE(found(r, "stripe")->message.find("6 rows"), std::string::npos) << found(r, "stripe")->message;
  EXPECT_NE(found(r, "stripe")->message.find("every 40"), std::string::npos);
  EXPECT_NEAR(*found(r, "stripe")->measure, 0.3, 0.05);
  auto w = hills(f, 5);
  for (std::int64_t row = 0; row < 260; ++row) w[static_cast<std::size_t>(row * 300 + 150)] -= 0.4f;
  const CheckReport c = check(grid_of(f, w));
  ASSERT_TRUE(found(c, "stripe"));
  EXPECT_NE(found(c, "stripe")->message.find("1 column stands"), std::string::npos) << found(c, "stripe")->message;
}

TEST(Check, NearestNeighbourLeavesItsMark) {
  const Frame coarse(Crs::wgs84(), -31, -37.5, {1.0 / 3600, 1.0 / 3600}, 120, 120);
  std::vector<float> v;
  for (int i = 0; i < 120 * 120; ++i)
    v.push_back(static_cast<float>(100 + 30 * std::sin(i % 120 / 9.0) + 20 * std::cos(i / 120 / 7.0)));
  const Grid g = grid_of(coarse, v);
  const Frame fine = frame_for(coarse, Crs::parse("EPSG:32725"), {.cell = 15_m});
  EXPECT_TRUE(found(check(reproject(g, fine, Resampling::Nearest)), "repeated"));
  EXPECT_FALSE(found(check(reproject(g, fine, Resampling::Cubic)), "repeated"));
}

TEST(Check, FlatWaterIsNoFlaw) {
  const Frame f = utm_frame(200, 200);
  auto v = hills(f, 6);
  for (std::int64_t r = 60; r < 140; ++r)
    for (std::int64_t c = 0; c < 200; ++c) v[static_cast<std::size_t>(r * 200 + c)] = 0;
  EXPECT_FALSE(found(check(grid_of(f, v)), "spike"));
}

TEST(Check, ASeamBetweenSourcesIsMeasured) {
  const Frame fa = utm_frame(150, 150), fb = utm_frame(150, 150, 1, 676150);
  auto named = [](const Grid& g, const char* name) {
    return relabelled(g, [&](GridInfo& i) { i.sources[0].name = name; });
  };
  auto vb = hills(fb, 8);
  const Grid a = named(grid_of(fa, hills(fa, 7)), "a"), same = named(grid_of(fb, vb), "b");
  for (float& z : vb) z += 0.18f;
  const Grid offset = named(grid_of(fb, vb), "b");
  const MosaicOptions given{.prefer = {Preference::Given}};
  EXPECT_FALSE(found(check(mosaic({a, same}, given)), "seam"));
  const CheckReport r = check(mosaic({a, offset}, given));
  ASSERT_TRUE(found(r, "seam"));
  EXPECT_NEAR(*found(r, "seam")->measure, 0.18, 0.04);
  EXPECT_NE(found(r, "seam")->message.find("from a to b"), std::string::npos);
}

TEST(Check, OverlapsOfTilesAndSurveys) {
  const Frame f = utm_frame(150, 150);
  auto v = hills(f, 9);
  const Grid a = relabelled(grid_of(f, v), [](GridInfo& i) { i.name = "new"; });
  for (float& z : v) z = (z + 0.18f) / 0.3048f;
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid b = relabelled(grid_of(f, v, feet), [](GridInfo& i) { i.name = "old"; });
  const auto findings = check_overlaps({a, b});
  ASSERT_EQ(findings.size(), 1u);
  EXPECT_EQ(findings[0].code, "offset");
  EXPECT_NEAR(*findings[0].measure, -0.18, 0.005);
  EXPECT_TRUE(check_overlaps({a, a}).empty());
}

TEST(Check, CoverageAndVoids) {
  const Frame f = utm_frame(100, 100);
  auto v = hills(f, 10);
  for (std::int64_t r = 40; r < 50; ++r)
    for (std::int64_t c = 40; c < 45; ++c) v[static_cast<std::size_t>(r * 100 + c)] = kVoid;
  const Area inside = Area::box({676010, 5841920, 676090, 5841990}, f.crs()),
             beyond = Area::box({676050, 5841950, 676150, 5841990}, f.crs());
  CheckReport r = check(grid_of(f, v), {.area = &inside});
  EXPECT_EQ(*found(r, "voids")->measure, 50);
  EXPECT_NEAR(*found(r, "coverage")->measure, 1 - 50.0 / 5600, 1e-12);
  EXPECT_EQ(found(r, "coverage")->severity, Severity::Failure);
  r = check(grid_of(f, hills(f, 10)), {.area = &beyond});
  EXPECT_NEAR(*found(r, "coverage")->measure, 0.5, 1e-12);
  EXPECT_NEAR(planar_area(found(r, "coverage")->place), 50 * 40, 1e-6);
  r = check(grid_of(f, hills(f, 10)), {.area = &inside});
  EXPECT_EQ(found(r, "coverage")->severity, Severity::Note);
  EXPECT_FALSE(r.failed());
}

TEST(Check, SameForEveryBandHeight) {
  const Frame f = utm_frame(120, 130);
  auto v = hills(f, 11);
  v[60 * 120 + 60] += 20;
  for (std::int64_t c = 0; c < 120; ++c) v[static_cast<std::size_t>(90 * 120 + c)] += 0.5f;
  const Grid g = grid_of(f, v);
  const CheckReport expected = check(g, {.run = {.threads = 1}});
  for (int block : {1, 2, 7, 64}) {
    const CheckReport got = check(g, {.run = {.threads = 3, .block = block}});
    ASSERT_EQ(got.findings.size(), expected.findings.size());
    for (std::size_t i = 0; i < got.findings.size(); ++i)
      EXPECT_EQ(got.findings[i].message, expected.findings[i].message);
  }
}

TEST(Check, FindingsHaveAPlaceOnTheGlobe) {
  const Frame f = utm_frame(100, 100);
  auto v = hills(f, 12);
  v[50 * 100 + 50] = kVoid;
  const Layer l = finding_layer(check(grid_of(f, v)).findings);
  ASSERT_EQ(l.features.size(), 1u);
  const Bounds b = bounds_of(std::get<MultiPolygon>(l.features[0].geometry));
  EXPECT_NEAR(b.west, -31.007, 0.001);
  EXPECT_NEAR(b.width(), 1.0 / 88000, 2e-6);
}

TEST(Statistics, AgreeWithAPlainLoop) {
  const Frame f = utm_frame(211, 173);
  const Grid g = rough_grid(f, 13, 9);
  auto v = all_values(g);
  std::erase_if(v, [](float z) { return std::isnan(z); });
  std::sort(v.begin(), v.end());
  double sum = 0, squares = 0;
  for (float z : v) sum += static_cast<double>(z);
  const double mean = sum / static_cast<double>(v.size());
  for (float z : v) squares += std::pow(static_cast<double>(z) - mean, 2);
  const Statistics s = statistics(g, {.threads = 2, .block = 7});
  EXPECT_EQ(s.cells - s.voids, static_cast<std::int64_t>(v.size()));
  EXPECT_EQ(s.lowest, static_cast<double>(v.front()));
  EXPECT_EQ(s.highest, static_cast<double>(v.back()));
  EXPECT_NEAR(s.mean, mean, 1e-9 * mean);
  EXPECT_NEAR(s.deviation, std::sqrt(squares / static_cast<double>(v.size())), 1e-9 * mean);
  for (int i = 0; i < 7; ++i)
    EXPECT_NEAR(
        s.percentiles[i],
        static_cast<double>(v[static_cast<std::size_t>(kPercents[i] / 100 * static_cast<double>(v.size() - 1))]),
        kQuantileError * 150);
  EXPECT_EQ(
      g.at(static_cast<std::int64_t>(f.col_at(s.highest_at.x)), static_cast<std::int64_t>(f.row_at(s.highest_at.y))),
      v.back());
  EXPECT_TRUE(std::isnan(statistics(grid_from_values(utm_frame(2, 2), std::vector<float>(4, kVoid))).mean));
}

}  // namespace
}  // namespace katoptra
