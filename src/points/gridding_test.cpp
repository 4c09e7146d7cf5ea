#include "katoptra/points/gridding.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <tuple>

#include "katoptra/base/progress.hpp"
#include "katoptra/points/ground.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/points/soundings.hpp"

#include "lidar.hpp"
#include "marrowick.hpp"
#include "point_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Points strewn over a square, some of them twice, with a hole; heights by a function.
PointCloud strewn(std::size_t n, double edge, unsigned seed, const std::function<double(double, double)>& height,
                  const Crs& crs = Crs::parse("EPSG:32725"), Point corner = {677000, 5842000}, bool hole = true,
                  double step = 0.001) {
  Dice r(seed);
  PointBatch b;
  while (b.size() < n) {
    const double x = r(1000000) * 1e-6 * edge, y = r(1000000) * 1e-6 * edge;
    if (hole && std::hypot(x - 0.6 * edge, y - 0.5 * edge) < 0.15 * edge) continue;
    const double gx = std::round((corner.x + x) / step) * step, gy = std::round((corner.y + y) / step) * step;
    for (std::uint32_t k = 0; k < (r(20) == 0 ? 2u : 1u); ++k) {
      b.x.push_back(gx);
      b.y.push_back(gy);
      b.z.push_back(height(gx, gy) + k * 0.2);
    }
  }
  PointInfo info = point_info(6);
  info.crs = crs;
  info.lattice->step[0] = info.lattice->step[1] = step;
  info.lattice->origin[0] = info.lattice->origin[1] = 0;
  return points_from_batch(b, info, 777);
}
double plane(double x, double y) { return 0.3 * (x - 677000) - 0.2 * (y - 5842000) + 40; }
double waves(double x, double y) { return 40 + 3 * std::sin(x / 9) + 2 * std::cos(y / 7); }

const std::vector<PointStatistic> kAll = {{PointMethod::Tin, 50},        {PointMethod::Natural, 50},
                                          {PointMethod::Lowest, 50},     {PointMethod::Highest, 50},
                                          {PointMethod::Mean, 50},       {PointMethod::Median, 50},
                                          {PointMethod::Percentile, 90}, {PointMethod::InverseDistance, 50},
                                          {PointMethod::Deviation, 50},  {PointMethod::Count, 50}};

// 441 points on whole metres over a square of 20 m: 400 were counted, and the highest, on the eastern border, missed.
TEST(Gridding, EveryPointBelongsToOneCellOfTheFrame) {
  for (const double off : {0.0, 0.25, 0.003}) {
    PointBatch b;
    for (int i = 0; i <= 20; ++i)
      for (int j = 0; j <= 20; ++j) {
        b.x.push_back(677000 + off + i);
        b.y.push_back(5842000 - off + j);
        b.z.push_back(i == 20 && j == 7 ? 99 : 1);
      }
    PointInfo info = point_info(6);
    if (off == 0.003) info.lattice->step[0] = info.lattice->step[1] = 0.01;  // places between its steps
    const PointCloud cloud = points_from_batch(b, info, 100);
    for (const double cell : {1.0, 2.0, 4.0, 20.0}) {
      for (const std::int64_t tile : {0, 64, 7}) {
        const auto n = static_cast<std::int64_t>(20 / cell);
        const Frame frame(Crs::parse("EPSG:32725"), 677000 + off, 5842020 - off, {cell, cell}, n, n);
        const GriddedPoints g = grid_points(
            cloud, {.methods = {{PointMethod::Count}, {PointMethod::Highest}}, .frame = frame, .tile = tile});
        double count = 0, highest = 0;
        for (float v : all_values(g.grids[0])) count += static_cast<double>(v);
        for (float v : all_values(g.grids[1])) highest = std::max(highest, static_cast<double>(v));
        EXPECT_EQ(count, 441) << off << " " << cell << " " << tile;
        EXPECT_EQ(highest, 99) << off << " " << cell << " " << tile;
        EXPECT_EQ(g.points, 441u);
      }
    }
  }
}

