// Contours at other levels than multiples of one interval, and the bands between them.
#include "katoptra/terrain/contours.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <map>
#include <random>
#include <set>

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// The ground that bands shall fill: squares with four known corners, in cells.
double squares_of(const Grid& g) {
  double n = 0;
  for (std::int64_t r = 0; r + 1 < g.frame().rows(); ++r)
    for (std::int64_t c = 0; c + 1 < g.frame().cols(); ++c)
      n += !std::isnan(g.at(c, r) + g.at(c + 1, r) + g.at(c, r + 1) + g.at(c + 1, r + 1));
  return n;
}

// Whole heights, so that most cells lie exactly at a level.
Grid whole_metres(const Frame& f, unsigned seed, int void_every) {
  std::mt19937 random(seed);
  std::vector<float> v(static_cast<std::size_t>(f.cols() * f.rows()));
  for (float& z : v)
    z = static_cast<int>(random() % 40) < void_every ? kVoid : static_cast<float>(static_cast<int>(random() % 7) - 3);
  return grid_from_values(f, v, metres_above_egm2008());
}

void bands_fill(const Grid& g, const ContourOptions& o) {
  const Block b = g.read(g.frame().window());
  const double cell = g.frame().cell().x * g.frame().cell().y;
  double area = 0, last = -std::numeric_limits<double>::infinity();
  for (const ContourBand& band : contour_bands(g, o)) {
    EXPECT_LT(band.from, band.to);
    EXPECT_GE(band.from, last);
    last = band.to;
    area += planar_area(band.shape);
    // Mending would change what overlaps itself or has its holes outside.
    EXPECT_NEAR(planar_area(union_of({band.shape})), planar_area(band.shape), 1e-6 * cell);
    for (std::int64_t r = 0; r < g.frame().rows(); ++r)
      for (std::int64_t c = 0; c < g.frame().cols(); ++c) {
        const auto z = static_cast<double>(b.at(c, r));
        const Point p = g.frame().centre(static_cast<double>(c), static_cast<double>(r));
        // On a level or beside voids the place lies on an outline.
        if (std::isnan(z) || z == band.from || z == band.to) continue;
        bool inside = true;
        for (std::int64_t j = -1; j <= 1; ++j)
          for (std::int64_t i = -1; i <= 1; ++i)
            inside = inside && c + i >= 0 && r + j >= 0 && c + i < g.frame().cols() && r + j < g.frame().rows() &&
                     !std::isnan(b.at(c + i, r + j));
        if (inside) {
          EXPECT_EQ(contains(band.shape, p), z > band.from && z < band.to) << z << " in " << band.from;
        }
      }
  }
  EXPECT_NEAR(area, squares_of(g) * cell, 1e-6 * cell);
}

TEST(ContourBands, FillTheGroundWithoutOverlap) {
  const unsigned first = std::random_device{}() % 100000;
  for (unsigned seed = first; seed < first + 12; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const Frame f = utm_frame(static_cast<std::int64_t>(2 + seed % 23), static_cast<std::int64_t>(2 + seed * 7 % 19));
    bands_fill(rough_grid(f, seed, static_cast<int>(seed % 7)), {.interval = 3_m});
    bands_fill(rough_grid(f, seed, 3), {.levels = {2_m, -4_m, 11_m}});
    bands_fill(whole_metres(f, seed, static_cast<int>(seed % 5)), {.interval = 1_m});
    bands_fill(whole_metres(f, seed, 2), {.interval = 2_m, .interval_below = 1_m});
  }
}

TEST(ContourBands, OfAConeAreRings) {
  const Grid cone = grid_from_function(
      utm_frame(201, 201), [](double x, double y) { return 50 - std::hypot(x - 676100.5, y - 5841899.5) / 2; },
      metres_above_egm2008());
  const auto bands = contour_bands(cone, {.levels = {10_m, 30_m}});
  ASSERT_EQ(bands.size(), 3u);
  EXPECT_TRUE(std::isinf(bands[0].from) && std::isinf(bands[2].to));
  EXPECT_NEAR(planar_area(bands[2].shape), std::acos(-1) * 40 * 40, 3);
  EXPECT_NEAR(planar_area(bands[1].shape), std::acos(-1) * (80 * 80 - 40 * 40), 6);
  ASSERT_EQ(bands[1].shape.size(), 1u);
  EXPECT_EQ(bands[1].shape[0].holes.size(), 1u);
  const Layer layer = band_layer(bands, cone);
  EXPECT_EQ(property_of(layer.features[0], "from"), nullptr);
  EXPECT_EQ(*property_of(layer.features[0], "to"), Property(10.0));
}

