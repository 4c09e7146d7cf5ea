// Comparisons against plain loops over the same cells, and against shifts, tilts and volumes that are known.
#include "katoptra/check/compare.hpp"

#include <algorithm>
#include <random>

#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/correct.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "check/sectors.hpp"
#include "sureness.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

double rolling(double x, double y) {
  return 120 + 22 * std::sin(x / 71) * std::cos(y / 83) + 9 * std::sin((x + 2 * y) / 47) + 5 * std::cos((x - y) / 29);
}

// Ground of metres about the corner of a frame, moved and tilted; noise of its own.
Grid survey(const Frame& f, Point moved, double offset, Point tilt, unsigned seed, double noise = 0.03,
            const Quantity& q = metres_above_egm2008()) {
  std::mt19937 random(seed);
  std::normal_distribution<double> jitter(0, noise);
  const Point mid = f.bounds().centre();
  std::vector<float> v;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      const double z = rolling(p.x - 676000 - moved.x, p.y - 5842000 - moved.y) + offset + tilt.x * (p.x - mid.x) +
                       tilt.y * (p.y - mid.y) + jitter(random);
      v.push_back(static_cast<float>(z / metres_per(q.unit)));
    }
  return grid_from_values(f, std::move(v), q, SampleType::Float32, "survey");
}

TEST(Compare, StatisticsAreThoseOfAPlainLoop) {
  const Frame f = utm_frame(211, 173);
  const Grid a = rough_grid(f, 1, 9), b = rough_grid(f, 2, 5);
  const Comparison c = compare(a, b, {.coregister = false, .run = {.threads = 2, .block = 7}});
  const auto va = all_values(a), vb = all_values(b);
  std::vector<double> d;
  double above = 0, below = 0;
  for (std::size_t i = 0; i < va.size(); ++i) {
    const double x = static_cast<double>(static_cast<float>(static_cast<double>(va[i]) - static_cast<double>(vb[i])));
    if (std::isnan(x)) continue;
    d.push_back(x);
    (x > 0 ? above : below) += std::abs(x);
  }
  const ErrorStatistics e = error_statistics(d);
  EXPECT_EQ(c.overall.count, e.count);
  EXPECT_NEAR(c.overall.mean, e.mean, 1e-12);
  EXPECT_NEAR(c.overall.deviation, e.deviation, 1e-9 * e.deviation);
  EXPECT_NEAR(c.overall.rmse, e.rmse, 1e-9 * e.rmse);
  EXPECT_EQ(c.overall.lowest, e.lowest);
  EXPECT_EQ(c.overall.highest, e.highest);
  for (auto [got, expected] : {std::pair{c.overall.median, e.median}, std::pair{c.overall.nmad, e.nmad},
                               std::pair{c.overall.q683, e.q683}, std::pair{c.overall.q95, e.q95}})
    EXPECT_NEAR(got, expected, 2 * kQuantileError * (1 + std::abs(expected)));
  // A cell of UTM here is 0.9999 square metres or so.
  const GroundSpacing s = ground_spacing(f);
  const double cell = s.x.metres() * s.y.metres();
  EXPECT_NEAR(c.volume.above, above * cell, 1e-6 * above);
  EXPECT_NEAR(c.volume.below, below * cell, 1e-6 * below);
  EXPECT_NEAR(c.volume.area, static_cast<double>(e.count) * cell, 1);
  // Every kind of class holds each cell once, except that flat ground has no aspect.
  std::map<std::string, std::int64_t> cells;
  for (const DifferenceClass& k : c.classes) cells[k.of] += k.statistics.count;
  EXPECT_EQ(cells["slope"], e.count);
  EXPECT_LE(cells["aspect"], e.count);
  EXPECT_GT(cells["aspect"], e.count * 99 / 100);
  EXPECT_EQ(cells.count("lineage"), 0u);
  // The worst place is where the largest difference is.
  EXPECT_EQ(std::abs(c.worst[0].difference), std::max(std::abs(e.lowest), std::abs(e.highest)));
  const Point w = c.worst[0].place;
  EXPECT_EQ(static_cast<double>(
                c.difference.at(static_cast<std::int64_t>(f.col_at(w.x)), static_cast<std::int64_t>(f.row_at(w.y)))),
            c.worst[0].difference);
}

