// Water against plain twins that hold the whole grid: a flood with one heap, level ground searched breadth first, and
// every cell's water walked down by itself; on real-looking ground, in steps that make it level, and with voids.
#include <map>
#include <queue>
#include <random>
#include <set>

#include "katoptra/water/basins.hpp"
#include "katoptra/water/inundation.hpp"
#include "katoptra/water/reservoir.hpp"
#include "katoptra/water/water_products.hpp"

#include "grid/cell_areas.hpp"
#include "testing.hpp"
#include "water/flow_planes.hpp"
#include "water/land.hpp"
#include "water/outline.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Ground whose heights are whole steps: much of it level.
Grid stepped(const Frame& f, unsigned seed, double step, int voids = 5) {
  std::vector<float> v = all_values(rough_grid(f, seed, voids));
  for (float& z : v) z = static_cast<float>(std::round(static_cast<double>(z) / step) * step);
  return grid_from_values(f, v, metres_above_egm2008());
}

struct Plain {
  std::int64_t cols, rows;
  std::vector<float> z;
  std::vector<bool> hold;  // voids that water runs around
  explicit Plain(const Grid& g, AtVoids voids = AtVoids::Leaves)
      : cols(g.frame().cols()), rows(g.frame().rows()), z(all_values(g)), hold(z.size(), voids == AtVoids::RunsAround) {
    // All but those that can be walked to from the edge.
    std::vector<std::pair<std::int64_t, std::int64_t>> line;
    const auto reach = [&](std::int64_t c, std::int64_t r) {
      if (c < 0 || r < 0 || c >= cols || r >= rows || !hold[at(c, r)] || !std::isnan(z[at(c, r)])) return;
      hold[at(c, r)] = false;
      line.emplace_back(c, r);
    };
    for (std::int64_t c = 0; c < cols; ++c)
      for (const std::int64_t r : {std::int64_t{0}, rows - 1}) reach(c, r);
    for (std::int64_t r = 0; r < rows; ++r)
      for (const std::int64_t c : {std::int64_t{0}, cols - 1}) reach(c, r);
    while (!line.empty()) {
      const auto [c, r] = line.back();
      line.pop_back();
      around(c, r, [&](std::int64_t nc, std::int64_t nr, int) { reach(nc, nr); });
    }
  }
  std::size_t at(std::int64_t c, std::int64_t r) const { return static_cast<std::size_t>(r * cols + c); }
  float height(std::int64_t c, std::int64_t r) const {
    return c < 0 || r < 0 || c >= cols || r >= rows ? kVoid : z[at(c, r)];
  }
  template <class Body>
  void around(std::int64_t c, std::int64_t r, const Body& body) const {
    for (int k = 0; k < 8; ++k) body(c + kColStep[k], r + kRowStep[k], k);
  }
  bool beside_void(std::int64_t c, std::int64_t r) const {
    bool any = false;
    around(c, r, [&](std::int64_t nc, std::int64_t nr, int) {
      const bool inside = nc >= 0 && nr >= 0 && nc < cols && nr < rows;
      any = any || (std::isnan(height(nc, nr)) && !(inside && hold[at(nc, nr)]));
    });
    return any;
  }
};

std::vector<float> flooded(const Grid& g, const std::set<Sink>& sinks = {}, AtVoids voids = AtVoids::Leaves) {
  const Plain p(g, voids);
  using Item = std::pair<float, std::pair<std::int64_t, std::int64_t>>;
  std::priority_queue<Item, std::vector<Item>, std::greater<>> heap;
  std::vector<float> level(p.z.size(), kVoid);
  for (std::int64_t r = 0; r < p.rows; ++r)
    for (std::int64_t c = 0; c < p.cols; ++c)
      if (!std::isnan(p.height(c, r)) && (p.beside_void(c, r) || sinks.contains({c, r}))) {
        level[p.at(c, r)] = p.height(c, r);
        heap.push({p.height(c, r), {c, r}});
      }
  while (!heap.empty()) {
    const auto [water, at] = heap.top();
    heap.pop();
    p.around(at.first, at.second, [&, w = water](std::int64_t c, std::int64_t r, int) {
      if (std::isnan(p.height(c, r)) || !std::isnan(level[p.at(c, r)])) return;
      level[p.at(c, r)] = std::max(w, p.height(c, r));
      heap.push({level[p.at(c, r)], {c, r}});
    });
  }
  return level;
}

TEST(Depressions, TheLevelIsThatOfOneFloodWhateverTheTiles) {
  for (const auto& [cols, rows] :
       {std::pair{67, 53}, std::pair{1, 40}, std::pair{40, 1}, std::pair{2, 3}, std::pair{16, 32}})
    for (double step : {0.0, 0.3, 2.0}) {
      const Frame f = utm_frame(cols, rows, 2);
      const Grid g = step == 0 ? rough_grid(f, 3, 6) : stepped(f, 4, step);
      const std::set<Sink> sinks{{cols / 2, rows / 2}, {cols / 3, rows / 4}};
      for (const bool with_sinks : {false, true}) {
        const std::vector<float> truth = flooded(g, with_sinks ? sinks : std::set<Sink>{});
        for (std::int64_t edge : {5, 16, 17, 512})
          for (int threads : {1, 3}) {
            Grid level = raised(g, {.threads = threads}, edge);
            if (with_sinks) level = sunk(level, g, {}, {sinks.begin(), sinks.end()}, {.threads = threads}, edge);
            const std::vector<float> made = all_values(level);
            for (std::size_t i = 0; i < made.size(); ++i) ASSERT_TRUE(same_bits(made[i], truth[i])) << edge << " " << i;
            if (edge == 16) expect_same_for_every_window(level, 3, 5);
          }
      }
    }
}

// Cells that are lowered anywhere, at rims, beside voids and in the middle of lakes, are what they were if the land had
// been so from the beginning.
TEST(Depressions, TheLevelSinksToThatOfTheLoweredLand) {
  for (const auto& [cols, rows] : {std::pair{67, 53}, std::pair{1, 40}, std::pair{40, 1}})
    for (double step : {0.0, 0.3, 2.0})
      for (unsigned seed : {1u, 2u, 3u}) {
        const Grid g = stepped(utm_frame(cols, rows, 2), seed + 20, std::max(step, 1e-3));
        std::mt19937 random(seed);
        std::vector<ChangedCell> lowered;
        for (int i = 0; i < 12; ++i) {
          std::int64_t c = random() % static_cast<unsigned>(cols), r = random() % static_cast<unsigned>(rows);
          // A channel of some cells, falling.
          for (int k = 0; k < 9 && c < cols && r < rows; ++k, c += random() % 2, r += random() % 2)
            if (const float z = g.at(c, r); !std::isnan(z))
              lowered.push_back({static_cast<std::int32_t>(r), static_cast<std::int32_t>(c),
                                 z - static_cast<float>(random() % 300) / 50.0f});
        }
        lowered = deepest_of(std::move(lowered));
        const Grid land = with_cells(g, lowered);
        const std::set<Sink> sinks{{cols / 2, rows / 2}, {cols / 3, rows / 4}};
        const std::vector<float> truth = flooded(land, sinks);
        for (std::int64_t edge : {5, 16, 17, 512})
          for (int threads : {1, 3}) {
            const Grid made =
                sunk(raised(g, {}, edge), g, lowered, {sinks.begin(), sinks.end()}, {.threads = threads}, edge);
            const std::vector<float> level = all_values(made);
            for (std::size_t i = 0; i < level.size(); ++i)
              ASSERT_TRUE(same_bits(level[i], truth[i])) << edge << " " << i;
          }
      }
}

