#include "katoptra/points/points.hpp"

#include <cmath>
#include <fmt/format.h>
#include <map>
#include <tuple>

#include "katoptra/geo/area.hpp"
#include "katoptra/geo/vertical.hpp"
#include "katoptra/points/measure.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/points/summary.hpp"

#include "area_index.hpp"
#include "point_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

PointCloud cloud_of(std::size_t n, unsigned seed, std::size_t part = 300) {
  PointBatch b = mixed_points(n, 7, 0, seed);
  b.extra.clear();
  b.waveform.clear();
  return points_from_batch(std::move(b), point_info(7), part);
}

std::size_t count_where(const PointBatch& b, const std::function<bool(std::size_t)>& holds) {
  std::size_t n = 0;
  for (std::size_t i = 0; i < b.size(); ++i) n += holds(i);
  return n;
}

// A circle over the antimeridian or a pole kept the wrong points, or none.
TEST(Select, CirclesOverTheAntimeridianAndAPole) {
  PointBatch b;
  for (double lon = -180; lon < 180; lon += 0.25)
    for (double lat : {-17.3, -17.0, -16.8, 85.0, 88.0, 89.5}) {
      b.x.push_back(lon);
      b.y.push_back(lat);
      b.z.push_back(1);
    }
  PointInfo info = point_info(6);
  info.crs = Crs::wgs84();
  info.lattice->step[0] = info.lattice->step[1] = 1e-7;
  info.lattice->origin[0] = info.lattice->origin[1] = 0;
  const PointCloud cloud = points_from_batch(b, info, 500);
  for (const auto& [text, centre, radius] : {std::tuple{"circle:180,-17,80km", Point{180, -17}, 80e3},
                                             {"circle:-179.8,-17,80km", Point{-179.8, -17}, 80e3},
                                             {"circle:20,89,400km", Point{20, 89}, 400e3}}) {
    const Area area = parse_area(text);
    const PointCloud inside = select(cloud, {.area = &area});
    const Transform there(Crs::wgs84(),
                          Crs::parse(fmt::format("+proj=aeqd +lat_0={} +lon_0={} +datum=WGS84", centre.y, centre.x)));
    std::size_t expected = 0, found = 0;
    for (std::size_t i = 0; i < b.size(); ++i) {
      const Point p = there.forward({b.x[i], b.y[i]});
      expected += std::hypot(p.x, p.y) < 0.9998 * radius;
    }
    for (std::size_t i = 0; i < inside.parts(); ++i) found += inside.read(i, PointFields::None).size();
    EXPECT_EQ(found, expected) << text;
    EXPECT_GT(found, 5u) << text;
  }
}

TEST(Points, ASelectionIsWhatABruteSearchFinds) {
  const PointCloud cloud = cloud_of(5000, 3);
  const PointBatch all = all_points(cloud);
  auto size = [&](const PointSelection& s) { return all_points(select(cloud, s), PointFields::None).size(); };
  EXPECT_EQ(size({.area = nullptr, .classes = {2}}),
            count_where(all, [&](std::size_t i) { return all.classification[i] == 2; }));
  EXPECT_EQ(size({.area = nullptr, .without_classes = {2, 7}}),
            count_where(all, [&](std::size_t i) { return all.classification[i] != 2 && all.classification[i] != 7; }));
  EXPECT_EQ(size({.area = nullptr, .returns = Returns::Last}),
            count_where(all, [&](std::size_t i) { return all.return_number[i] >= all.return_count[i]; }));
  EXPECT_EQ(size({.area = nullptr, .returns = Returns::Between}), count_where(all, [&](std::size_t i) {
              return all.return_number[i] > 1 && all.return_number[i] < all.return_count[i];
            }));
  EXPECT_EQ(size({.area = nullptr, .drop_noise = true, .without_withheld = true}), count_where(all, [&](std::size_t i) {
              return all.classification[i] != 7 && all.classification[i] != 18 && !(all.flags[i] & kWithheld);
            }));
  PointSelection heights{.area = nullptr};
  heights.lowest = 101;
  heights.highest = 103.5;
  EXPECT_EQ(size(heights), count_where(all, [&](std::size_t i) { return all.z[i] >= 101 && all.z[i] <= 103.5; }));
  PointSelection times{.area = nullptr};
  times.from_time = all.time[100];
  EXPECT_EQ(size(times), count_where(all, [&](std::size_t i) { return all.time[i] >= all.time[100]; }));
  EXPECT_EQ(size({.area = nullptr, .lines = {11}}),
            count_where(all, [&](std::size_t i) { return all.source[i] == 11; }));
  // By running number, whatever the parts.
  EXPECT_EQ(size({.area = nullptr, .every = 7}), (5000u + 6) / 7);
  EXPECT_EQ(all_points(select(cloud_of(5000, 3, 11), {.area = nullptr, .every = 7})).x,
            all_points(select(cloud, {.area = nullptr, .every = 7})).x);
  // Fields that only the selection needed do not come along.
  EXPECT_TRUE(all_points(select(cloud, {.area = nullptr, .classes = {2}}), PointFields::None).classification.empty());
}

