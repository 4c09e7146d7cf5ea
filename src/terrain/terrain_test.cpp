// Derivatives, contours, sections and samples against analytic truths and brute force.
#include <algorithm>
#include <map>
#include <numbers>
#include <random>

#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/terrain/section.hpp"

#include "terrain/arctangent.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// A plane that rises `east` metres a metre to the east and `north` to the north, on the ground.
Grid plane(const Frame& f, double east, double north, const Quantity& q = metres_above_egm2008()) {
  const GroundScale s = GroundRuler(f.crs()).at(f.bounds().centre());
  const Point o = f.bounds().centre();
  const double unit = metres_per(q.unit);
  return grid_from_function(
      f, [=](double x, double y) { return ((x - o.x) * s.x * east + (y - o.y) * s.y * north) / unit; }, q);
}

std::vector<Frame> frames_of_every_kind() {
  const Point web = Transform(Crs::wgs84(), Crs::parse("EPSG:3857")).forward({-31, -60});
  return {utm_frame(33, 21),
          utm_frame(33, 21, 2.5, 160000),
          Frame(Crs::wgs84(), -31, -37.5, {1.0 / 3600, 1.0 / 3600}, 33, 21),
          Frame(Crs::wgs84(), 10, 75, {1.0 / 1200, 1.0 / 3600}, 33, 21),
          Frame(Crs::parse("EPSG:3857"), web.x, web.y, {10, 10}, 33, 21),
          Frame(Crs::parse("EPSG:2263"), 1000000, 200000, {3, 3}, 33, 21)};
}

TEST(Slope, APlaneIsRightOnEveryCrsAndToTheRim) {
  for (const Frame& f : frames_of_every_kind()) {
    SCOPED_TRACE(f.crs().label());
    const Grid g = plane(f, 0.3, -0.4);
    const Block ratio = slope(g, SlopeAs::Ratio).read(f.window()), degrees = slope(g).read(f.window()),
                facing = aspect(g).read(f.window());
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        ASSERT_NEAR(static_cast<double>(ratio.at(c, r)), 0.5, 3e-4) << c << ", " << r;
        ASSERT_NEAR(static_cast<double>(degrees.at(c, r)), 26.565, 0.02);
        // Down is to the west and north: 323 degrees.
        ASSERT_NEAR(static_cast<double>(facing.at(c, r)), 360 - 36.87, 0.05);
      }
  }
}

TEST(Arctangent, IsThatOfTheLibrary) {
  std::mt19937_64 random(5);
  std::uniform_real_distribution<double> power(-12, 12);
  for (int i = 0; i < 100000; ++i) {
    const double y = std::pow(10, power(random)), x = i % 2 ? 1 : std::pow(10, power(random)), a = std::atan2(y, x);
    ASSERT_NEAR(arctangent_of(y, x), a, 1e-11 * a) << y << " over " << x;
  }
  EXPECT_EQ(arctangent_of(0, 1), 0);
  EXPECT_EQ(arctangent_of(1, 0), std::numbers::pi / 2);
  EXPECT_EQ(arctangent_of(INFINITY, 1), std::numbers::pi / 2);
  EXPECT_NEAR(arctangent_of(1, 1), std::numbers::pi / 4, 1e-15);
  EXPECT_TRUE(std::isnan(arctangent_of(NAN, 1)) && std::isnan(arctangent_of(1, NAN)));
}

TEST(Slope, FeetCountAsFeet) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  EXPECT_NEAR(static_cast<double>(slope(plane(utm_frame(9, 9), 0.5, 0, feet), SlopeAs::Percent).at(4, 4)), 50, 0.02);
}

TEST(Aspect, CompassAndFlatGround) {
  auto facing = [](double east, double north) { return aspect(plane(utm_frame(5, 5), east, north)).at(2, 2); };
  EXPECT_NEAR(facing(-1, 0), 90, 1e-3);
  EXPECT_NEAR(facing(1, 0), 270, 1e-3);
  EXPECT_NEAR(facing(0, -1), 0, 1e-3);
  EXPECT_NEAR(facing(0, 1), 180, 1e-3);
  EXPECT_TRUE(std::isnan(aspect(grid_from_values(utm_frame(5, 5), std::vector<float>(25, 3))).at(2, 2)));
}

