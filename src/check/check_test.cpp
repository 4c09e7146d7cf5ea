// Each flaw is planted alone and must be named, with its place; the clean twin must raise nothing.
#include "katoptra/check/check.hpp"

#include <algorithm>

#include "katoptra/check/despike.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "check_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

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
  EXPECT_EQ(found(r, "degrees")->severity, Severity::Note);
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

// On ground that is flat but for it, a spike was taken for the measure of the noise, and was not found.
TEST(Check, ASpikeOnDeadFlatGroundIsFound) {
  const Frame f = utm_frame(48, 40);
  std::vector<float> lake(48 * 40, 50);
  lake[8 * 48 + 8] = 59;
  lake[24 * 48 + 31] = 48.5F;
  const Grid g = grid_of(f, lake);
  const CheckReport r = check(g);
  ASSERT_TRUE(found(r, "spike"));
  EXPECT_NEAR(*found(r, "spike")->measure, 9, 1e-6);
  EXPECT_EQ(found(r, "spike")->place.size(), 2u);
  const std::vector<float> mended = all_values(without_spikes(g, spike_rule(g)));
  EXPECT_EQ(std::count_if(mended.begin(), mended.end(), [](float z) { return std::isnan(z); }), 2);
  EXPECT_TRUE(std::isnan(mended[8 * 48 + 8]) && std::isnan(mended[24 * 48 + 31]));
  EXPECT_FALSE(found(check(grid_of(f, std::vector<float>(48 * 40, 50))), "spike"));
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
  ASSERT_EQ(findings.size(), 2u);
  EXPECT_EQ(findings[0].code, "mixed-units");
  EXPECT_EQ(findings[1].code, "offset");
  EXPECT_NEAR(*findings[1].measure, -0.18, 0.005);
  EXPECT_TRUE(check_overlaps({a, a}).empty());
}

// Each way in which two surveys can disagree is told by its name.
TEST(Check, OverlapsTellWhatKindOfMistakeItIs) {
  const Frame f = utm_frame(260, 240, 2);
  const Grid a = relabelled(grid_of(f, hills(f, 30)), [](GridInfo& i) { i.name = "a"; });
  auto second = [&](auto change, const Frame& frame) {
    auto v = hills(f, 31);
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        float& z = v[static_cast<std::size_t>(r * f.cols() + c)];
        z = static_cast<float>(change(static_cast<double>(z), static_cast<double>(c)));
      }
    return relabelled(grid_of(frame, v), [](GridInfo& i) { i.name = "b"; });
  };
  auto codes = [&](const Grid& b) {
    std::string all;
    for (const Finding& k : check_overlaps({a, b})) all += (all.empty() ? "" : " ") + k.code;
    return all;
  };
  auto same = [](double z, double) { return z; };
  EXPECT_EQ(codes(second(same, f)), "");
  EXPECT_EQ(codes(second([](double z, double) { return z / 0.3048; }, f)), "unit");
  EXPECT_EQ(codes(second([](double z, double) { return -z; }, f)), "sign");
  EXPECT_EQ(codes(second([](double z, double c) { return z + 14 + 0.001 * c; }, f)), "datum");
  EXPECT_EQ(codes(second([](double z, double c) { return z + 0.002 * c; }, f)), "tilt");
  EXPECT_EQ(codes(second([](double z, double) { return z - 0.1; }, f)), "offset");
  const Frame moved(f.crs(), f.west() + 1, f.north() - 1, f.cell(), f.cols(), f.rows());
  const auto findings = check_overlaps({a, second(same, moved)});
  ASSERT_EQ(findings.size(), 1u);
  EXPECT_EQ(findings[0].code, "shift");
  EXPECT_EQ(findings[0].file, "b");
  EXPECT_NEAR(*findings[0].measure, std::hypot(0.5, 0.5), 0.02);
  EXPECT_NE(findings[0].message.find("half a cell"), std::string::npos) << findings[0].message;
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

