// Triangles of a surface, and solids of them.
#include "katoptra/terrain/solid.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <map>
#include <random>

#include "katoptra/terrain/mesh.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

using Side = std::pair<std::uint32_t, std::uint32_t>;

// How often each side is run along, in its direction.
std::map<Side, int> sides_of(const std::vector<std::array<std::uint32_t, 3>>& triangles) {
  std::map<Side, int> out;
  for (const auto& t : triangles)
    for (std::size_t i = 0; i < 3; ++i) ++out[{t[i], t[(i + 1) % 3]}];
  return out;
}

// No cell of the ground farther from its triangle than the error, every square of ground covered once, and no cracks.
void mesh_is_right(const Grid& g, double error) {
  const SurfaceMesh m = surface_mesh(g, {.error = Length::metres(error)});
  const Block b = g.read(g.frame().window());
  std::map<std::pair<std::int64_t, std::int64_t>, int> twice;  // halves of squares
  for (const auto* triangles : {&m.triangles, &m.floor}) {
    double area = 0;
    for (const auto& t : *triangles) {
      const MeshVertex v[3] = {m.vertices[t[0]], m.vertices[t[1]], m.vertices[t[2]]};
      const double turn =
          double(v[1].col - v[0].col) * (v[2].row - v[0].row) - double(v[2].col - v[0].col) * (v[1].row - v[0].row);
      ASSERT_LT(turn, 0) << "left seen from above, where rows go down";
      area -= turn / 2;
      if (triangles == &m.floor) continue;
      for (std::int64_t r = std::min({v[0].row, v[1].row, v[2].row}); r <= std::max({v[0].row, v[1].row, v[2].row});
           ++r)
        for (std::int64_t c = std::min({v[0].col, v[1].col, v[2].col}); c <= std::max({v[0].col, v[1].col, v[2].col});
             ++c) {
          const double w2 = (double(v[1].col - v[0].col) * double(r - v[0].row) -
                             double(c - v[0].col) * (v[1].row - v[0].row)) /
                            turn,
                       w1 = (double(c - v[0].col) * (v[2].row - v[0].row) -
                             double(v[2].col - v[0].col) * double(r - v[0].row)) /
                            turn;
          if (w1 < -1e-9 || w2 < -1e-9 || w1 + w2 > 1 + 1e-9) continue;
          const double z = (1 - w1 - w2) * double(v[0].height) + w1 * double(v[1].height) + w2 * double(v[2].height);
          ASSERT_NEAR(z, double(b.at(c, r)), error * (1 + 1e-6) + 1e-4) << c << ", " << r;
        }
    }
    // Squares that touch at a corner alone may have gone.
    std::int64_t squares = 0, corners = 0;
    auto ground = [&](std::int64_t c, std::int64_t r) {
      return c >= 0 && r >= 0 && c + 1 < g.frame().cols() && r + 1 < g.frame().rows() &&
             !std::isnan(b.at(c, r) + b.at(c + 1, r) + b.at(c, r + 1) + b.at(c + 1, r + 1));
    };
    for (std::int64_t r = 0; r < g.frame().rows(); ++r)
      for (std::int64_t c = 0; c < g.frame().cols(); ++c) {
        squares += ground(c, r);
        const bool nw = ground(c - 1, r - 1), ne = ground(c, r - 1), sw = ground(c - 1, r), se = ground(c, r);
        corners += nw == se && ne == sw && nw != ne;
      }
    EXPECT_LE(area, static_cast<double>(squares));
    EXPECT_GE(area, static_cast<double>(squares - 3 * corners));
    if (corners == 0) {
      EXPECT_EQ(area, static_cast<double>(squares));
    }
    // Sides lie in two triangles that run along them both ways, or at the border.
    const auto sides = sides_of(*triangles);
    std::vector<Side> border;
    for (const auto& [s, n] : sides) {
      ASSERT_EQ(n, 1);
      if (!sides.contains({s.second, s.first})) border.push_back(s);
    }
    std::vector<Side> told;
    for (const auto& s : m.border) told.emplace_back(s[0], s[1]);
    std::sort(told.begin(), told.end());
    EXPECT_EQ(border, told) << (triangles == &m.floor ? "floor" : "ground");
  }
  EXPECT_LE(m.floor.size(), m.triangles.size());
}