TEST(Compare, SameBitsForEveryBandAndThread) {
  const Frame f = utm_frame(130, 141);
  const Grid a = rough_grid(f, 3), b = rough_grid(f, 4);
  const Comparison expected = compare(a, b, {.run = {.threads = 1}});
  for (int block : {1, 5, 33}) {
    const Comparison c = compare(a, b, {.run = {.threads = 3, .block = block}});
    EXPECT_EQ(c.overall.mean, expected.overall.mean);
    EXPECT_EQ(c.overall.deviation, expected.overall.deviation);
    EXPECT_EQ(c.overall.nmad, expected.overall.nmad);
    EXPECT_EQ(c.volume.above, expected.volume.above);
    EXPECT_EQ(c.volume.uncertainty, expected.volume.uncertainty);
    ASSERT_EQ(c.classes.size(), expected.classes.size());
    for (std::size_t i = 0; i < c.classes.size(); ++i)
      EXPECT_EQ(c.classes[i].statistics.mean, expected.classes[i].statistics.mean);
    ASSERT_EQ(c.worst.size(), expected.worst.size());
    for (std::size_t i = 0; i < c.worst.size(); ++i) EXPECT_EQ(c.worst[i].place, expected.worst[i].place);
  }
  expect_same_for_every_window(expected.difference, 5);
}