// Of 272 points 14 were counted where the header's box was wrong, without a note; a box of zeros gave "no points".
TEST(Gridding, PointsCountNotTheBoxOfTheHeader) {
  const PointCloud cloud = strewn(300, 20, 5, plane, Crs::parse("EPSG:32725"), {677000, 5842000}, false);
  const std::vector<PointStatistic> count = {{PointMethod::Count}};
  const auto counted = [&](const Bounds& told, std::string* note) {
    const PointCloud lies = relabelled(cloud, [&](PointInfo& i) { i.bounds = told; });
    const GriddedPoints g = grid_points(lies, {.methods = count, .cell = 1_m});
    double n = 0;
    for (float v : all_values(g.grids[0])) n += static_cast<double>(v);
    *note = g.grids[0].info().notes.empty() ? "" : g.grids[0].info().notes.back();
    return n;
  };
  std::string note;
  const auto all = static_cast<double>(cloud.info().count);
  EXPECT_EQ(counted(cloud.info().bounds, &note), all);
  EXPECT_EQ(note, "");
  EXPECT_EQ(counted({677000, 5842000, 677004, 5842003}, &note), all);
  EXPECT_NE(note.find("the box in its header"), std::string::npos);
  EXPECT_EQ(counted({0, 0, 0, 0}, &note), all);
  EXPECT_EQ(counted({1, 1, 5, 5}, &note), all);
}

TEST(Gridding, IsTheSameForEveryTileThreadAndBudget) {
  const PointCloud cloud = merged({strewn(5000, 90, 3, waves), strewn(4000, 90, 31, waves)});
  for (Length radius : {Length(), 2_m}) {
    const GriddedPoints whole = grid_points(cloud, {.methods = kAll, .cell = 1_m, .radius = radius, .tile = 512});
    for (std::int64_t tile : {13, 32})
      for (std::size_t memory : {std::size_t{1} << 28, std::size_t{20000}}) {
        const GriddedPoints parts = grid_points(
            cloud,
            {.methods = kAll, .cell = 1_m, .radius = radius, .tile = tile, .run = {.threads = 3, .memory = memory}});
        EXPECT_EQ(parts.longest_edge, whole.longest_edge);
        for (std::size_t m = 0; m < kAll.size(); ++m) {
          SCOPED_TRACE(fmt::format("{} tile {} memory {}", name_of(kAll[m]), tile, memory));
          const Window w = whole.grids[m].frame().window();
          const Block a = whole.grids[m].read(w, Planes::ValuesAndOrigin),
                      b = parts.grids[m].read(w, Planes::ValuesAndOrigin);
          std::int64_t other = 0;
          for (std::int64_t i = 0; i < w.cells(); ++i)
            other += !same_bits(a.row(0)[i], b.row(0)[i]) || a.origin_row(0)[i] != b.origin_row(0)[i];
          EXPECT_EQ(other, 0);
        }
      }
  }
  expect_same_for_every_window(
      grid_points(cloud, {.methods = {{PointMethod::Natural, 50}}, .cell = 1_m, .tile = 16}).grids[0], 4, 20);
}

// Counts the parts that are read.
class CountedPoints : public PointSource {
 public:
  explicit CountedPoints(PointCloud in) : in_(std::move(in)) {}
  const PointInfo& info() const override { return in_.info(); }
  std::size_t parts() const override { return in_.parts(); }
  PointPart part(std::size_t i) const override { return in_.part(i); }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    ++reads;
    in_.read(i, fields, out);
  }
  mutable std::atomic<int> reads{0};

 private:
  PointCloud in_;
};

// Where edges may be far longer than points are apart a tile looks at few points around it first. Gaps across its
// border, islands of points, strays and the rim of the cloud are where too few would tell something else.
TEST(Gridding, LongEdgesAcrossTheBordersOfTilesAreSeen) {
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SCOPED_TRACE(seed);
    Dice r(seed);
    const double edge = 120;
    PointBatch b;
    const auto add = [&](double x, double y) {
      b.x.push_back(677000 + std::round(x * 1000) / 1000);
      b.y.push_back(5842000 + std::round(y * 1000) / 1000);
      b.z.push_back(waves(b.x.back(), b.y.back()));
    };
    struct Gap {
      double x, y, radius;
    };
    std::vector<Gap> gaps;
    for (int i = 0; i < 6; ++i) gaps.push_back({r(120) * 1.0, r(120) * 1.0, 2 + r(14) * 1.0});
    while (b.size() < 9000) {
      const double x = r(120'000) * 0.001, y = r(120'000) * 0.001;
      const bool in_gap =
          std::any_of(gaps.begin(), gaps.end(), [&](const Gap& g) { return std::hypot(x - g.x, y - g.y) < g.radius; });
      // Half of the area is one cloud, the other islands of it.
      const bool beyond = seed % 3 == 0 && x > 60 && std::fmod(x, 25) + std::fmod(y, 31) > 24;
      if (!in_gap && !beyond) add(x, y);
    }
    for (int i = 0; i < 5; ++i) add(r(120) * 1.0, r(120) * 1.0);  // in gaps, too
    PointInfo info = point_info(6);
    info.lattice->step[0] = info.lattice->step[1] = 0.001;
    const PointCloud cloud = points_from_batch(b, info, 500);
    const Frame frame(Crs::parse("EPSG:32725"), 676995, 5842000 + edge + 5, {1, 1}, 130, 130);
    const auto made = [&](std::int64_t tile) {
      return grid_points(cloud, {.methods = {{PointMethod::Tin}, {PointMethod::Natural}},
                                 .frame = frame,
                                 .longest_edge = Length::metres(4 + 6.0 * (seed % 6)),
                                 .tile = tile})
          .grids;
    };
    const std::vector<Grid> whole = made(256);
    for (const std::int64_t tile : {16, 31, 64}) {
      const std::vector<Grid> tiles = made(tile);
      for (std::size_t k = 0; k < 2; ++k) {
        const Block a = whole[k].read(frame.window(), Planes::ValuesAndOrigin),
                    c = tiles[k].read(frame.window(), Planes::ValuesAndOrigin);
        for (std::int64_t row = 0; row < 130; ++row)
          for (std::int64_t col = 0; col < 130; ++col) {
            ASSERT_TRUE(same_bits(a.at(col, row), c.at(col, row))) << tile << " " << k << ": " << col << ", " << row;
            ASSERT_EQ(a.origin_row(row)[col], c.origin_row(row)[col]) << tile << " " << k << ": " << col << ", " << row;
          }
      }
    }
  }
}

