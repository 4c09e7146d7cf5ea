// Corrections are exact, lazy and on record.
#include "katoptra/surface/correct.hpp"

#include "katoptra/check/check.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/check/despike.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(Correct, MovingResamplesNothing) {
  const Grid g = rough_grid(utm_frame(60, 50), 1);
  const Grid m = corrected(g, {.shift = {0.37, -1.2}});
  EXPECT_NEAR(m.frame().west(), g.frame().west() + 0.37, 1e-9);
  EXPECT_NEAR(m.frame().north(), g.frame().north() - 1.2, 1e-9);
  const auto a = all_values(g), b = all_values(m);
  for (std::size_t i = 0; i < a.size(); ++i) EXPECT_TRUE(same_bits(a[i], b[i]));
  EXPECT_NE(m.info().sources[0].treatment.find("moved by 0.37"), std::string::npos) << m.info().sources[0].treatment;
}

TEST(Correct, OffsetFactorAndTilt) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Frame f = utm_frame(101, 101);
  const Grid g = grid_from_values(f, std::vector<float>(101 * 101, 100), feet);
  EXPECT_NEAR(static_cast<double>(corrected(g, {.offset = 0.3048_m}).at(3, 3)), 101, 1e-5);
  EXPECT_NEAR(static_cast<double>(corrected(g, {.factor = 0.3048}).at(3, 3)), 30.48, 1e-5);
  const Grid t = corrected(g, {.tilt_x = 1e-2, .tilt_y = -2e-2, .pivot = f.centre(50, 50)});
  EXPECT_NEAR(static_cast<double>(t.at(50, 50)), 100, 1e-5);
  // Fifty metres east and fifty north, in feet of height; the scale of UTM is 0.99996 here.
  EXPECT_NEAR(static_cast<double>(t.at(100, 50)), 100 + 0.5 / 0.3048, 1e-3);
  EXPECT_NEAR(static_cast<double>(t.at(50, 0)), 100 - 1 / 0.3048, 1e-3);
  expect_same_for_every_window(t, 2);
  EXPECT_EQ(error_of([&] { corrected(g, {}); }), ErrorCode::BadArgument);
  Quantity slope;
  slope.kind = QuantityKind::Slope;
  EXPECT_EQ(error_of([&] { corrected(grid_from_values(f, std::vector<float>(101 * 101, 1), slope), {.factor = 2}); }),
            ErrorCode::BadArgument);
}

TEST(Correct, WholeOffsetsKeepIntegers) {
  const Grid g =
      grid_from_values(utm_frame(10, 10), std::vector<float>(100, 7), metres_above_egm2008(), SampleType::Int16);
  EXPECT_EQ(corrected(g, {.offset = 3_m}).info().type, SampleType::Int16);
  EXPECT_EQ(corrected(g, {.offset = Length::metres(-0.18)}).info().type, SampleType::Float32);
}

TEST(Correct, ShiftsOfAnotherCrsAreTurnedIntoTheGridsOwn) {
  const Frame f = utm_frame(100, 100);
  const Transform globe(f.crs(), Crs::wgs84());
  const Point mid = f.bounds().centre(), there = globe.forward(mid), moved = globe.forward({mid.x + 5, mid.y - 3});
  const Grid m = corrected(rough_grid(f, 3), {.shift = {moved.x - there.x, moved.y - there.y}, .crs = Crs::wgs84()});
  EXPECT_NEAR(m.frame().west(), f.west() + 5, 1e-3);
  EXPECT_NEAR(m.frame().north(), f.north() - 3, 1e-3);
}