// Water that voids hold back stands higher; what hangs together with the edge lets it out all the same.
TEST(Depressions, WaterRunsAroundVoidsWhenItIsTold) {
  for (const auto& [cols, rows] : {std::pair{67, 53}, std::pair{1, 40}, std::pair{3, 3}}) {
    const Grid g = rough_grid(utm_frame(cols, rows, 2), 3, 6);
    const std::vector<float> truth = flooded(g, {}, AtVoids::RunsAround), before = flooded(g);
    std::size_t higher = 0;
    for (std::size_t i = 0; i < truth.size(); ++i) higher += truth[i] > before[i];
    EXPECT_EQ(higher > 0, cols == 67);
    for (std::int64_t edge : {5, 16, 512}) {
      const std::vector<float> made = all_values(raised(with_walls(g, {}), {}, edge));
      for (std::size_t i = 0; i < made.size(); ++i) {
        if (std::isnan(truth[i]))
          ASSERT_TRUE(std::isnan(made[i]));
        else
          ASSERT_EQ(made[i], truth[i]) << edge << " " << i;
      }
    }
    const std::vector<float> fill =
        all_values(drained(g, {.way = TakeOut::Fill, .voids = AtVoids::RunsAround}).surface);
    for (std::size_t i = 0; i < fill.size(); ++i) ASSERT_TRUE(fill[i] == truth[i] || std::isnan(truth[i])) << i;
  }
  // A pond cut out of the bottom of a bowl: its water runs over, or stands nowhere. A void that the sea reaches is sea.
  const Frame f = utm_frame(41, 41, 2);
  const Point o = f.centre(20, 20);
  const Grid bowl = grid_from_function(
      f,
      [&](double x, double y) {
        const double r = std::hypot(x - o.x, y - o.y);
        return r < 5 ? std::nan("") : 20 - 0.5 * std::abs(r - 25);
      },
      metres_above_egm2008());
  EXPECT_EQ(depressions(bowl).size(), 0u);
  ASSERT_EQ(depressions(bowl, {.voids = AtVoids::RunsAround}).size(), 1u);
  EXPECT_NEAR(depressions(bowl, {.voids = AtVoids::RunsAround})[0].sill, 20, 0.6);
  const Flow round = flow(bowl, {.voids = AtVoids::RunsAround});
  EXPECT_DOUBLE_EQ(round.report().area, round.report().leaving_area);
  EXPECT_LT(round.report().leaving, flow(bowl).report().leaving);
  EXPECT_EQ(error_of([] { parse_at_voids("wall"); }), ErrorCode::BadArgument);
}

// A bowl within a hill, and a smaller one within it: one depression, to the sill of the outer one.
TEST(Depressions, OfABowl) {
  const Frame f = utm_frame(101, 91, 2);
  const Point o = f.centre(50, 45);
  const double s = GroundRuler(f.crs()).at(o).x;
  // A paraboloid 10 m deep with a rim at 60 m from its middle, and the land falling away beyond.
  const Grid g = grid_from_function(
      f,
      [&](double x, double y) {
        const double r = std::hypot(x - o.x, y - o.y) * s;
        return r < 60 ? 90 + 10 * r * r / 3600 : 100 - (r - 60) * 0.1;
      },
      metres_above_egm2008());
  const std::vector<Depression> list = depressions(g);
  ASSERT_EQ(list.size(), 1u);
  const Depression& d = list[0];
  EXPECT_EQ(d.col, 50);
  EXPECT_EQ(d.row, 45);
  EXPECT_NEAR(d.depth, 10, 0.4);
  EXPECT_NEAR(d.sill, 90 + d.depth, 1e-4);
  EXPECT_NEAR(d.area, std::numbers::pi * 3600, 400);
  EXPECT_NEAR(d.volume, std::numbers::pi * 3600 / 10 * d.depth * d.depth / 2, 300);
  EXPECT_NEAR(planar_area(d.shape), static_cast<double>(d.cells) * 4, 1e-6);
  EXPECT_TRUE(contains(d.shape, d.place));
  const Layer layer = depression_layer(list, g);
  EXPECT_EQ(layer.features.size(), 1u);
  EXPECT_EQ(depressions(raised(g, {})).size(), 0u);
  // Feet count as feet.
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const std::vector<Depression> in_feet = depressions(relabelled(g, [&](GridInfo& i) { i.quantity = feet; }));
  EXPECT_NEAR(in_feet[0].volume, d.volume * 0.3048, 1e-6 * d.volume);
}

// Cells of each region of raised cells, walked through one by one, by its deepest cell (the first of equals).
std::map<std::size_t, std::int64_t> regions_of(const Plain& p, const std::vector<float>& level) {
  std::map<std::size_t, std::int64_t> out;
  std::vector<bool> seen(p.z.size(), false);
  for (std::size_t i = 0; i < p.z.size(); ++i) {
    if (seen[i] || !(level[i] > p.z[i])) continue;
    std::vector<std::size_t> line{i};
    seen[i] = true;
    std::size_t deepest = i;
    for (std::size_t k = 0; k < line.size(); ++k) {
      const auto depth = [&](std::size_t at) { return level[at] - p.z[at]; };
      if (depth(line[k]) > depth(deepest) || (depth(line[k]) == depth(deepest) && line[k] < deepest)) deepest = line[k];
      p.around(static_cast<std::int64_t>(line[k]) % p.cols, static_cast<std::int64_t>(line[k]) / p.cols,
               [&](std::int64_t c, std::int64_t r, int) {
                 if (std::isnan(p.height(c, r)) || seen[p.at(c, r)] || !(level[p.at(c, r)] > p.z[p.at(c, r)])) return;
                 seen[p.at(c, r)] = true;
                 line.push_back(p.at(c, r));
               });
    }
    out[deepest] = std::ssize(line);
  }
  return out;
}