TEST(Gridding, OfAnAreaReadsOnlyThePartsAroundIt) {
  // Strips one after the other, as flight lines come.
  const PointBatch all = all_points(strewn(40000, 400, 8, waves));
  std::vector<std::size_t> order(all.size());
  for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return all.y[a] < all.y[b]; });
  PointBatch sorted;
  for (std::size_t i : order) {
    sorted.x.push_back(all.x[i]);
    sorted.y.push_back(all.y[i]);
    sorted.z.push_back(all.z[i]);
  }
  const PointCloud plain = points_from_batch(sorted, point_info(6), 500);
  const auto counted = std::make_shared<CountedPoints>(with_boxes(plain, part_boxes(plain)));
  const Area area = Area::box({677100, 5842090, 677160, 5842140}, Crs::parse("EPSG:32725"));
  const PointGridding options{.methods = {{PointMethod::Tin, 50}}, .cell = 2_m, .area = &area, .tile = 16};
  const Grid a = grid_points(plain, options).grids[0], b = grid_points(PointCloud(counted), options).grids[0];
  const Block x = a.read(a.frame().window()), y = b.read(b.frame().window());
  for (std::int64_t i = 0; i < a.frame().window().cells(); ++i) ASSERT_TRUE(same_bits(x.row(0)[i], y.row(0)[i]));
  // The spacing is that of the points inside, however many lie around; cells are those of the whole.
  const GriddedPoints part = grid_points(plain, options), whole = grid_points(plain, {.cell = 2_m});
  EXPECT_NEAR(part.spacing.metres(), whole.spacing.metres(), 0.15 * whole.spacing.metres());
  EXPECT_NEAR(static_cast<double>(part.points), 40000.0 * 60 * 50 / (400 * 400 * (1 - 3.1416 * 0.15 * 0.15)), 120);
  const auto at = whole.grids[0].frame().window_of(a.frame());
  ASSERT_TRUE(at);
  const Block there = whole.grids[0].read(*at);
  for (std::int64_t i = 0; i < at->cells(); ++i) ASSERT_TRUE(same_bits(x.row(0)[i], there.row(0)[i]));
  EXPECT_LT(counted->reads, static_cast<int>(plain.parts()) / 2);
  EXPECT_GT(counted->reads, 0);
}