TEST(SurfaceMesh, EveryCellIsAsNearAsAskedWithoutCracks) {
  const unsigned first = std::random_device{}() % 100000;
  for (unsigned seed = first; seed < first + 14; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const Frame f =
        utm_frame(static_cast<std::int64_t>(2 + seed * 5 % 71), static_cast<std::int64_t>(2 + seed * 3 % 53));
    const Grid g = rough_grid(f, seed, static_cast<int>(seed % 6));
    for (const double error : {0.0, 0.4, 3.0}) mesh_is_right(g, error);
  }
  mesh_is_right(rough_grid(utm_frame(65, 65), first, 0), 1);
  mesh_is_right(rough_grid(utm_frame(2, 2), first, 0), 1);
}

TEST(SurfaceMesh, SquaresThatMeetAtACornerArePartedEverywhere) {
  std::mt19937 random(std::random_device{}());
  for (int n = 0; n < 20; ++n) {
    std::vector<float> v(20 * 17);
    for (float& z : v) z = random() % 5 == 0 ? kVoid : static_cast<float>(random() % 9);
    mesh_is_right(grid_from_values(utm_frame(20, 17), v, metres_above_egm2008()), 2);
  }
}

TEST(SurfaceMesh, APlaneIsTwoTrianglesAndARidgeIsKept) {
  const Grid plane = grid_from_function(utm_frame(129, 129),
                                        [](double x, double y) { return 0.25 * (x - 676000) + 0.5 * (y - 5841000); });
  EXPECT_EQ(surface_mesh(plane, {.error = Length::metres(0.001)}).triangles.size(), 2u);
  const Grid roof = grid_from_function(utm_frame(129, 129), [](double x, double) { return -std::abs(x - 676064.5); });
  const SurfaceMesh m = surface_mesh(roof, {.error = Length::metres(0.001)});
  EXPECT_LT(m.triangles.size(), 10u);
}

TEST(SurfaceMesh, AreTheSameForEveryBlockAndThread) {
  const Grid g = rough_grid(utm_frame(77, 60), 4, 5);
  const SurfaceMesh expected = surface_mesh(g, {.error = 1_m, .run = {.threads = 1, .block = 1000}});
  for (int threads : {2, 3})
    for (int block : {1, 7}) {
      const SurfaceMesh m = surface_mesh(g, {.error = 1_m, .run = {.threads = threads, .block = block}});
      EXPECT_EQ(m.triangles, expected.triangles);
      EXPECT_EQ(m.border, expected.border);
    }
}

TEST(SurfaceMesh, IsRefusedBeforeMemoryIsGone) {
  const Grid g = rough_grid(utm_frame(200, 200), 1, 0);
  RunOptions little;
  little.memory = 100 * 1000;
  EXPECT_EQ(error_of([&] { surface_mesh(g, {.error = 1_m, .run = little}); }), ErrorCode::TooLarge);
  little.memory = 1 << 20;
  std::string text;
  EXPECT_EQ(error_of([&] { surface_mesh(g, {.run = little}); }, &text), ErrorCode::TooLarge);
  EXPECT_NE(text.find("triangles"), text.npos) << text;
  EXPECT_GT(surface_mesh(g, {.error = 2_m, .run = little}).triangles.size(), 10u);
}

// ------------------------------------------------------------------------------------------------------------- solids

double volume_of(const Solid& s) {
  double v = 0;
  for (const auto& t : s.triangles) {
    double p[3][3];
    for (int i = 0; i < 3; ++i)
      for (int j = 0; j < 3; ++j) p[i][j] = double(s.vertices[t[std::size_t(i)]][std::size_t(j)]);
    v += p[0][0] * (p[1][1] * p[2][2] - p[1][2] * p[2][1]) - p[0][1] * (p[1][0] * p[2][2] - p[1][2] * p[2][0]) +
         p[0][2] * (p[1][0] * p[2][1] - p[1][1] * p[2][0]);
  }
  return v / 6;
}

