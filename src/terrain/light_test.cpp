// Light: the sun against a tabulated position and what everybody knows of it, and several lights at once.
#include <numbers>

#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/terrain/sight.hpp"
#include "katoptra/terrain/sun.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(Sun, WhereTablesHaveIt) {
  // The worked example of Reda & Andreas 2004: zenith 50.11 degrees, azimuth 194.34.
  const SunPosition a = sun_at("2003-10-17T12:30:30-07:00", -105.1786, 39.742476);
  EXPECT_NEAR(a.altitude.degrees(), 90 - 50.11162, 0.03);
  EXPECT_NEAR(a.azimuth.degrees(), 194.34024, 0.03);
  const SunPosition same = sun_at("2003-10-17T19:30:30Z", -105.1786, 39.742476);
  EXPECT_EQ(a.altitude.degrees(), same.altitude.degrees());
}

// On the days of the solstices the sun is over the tropics, on those of the equinoxes over the equator; the highest of
// a day is in the meridian.
TEST(Sun, SolsticesAndEquinoxes) {
  struct Case {
    const char* date;
    double declination;
  };
  for (const Case& k :
       {Case{"2026-06-21", 23.437}, Case{"2026-12-21", -23.437}, Case{"2026-03-20", 0}, Case{"2000-06-21", 23.438}})
    for (double latitude : {-60.0, -37.55, 0.0, 50.0, 80.0}) {
      double highest = -90, at = 0;
      for (int minute = 0; minute < 1440; ++minute) {
        const std::string time = std::string(k.date) + "T" + (minute / 60 < 10 ? "0" : "") +
                                 std::to_string(minute / 60) + ":" + (minute % 60 < 10 ? "0" : "") +
                                 std::to_string(minute % 60) + "Z";
        const SunPosition s = sun_at(time, -31, latitude);
        if (s.altitude.degrees() > highest) {
          highest = s.altitude.degrees();
          at = s.azimuth.degrees();
        }
      }
      EXPECT_NEAR(highest, 90 - std::abs(latitude - k.declination), k.declination == 0 ? 0.3 : 0.03)
          << k.date << latitude;
      const double off = latitude > k.declination ? std::abs(at - 180) : std::min(at, 360 - at);
      if (std::abs(latitude - k.declination) > 5) {
        EXPECT_LT(off, 2) << k.date << " " << latitude;
      }
    }
}

TEST(Sun, TimesThatAreNone) {
  for (const char* text : {"", "noon", "2026-06-21", "2026-06-21T09:30", "2026-06-21 09:30Z", "2026-13-01T00:00Z",
                           "2026-02-29T00:00Z", "2026-06-21T24:00Z", "2026-06-21T09:60Z", "2026-06-21T09:30ZZ",
                           "2026-06-21T09:30+1:00", "2026-06-21T09:30+15:00", "-026-06-21T09:30Z", "2026-06-2 T09:30Z",
                           "2026-06-21T09:30:61Z", "2026-06-21T-9:30Z"})
    EXPECT_EQ(error_of([&] { sun_at(text, 0, 0); }), ErrorCode::BadArgument) << text;
  EXPECT_NO_THROW(sun_at("2024-02-29T23:59:59+14:00", 0, 0));
}

Grid tilted(const Frame& f, double east, double north) {
  const GroundScale s = GroundRuler(f.crs()).at(f.bounds().centre());
  const Point o = f.bounds().centre();
  return grid_from_function(
      f, [=](double x, double y) { return (x - o.x) * s.x * east + (y - o.y) * s.y * north; }, metres_above_egm2008());
}

TEST(Light, TheSunOverTheGridIsTheLight) {
  // Grid north is 1.2 degrees off true north here; in degrees it is not.
  const Frame utm = utm_frame(9, 9, 1, 676000, 5842000), degrees(Crs::wgs84(), -31, -37.55, {1e-5, 1e-5}, 9, 9);
  const char* time = "2026-11-29T10:00Z";
  for (const Frame& f : {utm, degrees}) {
    const Point place = Transform(f.crs(), Crs::wgs84()).forward(f.bounds().centre());
    const SunPosition sun = sun_at(time, place.x, place.y);
    ASSERT_GT(sun.altitude.degrees(), 20);
    // South of the equator true north lies east of grid north where the place is east of the middle meridian.
    const double convergence =
        f.crs().is_geographic() ? 0 : -(place.x + 33) * std::sin(place.y * std::numbers::pi / 180);
    const Grid g = tilted(f, 0.7, -0.4);
    const Grid a = hillshade(g, {.sun = time});
    for (double off : {0.0, 0.2}) {
      const Grid b = hillshade(
          g, {.azimuth = Angle::degrees(sun.azimuth.degrees() + convergence + off), .altitude = sun.altitude});
      EXPECT_NEAR(value_at(a, 4, 4), value_at(b, 4, 4), 1) << f.crs().label();
    }
    EXPECT_NE(a.info().notes.back().find("the sun stands"), std::string::npos);
  }
  std::string text;
  EXPECT_EQ(error_of([&] { hillshade(tilted(utm, 0, 0), {.sun = "2026-11-29T02:00Z"}); }, &text),
            ErrorCode::BadArgument);
  EXPECT_NE(text.find("below the horizon"), text.npos);
  const Grid nowhere =
      grid_from_values(Frame(Crs(), 0, 0, {1, 1}, 3, 3), std::vector<float>(9, 1), metres_above_egm2008());
  EXPECT_EQ(error_of([&] { hillshade(nowhere, {.sun = time}); }), ErrorCode::Refused);
  const Product& shade = *product_named("hillshade");
  EXPECT_EQ(error_of(
                [&] {
                  shade.make(tilted(utm, 0, 0), shade.settings({{"sun", time}, {"azimuth", "90deg"}}));
                },
                &text),
            ErrorCode::BadArgument);
}

