// Labels on lines and spot heights.
#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <limits>
#include <random>
#include <string>

#include "katoptra/terrain/line_labels.hpp"
#include "katoptra/terrain/spot_heights.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

double length_of(const LineString& l) {
  double sum = 0;
  for (std::size_t i = 1; i < l.size(); ++i) sum += std::hypot(l[i].x - l[i - 1].x, l[i].y - l[i - 1].y);
  return sum;
}

TEST(LineLabels, StandOnStraightStretchesAndReadAlongTheLine) {
  // Up, a zigzag, and down again: only the two long sides can bear a label.
  LineString line{{0, 0}, {0, 100}};
  for (int i = 0; i < 40; ++i) line.push_back({i + 1.0, 100.0 + (i % 2 ? 12 : 0)});
  line.push_back({40, 0});
  LineLabels labels({.height = 5, .spacing = 300});
  const auto got = labels.along(line, 30);
  ASSERT_FALSE(got.empty());
  for (const LineLabel& l : got) {
    EXPECT_NEAR(std::abs(l.turn), std::acos(-1) / 2, 0.03);
    EXPECT_EQ(l.turn > 0, l.centre.x < 1) << "reads the way its line runs";
    EXPECT_TRUE(l.centre.x < 1 || l.centre.x > 39);
  }
  double left = 0;
  for (const LineString& part : without_labels(line, got)) left += length_of(part);
  double covered = 0;
  for (const LineLabel& l : got) covered += l.to - l.from;
  EXPECT_NEAR(left + covered, length_of(line), 1e-9);
}

TEST(LineLabels, KeepTheirSpacingAndStayClearOfOneAnother) {
  std::mt19937 random(std::random_device{}());
  std::uniform_real_distribution<double> place(0, 1000);
  LineLabels labels({.height = 10, .spacing = 150, .within = {0, 0, 1000, 1000}});
  std::vector<LineLabel> all;
  for (int n = 0; n < 60; ++n) {
    const double y = place(random), tilt = place(random) / 2000;
    const LineString line{{0, y}, {1000, y + 1000 * tilt}};
    const auto got = labels.along(line, 40);
    EXPECT_LE(got.size(), static_cast<std::size_t>(length_of(line) / 150));
    all.insert(all.end(), got.begin(), got.end());
  }
  EXPECT_GT(all.size(), 60u);
  for (std::size_t i = 0; i < all.size(); ++i) {
    EXPECT_TRUE((Bounds{0, 0, 1000, 1000}.contains(all[i].centre)));
    for (std::size_t j = 0; j < i; ++j) {
      // Corners of one box are not inside the other.
      for (const double u : {-1.0, 0.0, 1.0})
        for (const double v : {-1.0, 1.0}) {
          const double cx = all[i].centre.x + u * 20 * std::cos(all[i].turn) - v * 5 * std::sin(all[i].turn),
                       cy = all[i].centre.y + u * 20 * std::sin(all[i].turn) + v * 5 * std::cos(all[i].turn);
          const double dx = cx - all[j].centre.x, dy = cy - all[j].centre.y;
          const double along = dx * std::cos(all[j].turn) + dy * std::sin(all[j].turn),
                       across = dy * std::cos(all[j].turn) - dx * std::sin(all[j].turn);
          EXPECT_FALSE(std::abs(along) < 20 && std::abs(across) < 5);
        }
    }
  }
}

TEST(LineLabels, NoneWhereThereIsNoRoom) {
  LineLabels labels({.height = 5, .spacing = 100});
  EXPECT_TRUE(labels.along({}, 10).empty());
  EXPECT_TRUE(labels.along({{0, 0}}, 10).empty());
  EXPECT_TRUE(labels.along({{0, 0}, {0, 0}}, 10).empty());
  EXPECT_TRUE(labels.along({{0, 0}, {std::numeric_limits<double>::infinity(), 0}}, 10).empty());
  EXPECT_TRUE(labels.along({{0, 0}, {std::nan(""), 0}, {500, 0}}, 10).empty());
  EXPECT_TRUE(labels.along({{0, 0}, {29, 0}}, 10).empty());
  EXPECT_EQ(labels.along({{0, 0}, {31, 0}}, 10).size(), 1u);
  EXPECT_TRUE(labels.along({{0, 0}, {31, 0}}, 10).empty()) << "taken";
}

// ------------------------------------------------------------------------------------------------------- spot heights

struct Spots {
  std::vector<Point> summits, pits, saddles;
};
Spots spots_of(const Grid& g, const SpotOptions& o) {
  Spots out;
  for (const SpotHeight& s : spot_heights(g, o))
    (s.kind == SpotKind::Summit ? out.summits : s.kind == SpotKind::Pit ? out.pits : out.saddles).push_back(s.place);
  return out;
}