TEST(Points, AnAreaKeepsWhatLiesInside) {
  const PointCloud cloud = cloud_of(20000, 5, 800);
  const PointBatch all = all_points(cloud);
  for (unsigned seed = 1; seed <= 30; ++seed) {
    SCOPED_TRACE(seed);
    Dice r(seed);
    auto place = [&] { return Point{677000 + r(500000) * 0.001, 5842000 + r(8000) * 0.001}; };
    Ring ring{place(), place(), place(), place(), place()};
    ring.push_back(ring.front());
    const MultiPolygon shape{{ring, {}}};
    const AreaIndex index(shape);
    for (int i = 0; i < 200; ++i) {
      const Point p = place();
      ASSERT_EQ(index.contains(p), contains(shape, p)) << p.x << " " << p.y;
    }
    const Area area(shape, Crs::parse("EPSG:32725"));
    const PointCloud inside = select(with_boxes(cloud, part_boxes(cloud)), {.area = &area});
    EXPECT_EQ(all_points(inside, PointFields::None).size(), count_where(all, [&](std::size_t i) {
                return contains(shape, {all.x[i], all.y[i]});
              }));
    EXPECT_LE(inside.parts(), cloud.parts());
  }
}

TEST(Points, ThinningKeepsOneInACell) {
  const PointCloud cloud = cloud_of(6000, 8);
  const PointBatch all = all_points(cloud);
  std::map<std::pair<long, long>, double> lowest;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const std::pair<long, long> cell{static_cast<long>(std::floor(all.x[i] / 2)),
                                     static_cast<long>(std::floor(all.y[i] / 2))};
    const auto [it, is_new] = lowest.try_emplace(cell, all.z[i]);
    if (!is_new) it->second = std::min(it->second, all.z[i]);
  }
  // The true scale of the projection is not one, so the cells are given in it.
  const GroundScale scale = GroundRuler(Crs::parse("EPSG:32725")).at(cloud.info().bounds.centre());
  const PointBatch low = all_points(thinned(cloud, {.keep = ThinBy::Lowest, .cell = Length::metres(2 * scale.x)}));
  EXPECT_NEAR(static_cast<double>(low.size()), static_cast<double>(lowest.size()),
              0.02 * static_cast<double>(lowest.size()));
  const PointBatch apart = all_points(thinned(cloud, {.keep = ThinBy::Spacing, .cell = 3_m}));
  for (std::size_t i = 0; i < apart.size(); ++i)
    for (std::size_t k = 0; k < i; ++k)
      ASSERT_GE(std::hypot(apart.x[i] - apart.x[k], apart.y[i] - apart.y[k]) * scale.x, 3 - 1e-3);
  // Maximal: every point that left has one that stayed nearer than that.
  for (std::size_t i = 0; i < all.size(); i += 50) {
    double nearest = 1e9;
    for (std::size_t k = 0; k < apart.size(); ++k)
      nearest = std::min(nearest, std::hypot(all.x[i] - apart.x[k], all.y[i] - apart.y[k]));
    EXPECT_LE(nearest * scale.x, 3 + 1e-3);
  }
  EXPECT_EQ(error_of([&] { thinned(cloud, {.keep = ThinBy::Lowest, .cell = {}}); }), ErrorCode::BadArgument);
}