// Closed, turned outwards, as Euler's formula wants it, and of the volume that its cells have.
void solid_is_right(const Grid& g, const SolidOptions& o) {
  const Solid s = surface_solid(g, o);
  const auto sides = sides_of(s.triangles);
  for (const auto& [side, n] : sides) {
    ASSERT_EQ(n, 1);
    ASSERT_TRUE(sides.contains({side.second, side.first}));
  }
  for (const auto& t : s.triangles)
    for (std::size_t i = 0; i < 3; ++i) ASSERT_NE(s.vertices[t[i]], s.vertices[t[(i + 1) % 3]]);
  // V - E + F is 2 for each body less 2 for each hole through it: even, in any case.
  std::vector<bool> used(s.vertices.size(), false);
  for (const auto& t : s.triangles)
    for (const std::uint32_t v : t) used[v] = true;
  EXPECT_EQ(std::count(used.begin(), used.end(), true), std::ssize(s.vertices));
  EXPECT_EQ((std::ssize(s.vertices) - std::ssize(sides) / 2 + std::ssize(s.triangles)) % 2, 0);
  EXPECT_GT(volume_of(s), 0);
  for (const auto& v : s.vertices) {
    EXPECT_GE(v[2], 0);
    EXPECT_LE(double(v[2]), s.height + 1e-3);
  }
}

TEST(Solid, IsClosedAndTurnedOutwards) {
  const unsigned seed = std::random_device{}() % 100000;
  SCOPED_TRACE("seed " + std::to_string(seed));
  for (int voids : {0, 3, 8}) {
    const Grid g = rough_grid(utm_frame(61, 44), seed, voids);
    solid_is_right(g, {.bed_width = Length::metres(0.1), .bed_depth = Length::metres(0.1)});
    solid_is_right(g, {.scale = 500, .exaggeration = 3, .error = Length::metres(0.002), .water = 100_m});
  }
  std::mt19937 random(seed);
  std::vector<float> v(20 * 17);
  for (float& z : v) z = random() % 5 == 0 ? kVoid : static_cast<float>(random() % 9);
  solid_is_right(grid_from_values(utm_frame(20, 17), v, metres_above_egm2008()), {.scale = 100});
}

TEST(Solid, HasTheSizeAndVolumeAskedFor) {
  // A ramp of 100 x 60 m that rises 20 m to the east, in feet.
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid g = grid_from_function(
      utm_frame(101, 61), [](double x, double) { return (x - 676000.5) * 0.2 / 0.3048; }, feet);
  const double k = ground_spacing(g.frame()).x.metres();
  const Solid s =
      surface_solid(g, {.bed_width = Length::metres(0.2), .bed_depth = Length::metres(0.2), .exaggeration = 2});
  EXPECT_NEAR(s.scale, 500 * k, 1e-6);
  EXPECT_NEAR(s.width, 200, 1e-9);
  EXPECT_NEAR(s.depth, 120, 0.01);
  EXPECT_NEAR(s.height, 3 + 80 / k, 1e-3);
  EXPECT_NEAR(volume_of(s), 200 * 120 * (3 + 40 / k), 10);
  const Solid at = surface_solid(g, {.scale = 1000});
  EXPECT_NEAR(at.width, 100 * k, 1e-6);
  EXPECT_NEAR(at.height, 3 + 20, 1e-4);
  // Half of it under water: a level floor a step below.
  const Solid wet = surface_solid(g, {.scale = 1000, .water = 10_m, .water_step = Length::metres(0.001)});
  EXPECT_NEAR(wet.height, 3 + 1 + 10, 1e-3);
}

// The triangles [first, end) as a body of their own.
Solid part_of(const Solid& s, std::size_t first, std::size_t end) {
  Solid out = s;
  out.triangles.assign(s.triangles.begin() + static_cast<std::ptrdiff_t>(first),
                       s.triangles.begin() + static_cast<std::ptrdiff_t>(end));
  return out;
}
void body_is_closed(const Solid& s) {
  const auto sides = sides_of(s.triangles);
  for (const auto& [side, n] : sides) {
    ASSERT_EQ(n, 1);
    ASSERT_TRUE(sides.contains({side.second, side.first}));
  }
  for (const auto& t : s.triangles) {
    double u[3], v[3];
    for (std::size_t i = 0; i < 3; ++i) {
      u[i] = double(s.vertices[t[1]][i]) - double(s.vertices[t[0]][i]);
      v[i] = double(s.vertices[t[2]][i]) - double(s.vertices[t[0]][i]);
    }
    const double area = std::hypot(u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]) / 2;
    ASSERT_GT(area, 1e-7);
  }
}