TEST(ContourBands, AreTheSameForEveryBlockAndThread) {
  const Grid g = rough_grid(utm_frame(61, 47), 5, 6);
  auto all = [&](RunOptions run) {
    std::vector<Point> points;
    for (const ContourBand& b : contour_bands(g, {.interval = 2_m, .run = run}))
      for (const Polygon& p : b.shape) {
        points.insert(points.end(), p.outer.begin(), p.outer.end());
        for (const Ring& h : p.holes) points.insert(points.end(), h.begin(), h.end());
      }
    return points;
  };
  const auto expected = all({.threads = 1, .block = 1000});
  EXPECT_GT(expected.size(), 500u);
  for (int block : {1, 3, 16})
    for (int threads : {1, 3}) EXPECT_EQ(all({.threads = threads, .block = block}), expected);
}

TEST(ContourBands, OfNothing) {
  EXPECT_TRUE(contour_bands(grid_from_values(utm_frame(3, 3), std::vector<float>(9, kVoid)), {}).empty());
  EXPECT_TRUE(contour_bands(grid_from_values(utm_frame(5, 1), std::vector<float>(5, 1)), {}).empty());
  const auto flat = contour_bands(grid_from_values(utm_frame(3, 3), std::vector<float>(9, 20)), {.interval = 10_m});
  ASSERT_EQ(flat.size(), 1u);
  EXPECT_EQ(flat[0].from, 20);  // at a level counts as above it
}

// Hills and hollows in turn, of two sizes, on a slope.
Grid egg_box() {
  return grid_from_function(
      utm_frame(120, 90),
      [](double x, double y) {
        const double u = x - 676000, v = y - 5842000;
        return 0.05 * u + 8 * std::sin(u / 7) * std::cos(v / 6) + 2 * std::sin(u / 2.3 + 1) * std::sin(v / 2.1);
      },
      metres_above_egm2008());
}

TEST(Contours, HaveHigherGroundOnTheirLeft) {
  const Grid g = egg_box();
  int hollows = 0, hills = 0;
  for (const ContourLine& l : contours(g, {.interval = Length::metres(0.25)})) {
    double twice = 0;
    for (std::size_t i = 0; i + 1 < l.points.size(); ++i)
      twice += (l.points[i].x - l.points[0].x) * (l.points[i + 1].y - l.points[0].y) -
               (l.points[i + 1].x - l.points[0].x) * (l.points[i].y - l.points[0].y);
    if (l.closed && twice != 0) {
      EXPECT_EQ(l.hollow, twice < 0);
      (l.hollow ? hollows : hills) += 1;
    }
    // A little to the left of the middle of a segment the bilinear surface is higher than a little to the right.
    const std::size_t i = l.points.size() / 2 - 1;
    const Point a = l.points[i], b = l.points[i + 1];
    const double length = std::hypot(b.x - a.x, b.y - a.y);
    if (length < 0.2) continue;
    auto bilinear = [&](Point p) {
      const double c = g.frame().col_at(p.x) - 0.5, r = g.frame().row_at(p.y) - 0.5;
      const auto c0 = static_cast<std::int64_t>(std::floor(c)), r0 = static_cast<std::int64_t>(std::floor(r));
      const double u = c - static_cast<double>(c0), v = r - static_cast<double>(r0);
      auto z = [&](std::int64_t x, std::int64_t y) { return static_cast<double>(g.at(c0 + x, r0 + y)); };
      return (1 - v) * ((1 - u) * z(0, 0) + u * z(1, 0)) + v * ((1 - u) * z(0, 1) + u * z(1, 1));
    };
    const double nx = -(b.y - a.y) / length * 0.01, ny = (b.x - a.x) / length * 0.01;
    const Point middle{(a.x + b.x) / 2, (a.y + b.y) / 2};
    const double left = bilinear({middle.x + nx, middle.y + ny}), right = bilinear({middle.x - nx, middle.y - ny});
    if (!std::isnan(left + right) && std::abs(left - right) > 0.002) {
      EXPECT_GT(left, right) << "level " << l.level;
    }
  }
  EXPECT_GT(hills, 10);
  EXPECT_GT(hollows, 10);
}