TEST(Gridding, EveryCellIsTracedToTheSheetOfItsNearestPoint) {
  auto named = [](const PointCloud& c, const std::string& name) {
    return relabelled(c, [&](PointInfo& i) { i.sources = {{.name = name, .survey = "lidar", .date = "2022-03-14"}}; });
  };
  const PointCloud cloud =
      merged({named(strewn(900, 40, 3, waves), "first"), named(strewn(700, 40, 4, waves), "second")});
  for (PointMethod method : {PointMethod::Tin, PointMethod::Mean}) {
    const Grid g = grid_points(cloud, {.methods = {{method, 50}}, .cell = 1_m, .tile = 16}).grids[0];
    ASSERT_EQ(g.info().sources.size(), 2u);
    EXPECT_EQ(g.info().sources[1].name, "second");
    const Frame& f = g.frame();
    std::vector<double> nearest(static_cast<std::size_t>(f.window().cells()), 1e300);
    std::vector<Origin> expected(nearest.size(), 0);
    std::vector<std::uint8_t> tied(nearest.size(), 0);
    for (std::size_t part = 0; part < cloud.parts(); ++part) {
      const PointBatch b = cloud.read(part);
      for (std::size_t i = 0; i < b.size(); ++i) {
        const auto c = static_cast<std::int64_t>(std::floor(f.col_at(b.x[i]))),
                   r = static_cast<std::int64_t>(std::floor(f.row_at(b.y[i])));
        const Point centre = f.centre(static_cast<double>(c), static_cast<double>(r));
        const auto at = static_cast<std::size_t>(r * f.cols() + c);
        const double d = std::hypot(b.x[i] - centre.x, b.y[i] - centre.y);
        if (std::abs(d - nearest[at]) < 2e-3) tied[at] = 1;
        if (d >= nearest[at]) continue;
        if (d < nearest[at] - 2e-3) tied[at] = 0;
        nearest[at] = d;
        expected[at] = origin_code(cloud.part(part).source + 1, How::Measured);
      }
    }
    const Block cells = g.read(f.window(), Planes::ValuesAndOrigin);
    std::size_t seen[3] = {};
    for (std::size_t i = 0; i < expected.size(); ++i) {
      const Origin o = cells.origin_row(0)[i];
      if (expected[i] != 0 && !tied[i] && !std::isnan(cells.row(0)[i])) {
        ASSERT_EQ(o, expected[i]) << i;
        ++seen[source_of(o)];
      }
      if (method == PointMethod::Tin && expected[i] == 0 && !std::isnan(cells.row(0)[i])) {
        ASSERT_EQ(how_of(o), How::Interpolated);
        ASSERT_GE(source_of(o), 1u);
        ASSERT_LE(source_of(o), 2u);
      }
    }
    EXPECT_GT(seen[1], 150u);
    EXPECT_GT(seen[2], 100u);
  }
}

TEST(Gridding, StatisticsAreWhatACountByHandGives) {
  const PointCloud cloud = strewn(3000, 40, 5, waves);
  const PointBatch p = all_points(cloud);
  for (double radius : {0.0, 1.7}) {
    const GriddedPoints g =
        grid_points(cloud, {.methods = kAll, .cell = 1_m, .radius = Length::metres(radius), .tile = 11});
    const Frame& f = g.grids[0].frame();
    const double own = radius / GroundRuler(f.crs()).at(f.bounds().centre()).y;
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const Point m = f.centre(static_cast<double>(c), static_cast<double>(r));
        std::vector<double> z;
        double weight = 0, weighed = 0;
        for (std::size_t i = 0; i < p.size(); ++i) {
          const double d = std::hypot(p.x[i] - m.x, p.y[i] - m.y);
          const bool in = radius > 0 ? d <= own
                                     : std::floor(f.col_at(p.x[i])) == static_cast<double>(c) &&
                                           std::floor(f.row_at(p.y[i])) == static_cast<double>(r);
          if (!in) continue;
          z.push_back(p.z[i]);
          weight += 1 / (d * d);
          weighed += p.z[i] / (d * d);
        }
        auto value = [&](int k) { return static_cast<double>(g.grids[static_cast<std::size_t>(k)].at(c, r)); };
        ASSERT_EQ(value(9), static_cast<double>(z.size()));
        if (z.empty()) {
          ASSERT_TRUE(std::isnan(value(4)));
          continue;
        }
        std::sort(z.begin(), z.end());
        double mean = 0, squares = 0;
        for (double v : z) mean += v / static_cast<double>(z.size());
        for (double v : z) squares += (v - mean) * (v - mean) / static_cast<double>(z.size());
        auto percentile = [&](double q) {
          const double at = q / 100 * static_cast<double>(z.size() - 1);
          const auto low = static_cast<std::size_t>(at);
          return z[low] + (low + 1 < z.size() ? (at - static_cast<double>(low)) * (z[low + 1] - z[low]) : 0);
        };
        ASSERT_NEAR(value(2), z.front(), 1e-5);
        ASSERT_NEAR(value(3), z.back(), 1e-5);
        ASSERT_NEAR(value(4), mean, 1e-5);
        ASSERT_NEAR(value(5), percentile(50), 1e-5);
        ASSERT_NEAR(value(6), percentile(90), 1e-5);
        ASSERT_NEAR(value(7), weighed / weight, 1e-4);
        ASSERT_NEAR(value(8), std::sqrt(squares), 1e-4);
      }
  }
}