TEST(Light, SeveralAreWeightedByTheWayTheGroundFaces) {
  const double alt = 40 * std::numbers::pi / 180;
  for (const auto& [p, q] : {std::pair{0.0, 0.0}, {0.5, 0.0}, {-0.3, 0.8}, {2.0, -1.5}, {0.001, 0.0}}) {
    double sum = 0, weights = 0;
    for (double turn : {225.0, 270.0, 315.0, 360.0}) {
      const double az = turn * std::numbers::pi / 180, facing = std::atan2(-p, -q);
      const double light =
          (std::sin(alt) - std::cos(alt) * (p * std::sin(az) + q * std::cos(az))) / std::sqrt(1 + p * p + q * q);
      const double weight = p == 0 && q == 0 ? 0.5 : std::pow(std::sin(facing - az), 2);
      sum += weight * std::max(0.0, light);
      weights += weight;
    }
    EXPECT_NEAR(weights, 2, 1e-9);
    const Grid g = hillshade(tilted(utm_frame(9, 9), p, q), {.altitude = 40_deg, .lights = Lights::Several});
    EXPECT_NEAR(value_at(g, 4, 4), 1 + 127 * sum, 1.01) << p << " " << q;
    EXPECT_NEAR(value_at(g, 0, 8), 1 + 127 * sum, 1.01) << p << " " << q;
  }
  const Grid rough = rough_grid(utm_frame(47, 33, 2), 3, 6);
  expect_same_for_every_window(hillshade(rough, {.lights = Lights::Several}), 5, 20);
  const std::vector<float> v = all_values(rough), k = all_values(hillshade(rough, {.lights = Lights::Several}));
  for (std::size_t i = 0; i < v.size(); ++i) ASSERT_EQ(std::isnan(v[i]), std::isnan(k[i])) << i;
  EXPECT_EQ(error_of([] { parse_lights("two"); }), ErrorCode::BadArgument);
}

// A tower of 100 m throws a shadow of 100 / tan(altitude), to where the light goes, on a plane; over many legs and
// tiles.
TEST(Shadows, OfATower) {
  const Frame f = utm_frame(700, 560, 2);
  const Point o = f.centre(600, 500);
  const double s = GroundRuler(f.crs()).at(o).x;
  const Grid g = grid_from_function(
      f, [&](double x, double y) { return std::abs(x - o.x) < 3 && std::abs(y - o.y) < 3 ? 100 : 0; },
      metres_above_egm2008());
  struct Case {
    double azimuth, altitude;
  };
  for (const Case& k : {Case{90, 5}, Case{90, 30}, Case{180, 8}, Case{135, 7}}) {
    const Grid shadow = shadows(g, {.azimuth = Angle::degrees(k.azimuth), .altitude = Angle::degrees(k.altitude)});
    EXPECT_EQ(shadow.quantity().kind, QuantityKind::Shadow);
    const double reach = 100 / std::tan(k.altitude * std::numbers::pi / 180) / s / 2;  // cells
    const double az = k.azimuth * std::numbers::pi / 180;
    const auto at = [&](double far) {
      return value_at(shadow, std::llround(600 - far * std::sin(az)), std::llround(500 + far * std::cos(az)));
    };
    EXPECT_EQ(at(0), 2);
    for (double share : {0.02, 0.3, 0.7, 0.99})
      EXPECT_EQ(at(std::max(4.0, share * reach)), 1) << k.azimuth << " " << share;
    EXPECT_EQ(at(reach + 4), 2) << k.azimuth << " " << k.altitude;
    EXPECT_EQ(at(-6), 2);
    expect_same_for_every_window(shadow, 5, 4);
  }
  // Exaggerated heights throw longer ones.
  const Grid twice = shadows(g, {.azimuth = 90_deg, .altitude = 30_deg, .exaggeration = 2});
  EXPECT_EQ(value_at(twice, 600 - 150, 500), 1);
  EXPECT_EQ(value_at(shadows(g, {.azimuth = 90_deg, .altitude = 30_deg}), 600 - 150, 500), 2);
}