TEST(Products, DegreesWithoutACrsAreNotTakenForMetres) {
  const auto steep = [](double west, double cell) {
    return slope(grid_from_values(Frame(Crs(), west, 50, {cell, cell}, 3, 3), std::vector<float>(9, 7)));
  };
  std::string text;
  EXPECT_EQ(error_of([&] { steep(10, 1.0 / 3600); }, &text), ErrorCode::Refused);
  EXPECT_NE(text.find("look like degrees"), text.npos);
  EXPECT_NO_THROW(steep(10, 0.5));             // a plan in metres
  EXPECT_NO_THROW(steep(500000, 1.0 / 3600));  // no degrees
}

TEST(Hillshade, LambertsLawInGreyLevels) {
  for (double azimuth : {0.0, 45.0, 135.0, 315.0, 270.0})
    for (double altitude : {10.0, 45.0, 90.0}) {
      const double p = 0.3, q = -0.2, alt = altitude * std::numbers::pi / 180, az = azimuth * std::numbers::pi / 180;
      const double light =
          (std::sin(alt) - std::cos(alt) * (p * std::sin(az) + q * std::cos(az))) / std::sqrt(1 + p * p + q * q);
      const Grid shade = hillshade(plane(utm_frame(9, 9), p, q),
                                   {.azimuth = Angle::degrees(azimuth), .altitude = Angle::degrees(altitude)});
      for (auto [c, r] : {std::pair{4, 4}, std::pair{0, 0}, std::pair{8, 3}})
        if (light > 0.01) {
          EXPECT_NEAR(static_cast<double>(shade.at(c, r)), std::round(1 + 254 * light), 1)
              << azimuth << " " << altitude;
        } else {
          EXPECT_GT(shade.at(c, r), 1) << "a plane that lies in the dark is not left black";
        }
    }
  EXPECT_EQ(hillshade(plane(utm_frame(3, 3), 0, 0)).info().type, SampleType::UInt8);
  EXPECT_EQ(error_of([] { hillshade(plane(utm_frame(3, 3), 0, 0), {.altitude = 100_deg}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { hillshade(slope(plane(utm_frame(3, 3), 0, 0))); }), ErrorCode::Refused);
}

TEST(Hillshade, DoesNotBlowOutInDegrees) {
  // The same hill in UTM and in degrees looks the same.
  const Frame utm = utm_frame(60, 60, 10, 676000, 5842600);
  auto hill = [](Point p) { return 80 * std::exp(-(std::pow(p.x - 676300, 2) + std::pow(p.y - 5842300, 2)) / 2e4); };
  const Transform t(Crs::wgs84(), utm.crs());
  const Point nw = t.inverse({676000, 5842600});
  const Frame degrees(Crs::wgs84(), nw.x, nw.y, {10 / 88000.0, 10 / 111000.0}, 60, 60);
  const Grid a = grid_from_function(utm, [&](double x, double y) { return hill({x, y}); });
  const Grid b = grid_from_function(degrees, [&](double x, double y) { return hill(t.forward({x, y})); });
  auto range = [](const Grid& g) {
    const auto v = all_values(hillshade(g));
    return std::pair(*std::min_element(v.begin(), v.end()), *std::max_element(v.begin(), v.end()));
  };
  EXPECT_NEAR(range(a).first, range(b).first, 4);
  EXPECT_NEAR(range(a).second, range(b).second, 4);
}

// Horn's formula written out, missing neighbours continued as the header says.
double brute_ratio(const Grid& g, std::int64_t c, std::int64_t r, const GroundScale& s) {
  double z[3][3];
  bool missing[3][3];
  for (int j = 0; j < 3; ++j)
    for (int i = 0; i < 3; ++i) {
      z[j][i] = static_cast<double>(g.at(c + i - 1, r + j - 1));
      missing[j][i] = std::isnan(z[j][i]);
    }
  const double centre = z[1][1];
  if (std::isnan(centre)) return centre;
  auto straight = [&](int j, int i) {
    if (missing[j][i]) z[j][i] = missing[2 - j][2 - i] ? centre : 2 * centre - z[2 - j][2 - i];
  };
  straight(0, 1);
  straight(2, 1);
  straight(1, 0);
  straight(1, 2);
  for (int j : {0, 2})
    for (int i : {0, 2})
      if (missing[j][i]) z[j][i] = missing[2 - j][2 - i] ? z[j][1] + z[1][i] - centre : 2 * centre - z[2 - j][2 - i];
  const double p = (z[0][2] + 2 * z[1][2] + z[2][2] - z[0][0] - 2 * z[1][0] - z[2][0]) / (8 * s.x),
               q = (z[0][0] + 2 * z[0][1] + z[0][2] - z[2][0] - 2 * z[2][1] - z[2][2]) / (8 * s.y);
  return std::hypot(p, q);
}

TEST(Derivatives, AgreeWithTheFormulaBesideVoids) {
  for (unsigned seed = 1; seed <= 4; ++seed) {
    const Frame f = utm_frame(43, 31);
    const Grid g = rough_grid(f, seed, 8);
    const GroundScale s = GroundRuler(f.crs()).at(f.bounds().centre());
    const Block b = slope(g, SlopeAs::Ratio).read(f.window());
    for (std::int64_t r = 0; r < 31; ++r)
      for (std::int64_t c = 0; c < 43; ++c) {
        const double expected = brute_ratio(g, c, r, s);
        ASSERT_EQ(std::isnan(expected), std::isnan(b.at(c, r))) << c << ", " << r;
        if (!std::isnan(expected)) {
          ASSERT_NEAR(static_cast<double>(b.at(c, r)), expected, 1e-4 * (1 + expected));
        }
      }
  }
}

TEST(Derivatives, SameForEveryWindow) {
  const Grid g = rough_grid(utm_frame(150, 140), 5, 9);
  expect_same_for_every_window(hillshade(g), 1, 20);
  expect_same_for_every_window(slope(g), 2, 20);
  expect_same_for_every_window(aspect(g), 3, 20);
  expect_same_for_every_window(roughness(g), 4, 20);
}

TEST(Derivatives, OneRowOneColumnOneCell) {
  EXPECT_NEAR(static_cast<double>(slope(plane(utm_frame(9, 1), 0.5, 0), SlopeAs::Ratio).at(4, 0)), 0.5, 1e-3);
  EXPECT_NEAR(static_cast<double>(slope(plane(utm_frame(1, 9), 0, 0.5), SlopeAs::Ratio).at(0, 4)), 0.5, 1e-3);
  EXPECT_EQ(slope(grid_from_values(utm_frame(1, 1), {7})).at(0, 0), 0);
  EXPECT_TRUE(std::isnan(slope(grid_from_values(utm_frame(1, 1), {kVoid})).at(0, 0)));
}

// ---------------------------------------------------------------------------------------------------------- contours

TEST(Contours, AConeGivesCircles) {
  const Grid cone = grid_from_function(
      utm_frame(201, 201), [](double x, double y) { return 50 - std::hypot(x - 676100.5, y - 5841899.5) / 2; },
      metres_above_egm2008());
  const auto lines = contours(cone, {.interval = 10_m, .base = 5_m});
  int closed = 0;
  for (const ContourLine& l : lines) {
    if (l.level <= 0) continue;
    EXPECT_TRUE(l.closed) << l.level;
    ++closed;
    for (Point p : l.points)
      EXPECT_NEAR(std::hypot(p.x - 676100.5, p.y - 5841899.5), 2 * (50 - l.level), 0.02 + 0.5 / (1 + 50 - l.level));
    EXPECT_EQ(l.points.front(), l.points.back());
  }
  EXPECT_EQ(closed, 5);
}

TEST(Contours, EveryPointLiesAtItsLevel) {
  const Grid g = rough_grid(utm_frame(60, 50), 6, 5);
  const Block b = g.read(g.frame().window());
  for (const ContourLine& l : contours(g, {.interval = 3_m}))
    for (Point p : l.points) {
      // Along an edge of the lattice of centres heights are linear.
      const double c = g.frame().col_at(p.x) - 0.5, r = g.frame().row_at(p.y) - 0.5;
      const auto c0 = static_cast<std::int64_t>(std::floor(c + 1e-7)),
                 r0 = static_cast<std::int64_t>(std::floor(r + 1e-7));
      const double u = c - static_cast<double>(c0), v = r - static_cast<double>(r0);
      const bool on_row = std::abs(v) < 1e-6, on_col = std::abs(u) < 1e-6;
      ASSERT_TRUE(on_row || on_col);
      const double z0 = static_cast<double>(b.at(c0, r0)),
                   z1 = on_row && !on_col   ? static_cast<double>(b.at(c0 + 1, r0))
                        : on_col && !on_row ? static_cast<double>(b.at(c0, r0 + 1))
                                            : z0;
      ASSERT_NEAR(z0 + (on_row ? u : v) * (z1 - z0), l.level, 1e-4);
    }
}

// The segments of each 2 x 2 group, one at a time, without any joining: the same length and number of crossings.
TEST(Contours, TotalLengthAgreesWithUnjoinedSegments) {
  for (unsigned seed = 1; seed <= 6; ++seed) {
    const Grid g = rough_grid(utm_frame(38, 29), seed, 4);
    const Block b = g.read(g.frame().window());
    const double interval = 2.5;
    std::map<double, double> expected, got;
    for (std::int64_t r = 0; r + 1 < 29; ++r)
      for (std::int64_t c = 0; c + 1 < 38; ++c) {
        const double z[4] = {static_cast<double>(b.at(c, r)), static_cast<double>(b.at(c + 1, r)),
                             static_cast<double>(b.at(c + 1, r + 1)), static_cast<double>(b.at(c, r + 1))};
        if (std::isnan(z[0] + z[1] + z[2] + z[3])) continue;
        const Point corner[4] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
        for (double level = std::floor(*std::min_element(z, z + 4) / interval) * interval;
             level <= *std::max_element(z, z + 4); level += interval) {
          std::vector<Point> ends;
          for (int k = 0; k < 4; ++k) {
            const int n = (k + 1) % 4;
            if ((z[k] >= level) == (z[n] >= level)) continue;
            const double t = (level - z[k]) / (z[n] - z[k]);
            ends.push_back(
                {corner[k].x + t * (corner[n].x - corner[k].x), corner[k].y + t * (corner[n].y - corner[k].y)});
          }
          auto length = [](Point p, Point q) { return std::hypot(p.x - q.x, p.y - q.y); };
          if (ends.size() == 2) expected[level] += length(ends[0], ends[1]);
          if (ends.size() == 4) {
            const bool joined = (z[0] * z[2] - z[1] * z[3]) / (z[0] + z[2] - z[1] - z[3]) >= level,
                       high = z[0] >= level;
            expected[level] += joined == high ? length(ends[0], ends[1]) + length(ends[2], ends[3])
                                              : length(ends[0], ends[3]) + length(ends[1], ends[2]);
          }
        }
      }
    for (const ContourLine& l : contours(g, {.interval = Length::metres(interval)}))
      for (std::size_t i = 0; i + 1 < l.points.size(); ++i)
        got[l.level] += std::hypot(l.points[i].x - l.points[i + 1].x, l.points[i].y - l.points[i + 1].y);
    for (auto [level, length] : expected)
      if (length > 1e-9) {
        EXPECT_NEAR(got[level], length, 1e-6) << "seed " << seed << " level " << level;
      }
  }
}

TEST(Contours, SameLinesForEveryBandAndThreadCount) {
  const Grid g = rough_grid(utm_frame(83, 97), 7, 10);
  const auto expected = contours(g, {.interval = 1_m, .run = {.threads = 1, .block = 1000}});
  EXPECT_GT(expected.size(), 50u);
  for (int threads : {1, 3})
    for (int block : {1, 2, 5, 31}) {
      const auto got = contours(g, {.interval = 1_m, .run = {.threads = threads, .block = block}});
      ASSERT_EQ(got.size(), expected.size()) << threads << " threads, bands of " << block;
      for (std::size_t i = 0; i < got.size(); ++i) {
        ASSERT_EQ(got[i].level, expected[i].level);
        ASSERT_EQ(got[i].points, expected[i].points) << "line " << i;
      }
    }
}

TEST(Contours, OpenLinesEndAtVoidsOrTheRimOnly) {
  const Grid g = rough_grid(utm_frame(70, 60), 8, 6);
  auto near_nothing = [&](Point p) {
    const auto c = static_cast<std::int64_t>(std::floor(g.frame().col_at(p.x))),
               r = static_cast<std::int64_t>(std::floor(g.frame().row_at(p.y)));
    for (std::int64_t j = -2; j <= 2; ++j)
      for (std::int64_t i = -2; i <= 2; ++i)
        if (std::isnan(g.at(c + i, r + j))) return true;
    return false;
  };
  for (const ContourLine& l : contours(g, {.interval = 2_m}))
    if (!l.closed) {
      EXPECT_TRUE(near_nothing(l.points.front()));
      EXPECT_TRUE(near_nothing(l.points.back()));
    }
}

TEST(Contours, LevelsAreWholeMultiplesInTheGridsUnit) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid g = plane(utm_frame(60, 5), 1, 0, feet);
  const auto lines = contours(g, {.interval = 1_ft});
  ASSERT_GT(lines.size(), 100u);
  int index = 0;
  for (const ContourLine& l : lines) {
    EXPECT_EQ(l.level, std::round(l.level));
    EXPECT_EQ(l.index, static_cast<int>(l.level) % 5 == 0);
    index += l.index;
  }
  EXPECT_GT(index, 20);
  const Layer layer = contour_layer(lines, g);
  EXPECT_EQ(layer.features[0].properties[1].second, Property(std::string("ft")));
}

TEST(Contours, FlatGroundAtALevelAndDegenerateGrids) {
  EXPECT_TRUE(contours(grid_from_values(utm_frame(10, 10), std::vector<float>(100, 20)), {.interval = 10_m}).empty());
  EXPECT_TRUE(contours(grid_from_values(utm_frame(10, 1), std::vector<float>(10, 20)), {.interval = 10_m}).empty());
  EXPECT_TRUE(contours(grid_from_values(utm_frame(3, 3), std::vector<float>(9, kVoid)), {.interval = 10_m}).empty());
  EXPECT_EQ(error_of([] {
              contours(grid_from_values(utm_frame(2, 2), {0, 1e9f, 2, 3}), {.interval = Length::metres(1e-6)});
            }),
            ErrorCode::TooLarge);
  EXPECT_EQ(error_of([] {
              contours(grid_from_values(utm_frame(2, 2), {0, 1, 2, 3}), {.interval = Length()});
            }),
            ErrorCode::BadArgument);
  EXPECT_EQ(sensible_interval(0, 400, LengthUnit::Metre), 20_m);
  EXPECT_EQ(sensible_interval(0, 37, LengthUnit::Foot), Length::feet(2));
}

// --------------------------------------------------------------------------------------------------- section, sample

// An interval of 0.01 m on 125,000 cells took 24 GiB and was killed; 0.0001 m 17 GiB before it said "out of memory".
TEST(Contours, ShortIntervalsAreRefusedBeforeMemoryIsGone) {
  const Grid g = grid_from_function(utm_frame(400, 300), [](double x, double y) {
    return 200 + 150 * std::sin((x - 676000) / 20) * std::cos((y - 5842000) / 15);
  });
  std::string text;
  EXPECT_EQ(error_of([&] { contours(g, {.interval = Length::metres(0.01)}); }, &text), ErrorCode::TooLarge);
  EXPECT_NE(text.find("gives 29"), text.npos) << text;  // some 29,990 levels
  EXPECT_EQ(error_of([&] { contours(g, {.interval = Length::metres(0.0001)}); }), ErrorCode::TooLarge);
  RunOptions little;
  little.memory = 1 << 20;
  EXPECT_EQ(error_of([&] { contours(g, {.interval = Length::metres(0.5), .run = little}); }, &text),
            ErrorCode::TooLarge);
  EXPECT_NE(text.find("--memory"), text.npos) << text;
  EXPECT_GT(contours(g, {.interval = 5_m}).size(), 100u);
}

TEST(Contours, OfAShadeAreRefused) {
  const Grid g = grid_from_function(utm_frame(20, 20), [](double x, double) { return x - 676000; });
  EXPECT_EQ(error_of([&] { contours(hillshade(g), {.interval = 1_m}); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { contours(aspect(g), {.interval = 1_m}); }), ErrorCode::Refused);
}

TEST(Section, DistancesAreGroundDistances) {
  const Grid g = plane(utm_frame(400, 300), 0.1, 0);
  const Section s = section(g, {{676010, 5841900}, {676310, 5841900}, {676310, 5841800}});
  const double scale = GroundRuler(g.frame().crs()).at({676200, 5841850}).x;
  EXPECT_NEAR(s.points.back().distance, 400 * scale, 1e-3);
  // Every vertex is there, and distances only grow.
  EXPECT_TRUE(std::any_of(s.points.begin(), s.points.end(), [](const SectionPoint& p) {
    return p.place == Point{676310, 5841900};
  }));
  for (std::size_t i = 1; i < s.points.size(); ++i) EXPECT_GT(s.points[i].distance, s.points[i - 1].distance);
  for (const SectionPoint& p : s.points) EXPECT_NEAR(p.value, (p.place.x - 676200) * scale * 0.1, 1e-3);
}

TEST(Section, ByBearingInDegreesAndFeet) {
  const Frame f(Crs::wgs84(), -31.01, -37.54, {1.0 / 7200, 1.0 / 7200}, 100, 100);
  const LineString line = line_by_bearing(f.crs(), {-31.005, -37.545}, 90_deg, 200_m);
  EXPECT_NEAR(GroundRuler(f.crs()).distance(line[0], line[1]).metres(), 200, 1e-6);
  EXPECT_EQ(line[0].y, line[1].y);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Section s = section(plane(f, 0, 0, feet), line);
  EXPECT_NEAR(s.points.back().distance, 200 / 0.3048, 0.01);
  EXPECT_EQ(s.unit, LengthUnit::Foot);
}

// As a line it is in parts where there are voids, each with its heights and where it begins.
TEST(Section, AsALineWithHeights) {
  const Frame f = utm_frame(40, 20, 2);
  const Grid g = grid_from_function(
      f, [&](double x, double) { return std::abs(x - f.centre(20, 0).x) < 9 ? std::nan("") : x / 1000; },
      metres_above_egm2008());
  const Section s = section(g, {f.centre(1, 10), f.centre(38, 10)});
  const Layer layer = section_layer(s);
  ASSERT_EQ(layer.features.size(), 2u);
  EXPECT_EQ(layer.unit, LengthUnit::Metre);
  std::size_t points = 0;
  for (const Feature& part : layer.features) {
    ASSERT_TRUE(has_heights(part));
    points += part.heights.size();
    for (std::size_t i = 0; i < part.heights.size(); ++i)
      EXPECT_NEAR(part.heights[i], std::get<LineString>(part.geometry)[i].x / 1000, 1e-4);
  }
  std::size_t known = 0;
  for (const SectionPoint& p : s.points) known += !std::isnan(p.value);
  EXPECT_EQ(points, known);
  EXPECT_EQ(std::get<double>(*property_of(layer.features[0], "from")), 0);
  EXPECT_NEAR(std::get<double>(*property_of(layer.features[1], "from")) +
                  std::get<double>(*property_of(layer.features[1], "length")),
              s.points.back().distance, 1e-9);
  EXPECT_EQ(error_of([&] { section_layer(section(g, {f.centre(18, 10), f.centre(22, 10)})); }), ErrorCode::BadArgument);
}

TEST(Section, VoidsAndBadLines) {
  std::vector<float> v(100, 3);
  for (int c = 4; c < 6; ++c) v[static_cast<std::size_t>(50 + c)] = kVoid;
  const Grid g = grid_from_values(utm_frame(10, 10), v);
  const Section s = section(g, {{676000.5, 5841994.5}, {676009.5, 5841994.5}});
  EXPECT_EQ(std::count_if(s.points.begin(), s.points.end(), [](const SectionPoint& p) { return std::isnan(p.value); }),
            2);
  EXPECT_EQ(error_of([&] { section(g, {{676000.5, 5841994.5}}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { section(g, {{676001, 5841994}, {676001, 5841994}}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] {
              section(g, {{676001, 5841994}, {676002, 5841994}}, {.step = Length::metres(1e-9)});
            }),
            ErrorCode::TooLarge);
}

TEST(Sample, BilinearBetweenCentresAndNothingOutside) {
  const Grid g = grid_from_values(utm_frame(2, 2), {0, 10, 20, kVoid});
  const std::vector<Point> p{{676000.5, 5841999.5}, {676001.0, 5841999.5}, {676000.1, 5841999.9}, {676001.5, 5841998.5},
                             {676000.5, 5841999.0}, {675999.9, 5841999.5}, {676002, 5841999.5}};
  const auto v = sample(g, p);
  EXPECT_EQ(v[0], 0);
  EXPECT_EQ(v[1], 5);
  EXPECT_EQ(v[2], 0);
  EXPECT_TRUE(std::isnan(v[3]));
  EXPECT_EQ(v[4], 10);
  EXPECT_TRUE(std::isnan(v[5]));
  EXPECT_EQ(v[6], 10);  // the east edge belongs to the last cell
}

TEST(Sample, AcrossBlocksAgreesWithOneRead) {
  const Grid g = rough_grid(utm_frame(700, 600), 9, 20);
  const Block all = g.read(g.frame().window());
  std::mt19937 random(4);
  std::vector<Point> p;
  for (int i = 0; i < 3000; ++i)
    p.push_back(g.frame().centre(static_cast<double>(random() % 700), static_cast<double>(random() % 600)));
  const auto v = sample(g, p, {.threads = 3});
  for (std::size_t i = 0; i < p.size(); ++i) {
    const auto c = static_cast<std::int64_t>(g.frame().col_at(p[i].x)),
               r = static_cast<std::int64_t>(g.frame().row_at(p[i].y));
    ASSERT_TRUE(same_bits(static_cast<float>(v[i]), all.at(c, r)));
  }
}

}  // namespace
}  // namespace katoptra