// Closed over any ground, with voids, also where whole cells lie exactly on its level; of the volume that lies below
// it.
TEST(SolidWater, IsABodyOverItsFloor) {
  const unsigned seed = std::random_device{}() % 100000;
  SCOPED_TRACE("seed " + std::to_string(seed));
  std::mt19937 random(seed);
  for (int n = 0; n < 24; ++n) {
    const Frame f = utm_frame(8 + n * 3, 30 - n);
    std::vector<float> v(static_cast<std::size_t>(f.cols() * f.rows()));
    for (float& z : v) z = random() % 17 == 0 ? kVoid : static_cast<float>(random() % 5);
    const Grid g =
        n % 2 ? rough_grid(f, seed + static_cast<unsigned>(n), n % 5) : grid_from_values(f, v, metres_above_egm2008());
    const double level = n % 2 ? 100 : 2;
    const SolidOptions o{
        .scale = 200, .error = Length::metres(n % 3 * 0.001), .water = Length::metres(level), .water_body = true};
    const Solid s = surface_solid(g, o);
    ASSERT_GT(s.water, 0u);
    body_is_closed(part_of(s, 0, s.dry()));
    const Solid water = part_of(s, s.dry(), s.triangles.size());
    body_is_closed(water);
    // Nothing of it lies above the level, and all of its top is level.
    float top = 0;
    for (const auto& t : water.triangles)
      for (const auto corner : t) top = std::max(top, s.vertices[corner][2]);
    // What a corner of the ground tells of where zero is.
    const auto& on = s.on_map[0];
    const double known = value_at(g, static_cast<std::int64_t>(double(on[0]) * static_cast<double>(f.cols())),
                                  static_cast<std::int64_t>(double(on[1]) * static_cast<double>(f.rows())));
    EXPECT_NEAR(double(top), double(s.vertices[0][2]) + (level - known) * 5, 1e-3);
    // By hand: each triangle of the ground in small pieces.
    double expected = 0;
    constexpr int kParts = 24;
    for (std::size_t i = 0; i < s.ground; ++i) {
      const auto &a = s.vertices[s.triangles[i][0]], &b = s.vertices[s.triangles[i][1]],
                 &c = s.vertices[s.triangles[i][2]];
      const double area =
          std::abs(double(b[0] - a[0]) * double(c[1] - a[1]) - double(c[0] - a[0]) * double(b[1] - a[1])) / 2;
      double deep = 0;
      for (int x = 0; x < kParts; ++x)
        for (int y = 0; x + y < kParts; ++y)
          for (const double third : {1.0 / 3, 2.0 / 3}) {
            if (third > 0.5 && x + y + 1 >= kParts) continue;
            const double p = (x + third) / kParts, q = (y + third) / kParts;
            deep += std::max(0.0, double(top) - (double(a[2]) + p * double(b[2] - a[2]) + q * double(c[2] - a[2])));
          }
      expected += area * deep / (kParts * kParts);
    }
    EXPECT_NEAR(volume_of(water), expected, 0.03 * expected + 0.1);
  }
  // Nothing lies below it.
  const Solid dry =
      surface_solid(rough_grid(utm_frame(20, 20), 1, 0), {.scale = 200, .water = 1_m, .water_body = true});
  EXPECT_EQ(dry.water, 0u);
}