TEST(Contours, AtGivenLevelsAndWithAnotherIntervalBelow) {
  const Grid g = grid_from_function(
      utm_frame(300, 5), [](double x, double) { return x - 676000 - 150; }, metres_above_egm2008());
  auto levels = [&](const ContourOptions& o) {
    std::set<double> out;
    for (const ContourLine& l : contours(g, o)) out.insert(l.level);
    return out;
  };
  EXPECT_EQ(levels({.levels = {-2_m, 0_m, -20_m, -2_m, 500_m}}), (std::set<double>{-20, -2, 0}));
  const auto two = levels({.interval = 50_m, .interval_below = 20_m});
  EXPECT_EQ(two, (std::set<double>{-140, -120, -100, -80, -60, -40, -20, 0, 50, 100}));
  // The same lines, however they are asked for.
  const auto listed = contours(g, {.levels = {-100_m, -50_m, 0_m, 50_m, 100_m}}),
             every = contours(g, {.interval = 50_m});
  ASSERT_EQ(listed.size(), every.size());
  for (std::size_t i = 0; i < listed.size(); ++i) EXPECT_EQ(listed[i].points, every[i].points);
  for (const ContourLine& l : listed) EXPECT_FALSE(l.index);
  EXPECT_EQ(error_of([&] { contours(g, {.levels = {Length::metres(std::nan(""))}}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { contours(g, {.interval_below = Length()}); }), ErrorCode::BadArgument);
}

TEST(Contours, ShortRingsAreLeftOutAndOpenLinesStay) {
  const Grid g = egg_box();
  const auto all = contours(g, {.interval = Length::metres(0.5)}),
             some = contours(g, {.interval = Length::metres(0.5), .shortest = 20_m});
  std::size_t expected = 0;
  for (const ContourLine& l : all) {
    double length = 0;
    for (std::size_t i = 0; i + 1 < l.points.size(); ++i)
      length += GroundRuler(g.frame().crs()).distance(l.points[i], l.points[i + 1]).metres();
    expected += !l.closed || length >= 20;
  }
  EXPECT_EQ(some.size(), expected);
  EXPECT_LT(some.size(), all.size());
}

// -------------------------------------------------------------------------------------------------------- smooth lines

double side(Point a, Point b, Point p) { return (b.x - a.x) * (p.y - a.y) - (b.y - a.y) * (p.x - a.x); }
bool cross(Point a, Point b, Point c, Point d) {
  return side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0;
}
double away(const LineString& line, Point p) {
  double least = 1e300;
  for (std::size_t i = 0; i + 1 < line.size(); ++i) {
    const Point a = line[i], b = line[i + 1];
    const double dx = b.x - a.x, dy = b.y - a.y;
    const double t = std::clamp(((p.x - a.x) * dx + (p.y - a.y) * dy) / (dx * dx + dy * dy), 0.0, 1.0);
    least = std::min(least, std::hypot(p.x - a.x - t * dx, p.y - a.y - t * dy));
  }
  return least;
}
double bends(const std::vector<ContourLine>& lines) {
  double sum = 0;
  for (const ContourLine& l : lines)
    for (std::size_t i = 1; i + 1 < l.points.size(); ++i) {
      const Point a = l.points[i - 1], b = l.points[i], c = l.points[i + 1];
      sum += std::abs(std::atan2(side(a, b, c), (b.x - a.x) * (c.x - b.x) + (b.y - a.y) * (c.y - b.y)));
    }
  return sum;
}

TEST(SmoothContours, StayNearNeverCrossAndTurnLess) {
  const unsigned seed = std::random_device{}() % 100000;
  SCOPED_TRACE("seed " + std::to_string(seed));
  for (const Frame& f : {utm_frame(45, 38), Frame(Crs::wgs84(), -31, -37.5, {1.0 / 108000, 1.0 / 108000}, 45, 38)}) {
    const Grid g = rough_grid(f, seed, 3);
    const auto exact = contours(g, {.interval = Length::metres(1.5)});
    const auto smooth = contours(g, {.interval = Length::metres(1.5), .tolerance = 1_m});
    ASSERT_EQ(smooth.size(), exact.size());
    const GroundSpacing s = ground_spacing(f);
    const double mx = s.x.metres() / f.cell().x, my = s.y.metres() / f.cell().y;
    auto on_ground = [&](LineString line) {
      for (Point& p : line) p = {p.x * mx, p.y * my};
      return line;
    };
    std::size_t before = 0, after = 0;
    for (std::size_t i = 0; i < exact.size(); ++i) {
      EXPECT_EQ(smooth[i].level, exact[i].level);
      EXPECT_EQ(smooth[i].closed, smooth[i].points.front() == smooth[i].points.back());
      const LineString was = on_ground(exact[i].points), is = on_ground(smooth[i].points);
      for (const Point p : is) EXPECT_LE(away(was, p), 1 + 1e-6);
      for (const Point p : was) EXPECT_LE(away(is, p), 1 + 1e-6);
      before += was.size();
      after += is.size();
    }
    EXPECT_LT(after, 0.7 * static_cast<double>(before));
    EXPECT_LT(bends(smooth), 0.6 * bends(exact));
    // No two segments cross, nor one with what a line of another level was.
    struct Part {
      Point a, b;
      std::size_t line, at;
    };
    std::vector<Part> parts;
    for (std::size_t i = 0; i < smooth.size(); ++i)
      for (std::size_t k = 0; k + 1 < smooth[i].points.size(); ++k)
        parts.push_back({smooth[i].points[k], smooth[i].points[k + 1], i, k});
    for (std::size_t i = 0; i < parts.size(); ++i) {
      for (std::size_t j = 0; j < i; ++j) {
        ASSERT_FALSE(cross(parts[i].a, parts[i].b, parts[j].a, parts[j].b))
            << parts[i].line << ":" << parts[i].at << " " << parts[j].line << ":" << parts[j].at;
      }
      for (const ContourLine& l : exact)
        for (std::size_t k = 0; l.level != smooth[parts[i].line].level && k + 1 < l.points.size(); ++k) {
          ASSERT_FALSE(cross(parts[i].a, parts[i].b, l.points[k], l.points[k + 1]));
        }
    }
    EXPECT_EQ(error_of([&] { contours(g, {.tolerance = Length::metres(-1)}); }), ErrorCode::BadArgument);
    EXPECT_EQ(error_of([&] { contours(g, {.tolerance = Length::metres(1e6)}); }), ErrorCode::BadArgument);
  }
}

// With room for a few levels at once: the same lines in the same order, also of given levels and across zero.
TEST(Contours, AreTheSameWhenTheyDoNotFitIntoMemory) {
  int kept_apart = 0;
  const unsigned first = std::random_device{}() % 100000;
  for (unsigned seed = first; seed < first + 12; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const Frame f = utm_frame(static_cast<std::int64_t>(40 + seed % 37), static_cast<std::int64_t>(30 + seed % 23));
    const Grid g = scaled(rough_grid(f, seed, static_cast<int>(seed % 5)), 1, -100, {});
    ContourOptions o{.interval = Length::metres(0.5 + seed % 3), .interval_below = Length::metres(0.7)};
    if (seed % 4 == 0)
      o.levels = {Length::metres(-12), Length::metres(-3), Length::metres(0), Length::metres(4.5), Length::metres(11)};
    const std::vector<ContourLine> whole = contours(g, o);
    std::size_t points = 0;
    std::map<double, std::size_t> by_level;
    for (const ContourLine& l : whole) {
      points += l.points.size();
      by_level[l.level] += l.points.size();
    }
    std::size_t most = 1000;
    for (const auto& [level, n] : by_level) most = std::max(most, n + n / 2);
    o.run.memory = most * kBytesPerContourPoint;
    o.run.threads = static_cast<int>(1 + seed % 2);
    std::vector<ContourLine> parts;
    for_each_contour(g, o, [&](const ContourLine& l) { parts.push_back(l); });
    ASSERT_EQ(parts.size(), whole.size());
    for (std::size_t i = 0; i < parts.size(); ++i) {
      EXPECT_EQ(parts[i].level, whole[i].level);
      EXPECT_EQ(parts[i].closed, whole[i].closed);
      EXPECT_EQ(parts[i].index, whole[i].index);
      EXPECT_EQ(parts[i].hollow, whole[i].hollow);
      ASSERT_EQ(parts[i].points, whole[i].points);
    }
    if (points > 3 * most) {
      EXPECT_EQ(error_of([&] { contours(g, o); }), ErrorCode::TooLarge);
      ++kept_apart;
    }
  }
  EXPECT_GT(kept_apart, 0);
  // One level that does not fit alone.
  ContourOptions o{.interval = 100_m};
  o.run.memory = 1000 * kBytesPerContourPoint;
  const Grid busy = grid_from_function(utm_frame(80, 80), [](double x, double y) {
    return (static_cast<int>(x) + static_cast<int>(y)) % 2 ? 1.0 : -1.0;
  });
  std::string text;
  EXPECT_EQ(error_of([&] { for_each_contour(busy, o, [](const ContourLine&) {}); }, &text), ErrorCode::TooLarge);
  EXPECT_NE(text.find("--memory"), text.npos);
}

}  // namespace
}  // namespace katoptra