// Every flaw at once, so that every detector has something to say.
Grid wrecked(unsigned seed) {
  const Frame f = utm_frame(700, 610);
  auto v = hills(f, seed);
  auto at = [&](std::int64_t c, std::int64_t r) -> float& { return v[static_cast<std::size_t>(r * 700 + c)]; };
  at(60, 60) += 20;
  for (std::int64_t c = 0; c < 700; ++c) at(c, 90) += 0.5f;
  for (std::int64_t r = 0; r < 610; ++r)
    for (std::int64_t c = 400; c < 700; ++c) at(c, r) += 0.4f;
  for (std::int64_t r = 300; r < 350; ++r)
    for (std::int64_t c = 100; c < 150; ++c) at(c, r) = 42;
  for (std::int64_t r = 400; r < 430; ++r)
    for (std::int64_t c = 100; c < 140; ++c)
      at(c, r) = 30 + 0.1f * static_cast<float>(c) + 0.05f * static_cast<float>(r);
  for (std::int64_t r = 500; r < 510; ++r)
    for (std::int64_t c = 300; c < 320; ++c) at(c, r) = kVoid;
  return grid_of(f, v);
}

std::string messages(const CheckReport& r) {
  std::string all;
  for (const Finding& f : r.findings) all += f.code + ": " + f.message + "\n";
  return all;
}

TEST(Check, SameForEveryBandHeight) {
  const Grid g = wrecked(11);
  const CheckReport expected = check(g, {.run = {.threads = 1}});
  for (const char* code : {"spike", "stripe", "step", "flat", "plane", "voids"})
    EXPECT_TRUE(found(expected, code)) << code;
  for (int block : {1, 2, 7, 64}) {
    const CheckReport got = check(g, {.run = {.threads = 3, .block = block}});
    ASSERT_EQ(messages(got), messages(expected)) << "block " << block;
    for (std::size_t i = 0; i < got.findings.size(); ++i) {
      EXPECT_EQ(got.findings[i].measure, expected.findings[i].measure);
    }
    EXPECT_EQ(got.statistics.mean, expected.statistics.mean);
    EXPECT_EQ(got.statistics.deviation, expected.statistics.deviation);
  }
}

TEST(Check, ASpikeOfThreeByThreeAndPitsBesideVoidsAndEdges) {
  const Frame f = utm_frame(300, 260);
  auto v = hills(f, 21);
  auto at = [&](std::int64_t c, std::int64_t r) -> float& { return v[static_cast<std::size_t>(r * 300 + c)]; };
  for (std::int64_t j = 0; j < 3; ++j)
    for (std::int64_t i = 0; i < 3; ++i) at(150 + i, 120 + j) += 3;
  at(0, 40) -= 4;
  for (std::int64_t c = 200; c < 210; ++c) at(c, 200) = kVoid;
  at(205, 201) -= 4;
  const CheckReport r = check(grid_of(f, v));
  ASSERT_TRUE(found(r, "spike"));
  for (const Point p : {f.centre(151, 121), f.centre(0, 40), f.centre(205, 201)})
    EXPECT_TRUE(contains(found(r, "spike")->place, p)) << p.x << " " << p.y;
  EXPECT_FALSE(found(r, "stripe"));
}

TEST(Check, ABroadStripeAStepAndARippleAreToldApart) {
  const Frame f = utm_frame(600, 560);
  auto with = [&](auto change) {
    auto v = hills(f, 22);
    for (std::int64_t r = 0; r < 560; ++r)
      for (std::int64_t c = 0; c < 600; ++c)
        v[static_cast<std::size_t>(r * 600 + c)] += static_cast<float>(change(c, r));
    return check(grid_of(f, v));
  };
  CheckReport r = with([](std::int64_t, std::int64_t row) { return row >= 200 && row < 212 ? 0.3 : 0; });
  ASSERT_TRUE(found(r, "stripe"));
  EXPECT_NE(found(r, "stripe")->message.find("12 rows"), std::string::npos) << found(r, "stripe")->message;
  EXPECT_FALSE(found(r, "step"));
  r = with([](std::int64_t c, std::int64_t) { return c > 310 ? -0.25 : 0; });
  ASSERT_TRUE(found(r, "step"));
  EXPECT_NEAR(*found(r, "step")->measure, -0.25, 0.03);
  EXPECT_FALSE(found(r, "stripe"));
  r = with([](std::int64_t, std::int64_t row) { return 0.04 * std::sin(2 * M_PI * static_cast<double>(row) / 6.5); });
  ASSERT_TRUE(found(r, "ripple"));
  EXPECT_NEAR(*found(r, "ripple")->measure, 0.04, 0.006);
  EXPECT_NE(found(r, "ripple")->message.find("every 6."), std::string::npos) << found(r, "ripple")->message;
}