TEST(Points, ThinningIsTheSameForEveryBudgetAndThread) {
  // Hundreds of tiles of cells, on both sides of zero.
  PointInfo info = point_info(6);
  info.crs = {};
  PointBatch b;
  Dice r(21);
  for (int i = 0; i < 30000; ++i) {
    b.x.push_back(r(200000) * 0.001 - 100);
    b.y.push_back(r(60000) * 0.001 - 30);
    b.z.push_back(r(1000) * 0.01);
  }
  const PointCloud cloud = points_from_batch(b, info, 1000);
  std::map<std::pair<long, long>, std::size_t> best;
  const double cell = 0.05;
  for (std::size_t i = 0; i < b.size(); ++i) {
    const auto [it, is_new] = best.try_emplace({std::floor(b.x[i] / cell), std::floor(b.y[i] / cell)}, i);
    if (!is_new && b.z[i] > b.z[it->second]) it->second = i;
  }
  std::vector<std::size_t> order;
  for (const auto& [key, i] : best) order.push_back(i);
  std::sort(order.begin(), order.end());
  for (ThinBy keep : {ThinBy::Highest, ThinBy::Lowest, ThinBy::Nearest, ThinBy::Spacing}) {
    const Thinning t{.keep = keep, .cell = Length::metres(cell)};
    const PointBatch whole = all_points(thinned(cloud, t));
    if (keep == ThinBy::Highest) {
      ASSERT_EQ(whole.size(), order.size());
      for (std::size_t i = 0; i < order.size(); ++i) ASSERT_EQ(whole.x[i], b.x[order[i]]);
    }
    const PointBatch tight = all_points(thinned(cloud, t, {.threads = 3, .memory = 20000}));
    EXPECT_EQ(whole.x, tight.x);
    EXPECT_EQ(whole.z, tight.z);
    if (keep != ThinBy::Spacing) continue;
    std::map<std::pair<long, long>, std::vector<std::size_t>> cells;
    for (std::size_t i = 0; i < whole.size(); ++i)
      cells[{std::floor(whole.x[i] / cell), std::floor(whole.y[i] / cell)}].push_back(i);
    auto near = [&](double x, double y, std::size_t except) {
      const long c = static_cast<long>(std::floor(x / cell)), d = static_cast<long>(std::floor(y / cell));
      for (long dc = -1; dc <= 1; ++dc)
        for (long dd = -1; dd <= 1; ++dd)
          if (const auto it = cells.find({c + dc, d + dd}); it != cells.end())
            for (std::size_t k : it->second)
              if (k != except && std::hypot(whole.x[k] - x, whole.y[k] - y) < cell * (1 - 1e-9)) return true;
      return false;
    };
    std::size_t too_near = 0, lone = 0;
    for (std::size_t i = 0; i < whole.size(); ++i) too_near += near(whole.x[i], whole.y[i], i);
    for (std::size_t i = 0; i < b.size(); ++i) lone += !near(b.x[i], b.y[i], SIZE_MAX);
    EXPECT_EQ(too_near, 0u);
    EXPECT_EQ(lone, 0u);
    EXPECT_LT(whole.size(), b.size());
  }
}

TEST(Points, WildCoordinatesAreThinnedWithoutHarm) {
  PointInfo info = point_info(6);
  info.crs = {};
  info.lattice.reset();
  PointBatch b;
  for (double v : {0.0, 1e9, -1e15, 1e300, -1e300, std::nan(""), 0.2, HUGE_VAL}) {
    b.x.push_back(v);
    b.y.push_back(-v);
    b.z.push_back(v);
  }
  const PointCloud cloud = points_from_batch(b, info);
  for (ThinBy keep : {ThinBy::Highest, ThinBy::Nearest, ThinBy::Spacing}) {
    const PointBatch left = all_points(thinned(cloud, {.keep = keep, .cell = Length::metres(1)}));
    EXPECT_GE(left.size(), 3u);
    EXPECT_LE(left.size(), b.size());
  }
}

TEST(Points, WhatDoesNotBelongTogetherIsNotMerged) {
  const PointCloud a = cloud_of(100, 1);
  auto other = [&](const std::function<void(PointInfo&)>& change) {
    return error_of([&] { merged({a, relabelled(a, change)}); });
  };
  EXPECT_EQ(other([](PointInfo& i) { i.crs = Crs::parse("EPSG:32724"); }), ErrorCode::Refused);
  EXPECT_EQ(other([](PointInfo& i) { i.crs = {}; }), ErrorCode::Refused);
  EXPECT_EQ(other([](PointInfo& i) { i.quantity.heights = HeightReference::ellipsoid(); }), ErrorCode::Refused);
  EXPECT_EQ(other([](PointInfo& i) { i.quantity.unit = LengthUnit::Foot; }), ErrorCode::Refused);
  const PointCloud two = merged({a, cloud_of(50, 2)});
  EXPECT_EQ(two.info().count, 150u);
  EXPECT_EQ(two.part(two.parts() - 1).first, 100u);
  EXPECT_EQ(all_points(two).size(), 150u);
}