TEST(Compare, UnitsReferencesAndFramesAreBroughtTogether) {
  const Frame f = utm_frame(240, 200), coarse = utm_frame(80, 70, 3);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid a = survey(f, {}, 0, {}, 1, 0), b = survey(coarse, {}, 0.5, {}, 2, 0, feet);
  const Comparison c = compare(a, b, {.coregister = false});
  EXPECT_EQ(c.frame.cell().x, 3) << "the coarser cells";
  EXPECT_EQ(c.difference.quantity().unit, LengthUnit::Metre);
  EXPECT_NEAR(c.overall.median, -0.5, 0.01);
  EXPECT_EQ(c.notes.size(), 2u);
  // Turned round, it is in feet and of the other sign.
  const Comparison t = compare(b, a, {.coregister = false});
  EXPECT_NEAR(t.overall.median, 0.5 / 0.3048, 0.03);
  Quantity unknown = metres_above_egm2008();
  unknown.heights = {};
  EXPECT_EQ(error_of([&] { compare(a, survey(f, {}, 0, {}, 3, 0, unknown)); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { compare(a, survey(utm_frame(50, 50, 1, 700000), {}, 0, {}, 3)); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { compare(a, relabelled(a, [](GridInfo& i) { i.frame = i.frame.with_crs(Crs()); })); }),
            ErrorCode::Refused);
}

TEST(Compare, ShiftAndTiltAreRecovered) {
  const Frame f = utm_frame(300, 280);
  for (const Point moved : {Point{0.5, 0}, Point{-0.37, 0.81}, Point{3.2, -1.7}, Point{0, 0}}) {
    // The second survey shows everything `moved`, too high and tilted.
    const Grid a = survey(f, {}, 0, {}, 10), b = survey(f, moved, 0.4, {2e-4, -1e-4}, 11);
    const Comparison c = compare(a, b);
    ASSERT_TRUE(c.coregistration && c.coregistration->found) << c.coregistration->why;
    EXPECT_NEAR(c.coregistration->cells_x, -moved.x, 0.02);
    EXPECT_NEAR(c.coregistration->cells_y, -moved.y, 0.02);
    // What it says of its error is no less than it is (it was thirty times too sure).
    EXPECT_LE(std::hypot(c.coregistration->cells_x + moved.x, c.coregistration->cells_y + moved.y),
              3 * c.coregistration->shift_error.metres());
    EXPECT_LT(c.coregistration->shift_error.metres(), 0.05);
    EXPECT_NEAR(c.coregistration->tilt_x, -2e-4, 1e-5);
    EXPECT_NEAR(c.coregistration->tilt_y, 1e-4, 1e-5);
    EXPECT_NEAR(c.coregistration->offset.metres(), -0.4, 0.01);
    // Taken out, nothing but noise is left.
    const Comparison after = compare(a, corrected_second(c, b));
    EXPECT_NEAR(after.overall.median, 0, 0.003);
    EXPECT_LT(after.overall.nmad, 0.05);
    EXPECT_LT(std::hypot(after.coregistration->cells_x, after.coregistration->cells_y), 0.02);
  }
}

TEST(Compare, ShiftsAreFoundBetweenDegreesAndMetres) {
  const Frame f = utm_frame(300, 280);
  const Grid a = survey(f, {}, 0, {}, 12);
  // The same ground drawn in degrees, a metre and a half too far east.
  const Transform to_globe(f.crs(), Crs::wgs84());
  const Bounds box = transformed(f.bounds(), to_globe);
  const Frame degrees(Crs::wgs84(), box.west, box.north, {1.3e-5, 1.1e-5},
                      static_cast<std::int64_t>(box.width() / 1.3e-5),
                      static_cast<std::int64_t>(box.height() / 1.1e-5));
  const Grid b = grid_from_function(
      degrees,
      [&](double x, double y) {
        const Point p = to_globe.inverse({x, y});
        return rolling(p.x - 676000 - 1.5, p.y - 5842000);
      },
      metres_above_egm2008(), "degrees");
  const Comparison c = compare(a, b);
  ASSERT_TRUE(c.coregistration->found) << c.coregistration->why;
  // The cells of the comparison are those in degrees; grid north is 1.2 degrees off true north here.
  const double convergence = 2 * std::sin(37.55 * M_PI / 180) * M_PI / 180;
  EXPECT_NEAR(c.coregistration->east.metres(), -1.5 * std::cos(convergence), 0.005);
  EXPECT_NEAR(c.coregistration->north.metres(), -1.5 * std::sin(convergence), 0.005);
  EXPECT_NEAR(compare(a, corrected_second(c, b)).overall.nmad, 0.03, 0.01);
}

// The spread that the shift starts from was told as 2.032 below a table that said 0.371.
TEST(Compare, TheShiftStartsFromTheSpreadOfTheTable) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Frame f = utm_frame(300, 280), fine = utm_frame(900, 840, 1.0 / 3), coarse = utm_frame(100, 93, 3);
  const Area part = Area::box({676050, 5841800, 676170, 5841930}, f.crs());
  const Grid a = survey(f, {}, 0, {}, 20, 0.1), beside = survey(f, {0.3, 0}, 0.2, {}, 21, 0.5);
  const std::vector<std::tuple<Grid, Grid, const Area*>> pairs{
      {a, beside, nullptr},
      {a, beside, &part},
      {a, survey(fine, {}, 0, {}, 22, 1.5), nullptr},
      {survey(fine, {}, 0, {}, 22, 1.5), a, nullptr},
      {a, survey(coarse, {}, 0, {}, 23, 0.4), nullptr},
      {a, survey(f, {}, 0, {}, 24, 0.4, feet), nullptr},
      {survey(f, {}, 0, {}, 24, 0.4, feet), a, nullptr},
      {a, survey(utm_frame(300, 280, 1, 676000.37, 5842000.61), {}, 0, {}, 25, 0.4), nullptr},
  };
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const auto& [first, second, area] = pairs[i];
    const Comparison c = compare(first, second, {.area = area});
    const double table = c.overall.nmad * metres_per(c.difference.quantity().unit);
    EXPECT_NEAR(c.coregistration->nmad_before.metres() / table, 1, 0.04) << i;
  }
}