TEST(Check, CoarseStepsLongTrianglesAndFlats) {
  const Frame f = utm_frame(300, 300);
  auto v = hills(f, 23);
  for (float& z : v) z = std::round(z);
  EXPECT_EQ(found(check(grid_of(f, v)), "terraces")->measure, 1);
  v = hills(f, 23);
  for (std::int64_t r = 100; r < 150; ++r)
    for (std::int64_t c = 100; c < 150; ++c)
      v[static_cast<std::size_t>(r * 300 + c)] = 50 + 0.2f * static_cast<float>(c) - 0.1f * static_cast<float>(r);
  CheckReport r = check(grid_of(f, v));
  ASSERT_TRUE(found(r, "plane"));
  EXPECT_NEAR(*found(r, "plane")->measure, 48 * std::sqrt(2.0), 1);
  EXPECT_FALSE(found(r, "flat"));
  for (std::int64_t row = 100; row < 150; ++row)
    for (std::int64_t c = 100; c < 150; ++c) v[static_cast<std::size_t>(row * 300 + c)] = 12.5f;
  r = check(grid_of(f, v));
  ASSERT_TRUE(found(r, "flat"));
  EXPECT_NE(found(r, "flat")->message.find("2500 cells at height 12.5"), std::string::npos);
  EXPECT_FALSE(found(r, "plane"));
}

TEST(Check, ValuesThatStandForNothingAreFoundAndLeftOut) {
  const Frame f = utm_frame(200, 200);
  auto v = hills(f, 24);
  v[5050] = v[5051] = v[9050] = -9999;
  v[12345] = 3e38f;
  const CheckReport r = check(grid_of(f, v));
  std::vector<double> values;
  for (const Finding& k : r.findings)
    if (k.code == "undeclared-void") values.push_back(*k.measure);
  EXPECT_EQ(values, (std::vector<double>{-9999, static_cast<double>(3e38f)}));
  EXPECT_EQ(found(r, "voids")->measure, 4);
  EXPECT_FALSE(found(r, "spike"));
  EXPECT_GT(r.statistics.lowest, 0);
  Quantity sea = metres_above_egm2008();
  sea.surface = SurfaceKind::SeaFloor;
  EXPECT_TRUE(found(check(grid_of(f, hills(f, 24), sea)), "sign"));
}

TEST(Check, WaterDoesNotRunUphill) {
  const Frame f = utm_frame(120, 60);
  std::vector<float> v;
  for (std::int64_t r = 0; r < 60; ++r)
    for (std::int64_t c = 0; c < 120; ++c) v.push_back(static_cast<float>(30 - 0.05 * static_cast<double>(c)));
  // Drawn against the water: that makes no difference.
  const Layer stream{
      .name = "stream",
      .crs = f.crs(),
      .features = {{LineString{f.centre(119, 30), f.centre(0, 30)}, {{"name", std::string("Annet")}}, {}}}};
  EXPECT_FALSE(found(check(grid_of(f, v), {.streams = &stream}), "uphill"));
  for (std::int64_t r = 0; r < 60; ++r)
    for (std::int64_t c = 60; c < 64; ++c) v[static_cast<std::size_t>(r * 120 + c)] += 2;
  const CheckReport r = check(grid_of(f, v), {.streams = &stream});
  ASSERT_TRUE(found(r, "uphill"));
  EXPECT_NEAR(*found(r, "uphill")->measure, 1.95, 0.25);  // of heights smoothed along the line
  EXPECT_NE(found(r, "uphill")->message.find("Annet"), std::string::npos);
  EXPECT_TRUE(contains(found(r, "uphill")->place, f.centre(61, 30)));
}