// Each ray walked by itself, in degrees, in feet, and over voids.
TEST(Shadows, AgreeWithEachRayWalked) {
  for (const Frame& f : {utm_frame(61, 47, 2), Frame(Crs::wgs84(), 10, 60, {3e-5, 2e-5}, 61, 47)}) {
    const Grid g = rough_grid(f, 8, 10);
    const Block z = g.read(f.window());
    for (double azimuth : {0.0, 77.0, 200.0, 315.0}) {
      const double altitude = 12;
      const Block made =
          shadows(g, {.azimuth = Angle::degrees(azimuth), .altitude = Angle::degrees(altitude), .exaggeration = 3})
              .read(f.window());
      std::size_t dark = 0;
      for (std::int64_t r = 0; r < f.rows(); ++r)
        for (std::int64_t c = 0; c < f.cols(); ++c) {
          if (std::isnan(z.at(c, r))) {
            ASSERT_TRUE(std::isnan(made.at(c, r)));
            continue;
          }
          const GroundScale s = GroundRuler(f.crs()).at(f.centre(128, static_cast<double>(r)));
          const double x = std::sin(azimuth * std::numbers::pi / 180) / (s.x * f.cell().x),
                       y = -std::cos(azimuth * std::numbers::pi / 180) / (s.y * f.cell().y);
          const double step = 1 / std::max(std::abs(x), std::abs(y));
          double steepest = -1e9;
          for (int k = 1; k < 400; ++k) {
            const double col = static_cast<double>(c) + k * step * x, row = static_cast<double>(r) + k * step * y;
            const auto c0 = static_cast<std::int64_t>(std::floor(col + 1e-6)),
                       r0 = static_cast<std::int64_t>(std::floor(row + 1e-6));
            const double share =
                std::max(0.0, col - static_cast<double>(c0)) + std::max(0.0, row - static_cast<double>(r0));
            const bool down = std::abs(x) >= std::abs(y);
            const auto height = [&](std::int64_t cc, std::int64_t rr) {
              return cc < 0 || rr < 0 || cc >= f.cols() || rr >= f.rows() ? std::nan("")
                                                                          : static_cast<double>(z.at(cc, rr));
            };
            const double a = height(c0, r0), met = share < 1e-6 ? a : a + share * (height(c0 + !down, r0 + down) - a);
            if (!std::isnan(met))
              steepest = std::max(steepest, 3 * (met - static_cast<double>(z.at(c, r))) / (k * step));
          }
          const double limit = std::tan(altitude * std::numbers::pi / 180);
          dark += steepest > limit;
          if (std::abs(steepest - limit) < 1e-4) continue;
          ASSERT_EQ(made.at(c, r), steepest > limit ? 1 : 2) << c << " " << r << " " << azimuth;
        }
      EXPECT_GT(dark, 100u);
      EXPECT_LT(dark, 2500u);
    }
  }
  EXPECT_EQ(error_of([] { shadows(rough_grid(utm_frame(9, 9), 1, 0), {.altitude = 0_deg}); }), ErrorCode::BadArgument);
}

double share_of(const std::vector<float>& shades, float value) {
  return static_cast<double>(std::count(shades.begin(), shades.end(), value)) / static_cast<double>(shades.size());
}

