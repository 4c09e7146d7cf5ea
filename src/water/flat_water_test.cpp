// Water laid flat against waters whose level is known: ponds with noise, a river that winds and falls, an island in it,
// the sea; and levels that rise along a tree against plain twins.
#include "katoptra/water/flat_water.hpp"

#include <cmath>
#include <numeric>
#include <random>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "sureness.hpp"
#include "testing.hpp"
#include "water/cell_set.hpp"
#include "water/river_levels.hpp"
#include "water/water_level.hpp"

namespace katoptra {
namespace {

using namespace testing;

constexpr double kWest = 676000, kNorth = 5842000;

Polygon circle(double x, double y, double radius, int corners = 90) {
  Polygon p;
  for (int i = 0; i <= corners; ++i) {
    const double a = 2 * M_PI * (i % corners) / corners;
    p.outer.push_back({kWest + x + radius * std::cos(a), kNorth - y + radius * std::sin(a)});
  }
  return p;
}

// A grid from a function of metres east and south of its corner.
Grid ground(std::int64_t cols, std::int64_t rows, const std::function<double(double, double)>& f, double noise = 0,
            unsigned seed = 1, double cell = 1) {
  const Ground g = [&](double x, double y) { return f(x - kWest, kNorth - y); };
  return measured(utm_frame(cols, rows, cell), g, noise, Length(), seed);
}

double lake_level(const Grid& g, double x, double y) {
  return value_at(g, static_cast<std::int64_t>(x), static_cast<std::int64_t>(y));
}

// A pond of radius 40 at (100, 90), level 12, in a bowl that rises by a fifth; an island of radius 8 within.
double pond(double x, double y) {
  const double d = std::hypot(x - 100, y - 90), shore = d - 40, island = 8 - std::hypot(x - 110, y - 95);
  if (island > 0) return 12.2 + 0.2 * island;
  return shore > 0 ? 12 + 0.2 * shore : 12;
}

TEST(FlatWater, LakeHasTheLevelOfItsCellsAndKeepsBankAndIsland) {
  const Grid g = ground(201, 183, pond, 0.05, 7);
  // The pen was three metres too broad.
  const FlatWater f =
      lay_water_flat(g, {{.shape = {circle(100, 90, 43)}, .kind = WaterKind::Unknown, .level = {}, .name = "pond"}});
  ASSERT_EQ(f.bodies.size(), 1u);
  const LaidBody& b = f.bodies[0];
  EXPECT_EQ(b.kind, WaterKind::Lake);
  EXPECT_EQ(b.by, "its cells");
  EXPECT_NEAR(b.level, 12, 0.004);
  EXPECT_EQ(b.level, b.highest);
  EXPECT_NEAR(b.area, M_PI * (40 * 40 - 64), 250);
  EXPECT_GT(b.kept, 150);
  std::int64_t laid = 0;
  double lowered = 0;
  for (std::int64_t r = 0; r < 183; ++r)
    for (std::int64_t c = 0; c < 201; ++c) {
      const float was = g.at(c, r), is = f.grid.at(c, r);
      const double x = static_cast<double>(c) + 0.5, y = static_cast<double>(r) + 0.5, d = std::hypot(x - 100, y - 90);
      const double island = std::hypot(x - 110, y - 95);
      const bool untouched = d > 43.01 || island < 6.5, water = d < 39.5 && island > 8.1;
      ASSERT_TRUE(!untouched || same_bits(was, is)) << c << ", " << r;
      ASSERT_TRUE(!water || is == static_cast<float>(b.level)) << c << ", " << r;
      if (d > 40) lowered = std::max(lowered, static_cast<double>(was - is));
      laid += is == static_cast<float>(b.level);
    }
  EXPECT_GE(laid, b.cells);
  EXPECT_LE(lowered, 0.16) << "the shore is cut into the bank by no more than the noise of the water";
  EXPECT_LE(b.lowered, 3.5 * 0.05 + 0.01);
  expect_same_for_every_window(f.grid, 3);
  expect_same_for_every_window(f.before, 4);
}

TEST(FlatWater, OriginSaysSoAndTheRecordUndoesIt) {
  const Grid noisy = ground(201, 183, pond, 0.05, 8);
  // With voids in the water, as laser light leaves them.
  std::vector<float> v = all_values(noisy);
  for (std::int64_t r = 70; r < 100; ++r)
    for (std::int64_t c = 80; c < 95; ++c) v[static_cast<std::size_t>(r * 201 + c)] = kVoid;
  const Grid g = with_uncertainty(grid_from_values(noisy.frame(), v, noisy.quantity()),
                                  UncertaintyModel{.constant = Length::metres(0.05)});
  const FlatWater f = lay_water_flat(g, {{.shape = {circle(100, 90, 43)}}});
  EXPECT_EQ(f.bodies[0].voids, 30 * 15);
  const Block flat = f.grid.read(f.grid.frame().window(), Planes::All);
  const std::size_t n = f.grid.info().sources.size();
  EXPECT_EQ(f.grid.info().sources.back().name, "flatten: lake laid flat");
  std::int64_t cells = 0;
  for (std::int64_t r = 0; r < 183; ++r)
    for (std::int64_t c = 0; c < 201; ++c)
      if (source_of(flat.origin_row(r)[c]) == n) {
        ++cells;
        ASSERT_EQ(how_of(flat.origin_row(r)[c]), How::Filled);
        ASSERT_EQ(flat.uncertainty_row(r)[c], static_cast<float>(f.bodies[0].uncertainty));
      }
  EXPECT_EQ(cells, f.bodies[0].cells);

  // Through files: a GeoJSON has nine decimals of degrees.
  for (const char* name : {"record.gpkg", "record.geojson", "record.shp"}) {
    const TemporaryFolder folder;
    const Layer layer = water_layer(f, g);
    write_layer(layer, folder / name);
    const Grid back = restored(f.grid, water_bodies_of(read_layer(folder / name, g.frame().crs()), g), f.before);
    const std::vector<float> is = all_values(back);
    for (std::size_t i = 0; i < v.size(); ++i) ASSERT_TRUE(same_bits(is[i], v[i])) << name << " cell " << i;
    expect_same_for_every_window(back, 5);
  }
}

TEST(FlatWater, ALakeOfVoidsStandsAsHighAsItsBankLetsIt) {
  const Grid noisy = ground(201, 183, pond, 0.02, 9);
  std::vector<float> v = all_values(noisy);
  for (std::int64_t r = 0; r < 183; ++r)
    for (std::int64_t c = 0; c < 201; ++c)
      if (std::hypot(static_cast<double>(c) + 0.5 - 100, static_cast<double>(r) + 0.5 - 90) < 40)
        v[static_cast<std::size_t>(r * 201 + c)] = kVoid;
  const Grid g = grid_from_values(noisy.frame(), v, noisy.quantity());
  const FlatWater f = lay_water_flat(g, {{.shape = {circle(100, 90, 40)}}});
  EXPECT_EQ(f.bodies[0].by, "its bank");
  EXPECT_NEAR(f.bodies[0].level, 12.05, 0.05);
  EXPECT_EQ(f.bodies[0].voids, f.bodies[0].cells);
  EXPECT_LE(static_cast<double>(f.bodies[0].bank_below), 0.06 * static_cast<double>(f.bodies[0].bank));
}

TEST(FlatWater, GivenLevelsCountInTheirUnit) {
  const Grid metres = ground(201, 183, pond, 0, 1);
  const Grid feet = in_unit(metres, LengthUnit::Foot);
  Layer layer{.name = "water", .crs = metres.frame().crs(), .features = {}};
  layer.features.push_back({MultiPolygon{circle(100, 90, 43)}, {{"kind", "lake"}, {"level", 12.1}, {"unit", "m"}}});
  EXPECT_NEAR(lay_water_flat(feet, water_bodies_of(layer, feet)).bodies[0].level, 12.1 / 0.3048, 1e-9);
  EXPECT_NEAR(lay_water_flat(metres, water_bodies_of(layer, metres)).bodies[0].level, 12.1, 1e-9);
  // Feet on a surface in metres: everything is below such a level but nothing as high as the bank that it needs.
  layer.features[0].properties = {{"kind", "lake"}, {"level", 3.7}};
  EXPECT_EQ(error_of([&] { lay_water_flat(metres, water_bodies_of(layer, metres)); }), ErrorCode::BadArgument);
}

// ---- rivers

// A river that winds: its middle at y = 100 + 30 sin(x / 40), 16 wide; it falls by 2 mm a metre towards the east from
// 20. Banks rise by a third.
struct Winding {
  static double middle(double x) { return 100 + 30 * std::sin(x / 40); }
  static double along(double x) {
    double s = 0;
    for (double t = 0; t < x; t += 0.5) s += std::hypot(0.5, middle(t + 0.5) - middle(t));
    return s;
  }
  std::vector<double> s_at;  // of each metre of x
  Winding() {
    for (int x = 0; x <= 400; ++x) s_at.push_back(along(x));
  }
  // The nearest place of the middle: x of it and the distance.
  std::pair<double, double> nearest(double x, double y) const {
    double best = 1e9, at = 0;
    for (double t = std::max(0.0, x - 40); t <= std::min(400.0, x + 40); t += 0.25)
      if (const double d = std::hypot(t - x, middle(t) - y); d < best) {
        best = d;
        at = t;
      }
    return {at, best};
  }
  double level(double x) const {
    const auto i = static_cast<std::size_t>(std::clamp(x, 0.0, 399.0));
    const double s = s_at[i] + (x - static_cast<double>(i)) * (s_at[i + 1] - s_at[i]);
    return 20 - 0.002 * s;
  }
  double operator()(double x, double y) const {
    const auto [at, d] = nearest(x, y);
    return level(at) + (d > 8 ? (d - 8) / 3 : 0);
  }
  MultiPolygon shape(double half = 9) const {
    Polygon p;
    std::vector<Point> down, up;
    for (double x = 10; x <= 390; x += 2) {
      const double slope = 30 / 40.0 * std::cos(x / 40), n = std::hypot(1, slope);
      down.push_back({kWest + x - half * slope / n, kNorth - (middle(x) + half / n)});
      up.push_back({kWest + x + half * slope / n, kNorth - (middle(x) - half / n)});
    }
    p.outer = down;
    p.outer.insert(p.outer.end(), up.rbegin(), up.rend());
    p.outer.push_back(p.outer.front());
    return {p};
  }
};

TEST(FlatWater, RiversFallSteadilyFromBankToBank) {
  const Winding w;
  const Grid g = ground(401, 201, w, 0.05, 11);
  const FlatWater f = lay_water_flat(g, {{.shape = w.shape()}});
  const LaidBody& b = f.bodies[0];
  ASSERT_EQ(b.kind, WaterKind::River) << "told by its form";
  EXPECT_NEAR(b.highest, w.level(10), 0.03);
  EXPECT_NEAR(b.level, w.level(390), 0.03);
  double squares = 0, n = 0, worst = 0;
  for (std::int64_t r = 0; r < 201; ++r)
    for (std::int64_t c = 0; c < 401; ++c) {
      const double x = static_cast<double>(c) + 0.5, y = static_cast<double>(r) + 0.5;
      const auto [at, d] = w.nearest(x, y);
      if (d > 7.4 || at < 12 || at > 388) continue;
      const double error = value_at(f.grid, c, r) - w.level(at);
      squares += error * error;
      worst = std::max(worst, std::abs(error));
      ++n;
    }
  EXPECT_LT(std::sqrt(squares / n), 0.008) << "noise is 0.05";
  EXPECT_LT(worst, 0.035);
  // Along the middle it never rises.
  double before = 1e9;
  for (double x = 12; x < 388; x += 0.5) {
    const double z = lake_level(f.grid, x, Winding::middle(x));
    ASSERT_LE(z, before + 0.0012) << "at " << x << ": cells lie up to half of one beside the line";
    before = z;
  }
  expect_same_for_every_window(f.grid, 12);
}

TEST(FlatWater, RiverComesDownToTheLakeThatItMeets) {
  const Winding w;
  // A lake at its lower end that stands a little higher than the river would.
  const double standing = w.level(372);
  const Ground both = [&](double x, double y) {
    return std::hypot(x - 385, y - Winding::middle(385)) < 15 ? standing : w(x, y);
  };
  const Grid g = ground(401, 201, both, 0.03, 13);
  const FlatWater f = lay_water_flat(g, {{.shape = w.shape(), .kind = WaterKind::River},
                                         {.shape = {circle(385, Winding::middle(385), 15)}, .kind = WaterKind::Lake}});
  EXPECT_NEAR(f.bodies[1].level, standing, 0.01);
  EXPECT_GE(f.bodies[0].level, f.bodies[1].level - 1e-6) << "nowhere below the lake that it runs into";
  EXPECT_NEAR(f.bodies[0].level, f.bodies[1].level, 0.02);
  EXPECT_EQ(f.bodies[0].cells + f.bodies[1].cells + f.bodies[0].kept + f.bodies[1].kept,
            static_cast<std::int64_t>(
                CellSet([&] {
                  std::vector<CellRun> runs;
                  for (std::int64_t r = 0; r < 201; ++r)
                    for (std::int64_t c = 0; c < 401; ++c) {
                      const Point p{kWest + static_cast<double>(c) + 0.5, kNorth - static_cast<double>(r) - 0.5};
                      if (contains(w.shape(), p) || contains({circle(385, Winding::middle(385), 15)}, p))
                        runs.push_back({r, c, c + 1});
                    }
                  return joined(std::move(runs));
                }())
                    .count()))
      << "each cell belongs to one";
}

TEST(FlatWater, BothArmsAroundAnIslandMeetAtOneLevel) {
  const Winding w;
  const Grid g = ground(
      401, 201,
      [&](double x, double y) {
        const double d = std::hypot((x - 130) / 20, (y - Winding::middle(130)) / 3.5);
        return w(x, y) + (d < 1 ? 1.0 : 0.0);
      },
      0.03, 17);
  const FlatWater f = lay_water_flat(g, {{.shape = w.shape(), .kind = WaterKind::River}});
  EXPECT_GT(f.bodies[0].kept, 150) << "the island stands";
  // No step between neighbours anywhere in the water.
  const Block flat = f.grid.read(f.grid.frame().window(), Planes::ValuesAndOrigin);
  const std::size_t n = f.grid.info().sources.size();
  double step = 0;
  for (std::int64_t r = 1; r < 201; ++r)
    for (std::int64_t c = 1; c < 401; ++c)
      for (const auto& [x, y] : {std::pair{c - 1, r}, {c, r - 1}})
        if (source_of(flat.origin_row(r)[c]) == n && source_of(flat.origin_row(y)[x]) == n)
          step = std::max(step, std::abs(static_cast<double>(flat.at(c, r) - flat.at(x, y))));
  EXPECT_LT(step, 0.02);
}

TEST(FlatWater, RiverOfVoidsLiesBetweenWhatIsKnown) {
  const Winding w;
  const Grid noisy = ground(401, 201, w, 0.02, 19);
  std::vector<float> v = all_values(noisy);
  for (std::int64_t r = 0; r < 201; ++r)
    for (std::int64_t c = 120; c < 260; ++c)
      if (w.nearest(static_cast<double>(c) + 0.5, static_cast<double>(r) + 0.5).second < 9)
        v[static_cast<std::size_t>(r * 401 + c)] = kVoid;
  const FlatWater f = lay_water_flat(grid_from_values(noisy.frame(), v, noisy.quantity()),
                                     {{.shape = w.shape(), .kind = WaterKind::River}});
  EXPECT_GT(f.bodies[0].voids, 2000);
  for (double x = 125; x < 255; x += 5) EXPECT_NEAR(lake_level(f.grid, x, Winding::middle(x)), w.level(x), 0.15) << x;
}

// Nearest levels that rise along a tree, by projections onto one constraint after the other (Dykstra).
std::vector<double> rising_twin(const std::vector<std::size_t>& parent, const std::vector<double>& z,
                                const std::vector<double>& w) {
  std::vector<double> x = z, change(z.size(), 0);  // of the constraint of each node and its parent
  for (int round = 0; round < 20'000; ++round)
    for (std::size_t i = 0; i < z.size(); ++i) {
      const std::size_t p = parent[i];
      if (p == i) continue;
      // What this constraint did before is taken back, then done anew.
      x[i] -= change[i] / w[i];
      x[p] += change[i] / w[p];
      change[i] = x[i] < x[p] ? (x[p] - x[i]) / (1 / w[i] + 1 / w[p]) : 0;
      x[i] += change[i] / w[i];
      x[p] -= change[i] / w[p];
    }
  return x;
}

TEST(FlatWater, LevelsThatRiseAlongATreeAreTheNearest) {
  for (unsigned seed = 1; seed <= 60; ++seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    std::mt19937 random(seed);
    const std::size_t n = 1 + random() % 14;
    std::vector<std::size_t> parent(n);
    std::vector<double> z(n), w(n);
    for (std::size_t i = 0; i < n; ++i) {
      parent[i] = i == 0 || random() % 9 == 0 ? i : random() % i;
      z[i] = static_cast<double>(random() % 7);
      w[i] = 1 + static_cast<double>(random() % 5);
    }
    const std::vector<double> is = rising_along(parent, z, w), twin = rising_twin(parent, z, w);
    for (std::size_t i = 0; i < n; ++i) {
      ASSERT_NEAR(is[i], twin[i], 1e-6) << "node " << i;
      ASSERT_GE(is[i], is[parent[i]] - 1e-12);
    }
  }
}

// ---- levels

TEST(FlatWater, LevelIsThatOfTheDensestHalf) {
  std::mt19937 random(5);
  std::normal_distribution<double> noise(0, 0.05);
  std::vector<double> z;
  for (int i = 0; i < 600; ++i) z.push_back(12 + noise(random));
  for (int i = 0; i < 300; ++i) z.push_back(12 + 0.01 * i + noise(random));  // a bank that rises
  for (int i = 0; i < 100; ++i) z.push_back(9 + 0.02 * i);                   // wells
  const auto w = water_level(z);
  ASSERT_TRUE(w);
  EXPECT_NEAR(w->level, 12, 0.015);
  EXPECT_NEAR(w->spread, 0.05, 0.02);
  EXPECT_FALSE(water_level({1, 2}));
  EXPECT_EQ(water_level({3, 3, 3})->level, 3);
}

// How often the level lies within the stated 95 % of the truth, over errors that go together over that many metres.
int levels_held(double reach, int trials, const std::function<bool(const Grid&)>& holds, const Ground& truth,
                std::int64_t cols, std::int64_t rows) {
  int held = 0;
  for (int i = 1; i <= trials; ++i)
    held += holds(measured(utm_frame(cols, rows), truth, 0.05, Length::metres(reach), static_cast<unsigned>(100 * i)));
  return held;
}

TEST(FlatWater, StatedUncertaintyOfALevelHolds) {
  const Ground truth = [](double x, double y) { return pond(x - kWest, kNorth - y); };
  const auto holds = [](const Grid& g) {
    const LaidBody b = lay_water_flat(g, {{.shape = {circle(100, 90, 42)}, .kind = WaterKind::Lake}}).bodies[0];
    return std::abs(b.level - 12) <= kTwoSided95 * b.uncertainty;
  };
  for (const double reach : {0.0, 4.0, 15.0}) {
    const int held = levels_held(reach, 100, holds, truth, 201, 183);
    EXPECT_GE(held, 90) << "reach " << reach;
    EXPECT_LE(held, 100);
  }
}

TEST(FlatWater, StatedUncertaintyOfARiverHolds) {
  const Winding w;
  std::vector<float> z = all_values(ground(401, 201, w));
  const Ground truth = [&](double x, double y) {
    return static_cast<double>(z[static_cast<std::size_t>(kNorth - y) * 401 + static_cast<std::size_t>(x - kWest)]);
  };
  for (const double reach : {0.0, 4.0, 15.0}) {
    int held = 0, all = 0;
    levels_held(
        reach, 20,
        [&](const Grid& g) {
          const FlatWater f = lay_water_flat(g, {{.shape = w.shape(8), .kind = WaterKind::River}});
          for (double x = 20; x < 385; x += 15) {
            held += std::abs(lake_level(f.grid, x, Winding::middle(x)) - w.level(x)) <=
                    kTwoSided95 * f.bodies[0].uncertainty;
            ++all;
          }
          return true;
        },
        truth, 401, 201);
    EXPECT_GE(held, 90 * all / 100) << "reach " << reach;
  }
}

// ---- the sea, and water that is found

double coast(double x, double y) { return y < 60 ? (60 - y) * 0.1 : (std::hypot(x - 100, y - 120) < 20 ? 4.0 : 0.0); }

TEST(FlatWater, SeaIsFoundFromTheEdgeAndKeepsItsIslands) {
  const Grid g = ground(201, 183, coast, 0.08, 23);
  const FlatWater f = lay_water_flat(g, {}, {.sea = 0.0});
  const LaidBody& b = f.bodies[0];
  EXPECT_EQ(b.kind, WaterKind::Sea);
  EXPECT_EQ(b.level, 0);
  EXPECT_TRUE(std::isnan(b.uncertainty)) << "nobody stated how sure a given level is";
  std::int64_t wrong = 0;
  for (std::int64_t r = 64; r < 183; ++r)
    for (std::int64_t c = 0; c < 201; ++c) {
      const double d = std::hypot(static_cast<double>(c) + 0.5 - 100, static_cast<double>(r) + 0.5 - 120);
      if (d > 21) wrong += f.grid.at(c, r) != 0;
      if (d < 19) wrong += f.grid.at(c, r) < 3;
    }
  EXPECT_EQ(wrong, 0);
  EXPECT_EQ(f.grid.at(100, 10), g.at(100, 10));
  // Without noise no shore is cut, also above a sea floor and with a shape that reaches far up the bank.
  const auto beach = [](double x, double) { return 0.05 * (x - 100); };
  const Grid calm = ground(201, 60, beach);
  for (const std::vector<WaterBody>& shapes :
       {std::vector<WaterBody>{},
        std::vector<WaterBody>{{.shape = {to_polygon({kWest, kNorth - 60, kWest + 150, kNorth})},
        .kind = WaterKind::Lake,
        .level = 0.0}}}) {
    const LaidBody shore =
        lay_water_flat(calm, shapes, {.sea = shapes.empty() ? std::optional(0.0) : std::nullopt}).bodies[0];
    EXPECT_LE(shore.lowered, kLeastAbove + 1e-6);
    EXPECT_NEAR(static_cast<double>(shore.cells), 100 * 60, 61);
  }
  for (const double beyond : {-40.0, 900.0})
    EXPECT_EQ(error_of([&] { lay_water_flat(g, {}, {.sea = beyond}); }), ErrorCode::BadArgument) << beyond;
}

TEST(FlatWater, IsFoundWhereItIsLevelBelowItsShore) {
  // A pond, a flat top, and a terrace in a slope.
  const auto f = [](double x, double y) {
    const double top = std::min(30.0, 60 - std::hypot(x - 320, y - 90) * 0.5),
                 terrace = std::clamp(y - 100, -20.0, 20.0);
    if (x < 210) return pond(x, y);
    return x < 400 ? top : std::abs(terrace) < 20 ? 10.0 : 10 + 0.3 * (terrace < 0 ? y - 80 : y - 120);
  };
  const Grid g = ground(520, 183, f, 0.01, 29);
  const std::vector<WaterBody> found = find_water(g);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_NEAR(planar_area(found[0].shape), M_PI * 1600, 500);
  const LaidBody b = lay_water_flat(g, found).bodies[0];
  EXPECT_NEAR(b.level, 12, 0.003);
  EXPECT_NEAR(b.area, M_PI * (1600 - 64), 120);

  // Noise hides it, few returns show it.
  const Grid noisy = ground(520, 183, f, 0.1, 31);
  EXPECT_TRUE(find_water(noisy).empty());
  const Grid returns = grid_from_function(g.frame(), [](double x, double y) {
    const double dx = x - kWest - 100, dy = kNorth - y - 90;
    return std::hypot(dx, dy) < 40 && std::hypot(dx - 10, dy - 5) > 8 ? 0.0 : 6.0;
  });
  const std::vector<WaterBody> shown = find_water(noisy, {.flat = Length::metres(1), .returns = returns});
  ASSERT_EQ(shown.size(), 1u);
  EXPECT_NEAR(lay_water_flat(noisy, shown).bodies[0].level, 12, 0.01);
}

TEST(FlatWater, VoidsOfSlopesAreNoWater) {
  EXPECT_TRUE(find_water(ground(201, 183, [](double x, double y) {
                return std::hypot(x - 60, y - 60) < 25 ? std::nan("") : 20 + 0.5 * x;
              })).empty());
  const std::vector<WaterBody> found = find_water(ground(201, 183, [](double x, double y) {
    const double d = std::hypot(x - 100, y - 90) - 40;
    return d < 0 ? std::nan("") : 12 + 0.2 * d;
  }));
  ASSERT_EQ(found.size(), 1u);
  EXPECT_NEAR(planar_area(found[0].shape), M_PI * 1600, 500);
}

TEST(FlatWater, RiversAreFoundAndSeaFloorsAreNot) {
  const Winding w;
  const std::vector<WaterBody> river = find_water(ground(401, 201, w, 0.005, 3));
  ASSERT_EQ(river.size(), 1u);
  EXPECT_EQ(river[0].kind, WaterKind::River);
  // A basin whose floor slopes gently: level from cell to cell, but not water.
  EXPECT_TRUE(find_water(ground(301, 301, [](double x, double y) {
                const double d = std::hypot(x - 150, y - 150);
                return d < 120 ? -8 + 0.01 * x : -7 + 0.2 * (d - 120);
              })).empty());
}

TEST(FlatWater, SaysWhatIsWrong) {
  const Grid g = ground(201, 183, pond);
  std::string text;
  EXPECT_EQ(error_of([&] { lay_water_flat(g, {{.shape = {circle(9000, 90, 40)}}}); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("no cell"), std::string::npos);
  EXPECT_EQ(error_of([&] { lay_water_flat(g, {{.shape = {circle(100, 90, 40)}}}, {.above = Length::metres(-1)}); }),
            ErrorCode::BadArgument);
  // The study area given for a lake: a success that cut hills of 30 m down before this was asked.
  const Grid hill = ground(201, 183, [](double x, double y) { return 0.3 * x + 0.1 * y; });
  for (const WaterKind kind : {WaterKind::Lake, WaterKind::River})
    EXPECT_EQ(error_of(
                  [&] {
                    lay_water_flat(hill, {{.shape = {circle(100, 90, 70)}, .kind = kind, .level = {}, .name = "area"}});
                  },
                  &text),
              ErrorCode::BadArgument);
  EXPECT_NE(text.find("'area'"), std::string::npos);
  Layer lines{.name = "roads", .crs = g.frame().crs(), .features = {{LineString{{0, 0}, {1, 1}}, {}}}};
  EXPECT_EQ(error_of([&] { water_bodies_of(lines, g); }), ErrorCode::BadArgument);
  Layer odd{.name = "odd", .crs = g.frame().crs(), .features = {{MultiPolygon{circle(1, 1, 1)}, {{"kind", "puddle"}}}}};
  EXPECT_EQ(error_of([&] { water_bodies_of(odd, g); }), ErrorCode::BadArgument);
  const FlatWater f = lay_water_flat(g, {{.shape = {circle(100, 90, 40)}}});
  const std::vector<WaterBody> record = water_bodies_of(water_layer(f, g), g);
  EXPECT_EQ(error_of([&] { restored(f.grid, record, ground(50, 50, pond, 0, 1, 1.5)); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { restored(f.grid, record, in_unit(f.before, LengthUnit::Foot)); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { restored(f.grid, {}, f.before); }), ErrorCode::BadArgument);
}

TEST(FlatWater, WholeLevelsKeepWholeNumbers) {
  std::vector<float> z(60 * 50, 9.0F);
  for (std::int64_t r = 10; r < 40; ++r)
    for (std::int64_t c = 10; c < 45; ++c) z[static_cast<std::size_t>(r * 60 + c)] = 7;
  const Grid g = grid_from_values(utm_frame(60, 50), z, metres_above_egm2008(), SampleType::Int16);
  EXPECT_EQ(lay_water_flat(g, {{.shape = {circle(27, 25, 14)}}}).grid.info().type, SampleType::Int16);
  const Grid half = lay_water_flat(g, {{.shape = {circle(27, 25, 14)}, .kind = WaterKind::Lake, .level = 7.5}}).grid;
  EXPECT_EQ(half.info().type, SampleType::Float32);
  EXPECT_EQ(half.at(27, 25), 7.5F);
}

TEST(FlatWater, OneCellOneRowAndDegrees) {
  const Grid one = grid_from_values(utm_frame(1, 1), {3.f}, metres_above_egm2008());
  EXPECT_EQ(lay_water_flat(one, {{.shape = {circle(0, 0, 5)}, .kind = WaterKind::Lake, .level = 3.05}}).grid.at(0, 0),
            3.05f);
  const Grid row = grid_from_values(utm_frame(40, 1), std::vector<float>(40, 5.f), metres_above_egm2008());
  EXPECT_EQ(lay_water_flat(row, {{.shape = {circle(20, 0, 50)}, .kind = WaterKind::River}}).bodies[0].level, 5);
  const Frame degrees(Crs::parse("EPSG:4326"), -31, -37.5, {1e-5, 1e-5}, 120, 90);
  const Grid d = grid_from_function(
      degrees, [](double x, double y) { return std::hypot(x + 30.9994, y + 37.50045) < 2e-4 ? 7.0 : 9.0; },
      metres_above_egm2008());
  Polygon p;
  for (int i = 0; i <= 60; ++i)
    p.outer.push_back(
        {-30.9994 + 2.2e-4 * std::cos(i % 60 * M_PI / 30), -37.50045 + 2.2e-4 * std::sin(i % 60 * M_PI / 30)});
  const FlatWater f = lay_water_flat(d, {{.shape = {p}}});
  EXPECT_EQ(f.bodies[0].level, 7);
  EXPECT_NEAR(f.bodies[0].area, M_PI * 4e-8 * 111'000 * 88'300, 60);
}

}  // namespace
}  // namespace katoptra