// Only a strip along the diagonal is in both, and one end of it is rough: a handful of blocks spoke for it all.
TEST(Compare, AShiftRestsOnEnoughOfAStrip) {
  const Frame f = utm_frame(2100, 2000);
  const Grid whole = survey(f, {}, 0, {}, 30);
  auto v = all_values(survey(f, {0.4, 0}, 0, {}, 31));
  std::mt19937 random(32);
  std::normal_distribution<double> rough(0, 2);
  std::int64_t known = 0;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      float& z = v[static_cast<std::size_t>(r * f.cols() + c)];
      if (std::abs(r - c) >= 30) {
        z = kVoid;
      } else {
        if (c < 700) z += static_cast<float>(rough(random));
        ++known;
      }
    }
  const Grid strip = grid_from_values(f, v, metres_above_egm2008());
  const Coregistration c = coregister(whole, strip, {.cells = 200'000});
  ASSERT_TRUE(c.found) << c.why;
  EXPECT_GT(c.cells, known / 3);
  EXPECT_NEAR(c.cells_x, -0.4, 0.02);
  EXPECT_NEAR(c.cells_y, 0, 0.02);
  EXPECT_NEAR(c.nmad_before.metres() / compare(whole, strip, {.coregister = false}).overall.nmad, 1, 0.1);
}

TEST(Compare, FlatGroundTellsNoShift) {
  const Frame f = utm_frame(200, 200);
  std::mt19937 random(1);
  std::normal_distribution<double> jitter(0, 0.03);
  auto flat = [&] {
    std::vector<float> v;
    for (int i = 0; i < 200 * 200; ++i) v.push_back(static_cast<float>(5 + jitter(random)));
    return grid_from_values(f, v, metres_above_egm2008());
  };
  const Grid a = flat(), b = flat();
  const Comparison c = compare(a, b);
  EXPECT_FALSE(c.coregistration->found);
  EXPECT_FALSE(c.coregistration->why.empty());
  EXPECT_EQ(error_of([&] { corrected_second(c, b); }), ErrorCode::BadArgument);
}

// Errors that go together over many cells are neither many observations nor change (bench/changes.cpp has 200 trials).
TEST(Compare, VolumesAndShiftsHoldWhereErrorsGoTogether) {
  const Frame f(Crs::parse("EPSG:32725"), 677300, 5841900, {1, 1}, 200, 200);
  const auto hilly = [](double x, double y) {
    return 40 + 12 * std::sin((x - 677000) / 31) * std::cos((y - 5841000) / 47) + 3 * std::sin((x + y) / 13);
  };
  for (const double reach : {0.0, 4.0, 10.0}) {
    constexpr int kTrials = 30;
    int volume = 0, east = 0, offset = 0;
    for (unsigned t = 0; t < kTrials; ++t) {
      const Grid a = measured(f, hilly, 0.05, Length::metres(reach), 2 * t + 1),
                 b = measured(f, hilly, 0.08, Length::metres(reach), 2 * t + 2);
      const Comparison c = compare(a, b);
      volume += std::abs(c.volume.net()) <= c.volume.uncertainty;
      ASSERT_TRUE(c.coregistration && c.coregistration->found);
      const Coregistration& s = *c.coregistration;
      east += std::abs(s.east.metres()) <= kTwoSided95 * s.east_error.metres();
      offset += std::abs(s.offset.metres()) <= kTwoSided95 * s.offset_error.metres();
    }
    for (const int held : {volume, east, offset}) EXPECT_GE(held, 24) << reach << ": " << volume << east << offset;
    EXPECT_LE(volume + east + offset, 3 * kTrials - 1) << "errors are not merely stated large";
  }
}

TEST(Compare, VolumeAndItsUncertainty) {
  const Frame f = utm_frame(160, 160);
  // Thirty independent pairs: the stated 95 % must hold about as often as it says.
  int inside = 0;
  for (unsigned i = 0; i < 30; ++i) {
    const Comparison c = compare(survey(f, {}, 0, {}, 100 + i), survey(f, {}, 0, {}, 200 + i), {.coregister = false});
    inside += std::abs(c.volume.net()) <= c.volume.uncertainty;
    EXPECT_NEAR(c.volume.uncertainty, 1.96 * 160 * 0.03 * std::sqrt(2.0), 9);
  }
  EXPECT_GE(inside, 25);
  // Ten metres by ten, two metres high.
  auto v = all_values(survey(f, {}, 0, {}, 300, 0));
  for (std::int64_t r = 100; r < 110; ++r)
    for (std::int64_t c = 50; c < 60; ++c) v[static_cast<std::size_t>(r * 160 + c)] += 2;
  const Grid dug = grid_from_values(f, v, metres_above_egm2008());
  const Comparison c = compare(dug, survey(f, {}, 0, {}, 301),
                               {.uncertainty_first = Length(), .uncertainty_second = 0.03_m, .coregister = false});
  ASSERT_TRUE(c.detection);
  EXPECT_NEAR(c.detection->level, 1.96 * 0.03, 1e-12);
  // Five in a hundred cells of noise lie beyond it, too.
  EXPECT_NEAR(c.detection->share, 0.05, 0.01);
  const Area pit = Area::box({676045, 5841885, 676065, 5841905}, f.crs());
  const Comparison in = compare(dug, survey(f, {}, 0, {}, 301), {.area = &pit, .coregister = false});
  EXPECT_EQ(in.overall.count, 400);
  EXPECT_NEAR(in.volume.net(), 200, 1);
}

TEST(Compare, UncertaintyByPlace) {
  const Frame f = utm_frame(160, 120);
  // Raised by 0.2 m everywhere; the first is known to 0.01 m in the west, to 0.5 ft in the east, to nothing in the
  // north.
  auto v = all_values(survey(f, {}, 0, {}, 400, 0));
  for (float& z : v) z += 0.2f;
  const Grid raised = grid_from_values(f, v, metres_above_egm2008());
  std::vector<float> u;
  for (std::int64_t r = 0; r < 120; ++r)
    for (std::int64_t c = 0; c < 160; ++c)
      u.push_back(r < 20 ? kVoid : static_cast<float>((c < 64 ? 0.01 : 0.5 * 0.3048) / 0.3048));
  const Quantity feet{.kind = QuantityKind::Uncertainty, .unit = LengthUnit::Foot, .unit_known = true};
  const Comparison c = compare(raised, survey(f, {}, 0, {}, 400, 0),
                               {.uncertainty_first = grid_from_values(f, u, feet),
                                .uncertainty_second = 0.02_m,
                                .coregister = false,
                                .run = {.threads = 2, .block = 7}});
  ASSERT_TRUE(c.detection);
  EXPECT_EQ(c.detection->known, 160 * 100);
  EXPECT_EQ(c.detection->cells, 64 * 100);
  EXPECT_DOUBLE_EQ(c.detection->share, 0.4);
  EXPECT_NEAR(c.detection->lowest, 1.96 * std::hypot(0.01, 0.02), 1e-6);
  EXPECT_NEAR(c.detection->highest, 1.96 * std::hypot(0.1524, 0.02), 1e-6);
  EXPECT_NEAR(c.detection->level, 1.96 * std::sqrt(0.02 * 0.02 + 0.4 * 0.01 * 0.01 + 0.6 * 0.1524 * 0.1524), 1e-6);
  EXPECT_NEAR(c.detection->volume.net(), 64 * 100 * 0.2, 64 * 100 * 1e-3);
  // On other cells: brought to those of the comparison.
  const Comparison other =
      compare(raised, survey(f, {}, 0, {}, 400, 0),
              {.uncertainty_first = grid_from_function(
                   utm_frame(40, 30, 4), [](double, double) { return 0.05; }, {.kind = QuantityKind::Uncertainty}, "u"),
               .coregister = false});
  ASSERT_TRUE(other.detection);
  EXPECT_EQ(other.detection->cells, 160 * 120);
  EXPECT_NEAR(other.detection->level, 1.96 * 0.05, 1e-6);
  EXPECT_EQ(error_of([&] {
              compare(raised, raised, {.uncertainty_first = grid_from_values(f, u, {.kind = QuantityKind::Aspect})});
            }),
            ErrorCode::BadArgument);
  EXPECT_FALSE(compare(raised, raised, {.uncertainty_first = Length(), .coregister = false}).detection);
}

TEST(Compare, LandSeaAndLineageAreToldApart) {
  const Frame fa = utm_frame(100, 100), fb = utm_frame(100, 100, 1, 676050);
  auto named = [](const Grid& g, const char* n) { return relabelled(g, [&](GridInfo& i) { i.sources[0].name = n; }); };
  const Grid m = mosaic({named(survey(fa, {}, -120, {}, 1), "west"), named(survey(fb, {}, -120, {}, 2), "east")},
                        {.prefer = {Preference::Given}, .feather = 10_m});
  const Comparison c = compare(m, survey(utm_frame(150, 100), {}, -120, {}, 3, 0), {.coregister = false});
  std::map<std::string, std::int64_t> cells;
  for (const DifferenceClass& k : c.classes) cells[k.of + " " + k.name] = k.statistics.count;
  EXPECT_GT(cells["level land"], 1000);
  EXPECT_EQ(cells["level land"] + cells["level sea"], c.overall.count);
  EXPECT_EQ(cells["lineage measured"] + cells["lineage blended"], c.overall.count);
  EXPECT_GT(cells["lineage blended"], 500);
}

// Wider than the pieces in which rows are gone through; sea begins and ends within them, and a strip is of another way.
TEST(Compare, ClassesAreThoseOfAPlainLoop) {
  const Frame f = utm_frame(1301, 37);
  const auto heights = all_values(rough_grid(f, 11, 40));
  auto strip = [&](std::int64_t from, std::int64_t cols, const char* name) {
    std::vector<float> v;
    for (std::int64_t r = 0; r < f.rows(); ++r)
      v.insert(v.end(), heights.begin() + r * f.cols() + from, heights.begin() + r * f.cols() + from + cols);
    const Grid g = grid_from_values(f.sub({from, 0, cols, f.rows()}), v, metres_above_egm2008());
    return relabelled(g, [&](GridInfo& i) { i.sources[0].name = name; });
  };
  const Grid a = mosaic({strip(0, 700, "west"), strip(600, 701, "east")},
                        {.prefer = {Preference::Given}, .feather = 40_m}),
             b = rough_grid(f, 12, 3);
  const double sea = static_cast<double>(heights[600 + 18 * 1301]);  // about in the middle
  const auto slopes = all_values(slope(a)), aspects = all_values(aspect(a)), va = all_values(a), vb = all_values(b);
  const Block origins = a.read(f.window(), Planes::ValuesAndOrigin);
  const std::vector<double> bounds{2, 5, 10, 20, 30};
  std::map<std::string, std::vector<double>> expected;
  for (std::size_t i = 0; i < va.size(); ++i) {
    const auto d = static_cast<float>(static_cast<double>(va[i]) - static_cast<double>(vb[i]));
    if (std::isnan(d)) continue;
    const auto put = [&](const std::string& k) { expected[k].push_back(static_cast<double>(d)); };
    if (!std::isnan(slopes[i])) {
      const auto k =
          std::count_if(bounds.begin(), bounds.end(), [&](double x) { return static_cast<double>(slopes[i]) >= x; });
      put("slope " + std::to_string(k));
    }
    if (!std::isnan(aspects[i])) put(fmt::format("aspect {}", sector_name(sector_of(static_cast<double>(aspects[i])))));
    put(static_cast<double>(va[i]) < sea ? "level sea" : "level land");
    put(fmt::format("lineage {}", name_of(how_of(origins.origin_row(0)[i]))));
  }
  for (int block : {1, 4, 64}) {
    std::vector<Angle> angles;
    for (double x : bounds) angles.push_back(Angle::degrees(x));
    const Comparison c = compare(a, b,
                                 {.slope_bounds = angles,
                                  .sea_level = Length::metres(sea),
                                  .coregister = false,
                                  .run = {.threads = 2, .block = block}});
    std::size_t slope_class = 0, met = 0;
    for (const DifferenceClass& k : c.classes) {
      std::string name = k.of + " " + k.name;
      if (k.of == "slope") name = "slope " + std::to_string(slope_class++);
      ASSERT_TRUE(expected.count(name)) << name;
      const ErrorStatistics e = error_statistics(expected[name]);
      ++met;
      EXPECT_EQ(k.statistics.count, e.count) << name;
      EXPECT_NEAR(k.statistics.mean, e.mean, 1e-9) << name;
      EXPECT_NEAR(k.statistics.deviation, e.deviation, 1e-9 * (1 + e.deviation)) << name;
      EXPECT_EQ(k.statistics.lowest, e.lowest) << name;
      EXPECT_EQ(k.statistics.highest, e.highest) << name;
      EXPECT_NEAR(k.statistics.median, e.median, (1 + std::abs(e.median)) / 100) << name;
    }
    EXPECT_EQ(met, expected.size());
    EXPECT_GT(met, 14u);
  }
}

// Of whole metres: ground that is flat, or rises along a row, a column or a diagonal alone.
TEST(Compare, AspectsOfWholeMetresAreThoseOfTheProduct) {
  const Frame f = utm_frame(700, 60);
  std::mt19937 random(5);
  std::vector<float> z;
  for (std::int64_t i = 0; i < f.window().cells(); ++i) z.push_back(static_cast<float>(random() % 3));
  const Grid a = grid_from_values(f, z, metres_above_egm2008());
  std::map<std::string, std::int64_t> expected;
  for (const float degrees : all_values(aspect(a)))
    if (!std::isnan(degrees)) ++expected[sector_name(sector_of(static_cast<double>(degrees)))];
  EXPECT_EQ(expected.size(), 8u);
  const Comparison c = compare(a, a, {.coregister = false});
  std::int64_t of_an_aspect = 0, met = 0;
  for (const DifferenceClass& k : c.classes)
    if (k.of == "aspect") {
      EXPECT_EQ(k.statistics.count, expected[k.name]) << k.name;
      of_an_aspect += k.statistics.count;
      ++met;
    }
  EXPECT_EQ(met, 8);
  EXPECT_LT(of_an_aspect, c.overall.count) << "flat ground has none";
}

TEST(Compare, TheOddOneOut) {
  const Frame f = utm_frame(150, 150);
  std::vector<Grid> all;
  for (unsigned i = 0; i < 4; ++i)
    all.push_back(relabelled(survey(f, {}, i == 2 ? 0.3 : 0.01 * i, {}, i),
                             [&](GridInfo& g) { g.name = "s" + std::to_string(i); }));
  auto s = odd_one_out(all);
  ASSERT_EQ(s.size(), 4u);
  for (std::size_t i = 0; i < 4; ++i) EXPECT_EQ(s[i].odd, i == 2) << s[i].offset.metres();
  EXPECT_NEAR(s[2].offset.metres(), 0.28, 0.02);
  EXPECT_NEAR(s[0].spread.metres(), 0.03 * std::sqrt(2.0), 0.005);
  all.erase(all.begin());
  s = odd_one_out(all);
  EXPECT_TRUE(s[1].odd) << "of three, two that agree have the say";
  EXPECT_FALSE(s[0].odd || s[2].odd);
  EXPECT_EQ(error_of([&] { odd_one_out({all[0], all[1]}); }), ErrorCode::BadArgument);
}

TEST(ErrorStatistics, ByHand) {
  const ErrorStatistics e = error_statistics({0.1, -0.1, 0.3, std::nan(""), 0.2, 10});
  EXPECT_EQ(e.count, 5);
  EXPECT_NEAR(e.mean, 2.1, 1e-12);
  EXPECT_EQ(e.median, 0.2);
  EXPECT_NEAR(e.nmad, 1.4826 * 0.1, 1e-12);
  EXPECT_NEAR(e.rmse, std::sqrt((0.01 + 0.01 + 0.09 + 0.04 + 100) / 5), 1e-12);
  // 0.1 0.1 0.2 0.3 10: rank 2.732 and 3.8.
  EXPECT_NEAR(e.q683, 0.2 + 0.1 * 0.732, 1e-12);
  EXPECT_NEAR(e.q95, 0.3 + 9.7 * 0.8, 1e-12);
  EXPECT_TRUE(std::isnan(error_statistics({}).mean));
  EXPECT_TRUE(std::isnan(error_statistics({1}).deviation));
}

}  // namespace
}  // namespace katoptra