// Whatever the relief: little at the ends of the scale; and relief that needs no help is shaded as it was.
TEST(Light, DoesNotBlowOut) {
  const Frame f = utm_frame(151, 131, 1);
  const Grid hills = rough_grid(f, 12, 0);
  for (double times : {0.01, 1.0, 20.0, 500.0}) {
    for (Lights lights : {Lights::One, Lights::Several})
      for (double altitude : {3.0, 20.0, 45.0, 90.0}) {
        const std::vector<float> k = all_values(
            hillshade(hills, {.altitude = Angle::degrees(altitude), .exaggeration = times, .lights = lights}));
        EXPECT_LE(share_of(k, 1), kMostAtAnEnd) << times << " " << altitude;
        EXPECT_LE(share_of(k, 255), kMostAtAnEnd) << times << " " << altitude;
      }
  }
  // Mixed with shadows under a low sun, or lit by nothing but an open sky.
  const Grid level = tilted(f, 0, 0);
  for (const Light& l : {Light{.altitude = Angle::degrees(0.3), .exaggeration = 5, .shadows = true}, Light{.sky = 1},
                         Light{.altitude = 2_deg, .shadows = true, .sky = 0.2}})
    for (const Grid* g : {&hills, &level}) {
      const std::vector<float> k = all_values(hillshade(*g, l));
      EXPECT_LE(share_of(k, 1), kMostAtAnEnd);
      EXPECT_LE(share_of(k, 255), kMostAtAnEnd);
    }
  // Planes that face the light, or turn away from it altogether.
  for (double rise : {-1.0, 1.0, 3.0}) {
    const std::vector<float> k = all_values(hillshade(tilted(f, rise, 0), {.azimuth = 90_deg}));
    EXPECT_EQ(share_of(k, 1) + share_of(k, 255), 0) << rise;
  }
  const Grid gentle = tilted(f, 0.2, 0.1);
  const double light = (std::sin(std::numbers::pi / 4) - std::cos(std::numbers::pi / 4) * 0.2) / std::sqrt(1.05);
  EXPECT_EQ(value_at(hillshade(gentle, {.azimuth = 90_deg}), 70, 70), std::floor(1.5 + 254 * light));
  // A surface wider than what is looked at: the same in every window.
  expect_same_for_every_window(hillshade(rough_grid(utm_frame(701, 90, 2), 3, 9), {.exaggeration = 30}), 4, 6);
}

TEST(Light, TheExaggerationThatASurfaceNeeds) {
  const Frame f = utm_frame(151, 131, 1);
  for (double rise : {0.006, 0.06, 6.0}) {
    const Grid shade = hillshade(tilted(f, rise, 0), {.exaggeration = kExaggerationOfSurface});
    const Grid same = hillshade(tilted(f, rise, 0), {.exaggeration = 0.6 / rise > 50 ? 50 : 0.6 / rise});
    EXPECT_EQ(value_at(shade, 9, 9), value_at(same, 9, 9)) << rise;
    EXPECT_NE(shade.info().notes.back().find("multiplied by"), std::string::npos);
  }
  EXPECT_EQ(value_at(hillshade(tilted(f, 0.001, 0), {.exaggeration = kExaggerationOfSurface}), 9, 9),
            value_at(hillshade(tilted(f, 0.001, 0), {.exaggeration = 50}), 9, 9));
  const Product& p = *product_named("hillshade");
  EXPECT_EQ(value_at(p.make(tilted(f, 0.06, 0), p.settings({{"exaggerate", "auto"}})), 5, 5),
            value_at(hillshade(tilted(f, 0.6, 0)), 5, 5));
  for (const char* wrong : {"0", "-1", "1e300"})
    EXPECT_EQ(error_of([&] { p.make(tilted(f, 1, 0), p.settings({{"exaggerate", wrong}})); }), ErrorCode::BadArgument);
}

TEST(Light, OfTheSkyAndShadowsMixed) {
  const Grid g = rough_grid(utm_frame(61, 47, 2), 8, 10);
  const Light direct{.altitude = 15_deg, .exaggeration = 3};
  Light mixed = direct, only_sky = direct;
  mixed.sky = 0.4;
  only_sky.sky = 1;
  mixed.sky_radius = only_sky.sky_radius = 30_m;
  mixed.shadows = true;
  const std::vector<float> lit = all_values(hillshade(g, direct)), dark = all_values(shadows(g, direct)),
                           sky = all_values(sky_view(g, {.radius = 30_m, .exaggeration = 3})),
                           all = all_values(hillshade(g, mixed)), soft = all_values(hillshade(g, only_sky));
  for (std::size_t i = 0; i < lit.size(); ++i) {
    ASSERT_EQ(std::isnan(lit[i]), std::isnan(all[i]));
    if (std::isnan(lit[i])) continue;
    const double own = (static_cast<double>(lit[i]) - 1) / 254 / (dark[i] == 1 ? 3 : 1);
    const double least = lit[i] > 1 ? 2 : 1;
    ASSERT_NEAR(static_cast<double>(all[i]),
                std::max(least, 1 + 254 * (0.6 * own + 0.4 * 0.95 * static_cast<double>(sky[i]))), 0.51);
    ASSERT_NEAR(static_cast<double>(soft[i]), 1 + 254 * 0.95 * static_cast<double>(sky[i]), 0.51);
  }
  expect_same_for_every_window(hillshade(g, mixed), 5, 20);
  Light wrong = direct;
  for (double share : {-0.1, 1.1, std::nan("")}) {
    wrong.sky = share;
    EXPECT_EQ(error_of([&] { hillshade(g, wrong); }), ErrorCode::BadArgument);
  }
  const Product& p = *product_named("hillshade");
  EXPECT_EQ(error_of([&] { p.make(g, p.settings({{"radius", "20m"}})); }), ErrorCode::BadArgument);
}

}  // namespace
}  // namespace katoptra