TEST(Gridding, APlaneIsMetExactlyInEveryUnitOfPlace) {
  const Crs feet = Crs::parse("EPSG:2225"), degrees = Crs::wgs84();
  struct Case {
    Crs crs;
    Point corner;
    double edge, step;
  };
  for (const Case& k : {Case{Crs::parse("EPSG:32725"), {677000, 5842000}, 60, 0.001},
                        Case{feet, {6'000'000, 2'000'000}, 200, 0.01}, Case{degrees, {-31, -37.55}, 0.0006, 1e-8}}) {
    SCOPED_TRACE(k.crs.label());
    auto height = [&](double x, double y) {
      return 10 + 30 * (x - k.corner.x) / k.edge - 20 * (y - k.corner.y) / k.edge;
    };
    PointBatch b = all_points(strewn(2500, k.edge, 6, height, k.crs, k.corner, false, k.step));
    // Without the doubled ones.
    for (std::size_t i = 0; i < b.size(); ++i) b.z[i] = height(b.x[i], b.y[i]);
    PointInfo info = point_info(6);
    info.crs = k.crs;
    info.lattice->step[0] = info.lattice->step[1] = k.step;
    const GriddedPoints g =
        grid_points(points_from_batch(b, info),
                    {.methods = {{PointMethod::Tin, 50}, {PointMethod::Natural, 50}}, .cell = 1_m, .tile = 20});
    const Frame& f = g.grids[0].frame();
    EXPECT_NEAR(ground_spacing(f).y.metres(), 1, 0.02);
    EXPECT_NEAR(g.spacing.metres(), 60 / std::sqrt(2500.0), 0.15);
    std::int64_t n = 0;
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c)
        for (const Grid& grid : g.grids) {
          const float v = grid.at(c, r);
          if (std::isnan(v)) continue;
          ++n;
          const Point m = f.centre(static_cast<double>(c), static_cast<double>(r));
          ASSERT_NEAR(v, height(m.x, m.y), 2e-3);
        }
    EXPECT_GT(n, 1.8 * 55 * 55);
  }
}

TEST(Gridding, LongEdgesLeaveTheHoleAndBreaklinesBendTheSurface) {
  const PointCloud cloud = strewn(4000, 60, 7, plane);
  const GriddedPoints open = grid_points(cloud, {.cell = 1_m, .longest_edge = 6_m}),
                      closed = grid_points(cloud, {.cell = 1_m, .longest_edge = 50_m});
  const Frame& f = open.grids[0].frame();
  const auto c = static_cast<std::int64_t>(f.col_at(677036)), r = static_cast<std::int64_t>(f.row_at(5842030.5));
  EXPECT_TRUE(std::isnan(open.grids[0].at(c, r)));
  EXPECT_NEAR(closed.grids[0].at(c, r), plane(677036.5, 5842030.5), 0.3);
  EXPECT_EQ(how_of(closed.grids[0].read({c, r, 1, 1}, Planes::ValuesAndOrigin).origin_row(0)[0]), How::Interpolated);
  // A wall of ten metres across the hole: the surface follows it, whatever the tiles.
  const Breakline wall{{{677010, 5842030.5}, {677050, 5842030.5}}, {60, 60}};
  Block first;
  for (std::int64_t tile : {512, 17}) {
    const Grid g = grid_points(cloud, {.cell = 1_m, .longest_edge = 50_m, .breaklines = {wall}, .tile = tile}).grids[0];
    EXPECT_NEAR(g.at(c, r), 60, 1e-3);
    EXPECT_NEAR(g.at(c, r + 25), plane(677036.5, 5842005.5), 0.3);
    const Block b = g.read(g.frame().window());
    if (tile == 512) {
      first = g.read(g.frame().window());
      continue;
    }
    for (std::int64_t i = 0; i < b.window().cells(); ++i)
      if (!std::isnan(b.row(0)[i])) {
        ASSERT_NEAR(b.row(0)[i], first.row(0)[i], 1e-3);
      }
  }
  EXPECT_EQ(error_of([&] {
              grid_points(cloud, {.cell = 1_m, .breaklines = {{{{0, 0}, {1, 1}}, {1}}}});
            }),
            ErrorCode::BadArgument);
}