TEST(Points, AbsoluteCoordinatesSurviveEveryPath) {
  const PointCloud a = cloud_of(900, 4);
  const PointBatch before = all_points(a);
  const Crs other = Crs::parse("EPSG:32724");
  const PointCloud there = reprojected(a, other);
  const PointBatch moved = all_points(there);
  const Transform t(a.info().crs, other);
  for (std::size_t i = 0; i < moved.size(); i += 17) {
    const Point p = t.forward({before.x[i], before.y[i]});
    EXPECT_EQ(moved.x[i], p.x);
    EXPECT_EQ(moved.y[i], p.y);
  }
  const PointBatch back = all_points(reprojected(there, a.info().crs));
  for (std::size_t i = 0; i < back.size(); ++i) ASSERT_NEAR(back.x[i], before.x[i], 1e-6);
  EXPECT_EQ(back.z, before.z);
  const PointBatch feet = all_points(in_unit(a, LengthUnit::Foot));
  for (std::size_t i = 0; i < feet.size(); i += 31) EXPECT_NEAR(feet.z[i] * 0.3048, before.z[i], 1e-9);
  const PointBatch up = all_points(shifted_heights(in_unit(a, LengthUnit::Foot), 1_m, HeightReference::named("local")));
  EXPECT_NEAR((up.z[5] - feet.z[5]) * 0.3048, 1, 1e-9);
  // EGM96 from the ellipsoid, by PROJ's grid: the geoid lies there as the independent transform says.
  const PointCloud ellipsoid = relabelled(a, [](PointInfo& i) { i.quantity.heights = HeightReference::ellipsoid(); });
  const HeightReference egm96 = HeightReference::parse("EGM96");
  const PointBatch down = all_points(to_heights(ellipsoid, egm96));
  double shift = 0;
  const Point place{before.x[0], before.y[0]};
  VerticalTransform(a.info().crs, HeightReference::ellipsoid(), egm96, a.info().bounds)
      .shifts(std::span(&place, 1), std::span(&shift, 1));
  EXPECT_NEAR(down.z[0] - before.z[0], shift, 1e-9);
  EXPECT_GT(std::abs(shift), 1);
}

TEST(Points, ASeparationSurfaceIsAddedWhereItReaches) {
  const PointCloud cloud = cloud_of(3000, 12);
  const PointBatch before = all_points(cloud);
  // A plane in degrees, in feet, over the western part of the points.
  const Crs degrees = Crs::parse("EPSG:4326");
  const Transform there(cloud.info().crs, degrees);
  const Bounds all = cloud.info().bounds;
  Bounds reach;
  for (double x : {all.west - 5, all.centre().x})
    for (double y : {all.south - 5, all.north + 5}) reach.include(there.forward(Point{x, y}));
  const CellSize cell{reach.width() / 40, reach.height() / 40};
  const Frame f(degrees, reach.west, reach.north, cell, 40, 40);
  auto plane = [&](Point p) { return 150 + 4000 * (p.x - reach.west) - 3000 * (p.y - reach.south); };
  std::vector<float> v;
  for (int r = 0; r < 40; ++r)
    for (int c = 0; c < 40; ++c) v.push_back(static_cast<float>(plane(f.centre(c, r))));
  Quantity feet;
  feet.unit = LengthUnit::Foot;
  feet.unit_known = true;
  const Grid separation = grid_from_values(f, v, feet);
  const HeightReference up = HeightReference::ellipsoid();
  const PointCloud moved = shifted_heights(cloud, separation, up);
  EXPECT_EQ(moved.info().quantity.heights, up);
  EXPECT_FALSE(moved.info().notes.empty());
  const PointBatch after = all_points(moved);
  ASSERT_GT(after.size(), before.size() / 4);
  ASSERT_LT(after.size(), before.size() * 3 / 4);
  std::size_t k = 0;
  for (std::size_t i = 0; i < before.size() && k < after.size(); ++i) {
    if (before.x[i] != after.x[k] || before.y[i] != after.y[k]) continue;
    const Point p = there.forward(Point{before.x[i], before.y[i]});
    // A cell inside, where nothing is carried on beyond the last centres.
    const bool inside = p.x > reach.west + cell.x && p.x < reach.east - cell.x && p.y > reach.south + cell.y &&
                        p.y < reach.north - cell.y;
    if (inside) {
      ASSERT_NEAR(after.z[k] - before.z[i], plane(p) * 0.3048, 1e-4);
    }
    ++k;
  }
  EXPECT_EQ(k, after.size());
  EXPECT_EQ(error_of([&] { shifted_heights(relabelled(cloud, [](PointInfo& i) { i.crs = {}; }), separation, up); }),
            ErrorCode::Refused);
}

