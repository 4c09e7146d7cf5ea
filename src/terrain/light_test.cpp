// Light: the sun against a tabulated position and what everybody knows of it, and several lights at once.
#include <numbers>

#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/products.hpp"
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

}  // namespace
}  // namespace katoptra