TEST(Gridding, SaysWhatItCannotDo) {
  const PointCloud cloud = strewn(50, 10, 1, plane);
  EXPECT_EQ(error_of([&] {
              grid_points(select(cloud, {.area = nullptr, .box = {0, 0, 1, 1}}), {.cell = 1_m});
            }),
            ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { grid_points(cloud, {.methods = {}, .cell = 1_m}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { parse_point_method("spline"); }), ErrorCode::BadArgument);
  EXPECT_EQ(parse_point_method("p95").percentile, 95);
  EXPECT_NEAR(cell_for_spacing(Length::metres(0.49)).metres(), 0.5, 1e-12);
  EXPECT_NEAR(cell_for_spacing(Length::metres(0.51)).metres(), 1, 1e-12);
  EXPECT_NEAR(cell_for_spacing(Length::metres(2.1)).metres(), 5, 1e-12);
  // One point, two, and three on a line make no triangle, and no trouble.
  for (std::size_t n : {1u, 2u, 3u}) {
    PointBatch b;
    for (std::size_t i = 0; i < n; ++i) {
      b.x.push_back(677000 + static_cast<double>(i));
      b.y.push_back(5842000 + static_cast<double>(i));
      b.z.push_back(1);
    }
    const Grid g = grid_points(points_from_batch(b, point_info(6)),
                               {.methods = {{PointMethod::Tin, 50}, {PointMethod::Count, 50}}, .cell = 1_m})
                       .grids[0];
    for (float v : all_values(g)) EXPECT_TRUE(std::isnan(v));
  }
}

// ---- ground, on the island whose truth is known

const PointBatch& island() {
  static const PointBatch b = marrowick::lidar_points();
  return b;
}
PointCloud unclassified_island() {
  PointBatch b = island();
  std::fill(b.classification.begin(), b.classification.end(), std::uint8_t{1});
  return points_from_batch(std::move(b), marrowick::lidar_info());
}

TEST(Ground, IsFoundOnTheIsland) {
  const PointCloud classed = classify_ground(unclassified_island());
  const PointBatch found = all_points(classed, PointFields::Class);
  const PointBatch& truth = island();
  ASSERT_EQ(found.size(), truth.size());
  std::size_t wrong = 0, noise = 0, noise_found = 0, false_noise = 0;
  for (std::size_t i = 0; i < truth.size(); ++i) {
    wrong += (truth.classification[i] == 2) != (found.classification[i] == 2);
    const bool is_noise = truth.classification[i] == 7 || truth.classification[i] == 18,
               told = found.classification[i] == 7 || found.classification[i] == 18;
    noise += is_noise;
    noise_found += is_noise && told;
    false_noise += !is_noise && told;
  }
  EXPECT_LT(static_cast<double>(wrong) / static_cast<double>(truth.size()), 0.05);
  EXPECT_GT(static_cast<double>(noise_found), 0.85 * static_cast<double>(noise));
  EXPECT_LT(false_noise, 20u);
  const Grid g = grid_points(select(classed, {.area = nullptr, .classes = {2}}), {.cell = 1_m}).grids[0];
  double squares = 0;
  std::int64_t n = 0;
  const Block b = g.read(g.frame().window());
  for (std::int64_t i = 0; i < b.window().cells(); ++i) {
    const Point p =
        g.frame().centre(static_cast<double>(i % b.window().cols), static_cast<double>(i / b.window().cols));
    const double x = p.x - marrowick::kCentreEast, y = p.y - marrowick::kCentreNorth, t = marrowick::ground(x, y);
    if (std::isnan(b.row(0)[i]) || t < 0 || !std::isnan(marrowick::roof(x, y))) continue;
    squares += (b.row(0)[i] - t) * (b.row(0)[i] - t);
    ++n;
  }
  EXPECT_GT(n, 700000);
  EXPECT_LT(std::sqrt(squares / static_cast<double>(n)), 0.15);
}

TEST(Ground, NoiseIsWhatABruteSearchFindsForEveryBudget) {
  // A dense ground and lone points; where cubes, 2 m wide here, are on both sides of zero and of the rims of tiles.
  PointInfo info = point_info(6);
  info.crs = {};
  PointBatch b;
  Dice r(4);
  auto add = [&](double x, double y, double z) {
    b.x.push_back(x);
    b.y.push_back(y);
    b.z.push_back(z);
  };
  for (int i = 0; i < 100000; ++i) add(r(150000) * 0.001 - 20, r(150000) * 0.001 - 20, r(100) * 0.01);
  for (int i = 0; i < 200; ++i) {
    const double x = r(150000) * 0.001 - 20, y = r(150000) * 0.001 - 20, z = 5 + r(3000) * 0.01;
    for (std::uint32_t k = 0; k <= r(9); ++k) add(x + k * 0.3, y, z);
  }
  const PointCloud cloud = points_from_batch(b, info, 3000);
  const GroundFilter noise{.noise = true, .ground = false};
  const PointBatch told = all_points(classify_ground(cloud, noise));
  std::map<std::tuple<long, long, long>, int> cubes;
  auto cube = [](double v) { return static_cast<long>(std::floor(v / 2)); };
  for (std::size_t i = 0; i < b.size(); ++i) ++cubes[{cube(b.x[i]), cube(b.y[i]), cube(b.z[i])}];
  std::size_t wrong = 0, alone = 0;
  for (std::size_t i = 0; i < b.size(); ++i) {
    int others = -1;
    for (long dx = -1; dx <= 1; ++dx)
      for (long dy = -1; dy <= 1; ++dy)
        for (long dz = -1; dz <= 1; ++dz) {
          const auto it = cubes.find({cube(b.x[i]) + dx, cube(b.y[i]) + dy, cube(b.z[i]) + dz});
          if (it != cubes.end()) others += it->second;
        }
    const bool is_noise = told.classification[i] == 7 || told.classification[i] == 18;
    wrong += is_noise != (others < noise.noise_neighbours);
    alone += is_noise;
  }
  EXPECT_EQ(wrong, 0u);
  EXPECT_GT(alone, 200u);
  GroundFilter tight = noise;
  tight.run = {.threads = 3, .memory = 20000};
  EXPECT_EQ(all_points(classify_ground(cloud, tight)).classification, told.classification);
}

TEST(Ground, WaterIsToldApartByItsLevelAndClassesThatAreThereStay) {
  PointSelection corner{.area = nullptr};
  corner.box = {677600, 5841300, 677800, 5841500};
  const PointCloud part = select(points_from_batch(island(), marrowick::lidar_info()), corner);
  const PointBatch truth = all_points(part), kept = all_points(classify_ground(part)),
                   anew = all_points(classify_ground(part, {.anew = true, .water = Length()}));
  EXPECT_EQ(kept.classification, truth.classification);
  std::size_t water = 0, right = 0;
  for (std::size_t i = 0; i < truth.size(); ++i)
    if (truth.classification[i] == 9) {
      ++water;
      right += anew.classification[i] == 9;
    }
  EXPECT_GT(water, 100u);
  EXPECT_GT(right, water * 95 / 100);
  EXPECT_EQ(error_of([&] { classify_ground(part, {.slope = 0}); }), ErrorCode::BadArgument);
}

TEST(Ground, OnlyPointsWithoutAClassGetOne) {
  PointSelection corner{.area = nullptr};
  corner.box = {677300, 5841300, 677500, 5841500};
  PointBatch truth = all_points(select(points_from_batch(island(), marrowick::lidar_info()), corner));
  const auto notes_of = [&] {
    return classify_ground(points_from_batch(truth, marrowick::lidar_info(), 1000)).info().notes;
  };
  const std::size_t whole = truth.size();
  ASSERT_GT(whole, 5000u);
  // Where all have one nothing is looked for, and that is said.
  EXPECT_NE(notes_of().back().find("have a class already"), std::string::npos);
  // A single one of the last part is enough.
  truth.classification.back() = 0;
  EXPECT_EQ(notes_of().back(), "ground and noise classed by a filter");
  std::size_t opened = 0, found = 0;
  for (std::size_t i = 0; i < whole; i += 3) {
    opened += truth.classification[i] == 2;
    if (truth.classification[i] == 2) truth.classification[i] = 1;
  }
  const PointBatch told = all_points(classify_ground(points_from_batch(truth, marrowick::lidar_info(), 1000)));
  for (std::size_t i = 0; i + 1 < whole; ++i) {
    if (truth.classification[i] == 1)
      found += told.classification[i] == 2;
    else
      EXPECT_EQ(told.classification[i], truth.classification[i]) << i;
  }
  EXPECT_GT(found, opened * 8 / 10);
}

// Looks at all points that nobody is told of went on to their end when somebody wanted them to stop.
TEST(Ground, LooksThatAreNotToldCanBeStopped) {
  const PointCloud cloud = strewn(3000, 60, 5, waves);
  Progress stopped([](double) { ADD_FAILURE() << "it was told"; });
  stopped.cancel();
  const RunOptions run{.progress = &stopped};
  EXPECT_EQ(error_of([&] { classify_ground(cloud, {.run = run}); }), ErrorCode::Cancelled);
  EXPECT_EQ(error_of([&] { thinned(cloud, {.keep = ThinBy::Lowest, .cell = 3_m}, run); }), ErrorCode::Cancelled);
  EXPECT_EQ(error_of([&] { has_class(cloud, 200, run); }), ErrorCode::Cancelled);
  EXPECT_EQ(error_of([&] { canopy_height(cloud, 1_m, run); }), ErrorCode::Cancelled);
  // Not told, and not stopped: as ever.
  int told = 0;
  Progress listener([&](double) { ++told; });
  EXPECT_GT(all_points(classify_ground(cloud, {.run = {.progress = &listener}})).size(), 0U);
  EXPECT_EQ(told, 0);
}

TEST(Ground, TheCanopyHasNoPits) {
  PointSelection wood{.area = nullptr};
  wood.box = {677330, 5841680, 677560, 5841840};
  const PointCloud points = select(points_from_batch(island(), marrowick::lidar_info()), wood);
  const Grid ground = grid_points(select(points, {.area = nullptr, .classes = {2}}), {.cell = 1_m}).grids[0];
  const PointCloud above = above_surface(points, ground);
  const Grid canopy = canopy_height(above, 1_m);
  const Grid plain =
      grid_points(select(above, {.area = nullptr, .returns = Returns::First}), {.frame = canopy.frame()}).grids[0];
  double squares = 0, plain_squares = 0;
  std::int64_t n = 0;
  for (std::int64_t r = 5; r < canopy.frame().rows() - 5; ++r)
    for (std::int64_t c = 5; c < canopy.frame().cols() - 5; ++c) {
      const Point p = canopy.frame().centre(static_cast<double>(c), static_cast<double>(r));
      const double x = p.x - marrowick::kCentreEast, y = p.y - marrowick::kCentreNorth, top = marrowick::canopy(x, y);
      if (std::isnan(top) || !std::isnan(marrowick::wire(x, y))) continue;
      const double t = top - marrowick::ground(x, y);
      squares += (canopy.at(c, r) - t) * (canopy.at(c, r) - t);
      plain_squares += (plain.at(c, r) - t) * (plain.at(c, r) - t);
      ++n;
    }
  EXPECT_GT(n, 10000);
  EXPECT_LT(squares, plain_squares);
  EXPECT_LT(std::sqrt(squares / static_cast<double>(n)), 2.0);
  EXPECT_EQ(error_of([&] {
              above_surface(relabelled(points, [](PointInfo& i) { i.quantity.unit = LengthUnit::Foot; }), ground);
            }),
            ErrorCode::Refused);
}

// ---- soundings

TEST(Soundings, OrdersOfS44) {
  EXPECT_NEAR(s44_allows(S44Order::Special, 40_m).metres(), std::hypot(0.25, 0.3), 1e-12);
  EXPECT_EQ(s44_order(Length::metres(0.14), 0_m), S44Order::Exclusive);
  EXPECT_EQ(s44_order(Length::metres(0.26), 0_m), S44Order::One);
  EXPECT_EQ(s44_order(Length::metres(0.26), 20_m), S44Order::Special);
  EXPECT_EQ(s44_order(Length::metres(3), 10_m), S44Order::None);
}

TEST(Soundings, UncertaintyIsTheSpreadAboutASlopingFloor) {
  Dice r(2);
  PointBatch b;
  for (int i = 0; i < 40; ++i)
    for (int k = 0; k < 40; ++k) {
      b.x.push_back(677000 + 5 * i + r(100) * 0.01);
      b.y.push_back(5842000 + 5 * k + r(100) * 0.01);
      // A floor that falls steeply, and soundings that scatter evenly by 0.3 m: deviation 0.3 / sqrt(3).
      b.z.push_back(-10 - 0.2 * 5 * i + 0.3 * (r(2001) / 1000.0 - 1));
    }
  const PointCloud cloud = points_from_batch(b, point_info(6));
  const Grid floor = grid_points(cloud, {.cell = 2_m}).grids[0];
  const Grid u = sounding_uncertainty(cloud, floor.frame());
  double sum = 0;
  std::int64_t n = 0;
  for (std::int64_t row = 20; row < 80; ++row)
    for (std::int64_t c = 20; c < 80; ++c) {
      sum += u.at(c, row);
      ++n;
    }
  const double expected = 1.96 * 0.3 / std::sqrt(3.0);
  EXPECT_GT(sum / static_cast<double>(n), expected);
  EXPECT_LT(sum / static_cast<double>(n), 1.35 * expected);
  expect_same_for_every_window(u, 5, 15);
  const S44Shares s = s44_shares(u, floor);
  EXPECT_GT(s.cells[2], s.all / 2);
  std::int64_t all = 0;
  for (std::int64_t k : s.cells) all += k;
  EXPECT_EQ(all, s.all);
}

}  // namespace
}  // namespace katoptra