TEST(Check, ProfilesAndThresholds) {
  const Frame f = utm_frame(300, 260);
  auto v = hills(f, 25);
  v[100 * 300 + 77] += 2;
  auto finds = [&](const Thresholds& t) { return found(check(grid_of(f, v), {.thresholds = t}), "spike") != nullptr; };
  EXPECT_FALSE(finds(Thresholds::of(Profile::Quick)));
  EXPECT_TRUE(finds(Thresholds::of(Profile::Survey)));
  Thresholds t;
  t.set("spike", "10ft");
  EXPECT_FALSE(finds(t));
  EXPECT_EQ(error_of([&] { t.set("spike", "many"); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { t.set("spiky", "1m"); }), ErrorCode::BadArgument);
  // The plain struct is the survey profile, and the table is all of it.
  for (const ThresholdInfo& i : threshold_table()) {
    EXPECT_EQ(threshold_value(Thresholds(), i), i.survey) << i.name;
    EXPECT_EQ(threshold_value(Thresholds::of(Profile::Navigation), i), i.navigation) << i.name;
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
        2 * kQuantileError * 50);
  EXPECT_EQ(
      g.at(static_cast<std::int64_t>(f.col_at(s.highest_at.x)), static_cast<std::int64_t>(f.row_at(s.highest_at.y))),
      v.back());
  EXPECT_TRUE(std::isnan(statistics(grid_from_values(utm_frame(2, 2), std::vector<float>(4, kVoid))).mean));
}

// What a surface states of itself is judged where it carries it.
TEST(Check, UncertaintiesThatAreMissingImpossibleOrTooSmall) {
  const Frame f = utm_frame(150, 130);
  const Grid g = grid_of(f, hills(f, 4, 0.05));
  const auto judged = [&](const Grid& with) { return check(with, {.run = {}}); };
  for (const char* code : {"unsure", "uncertainty", "too-sure"}) {
    EXPECT_EQ(found(judged(g), code), nullptr) << code;
    EXPECT_EQ(found(judged(with_uncertainty(g, {.constant = 0.05_m})), code), nullptr) << code;
  }
  const CheckReport bold = judged(with_uncertainty(g, {.constant = 0.01_m}));
  ASSERT_TRUE(found(bold, "too-sure"));
  EXPECT_NEAR(*found(bold, "too-sure")->measure, 5, 0.4);
  EXPECT_EQ(found(bold, "too-sure")->severity, Severity::Warning);
  std::vector<float> u(150 * 130, 0.05f);
  for (std::size_t i = 0; i < 200; ++i) u[i] = kVoid;
  u[5000] = 0;
  u[9 * 150 + 7] = 400;
  const CheckReport odd = judged(with_uncertainty(g, grid_of(f, u, uncertainty_of(g.quantity()))));
  ASSERT_TRUE(found(odd, "unsure") && found(odd, "uncertainty"));
  EXPECT_EQ(*found(odd, "unsure")->measure, 200);
  std::string all;
  for (const Finding& x : odd.findings) all += x.message + "\n";
  EXPECT_NE(all.find("1 cell states an uncertainty of zero"), std::string::npos) << all;
  EXPECT_NE(all.find("states an uncertainty of 400 m at"), std::string::npos) << all;
  // The same for every band and thread count.
  for (const int threads : {1, 3}) {
    RunOptions run{.threads = threads, .block = 11};
    const CheckReport again = check(with_uncertainty(g, {.constant = 0.01_m}), {.run = run});
    EXPECT_EQ(*found(again, "too-sure")->measure, *found(bold, "too-sure")->measure);
  }
}

}  // namespace
}  // namespace katoptra