// Each fits its bed, all together are the whole without its gaps, and what two of them share is as high in both.
TEST(SolidTiles, FitTheBedAndOneAnother) {
  const Grid g = grid_from_function(
      utm_frame(241, 181), [](double x, double y) { return 5 * std::sin(x / 17) + 3 * std::cos(y / 11); },
      metres_above_egm2008());
  const Length mm = Length::metres(0.001);
  const SolidOptions o{.bed_width = mm * 110, .bed_depth = mm * 90, .scale = 1000, .error = Length()};
  const Solid whole = surface_solid(g, {.scale = 1000, .error = Length()});
  auto area_of = [](const Solid& s) {
    double area = 0;
    for (std::size_t i = 0; i < s.ground; ++i) {
      const auto &a = s.vertices[s.triangles[i][0]], &b = s.vertices[s.triangles[i][1]],
                 &c = s.vertices[s.triangles[i][2]];
      area += (double(b[0] - a[0]) * double(c[1] - a[1]) - double(c[0] - a[0]) * double(b[1] - a[1])) / 2;
    }
    return area;
  };
  for (const double gap : {0.0, 1.0}) {
    double area = 0;
    std::map<std::pair<long, long>, float> heights;
    std::vector<std::string> names;
    for_each_solid_tile(g, o, {.tab = mm * 8, .gap = mm * gap}, [&](const SolidTile& t) {
      names.push_back(t.name);
      body_is_closed(t.solid);
      EXPECT_LE(t.solid.width, 110 + 1e-6);
      EXPECT_LE(t.solid.depth, 90 + 1e-6);
      EXPECT_EQ(t.across, 3);
      EXPECT_EQ(t.down, 3);
      area += area_of(t.solid);
      for (std::size_t i = 0; i < t.solid.ground; ++i)
        for (const auto v : t.solid.triangles[i]) {
          const auto& p = t.solid.vertices[v];
          const auto [known, fresh] = heights.try_emplace(
              {std::lround((double(p[0]) + t.x) * 100), std::lround((double(p[1]) + t.y) * 100)}, p[2]);
          if (!fresh) {
            ASSERT_NEAR(double(known->second), double(p[2]), 1e-4) << t.name;
          }
        }
    });
    EXPECT_EQ(names, (std::vector<std::string>{"A1", "A2", "A3", "B1", "B2", "B3", "C1", "C2", "C3"}));
    for (std::size_t i = 0; i < whole.ground && gap == 0; ++i)
      for (const auto v : whole.triangles[i]) {
        const auto& p = whole.vertices[v];
        const auto here = heights.find({std::lround(double(p[0]) * 100), std::lround(double(p[1]) * 100)});
        ASSERT_TRUE(here != heights.end());
        ASSERT_NEAR(double(here->second), double(p[2]), 1e-4);
      }
    // Every seam is longer by its tabs.
    const double all = area_of(whole);
    if (gap == 0) {
      EXPECT_NEAR(area, all, 1e-3 * all);
    } else {
      EXPECT_TRUE(area < all - 2 * (whole.width + whole.depth) && area > all - 3.2 * (whole.width + whole.depth))
          << all - area;
    }
  }
}

TEST(SolidTiles, WhatIsRefused) {
  const Grid g = rough_grid(utm_frame(60, 60), 1, 0);
  const Length mm = Length::metres(0.001);
  auto refused = [&](const SolidOptions& o, const SolidTiling& t) {
    return error_of([&] { for_each_solid_tile(g, o, t, [](const SolidTile&) { ADD_FAILURE(); }); });
  };
  EXPECT_EQ(refused({.scale = 100}, {}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.bed_width = mm * 100, .bed_depth = mm * 100}, {}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.bed_width = mm * 20, .bed_depth = mm * 100, .scale = 100}, {}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.bed_width = mm * 100, .bed_depth = mm * 100, .scale = 100}, {.tab = Length()}),
            ErrorCode::BadArgument);
  EXPECT_EQ(refused({.bed_width = mm * 100, .bed_depth = mm * 100, .scale = 100}, {.gap = mm * 5}),
            ErrorCode::BadArgument);
  EXPECT_EQ(refused({.bed_width = mm * 40, .bed_depth = mm * 40, .scale = 1}, {}), ErrorCode::TooLarge);
  const Grid empty = grid_from_values(utm_frame(60, 60), std::vector<float>(3600, kVoid));
  EXPECT_EQ(error_of([&] {
              for_each_solid_tile(empty, {.bed_width = mm * 100, .bed_depth = mm * 100, .scale = 300}, {},
                                  [](const SolidTile&) { ADD_FAILURE(); });
            }),
            ErrorCode::BadFile);
}

TEST(Solid, WhatIsRefused) {
  const Grid g = rough_grid(utm_frame(20, 20), 1, 0);
  const Length mm = Length::metres(0.001);
  EXPECT_EQ(error_of([&] { surface_solid(g, {}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { surface_solid(g, {.bed_width = mm * 100}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { surface_solid(g, {.scale = 0}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { surface_solid(g, {.scale = 100, .exaggeration = 0}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { surface_solid(g, {.scale = 100, .base = Length()}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { surface_solid(g, {.bed_width = mm * 10, .bed_depth = mm * 10, .scale = 100}); }),
            ErrorCode::BadArgument);
  EXPECT_EQ(
      error_of([&] { surface_solid(grid_from_values(utm_frame(3, 3), std::vector<float>(9, kVoid)), {.scale = 100}); }),
      ErrorCode::BadFile);
}

}  // namespace
}  // namespace katoptra