TEST(Points, TheOrderDoesNotDependOnThreads) {
  const PointCloud cloud = select(merged({cloud_of(3000, 1), cloud_of(2000, 2)}), {.area = nullptr, .classes = {2}});
  auto read = [&](int threads) {
    std::vector<double> x;
    for_each_batch(cloud, PointFields::None, {.threads = threads},
                   [&](const PointBatch& b) { x.insert(x.end(), b.x.begin(), b.x.end()); });
    return x;
  };
  EXPECT_EQ(read(1), read(4));
}

// A hundred metres square of points every half metre, a hole of 10 x 10 m, and two flight lines 5 cm apart.
TEST(Points, ASummaryTellsWhatThereIs) {
  PointBatch b;
  for (int r = 0; r < 200; ++r)
    for (int c = 0; c < 200; ++c) {
      const double x = 677000 + (c + 0.5) * 0.5, y = 5842000 + (r + 0.5) * 0.5;
      if (x > 677040 && x < 677050 && y > 5842040 && y < 5842050) continue;
      b.x.push_back(x);
      b.y.push_back(y);
      b.z.push_back(10 + (r % 2 ? 0.05 : 0));
      b.classification.push_back(c < 150 ? 2 : 5);
      b.source.push_back(static_cast<std::uint16_t>(7 + r % 2));
      b.return_number.push_back(1);
      b.return_count.push_back(1);
    }
  const PointSummary s = summarise(points_from_batch(b, point_info(6)));
  EXPECT_EQ(s.points, b.size());
  EXPECT_EQ(s.by_class[2] + s.by_class[5], b.size());
  EXPECT_NEAR(s.density, 4, 0.1);
  EXPECT_NEAR(s.spacing.metres(), 0.5, 0.01);
  EXPECT_NEAR(s.supported_cell.metres(), 1, 1e-9);
  EXPECT_EQ(s.gaps, 1);
  EXPECT_NEAR(s.largest_gap, 100, 25);
  EXPECT_NEAR(s.largest_gap_at.x, 677045, 1.1);
  EXPECT_EQ(s.open_gaps, 0);
  ASSERT_EQ(s.lines.size(), 1u);
  EXPECT_NEAR(s.lines[0].median, 0.05, 1e-6);
  EXPECT_NEAR(s.lines[0].spread, 0, 1e-6);
  EXPECT_GT(s.overlap_share, 0.95);
  EXPECT_EQ(s.outside_declared, 0u);
  // Bounds that lie are noticed.
  const PointSummary lies =
      summarise(relabelled(points_from_batch(b, point_info(6)), [](PointInfo& i) { i.bounds.east -= 10; }));
  EXPECT_NEAR(static_cast<double>(lies.outside_declared), 4000, 250);
}

TEST(Points, HeightsAreMeasuredOnThePoints) {
  PointBatch b;
  auto add = [&](double x, double y, double z, int c) {
    b.x.push_back(677000 + x);
    b.y.push_back(5842000 + y);
    b.z.push_back(z);
    b.classification.push_back(static_cast<std::uint8_t>(c));
  };
  for (int i = 0; i < 40; ++i)
    for (int k = 0; k < 40; ++k)
      if (i < 10 || i > 20 || k < 10 || k > 20) add(i, k, 12 + 0.01 * i, 2);
  for (int i = 10; i <= 20; ++i)
    for (int k = 10; k <= 20; ++k) add(i, k, 18, 6);
  add(15, 15, 90, 18);
  const auto m = measure_points(points_from_batch(b, point_info(6)),
                                {{677015, 5842015}, {677030, 5842030}, {690000, 5842000}}, Length::metres(1.2));
  EXPECT_EQ(m[0].highest, 18);
  EXPECT_EQ(m[0].highest_class, 6);
  EXPECT_NEAR(m[0].ground, 12.15, 0.08);
  EXPECT_NEAR(m[1].ground, 12.30, 0.011);
  EXPECT_EQ(m[2].points, 0u);
  EXPECT_TRUE(std::isnan(m[2].highest) && std::isnan(m[2].ground));
}

}  // namespace
}  // namespace katoptra