TEST(Depressions, AreRegionsOfRaisedCells) {
  for (const auto& [cols, rows] : {std::pair{71, 63}, std::pair{9, 200}, std::pair{200, 9}})
    for (const unsigned heights : {3u, 10u, 1000u}) {
      // Nothing but noise: regions of every shape, around one another.
      std::mt19937 random(heights);
      std::vector<float> v(static_cast<std::size_t>(cols * rows));
      for (float& z : v) z = static_cast<float>(random() % heights);
      const Grid land = grid_from_values(utm_frame(cols, rows, 2), v, metres_above_egm2008());
      const std::map<std::size_t, std::int64_t> truth = regions_of(Plain(land), flooded(land));
      std::map<std::size_t, std::int64_t> made;
      for (const Depression& d : depressions(land)) made[static_cast<std::size_t>(d.row * cols + d.col)] = d.cells;
      EXPECT_EQ(made, truth) << cols << " " << heights;
      EXPECT_GT(truth.size(), 10u);
    }
  const Grid g = stepped(utm_frame(71, 63, 2), 7, 0.2);
  const std::vector<float> z = all_values(g), level = flooded(g);
  std::int64_t cells = 0;
  double volume = 0;
  for (const Depression& d : depressions(g)) {
    cells += d.cells;
    volume += d.volume;
    EXPECT_NEAR(planar_area(d.shape), static_cast<double>(d.cells) * 4, 1e-6);
    EXPECT_EQ(static_cast<float>(d.sill), level[static_cast<std::size_t>(d.row * 71 + d.col)]);
  }
  std::int64_t raised_cells = 0;
  double raised_volume = 0;
  const CellAreas areas(g.frame());
  for (std::size_t i = 0; i < z.size(); ++i)
    if (level[i] > z[i]) {
      ++raised_cells;
      raised_volume += static_cast<double>(level[i] - z[i]) *
                       areas.row(static_cast<std::int64_t>(i) / 71).at(static_cast<std::int64_t>(i) % 71);
    }
  EXPECT_GT(cells, 50);
  EXPECT_EQ(cells, raised_cells);
  EXPECT_NEAR(volume, raised_volume, 1e-6 * volume);
}

// A valley with a bank across it: a hole through the bank moves less than a lake behind it.
Grid dammed_valley() {
  const Frame f = utm_frame(61, 81, 1);
  std::vector<float> v;
  for (int r = 0; r < 81; ++r)
    for (int c = 0; c < 61; ++c)
      v.push_back(static_cast<float>(20 - 0.1 * r + 0.2 * std::abs(c - 30) + (r == 40 || r == 41 ? 3 : 0)));
  return grid_from_values(f, v, metres_above_egm2008());
}

TEST(Depressions, FilledCarvedOrTheLesser) {
  const Grid g = dammed_valley();
  const Drained fill = drained(g, {.way = TakeOut::Fill}), carve = drained(g, {.way = TakeOut::Carve}),
                least = drained(g);
  EXPECT_EQ(fill.report.depressions, 1);
  EXPECT_EQ(fill.report.filled, 1);
  EXPECT_EQ(fill.report.cells_lowered, 0);
  EXPECT_GT(fill.report.volume_raised, 100);
  EXPECT_EQ(carve.report.carved, 1);
  EXPECT_EQ(carve.report.cells_raised, 0);
  EXPECT_EQ(carve.report.cells_lowered, 2);
  EXPECT_NEAR(carve.report.volume_lowered, 6.2, 0.5);
  EXPECT_EQ(least.report.carved, 1);
  EXPECT_TRUE(same_bits(least.surface.at(30, 40), carve.surface.at(30, 40)));
  // Whatever the way, all of it drains; what is neither raised nor lowered keeps its origin.
  for (const Drained* d : {&fill, &carve, &least}) {
    EXPECT_TRUE(depressions(d->surface).empty());
    const Block b = d->surface.read(g.frame().window(), Planes::ValuesAndOrigin);
    std::int64_t changed = 0;
    for (std::int64_t r = 0; r < 81; ++r)
      for (std::int64_t c = 0; c < 61; ++c) changed += how_of(b.origin_row(r)[c]) == How::Filled;
    EXPECT_EQ(changed, d->report.cells_raised + d->report.cells_lowered);
    EXPECT_EQ(d->surface.info().sources.size(), g.info().sources.size() + 1);
  }
  // Limits: too long a way, or too deep, and it is filled.
  EXPECT_EQ(drained(g, {.way = TakeOut::Carve, .longest = 1_m}).report.filled, 1);
  EXPECT_EQ(drained(g, {.way = TakeOut::Carve, .deepest = 1.0}).report.filled, 1);
  EXPECT_EQ(drained(g, {.way = TakeOut::Carve, .deepest = 4.0}).report.carved, 1);
}

TEST(Depressions, CulvertsAreBurntIn) {
  const Grid g = dammed_valley();
  const Frame& f = g.frame();
  Layer pipes{.name = "pipes", .crs = f.crs(), .features = {{LineString{f.centre(30, 44), f.centre(30, 37)}, {}}}};
  for (const bool in_degrees : {false, true}) {
    Layer lines = pipes;
    if (in_degrees) {
      lines.crs = Crs::wgs84();
      Transform(f.crs(), Crs::wgs84()).forward(std::get<LineString>(lines.features[0].geometry));
    }
    const Drained d = drained(g, {.way = TakeOut::Fill, .burn = &lines});
    EXPECT_EQ(d.report.burnt, 2);
    EXPECT_EQ(d.report.cells_lowered, 2);
    EXPECT_EQ(d.surface.at(30, 40), g.at(30, 39)) << "no higher than the ground before the bank";
    EXPECT_EQ(d.surface.at(30, 30), g.at(30, 30)) << "nothing is filled behind it";
    EXPECT_EQ(flow(g, {.burn = &lines}).upstream_cells().at(30, 80), 61 * 81);
    EXPECT_EQ(depressions(g, {.burn = &lines}).size(), 0u) << "nor does anything stand behind it";
  }
  std::get<LineString>(pipes.features[0].geometry) = {{0, 0}, {10, 10}};
  EXPECT_EQ(error_of([&] { drained(g, {.burn = &pipes}); }), ErrorCode::BadArgument);
  pipes.features[0].geometry = Point{0, 0};
  EXPECT_EQ(error_of([&] { drained(g, {.burn = &pipes}); }), ErrorCode::BadArgument);
}