// sin x sin y: summits, pits and saddles at known places.
TEST(SpotHeights, OfAnEggBoxLieWhereTheyDo) {
  const double k = std::acos(-1) / 20;
  const Grid g = grid_from_function(
      utm_frame(90, 90),
      [=](double x, double y) { return 10 * std::sin((x - 676000) * k) * std::sin((5842000 - y) * k); },
      metres_above_egm2008());
  const Spots s = spots_of(g, {.radius = 12_m, .relief = 5_m});
  // Half periods of 20 m: 4.5 x 4.5, the half ones at the rim having their middle on it.
  auto at = [](Point p, double sx, double sy) {
    const double u = (p.x - 676000 - sx) / 20, v = (5842000 - p.y - sy) / 20;
    return std::abs(u - std::round(u)) < 0.06 && std::abs(v - std::round(v)) < 0.06;
  };
  for (Point p : s.summits) EXPECT_TRUE(at(p, 10, 10));
  for (Point p : s.pits) EXPECT_TRUE(at(p, 10, 10));
  for (Point p : s.saddles) EXPECT_TRUE(at(p, 0, 0)) << p.x - 676000 << " " << 5842000 - p.y;
  EXPECT_EQ(s.summits.size(), 8u);
  EXPECT_EQ(s.pits.size(), 8u);
  EXPECT_EQ(s.saddles.size(), 9u);  // farther than the radius from the rim
  EXPECT_TRUE(spot_heights(g, {.radius = 12_m, .relief = 30_m}).empty());
}

// Summits as they are defined, cell by cell.
TEST(SpotHeights, AgreeWithEveryCellLookedAt) {
  const unsigned seed = std::random_device{}();
  SCOPED_TRACE("seed " + std::to_string(seed));
  // Rough enough that some spots stand out whatever the seed; whole numbers, so that many are equal.
  std::mt19937 random(seed);
  std::vector<float> values(57 * 43);
  for (float& v : values) v = random() % 40 == 0 ? kVoid : static_cast<float>(random() % 30);
  const Grid g = grid_from_values(utm_frame(57, 43), values, metres_above_egm2008());
  const Block b = g.read(g.frame().window());
  std::size_t found = 0;
  for (const double radius : {2.0, 4.5, 9.0}) {
    std::vector<Point> summits, pits;
    for (std::int64_t r = 0; r < 43; ++r)
      for (std::int64_t c = 0; c < 57; ++c) {
        bool known = true, summit = true, pit = true;
        float low = b.at(c, r), high = low;
        for (std::int64_t j = -9; j <= 9; ++j)
          for (std::int64_t i = -9; i <= 9; ++i) {
            const std::int64_t x = c + i, y = r + j;
            const bool there = x >= 0 && y >= 0 && x < 57 && y < 43;
            const float z = there ? b.at(x, y) : kVoid;
            if (std::abs(i) <= 1 && std::abs(j) <= 1) known = known && !std::isnan(z);
            if (std::hypot(static_cast<double>(i), static_cast<double>(j)) > radius || (i == 0 && j == 0)) continue;
            const bool earlier = (j < 0 || (j == 0 && i < 0)) && z == b.at(c, r);
            summit = summit && !(z > b.at(c, r)) && !earlier;
            pit = pit && !(z < b.at(c, r)) && !earlier;
            if (!std::isnan(z)) {
              low = std::min(low, z);
              high = std::max(high, z);
            }
          }
        if (known && summit && b.at(c, r) - low >= 0.25f) summits.push_back(g.frame().centre(double(c), double(r)));
        if (known && pit && high - b.at(c, r) >= 0.25f) pits.push_back(g.frame().centre(double(c), double(r)));
      }
    // A metre on the ground is a little less than one of the grid.
    const Length ground = ground_spacing(g.frame()).x * (radius + 1e-6);
    const Spots s = spots_of(g, {.radius = ground, .relief = Length::metres(0.25)});
    EXPECT_EQ(s.summits, summits) << radius;
    EXPECT_EQ(s.pits, pits) << radius;
    found += summits.size() + pits.size();
  }
  EXPECT_GT(found, 0u);
}

TEST(SpotHeights, AreTheSameForEveryBlockAndThread) {
  const Grid g = rough_grid(utm_frame(80, 70), 9, 4);
  auto places = [&](const RunOptions& run) {
    std::vector<Point> out;
    for (const SpotHeight& s : spot_heights(g, {.radius = 5_m, .relief = Length::metres(0.2), .run = run}))
      out.push_back(s.place);
    return out;
  };
  const auto expected = places({.threads = 1, .block = 1000});
  EXPECT_GT(expected.size(), 5u);
  for (int block : {1, 7, 30})
    for (int threads : {1, 3}) EXPECT_EQ(places({.threads = threads, .block = block}), expected);
}

TEST(SpotHeights, WhatIsRefused) {
  const Grid g = rough_grid(utm_frame(20, 20), 1, 0);
  EXPECT_EQ(error_of([&] { spot_heights(g, {.radius = 1_m}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { spot_heights(g, {.radius = 5000_m}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { spot_heights(g, {.radius = Length::metres(std::nan(""))}); }), ErrorCode::BadArgument);
  EXPECT_TRUE(spot_heights(grid_from_values(utm_frame(9, 9), std::vector<float>(81, 4)), {}).empty());
}

}  // namespace
}  // namespace katoptra
