// Lines of another system lie where that system says, and their numbers are those of the lines.
#include "graticule.hpp"

#include <cmath>

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(Graticules, StepsAreRoundInDegreesMinutesAndSeconds) {
  EXPECT_EQ(degree_step(100, 4), 30);
  EXPECT_EQ(degree_step(4, 4), 1);
  EXPECT_DOUBLE_EQ(degree_step(1, 4) * 60, 20);
  EXPECT_DOUBLE_EQ(degree_step(30.0 / 3600, 4) * 3600, 10);
  for (double range = 180; range > 1e-6; range *= 0.83) {
    const double lines = range / degree_step(range, 4);
    EXPECT_GE(lines, 1.9) << range;
    EXPECT_LE(lines, 9) << range;
  }
}

TEST(Graticules, NumbersSayTheirDegrees) {
  EXPECT_EQ(degree_label(-31, 1, true), "31° W");
  EXPECT_EQ(degree_label(-37.5, 0.5, false), "37° 30\u2032 S");
  EXPECT_EQ(degree_label(190, 10, true), "170° W");
  EXPECT_EQ(degree_label(12 + 59.0 / 60 + 59.0 / 3600, 1.0 / 3600, true), "12° 59\u2032 59\u2033 E");
  // A step's rounding must not make 60 of anything.
  EXPECT_EQ(degree_label(12.999999999999, 1.0 / 3600, true), "13° 00\u2032 00\u2033 E");
  EXPECT_EQ(degree_label(5 + 0.5 / 3600, 0.5 / 3600, false), "5° 00\u2032 00.5\u2033 N");
}

// Every point of every line, taken back to the ground, has the line's own longitude or latitude; also where the map
// lies across the antimeridian.
TEST(Graticules, LinesLieWhereTheOtherSystemSays) {
  const struct {
    const char* crs;
    Point corner;
    double cell;
  } cases[] = {{"EPSG:32725", {677000, 5842000}, 5},
               {"EPSG:32601", {120000, 4000000}, 300},
               {"EPSG:3857", {-3.4e6, -4.4e6}, 40},
               {"EPSG:4326", {-31, -37}, 0.0003}};
  for (const auto& c : cases) {
    const Frame frame(Crs::parse(c.crs), c.corner.x, c.corner.y, {c.cell, c.cell}, 900, 700);
    const Grid grid = grid_from_function(Frame(frame.crs(), c.corner.x, c.corner.y, {c.cell * 100, c.cell * 100}, 9, 7),
                                         [](double, double) { return 1.0; });
    const MapOptions options;
    const MapField field{grid, false, options, frame, {}, {}};
    Canvas canvas(1300, 900);
    LineLabels numbers = numbers_within(field.box());
    const Graticule lines(Crs::wgs84(), field, canvas, numbers);
    ASSERT_GE(lines.lines().size(), 4u) << c.crs;
    const Transform t(frame.crs(), Crs::wgs84());
    int meridians = 0;
    for (const LineString& line : lines.lines()) {
      std::vector<double> lon, lat;
      for (const Point& p : line) {
        const Point q = t.forward({frame.west() + (p.x - 96) * c.cell, frame.north() - (p.y - 84) * c.cell});
        lon.push_back(q.x - 360 * std::floor(q.x / 360));
        lat.push_back(q.y);
      }
      auto spread = [](const std::vector<double>& v) {
        const auto [low, high] = std::minmax_element(v.begin(), v.end());
        return *high - *low;
      };
      const bool meridian = spread(lon) < spread(lat);
      meridians += meridian;
      EXPECT_LT(std::min(spread(lon), spread(lat)), 1e-7) << c.crs;
    }
    EXPECT_GE(meridians, 2) << c.crs;
    EXPECT_LT(meridians, static_cast<int>(lines.lines().size())) << c.crs;
  }
}

}  // namespace
}  // namespace katoptra