TEST(Depressions, RealOnesStay) {
  const Grid g = dammed_valley();
  for (const DrainOptions& o : {DrainOptions{.keep_depth = 1.0}, DrainOptions{.keep_area = 50.0},
                                DrainOptions{.keep_depth = 1.0, .keep_area = 50.0}}) {
    const Drained d = drained(g, o);
    EXPECT_EQ(d.report.kept, 1);
    EXPECT_EQ(d.report.cells_raised + d.report.cells_lowered, 0);
  }
  EXPECT_EQ(drained(g, {.keep_depth = 1.0, .keep_area = 5000.0}).report.kept, 0);
  EXPECT_EQ(depressions(g, {.keep_depth = 1.0}).size(), 1u);
  EXPECT_EQ(depressions(g, {.keep_depth = 1.0, .keep_area = 5000.0}).size(), 0u);
  const Area there = Area::box({676020, 5841955, 676040, 5841975}, g.frame().crs()),
             elsewhere = Area::box({676000, 5841990, 676010, 5841999}, g.frame().crs());
  EXPECT_EQ(drained(g, {.keep = &there}).report.kept + drained(g, {.keep = &elsewhere}).report.kept, 1);
  for (const DrainOptions& o :
       {DrainOptions{.longest = Length::metres(0)}, DrainOptions{.longest = Length::metres(1e9)},
        DrainOptions{.deepest = 0.0}, DrainOptions{.keep_depth = -1.0}, DrainOptions{.keep_area = 0.0}})
    EXPECT_EQ(error_of([&] { drained(g, o); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { parse_take_out("breach"); }), ErrorCode::BadArgument);
  const Flow f = flow(g, {.keep_depth = 1.0});
  EXPECT_EQ(f.report().ending, 1);
  EXPECT_DOUBLE_EQ(f.report().leaving_area, f.report().area);
}

TEST(Depressions, ChannelsDoNotDependOnThreads) {
  const Grid g = stepped(utm_frame(91, 83, 2), 9, 0.4);
  const std::vector<float> one = all_values(drained(g, {.way = TakeOut::Carve, .run = {.threads = 1}}).surface),
                           more = all_values(drained(g, {.way = TakeOut::Carve, .run = {.threads = 4}}).surface);
  for (std::size_t i = 0; i < one.size(); ++i) ASSERT_TRUE(same_bits(one[i], more[i])) << i;
  // Nothing moves more ground than filling does.
  const DrainReport fill = drained(g, {.way = TakeOut::Fill}).report, least = drained(g).report;
  EXPECT_LT(least.volume_raised + least.volume_lowered, fill.volume_raised);
  EXPECT_GT(least.carved, 0);
}

// ---- flow

// Distances over level ground, breadth first from the cells that begin.
template <class Begins>
std::vector<int> spread(const Plain& p, const std::vector<int>& code, const Begins& begins) {
  std::vector<int> far(p.z.size(), 1 << 30);
  std::queue<std::pair<std::int64_t, std::int64_t>> line;
  for (std::int64_t r = 0; r < p.rows; ++r)
    for (std::int64_t c = 0; c < p.cols; ++c)
      if (code[p.at(c, r)] < 0 && begins(c, r)) {
        far[p.at(c, r)] = 1;
        line.push({c, r});
      }
  for (; !line.empty(); line.pop()) {
    const auto [c, r] = line.front();
    p.around(c, r, [&, c0 = c, r0 = r](std::int64_t nc, std::int64_t nr, int) {
      if (!(p.height(nc, nr) == p.height(c0, r0)) || code[p.at(nc, nr)] >= 0 || far[p.at(nc, nr)] < (1 << 30)) return;
      far[p.at(nc, nr)] = far[p.at(c0, r0)] + 1;
      line.push({nc, nr});
    });
  }
  return far;
}

std::vector<int> directions(const Grid& drained_land, const std::set<Sink>& sinks, AtVoids voids) {
  const Plain p(drained_land, voids);
  std::vector<int> code(p.z.size(), 0);
  const Frame& f = drained_land.frame();
  for (std::int64_t r = 0; r < p.rows; ++r) {
    const GroundScale s = GroundRuler(f.crs()).at(f.centre(128, static_cast<double>(r)));
    const double x = s.x * f.cell().x, y = s.y * f.cell().y;
    for (std::int64_t c = 0; c < p.cols; ++c) {
      const float own = p.height(c, r);
      if (std::isnan(own)) continue;
      float most = 0;
      code[p.at(c, r)] = -1;
      p.around(c, r, [&](std::int64_t nc, std::int64_t nr, int k) {
        const double far = k % 2 ? std::hypot(x, y) : k % 4 ? x : y;
        const float fall = (own - p.height(nc, nr)) * static_cast<float>(1 / far);
        if (fall > most) {
          most = fall;
          code[p.at(c, r)] = k + 1;
        }
      });
      if (code[p.at(c, r)] < 0 && p.beside_void(c, r)) code[p.at(c, r)] = 9;
      if (sinks.contains({c, r})) code[p.at(c, r)] = 10;
    }
  }
  const std::vector<int> near = code;
  const auto low = spread(p, near, [&](std::int64_t c, std::int64_t r) {
    bool any = false;
    p.around(c, r, [&](std::int64_t nc, std::int64_t nr, int) {
      any = any || (p.height(nc, nr) == p.height(c, r) && near[p.at(nc, nr)] > 0);
    });
    return any;
  });
  const auto high = spread(p, near, [&](std::int64_t c, std::int64_t r) {
    bool any = false;
    p.around(c, r, [&](std::int64_t nc, std::int64_t nr, int) { any = any || p.height(nc, nr) > p.height(c, r); });
    return any;
  });
  for (std::int64_t r = 0; r < p.rows; ++r)
    for (std::int64_t c = 0; c < p.cols; ++c) {
      if (near[p.at(c, r)] >= 0) continue;
      std::pair<long, int> best{1L << 40, 0};
      for (const int k : {0, 2, 4, 6, 1, 3, 5, 7}) {
        const std::int64_t nc = c + kColStep[k], nr = r + kRowStep[k];
        if (!(p.height(nc, nr) == p.height(c, r))) continue;
        const std::size_t n = p.at(nc, nr);
        const long key = near[n] > 0 ? -(1L << 40) : 2L * low[n] - (high[n] < (1 << 30) ? high[n] : 0);
        if (key < best.first) best = {key, k + 1};
      }
      code[p.at(c, r)] = best.second;
    }
  return code;
}

// What drains to each cell, each one's water walked down by itself. Fails when it runs in a circle.
std::vector<std::int64_t> walked(const std::vector<int>& code, std::int64_t cols) {
  std::vector<std::int64_t> out(code.size(), 0);
  for (std::size_t i = 0; i < code.size(); ++i) {
    if (code[i] == 0) continue;
    std::size_t steps = 0;
    for (auto at = static_cast<std::int64_t>(i);;) {
      ++out[static_cast<std::size_t>(at)];
      const int k = code[static_cast<std::size_t>(at)];
      if (k > 8) break;
      at += kRowStep[k - 1] * cols + kColStep[k - 1];
      if (++steps > code.size()) {
        ADD_FAILURE() << "water runs in a circle from " << i;
        return out;
      }
    }
  }
  return out;
}

TEST(Flow, AgreesWithEveryCellWalkedDownWhateverTheTiles) {
  for (const Frame& f : {utm_frame(73, 61, 2), Frame(Crs::wgs84(), 10, 70, {1.0 / 1200, 1.0 / 3600}, 73, 61),
                         utm_frame(1, 30, 2), utm_frame(30, 1, 2)})
    for (double step : {0.0, 0.5, 3.0}) {
      const Grid g = step == 0 ? rough_grid(f, 3, 6) : stepped(f, 4, step);
      SCOPED_TRACE(::testing::Message() << f.crs().label() << " " << step);
      const DrainOptions o{.way = step == 3.0 ? TakeOut::Fill : TakeOut::Least,
                           .keep_depth = 4.0,
                           .voids = step == 0.5 ? AtVoids::RunsAround : AtVoids::Leaves};
      std::set<Sink> sinks;
      for (const Depression& d : drained(g, o).kept) sinks.insert({d.col, d.row});
      std::vector<int> code;
      std::vector<std::int64_t> cells;
      for (std::int64_t edge : {512, 7, 16, 29}) {
        const Flow made = FlowAccess::in_tiles(g, o, edge);
        if (code.empty()) {
          code = directions(made.surface(), sinks, o.voids);
          cells = walked(code, f.cols());
        }
        const std::vector<float> direction = all_values(made.direction()), up = all_values(made.upstream_cells());
        for (std::size_t i = 0; i < code.size(); ++i) {
          ASSERT_EQ(std::isnan(direction[i]) ? 0 : static_cast<int>(direction[i]), code[i]) << edge << " at " << i;
          ASSERT_EQ(std::isnan(up[i]) ? 0 : static_cast<std::int64_t>(up[i]), cells[i]) << edge << " at " << i;
        }
        EXPECT_EQ(made.report().cells, std::count_if(code.begin(), code.end(), [](int k) { return k != 0; }));
        EXPECT_EQ(made.report().leaving, std::count(code.begin(), code.end(), 9));
        EXPECT_EQ(made.report().ending, std::ssize(sinks));
        // What leaves is what there is, to the last bit.
        EXPECT_EQ(made.report().area, made.report().leaving_area);
      }
    }
}

TEST(Flow, UpstreamAreasOfShapesThatAreKnown) {
  const Frame f = utm_frame(41, 33, 2);
  const Point o = f.centre(0, 0);
  // A plane that falls to the south: each cell gathers those north of it.
  const Flow plane = flow(grid_from_function(
      f, [&](double, double y) { return 0.1 * (y - o.y); }, metres_above_egm2008()));
  for (std::int64_t r = 0; r < 33; ++r) EXPECT_EQ(plane.upstream_cells().at(20, r), static_cast<float>(r + 1));
  const double cell = CellAreas(f).row(16).at(20);
  EXPECT_NEAR(static_cast<double>(plane.upstream_area().at(20, 32)), 33 * cell, 1e-3);
  EXPECT_EQ(plane.report().leaving, 41);
  // A valley that runs south gathers both flanks.
  const Flow valley = flow(grid_from_function(
      f, [&](double x, double y) { return std::abs(x - f.centre(20, 0).x) + 0.01 * (y - o.y); },
      metres_above_egm2008()));
  EXPECT_EQ(valley.upstream_cells().at(20, 0), 41);
  EXPECT_EQ(valley.upstream_cells().at(20, 32), 41 * 33);
  EXPECT_EQ(valley.report().leaving, 1);
  // Wetness is what it says.
  const double slope_there = 0.1 * GroundRuler(f.crs()).at(o).x, width = 2 * GroundRuler(f.crs()).at(o).x;
  EXPECT_NEAR(static_cast<double>(wetness(plane).at(20, 15)),
              std::log(16 * cell / width / (0.1 / GroundRuler(f.crs()).at(o).x)), 1e-3);
  EXPECT_NEAR(static_cast<double>(stream_power(plane).at(20, 15)), 16 * cell / width * slope_there, 0.01);
}

// All that is split comes out again, whatever the tiles; and with one neighbour it is what it was.
TEST(Flow, SplitAmongNeighboursNothingIsLost) {
  const Grid g = stepped(utm_frame(73, 61, 2), 4, 0.02);
  for (const Neighbours n : {Neighbours::AnyAngle, Neighbours::Several}) {
    std::vector<float> whole;
    for (std::int64_t edge : {512, 7, 16}) {
      const Flow f = FlowAccess::in_tiles(g, {}, edge);
      const std::vector<float> up = all_values(upstream(f, {.neighbours = n, .run = {.threads = edge == 7 ? 4 : 1}}));
      if (whole.empty()) whole = up;
      for (std::size_t i = 0; i < up.size(); ++i) ASSERT_TRUE(same_bits(up[i], whole[i])) << edge << " " << i;
      const std::vector<float> code = all_values(f.direction());
      double out = 0;
      for (std::size_t i = 0; i < up.size(); ++i)
        if (code[i] > 8) out += static_cast<double>(up[i]);
      EXPECT_NEAR(out, f.report().area, 1e-6 * f.report().area);
    }
  }
  const Flow f = flow(g);
  const auto even = [&](float v) {
    return grid_from_values(g.frame(), std::vector<float>(73 * 61, v), {.kind = QuantityKind::Unknown});
  };
  const Grid ones = even(1), rain = even(2.5f);
  const std::vector<float> plain = all_values(f.upstream_area()), same = all_values(upstream(f, {.weights = &ones})),
                           wet = all_values(upstream(f, {.weights = &rain}));
  for (std::size_t i = 0; i < plain.size(); ++i) {
    ASSERT_EQ(std::isnan(plain[i]), std::isnan(same[i]));
    if (std::isnan(plain[i])) continue;
    ASSERT_NEAR(same[i], plain[i], 1e-6f * plain[i]);
    ASSERT_NEAR(wet[i], 2.5f * plain[i], 1e-5f * plain[i]);
  }
  const Grid other = rough_grid(utm_frame(9, 9), 1, 0), less = even(-1);
  for (const Grid* w : {&other, &less})
    EXPECT_EQ(error_of([&] { upstream(f, {.weights = w}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { parse_neighbours("two"); }), ErrorCode::BadArgument);
}

// On a plane that falls at a slant all of it runs on at that slant: with one neighbour it cannot.
TEST(Flow, AnyAngleOnAPlaneAndAllAroundACone) {
  const Frame f = utm_frame(81, 81, 1);
  const Point o = f.centre(40, 40);
  const double cell = CellAreas(f).row(40).at(40);
  const Grid plane = grid_from_function(
      f, [&](double x, double y) { return 0.2 * (y - o.y) - 0.1 * (x - o.x); }, metres_above_egm2008());
  const std::vector<float> up = all_values(upstream(flow(plane), {.neighbours = Neighbours::AnyAngle}));
  // Each cell gets 1 - q of the one north of it and q of the one north-west, q = atan(1/2) / 45 degrees.
  const double q = std::atan(0.5) / (std::numbers::pi / 4);
  std::vector<double> expect(up.size(), 0);
  for (std::size_t r = 0; r < 81; ++r)
    for (std::size_t c = 0; c < 81; ++c) {
      expect[r * 81 + c] = cell;
      if (r > 0) expect[r * 81 + c] += (1 - q) * expect[(r - 1) * 81 + c];
      if (r > 0 && c > 0) expect[r * 81 + c] += q * expect[(r - 1) * 81 + c - 1];
    }
  // Along the eastern edge no triangle falls that way.
  for (std::size_t r = 0; r < 80; ++r)
    for (std::size_t c = 0; c < 79; ++c)
      ASSERT_NEAR(static_cast<double>(up[r * 81 + c]), expect[r * 81 + c], 1e-3 * expect[r * 81 + c]) << c << " " << r;
  // What lies within 20 cells of a cone's tip passes the ring of that radius evenly, some 10 cells to each on it.
  const Grid cone = grid_from_function(
      f, [&](double x, double y) { return -0.3 * std::hypot(x - o.x, y - o.y); }, metres_above_egm2008());
  const auto spread = [&](Neighbours n) {
    const Grid gathered = upstream(flow(cone), {.neighbours = n});
    double least = 1e9, most = 0;
    for (int k = 0; k < 64; ++k) {
      const double a = 2 * std::numbers::pi * k / 64;
      const double v = value_at(gathered, std::llround(40 + 20 * std::sin(a)), std::llround(40 + 20 * std::cos(a)));
      least = std::min(least, v);
      most = std::max(most, v);
    }
    return std::pair(least, most);
  };
  for (const Neighbours n : {Neighbours::AnyAngle, Neighbours::Several}) {
    EXPECT_GT(spread(n).first, 5);
    EXPECT_LT(spread(n).second, spread(Neighbours::One).second);
  }
  EXPECT_LT(spread(Neighbours::One).first, 5);
}

TEST(Flow, WhatTheEdgeOfTheDataCutsOffIsMarked) {
  const Frame f = utm_frame(21, 17, 2);
  // Falling to the south: all columns begin at the northern edge.
  const Grid g = grid_from_function(
      f, [&](double, double y) { return 0.1 * y; }, metres_above_egm2008());
  EXPECT_EQ(flow(g).report().cut_off, 21 * 17);
  // An island in the sea misses nothing, once the sea is known; on the sea floor nothing is a stream.
  const Point o = f.centre(10, 8);
  const Grid island = grid_from_function(
      f, [&](double x, double y) { return 8 - 0.8 * std::hypot(x - o.x, y - o.y); }, metres_above_egm2008());
  const Flow land = flow(island, {.sea = 0.0});
  EXPECT_LT(land.report().cells, flow(island).report().cells);
  EXPECT_TRUE(std::isnan(land.upstream_cells().at(0, 0)));
  EXPECT_DOUBLE_EQ(land.report().area, land.report().leaving_area);
  EXPECT_EQ(land.report().cut_off, 0);
  EXPECT_GT(flow(island).report().cells, 0);
}

// ---- streams and basins

TEST(Streams, ReachesJoinAndNeverRise) {
  const Grid g = rough_grid(utm_frame(90, 80, 2), 11, 4);
  for (std::int64_t edge : {512, 13}) {
    const Flow f = FlowAccess::in_tiles(g, {}, edge);
    const StreamNet net = streams(f, {.from_area = 120});
    ASSERT_GT(net.reaches.size(), 15u);
    std::map<std::int64_t, std::vector<const Reach*>> into;
    for (const Reach& r : net.reaches) {
      EXPECT_EQ(r.number, &r - net.reaches.data() + 1);
      EXPECT_TRUE(std::is_sorted(r.heights.rbegin(), r.heights.rend())) << "a stream rises";
      EXPECT_GE(r.upstream_area, 119);
      if (r.next == 0) continue;
      into[r.next].push_back(&r);
      const Reach& n = net.reaches[static_cast<std::size_t>(r.next - 1)];
      EXPECT_EQ(r.line.back(), n.line.front());
      EXPECT_GE(n.upstream_area, r.upstream_area);
    }
    std::int64_t sources = 0, gone = 0;
    int highest = 0;
    for (const Reach& r : net.reaches) {
      const auto& above = into[r.number];
      if (above.empty()) {
        ++sources;
        EXPECT_EQ(r.strahler, 1);
        EXPECT_EQ(r.shreve, 1);
      } else {
        std::multiset<int> orders;
        std::int64_t sum = 0;
        for (const Reach* a : above) {
          orders.insert(a->strahler);
          sum += a->shreve;
        }
        EXPECT_GE(above.size(), 2u);
        EXPECT_EQ(r.shreve, sum);
        EXPECT_EQ(r.strahler, *orders.rbegin() + (orders.count(*orders.rbegin()) > 1));
      }
      highest = std::max(highest, r.strahler);
      if (r.next == 0) gone += r.shreve;
    }
    EXPECT_EQ(gone, sources);
    EXPECT_GE(highest, 2);
    EXPECT_LE(stream_layer(net, f).features.size(), net.reaches.size());
    EXPECT_TRUE(streams(f, {.from_area = 1e9}).reaches.empty());
    EXPECT_EQ(error_of([&] { streams(f, {.from_area = 3}); }), ErrorCode::BadArgument);
  }
}

TEST(Streams, TheWayDownFromAPlace) {
  const Grid g = dammed_valley();
  const Flow f = flow(g);
  const LineString way = way_down(f, g.frame().centre(22, 3));
  EXPECT_EQ(way.front(), g.frame().centre(22, 3));
  EXPECT_EQ(way.back(), g.frame().centre(30, 80));
  float before = 1e9f;
  for (std::size_t i = 0; i < way.size(); ++i) {
    const auto c = static_cast<std::int64_t>(g.frame().col_at(way[i].x)),
               r = static_cast<std::int64_t>(g.frame().row_at(way[i].y));
    const float z = f.surface().at(c, r);
    EXPECT_LE(z, before);
    before = z;
    if (i > 0) {
      EXPECT_LE(std::max(std::abs(way[i].x - way[i - 1].x), std::abs(way[i].y - way[i - 1].y)), 1.0001);
    }
  }
  for (const Point nowhere : {Point{0, 0}, Point{1e300, 0}, Point{std::nan(""), 0}})
    EXPECT_EQ(error_of([&] { way_down(f, nowhere); }), ErrorCode::BadArgument);
}

TEST(Streams, HeightAndWayDownToThem) {
  const Grid g = stepped(utm_frame(60, 50, 2), 11, 0.25, 3);
  const Flow f = FlowAccess::in_tiles(g, {}, 17);
  const StreamOptions o{.from_area = 150};
  const std::vector<float> above = all_values(height_above_streams(f, o)), away = all_values(distance_to_streams(f, o)),
                           z = all_values(f.surface()), area = all_values(f.upstream_area()),
                           code = all_values(f.direction());
  const double scale = GroundRuler(g.frame().crs()).at(g.frame().centre(30, 25)).x;
  for (std::size_t i = 0; i < z.size(); ++i) {
    if (std::isnan(z[i])) continue;
    double far = 0;
    std::size_t at = i;
    while (static_cast<double>(area[at]) < 149.999 && code[at] <= 8) {
      const int k = static_cast<int>(code[at]) - 1;
      far += (k % 2 ? std::sqrt(8) : 2) * scale;
      at = static_cast<std::size_t>(static_cast<std::int64_t>(at) + kRowStep[k] * 60 + kColStep[k]);
    }
    if (static_cast<double>(area[at]) < 149.999) {
      ASSERT_TRUE(std::isnan(above[i]) && std::isnan(away[i]));
      continue;
    }
    ASSERT_NEAR(above[i], z[i] - z[at], 1e-5) << i;
    ASSERT_NEAR(static_cast<double>(away[i]), far, 0.01) << i;
  }
}

TEST(Basins, TileTheSurfaceAndAreWhatDrainsThere) {
  const Grid g = stepped(utm_frame(70, 60, 2), 12, 0.2, 4);
  std::vector<Basin> whole;
  for (std::int64_t edge : {512, 11}) {
    const Flow f = FlowAccess::in_tiles(g, {}, edge);
    const std::vector<Basin> list = basins(f, {.from_area = 200});
    ASSERT_GT(list.size(), 8u);
    if (whole.empty()) whole = list;
    ASSERT_EQ(list.size(), whole.size());
    std::vector<MultiPolygon> shapes;
    double sum = 0;
    for (std::size_t i = 0; i < list.size(); ++i) {
      const Basin& b = list[i];
      EXPECT_EQ(b.cells, whole[i].cells);
      EXPECT_EQ(b.longest_path, whole[i].longest_path);
      EXPECT_NEAR(b.mean_height, whole[i].mean_height, 1e-9 * std::abs(b.mean_height));
      EXPECT_NEAR(planar_area(b.shape), static_cast<double>(b.cells) * 4, 1e-6);
      EXPECT_TRUE(contains(b.shape, b.outlet));
      shapes.push_back(b.shape);
      sum += planar_area(b.shape);
      double upstream = b.area;
      for (const Basin& other : list)
        if (other.next == b.number) upstream += other.upstream_area;
      EXPECT_NEAR(upstream, b.upstream_area, 1e-6 * upstream);
      EXPECT_GE(b.longest_path, 0);
    }
    EXPECT_NEAR(planar_area(union_of(shapes)), sum, 1e-3) << "shapes overlap";
    EXPECT_EQ(basin_layer(list, f).features.size(), list.size());
  }
}

TEST(Basins, OutletsAreMovedOntoTheStream) {
  const Grid g = dammed_valley();
  const Flow f = flow(g);
  const Point mouth = g.frame().centre(30, 80), beside = g.frame().centre(34, 78), up = g.frame().centre(30, 10);
  const std::vector<Basin> list = basins(f, {.outlets = {beside, up}, .within = 5_m});
  ASSERT_EQ(list.size(), 2u);
  EXPECT_NEAR(list[0].outlet.x, mouth.x, 1e-6);
  EXPECT_NEAR(list[0].moved, std::hypot(4, 2), 0.01);
  EXPECT_NEAR(list[1].outlet.x, up.x, 1e-6);
  EXPECT_EQ(list[1].next, 1);
  EXPECT_EQ(list[0].next, 0);
  EXPECT_EQ(list[0].cells + list[1].cells, 61 * 81);
  EXPECT_NEAR(list[0].upstream_area, list[0].area + list[1].area, 1e-6 * list[0].upstream_area);
  EXPECT_GT(list[0].longest_path, 80);
  std::string text;
  const auto refused = [&](const BasinOptions& o) { return error_of([&] { basins(f, o); }, &text); };
  EXPECT_EQ(refused({.outlets = {{0, 0}}}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("outside"), text.npos);
  EXPECT_EQ(refused({}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.outlets = {up}, .from_area = 100}), ErrorCode::BadArgument);
  for (double far : {1e300, -1.0})
    EXPECT_EQ(refused({.outlets = {up}, .within = Length::metres(far)}), ErrorCode::BadArgument);
  EXPECT_TRUE(list[0].hypsometric > 0 && list[0].hypsometric < 1);
  EXPECT_EQ(refused({.outlets = {up, up}}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("another"), text.npos);
  std::vector<float> v = all_values(g);
  v[61 * 5 + 5] = kVoid;
  const Flow holed = flow(grid_from_values(g.frame(), v, metres_above_egm2008()));
  EXPECT_EQ(error_of([&] { basins(holed, {.outlets = {g.frame().centre(5, 5)}}); }, &text), ErrorCode::BadArgument);
  EXPECT_NE(text.find("void"), text.npos);
}

// A study says in words what the calls are told: the same comes out.
TEST(WaterProducts, SayWhatTheCallsSay) {
  const Grid g = dammed_valley();
  const Frame& f = g.frame();
  const Layer pipes{
      .name = "pipes", .crs = f.crs(), .features = {{LineString{f.centre(30, 44), f.centre(30, 37)}, {}}}},
      places{.name = "places", .crs = f.crs(), .features = {{f.centre(30, 80), {}}, {f.centre(30, 35), {}}}},
      ponds{.name = "ponds", .crs = f.crs(), .features = {{MultiPolygon{{to_polygon(f.bounds())}}, {}}}};
  const WaterProduct &flows = *water_product_named("flow"), &shapes = *water_product_named("basins"),
                     &sinks = *water_product_named("depressions");
  Settings s = flows.row.settings({{"as", "cells"}, {"burn", "pipes.geojson"}, {"depressions", "fill"}});
  s.attach("burn", pipes);
  EXPECT_EQ(all_values(flows.grid(g, s, {})),
            all_values(flow(g, {.way = TakeOut::Fill, .burn = &pipes}).upstream_cells()));
  s = flows.row.settings({{"as", "cells"}, {"keep_in", "ponds.geojson"}});
  s.attach("keep_in", ponds);
  const Area keep = area_of(ponds);
  EXPECT_EQ(all_values(flows.grid(g, s, {})), all_values(flow(g, {.keep = &keep}).upstream_cells()));
  s = shapes.row.settings({{"outlets", "places.csv"}, {"within", "2m"}});
  s.attach("outlets", places);
  const Layer two = shapes.layer(g, s, {});
  ASSERT_EQ(two.features.size(), 2u);
  const std::vector<Basin> list =
      basins(flow(g), {.outlets = {f.centre(30, 80), f.centre(30, 35)}, .within = 2_m, .from_area = 0, .run = {}});
  EXPECT_EQ(planar_area(std::get<MultiPolygon>(two.features[1].geometry)), planar_area(list[1].shape));
  EXPECT_EQ(sinks.layer(g, sinks.row.settings({{"keep_deeper", "1m"}}), {}).features.size(), 1u);
  EXPECT_EQ(sinks.layer(g, sinks.row.settings({{"keep_larger", "1ha"}}), {}).features.size(), 0u);
  // What is missing, or of another kind, is said before anything is computed.
  EXPECT_EQ(error_of([&] { shapes.judge(shapes.row.settings()); }), ErrorCode::BadArgument);
  s = shapes.row.settings({{"outlets", "pipes.geojson"}});
  s.attach("outlets", pipes);
  EXPECT_EQ(error_of([&] { shapes.judge(s); }), ErrorCode::BadArgument);
}

// ---- outlines

// Cells of a grid of that size for which `in` holds, as runs; how many there are.
template <class In>
std::pair<std::vector<CellRun>, int> runs_where(int cols, int rows, const In& in) {
  std::vector<CellRun> runs;
  int cells = 0;
  for (int r = 0; r < rows; ++r)
    for (int c = 0; c < cols; ++c) {
      if (!in(c, r)) continue;
      ++cells;
      if (!runs.empty() && runs.back().row == r && runs.back().last == c)
        ++runs.back().last;
      else
        runs.push_back({r, c, c + 1});
    }
  return {runs, cells};
}

TEST(Outline, HolesCornersAndIslands) {
  const Frame f(Crs(), 0, 10, {1, 1}, 10, 10);
  // A ring with an island in it, and a cell that touches the ring at a corner.
  const char* rows[] = {"11111.....", "1...1.....", "1.1.1.....", "1...1.....", "11111.....",
                        ".....1....", "1.1.......", ".1........", "1.1......."};
  const auto [runs, cells] = runs_where(10, 9, [&](int c, int r) { return rows[r][c] == '1'; });
  const MultiPolygon shape = outline_of(runs, f);
  EXPECT_EQ(planar_area(shape), cells);
  EXPECT_EQ(shape.size(), 8u);
  int holes = 0;
  for (const Polygon& p : shape) {
    EXPECT_EQ(p.outer.front(), p.outer.back());
    holes += static_cast<int>(p.holes.size());
  }
  EXPECT_EQ(holes, 1);
  for (int r = 0; r < 9; ++r)
    for (int c = 0; c < 10; ++c) EXPECT_EQ(contains(shape, f.centre(c, r)), rows[r][c] == '1') << c << " " << r;
  EXPECT_EQ(planar_area(overlay(shape, shape, Overlay::Union)), cells) << "valid";
}

TEST(Outline, AreasAddUpWhateverTheRegion) {
  const Frame f = utm_frame(40, 30);
  for (unsigned seed = 1; seed < 12; ++seed) {
    const std::vector<float> v = all_values(rough_grid(f, seed, 0));
    const float middle = v[600];
    const auto [runs, cells] =
        runs_where(40, 30, [&](int c, int r) { return v[static_cast<std::size_t>(r * 40 + c)] > middle; });
    const MultiPolygon shape = outline_of(runs, f);
    ASSERT_NEAR(planar_area(shape), cells, 1e-6);
    for (int r = 0; r < 30; ++r)
      for (int c = 0; c < 40; ++c)
        ASSERT_EQ(contains(shape, f.centre(c, r)), v[static_cast<std::size_t>(r * 40 + c)] > middle);
  }
}

// ---- inundation

TEST(Inundation, LowGroundBehindABankStaysDry) {
  // Sea to the west, a bank at column 20, low ground behind it, high ground in the east.
  const Frame f = utm_frame(50, 30, 2);
  std::vector<float> v;
  for (int r = 0; r < 30; ++r)
    for (int c = 0; c < 50; ++c) v.push_back(c < 20 ? -1.0f : c == 20 ? 3.0f : c < 40 && r > 2 && r < 27 ? 0.5f : 5.0f);
  const Grid g = grid_from_values(f, v, metres_above_egm2008());
  const double cell = CellAreas(f).row(15).at(25);
  const Inundation wet = inundation(g, {.level = 1});
  ASSERT_EQ(wet.parts.size(), 1u);
  EXPECT_EQ(wet.parts[0].cells, 20 * 30);
  EXPECT_NEAR(wet.area, 600 * cell, 0.01);
  EXPECT_NEAR(wet.volume, 1200 * cell, 0.1);
  EXPECT_EQ(wet.dry_low_cells, 19 * 24);
  EXPECT_EQ(inundation(g, {.level = 1, .all = true}).parts.size(), 2u);
  EXPECT_EQ(inundation(g, {.level = 1, .places = {f.centre(30, 15)}}).parts[0].cells, 19 * 24);
  const Inundation over = inundation(g, {.level = 3});
  EXPECT_EQ(over.parts.size(), 1u);
  EXPECT_EQ(over.parts[0].cells, 21 * 30 + 19 * 24);
  EXPECT_NEAR(over.parts[0].deepest, 4, 1e-6);
  EXPECT_NEAR(planar_area(over.parts[0].shape), 4.0 * (21 * 30 + 19 * 24), 1e-6);
  std::string text;
  EXPECT_EQ(error_of([&] { inundation(g, {.level = 1, .places = {f.centre(45, 15)}}); }, &text),
            ErrorCode::BadArgument);
  EXPECT_NE(text.find("above the level"), text.npos) << text;
  EXPECT_EQ(error_of([&] { inundation(g, {.level = 1, .places = {{0, 0}}}); }), ErrorCode::BadArgument);
  EXPECT_TRUE(inundation(g, {.level = -2}).parts.empty());
}

// A V-shaped valley that falls to the south, dammed: a pyramid of water whose volume is known.
TEST(Reservoir, OfAValley) {
  const Frame f = utm_frame(121, 161, 1);
  const Point o = f.centre(60, 100);
  const double s = GroundRuler(f.crs()).at(o).x;
  const auto ground = [&](double x, double y) { return 0.5 * std::abs(x - o.x) * s + 0.25 * (y - o.y) * s; };
  const Grid g = grid_from_function(f, ground, metres_above_egm2008());
  const LineString dam{f.centre(20, 100), f.centre(100, 100)};
  const Reservoir r = reservoir(g, {.dam = dam, .from = f.centre(60, 95), .crest = 10.0, .steps = 20});
  EXPECT_FALSE(r.runs_over);
  EXPECT_EQ(r.top, 10);
  ASSERT_EQ(r.curve.size(), 21u);
  // At a depth d of the dam the water is 4 d wide there and 4 d long: an area of 8 d², a volume of 8 d³ / 3.
  for (const ReservoirLevel& v : r.curve) {
    if (v.level < 4) continue;
    EXPECT_NEAR(v.area, 8 * v.level * v.level, 5 * v.level) << v.level;
    EXPECT_NEAR(v.volume, 8 * std::pow(v.level, 3) / 3, 0.18 * 8 * std::pow(v.level, 3) / 3 + 12) << v.level;
  }
  EXPECT_TRUE(
      std::is_sorted(r.curve.begin(), r.curve.end(), [](const auto& a, const auto& b) { return a.volume < b.volume; }));
  EXPECT_NEAR(planar_area(r.shape), static_cast<double>(r.cells), 1e-6);
  EXPECT_FALSE(contains(r.shape, f.centre(60, 102))) << "below the dam it is dry";
  EXPECT_TRUE(contains(r.shape, f.centre(60, 95)));
  EXPECT_EQ(reservoir_layer(r, g).features.size(), 1u);
  // Without a crest it is as high as the lower of its ends.
  const Reservoir whole = reservoir(g, {.dam = dam, .from = f.centre(60, 95)});
  EXPECT_NEAR(whole.crest, 20, 0.05);
  // A dam higher than its flanks: the water goes around it, and leaves in the south.
  const Reservoir around =
      reservoir(g, {.dam = {f.centre(50, 100), f.centre(70, 100)}, .from = f.centre(60, 95), .crest = 15.0});
  EXPECT_TRUE(around.runs_over);
  EXPECT_NEAR(around.top, 5.5, 0.6);
  // A slanting dam does not leak at its corners.
  const Reservoir slant =
      reservoir(g, {.dam = {f.centre(20, 90), f.centre(100, 117)}, .from = f.centre(60, 85), .crest = 6.0});
  EXPECT_FALSE(slant.runs_over);
  std::string text;
  const auto refused = [&](const ReservoirOptions& w) { return error_of([&] { reservoir(g, w); }, &text); };
  EXPECT_EQ(refused({.dam = {f.centre(20, 100)}, .from = f.centre(60, 95)}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.dam = {{1e300, 0}, {1e300, 1}}, .from = f.centre(60, 95)}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.dam = dam, .from = {1e300, 0}}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.dam = dam, .from = {0, 0}}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("outside"), text.npos);
  EXPECT_EQ(refused({.dam = dam, .from = f.centre(60, 100), .crest = 10.0}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("on the dam"), text.npos);
  EXPECT_EQ(refused({.dam = dam, .from = f.centre(2, 95), .crest = 10.0}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("below the crest"), text.npos);
  EXPECT_EQ(refused({.dam = {{0, 0}, {9, 9}}, .from = f.centre(60, 95)}), ErrorCode::BadArgument);
  EXPECT_EQ(refused({.dam = dam, .from = f.centre(60, 0), .crest = 100.0}), ErrorCode::BadArgument);
  EXPECT_NE(text.find("farther in"), text.npos) << text;
  for (int steps : {1, -3, 1 << 30})
    EXPECT_EQ(refused({.dam = dam, .from = f.centre(60, 95), .steps = steps}), ErrorCode::BadArgument);
}

}  // namespace
}  // namespace katoptra