// Counter-clockwise on the ground, also where a degree of longitude is shorter than one of latitude.
TEST(Correct, TurningIsARotationOnTheGround) {
  for (const bool degrees : {false, true}) {
    const Frame f = degrees ? Frame(Crs::wgs84(), -31.01, -37.5, {1e-4, 1e-4}, 140, 120) : utm_frame(140, 120);
    const Point m = f.bounds().centre();
    const GroundScale s = GroundRuler(f.crs()).at(m);
    // In metres about the middle.
    const auto ground = [&](double x, double y) {
      const double e = (x - m.x) * s.x, n = (y - m.y) * s.y, wide = f.cell().x * s.x;
      return 50 + 9 * std::sin(e / (9 * wide)) * std::cos(n / (11 * wide)) + 0.01 * e / wide;
    };
    const Grid g = grid_from_function(f, ground, metres_above_egm2008());
    const Angle by = Angle::degrees(17);
    const Grid t = corrected(g, {.rotation = by, .pivot = m});
    EXPECT_TRUE(t.frame().window_of(f).has_value()) << "on the same lattice";
    const Block b = t.read(t.frame().window());
    std::int64_t seen = 0;
    for (std::int64_t r = 0; r < t.frame().rows(); ++r)
      for (std::int64_t c = 0; c < t.frame().cols(); ++c) {
        const Point p = t.frame().centre(static_cast<double>(c), static_cast<double>(r));
        const double e = (p.x - m.x) * s.x, n = (p.y - m.y) * s.y;
        // Where it was before it was turned.
        const double e0 = std::cos(by.radians()) * e + std::sin(by.radians()) * n,
                     n0 = -std::sin(by.radians()) * e + std::cos(by.radians()) * n;
        const bool inside = std::abs(e0) < 65 * f.cell().x * s.x && std::abs(n0) < 55 * f.cell().y * s.y;
        if (!inside) continue;
        ASSERT_NEAR(static_cast<double>(b.at(c, r)), ground(m.x + e0 / s.x, m.y + n0 / s.y), 5e-3) << degrees;
        ++seen;
      }
    EXPECT_GT(seen, 12'000);
    expect_same_for_every_window(t, 5);
    EXPECT_NE(t.info().sources[0].treatment.find("turned by +17 degrees"), std::string::npos);
  }
}

TEST(Correct, ARotationThatWasFoundIsTakenOut) {
  const Frame f = utm_frame(300, 260);
  const auto ground = [](double x, double y) {
    return 60 + 14 * std::sin(x / 31) * std::cos(y / 27) + 3 * std::sin((x + y) / 13);
  };
  const Grid right = grid_from_function(f, ground, metres_above_egm2008());
  const Correction wrong{.offset = 0.4_m, .rotation = Angle::degrees(-0.3), .pivot = f.bounds().centre()};
  const Grid turned = corrected(right, wrong);
  const Comparison c = compare(right, turned, {.rotation = true, .run = {}});
  ASSERT_TRUE(c.coregistration && c.coregistration->found) << c.coregistration->why;
  EXPECT_NEAR(c.coregistration->rotation.degrees(), 0.3, 2e-3);
  EXPECT_NEAR(c.coregistration->offset.metres(), -0.4, 2e-3);
  const Comparison after = compare(right, corrected_second(c, turned), {.coregister = false, .run = {}});
  EXPECT_LT(after.overall.q95, 0.02);
  EXPECT_GT(c.overall.q95, 0.4);
}

TEST(Correct, SpikesBecomeVoidsWhereCheckFindsThem) {
  const Frame f = utm_frame(150, 140);
  auto v = all_values(rough_grid(f, 4, 3));
  for (float& z : v) z = std::isnan(z) ? z : 100 + (z - 100) / 50;  // gentle, noise of a centimetre
  const std::size_t at[] = {20 * 150 + 30, 75 * 150 + 90, 139 * 150 + 60};
  for (std::size_t i : at) v[i] += 6;
  const Grid g = grid_from_values(f, v, metres_above_egm2008());
  const CheckReport r = check(g);
  std::size_t spikes = 0;
  for (const Finding& k : r.findings)
    if (k.code == "spike") spikes = k.place.size();
  const Grid clean = without_spikes(g, spike_rule(g));
  const auto after = all_values(clean);
  std::size_t made = 0;
  for (std::size_t i = 0; i < v.size(); ++i) made += std::isnan(after[i]) && !std::isnan(v[i]);
  EXPECT_EQ(made, spikes);
  for (std::size_t i : at) EXPECT_TRUE(std::isnan(after[i])) << i;
  EXPECT_NE(clean.info().sources[0].treatment.find("spikes"), std::string::npos);
  expect_same_for_every_window(clean, 5);
}

}  // namespace
}  // namespace katoptra
