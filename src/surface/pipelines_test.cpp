// Operations one behind the other, in random order: a cell is the same bits through whatever window it is asked for,
// and a chain is lawful wherever its links are.
#include <cmath>
#include <fmt/format.h>

#include "katoptra/check/despike.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/correct.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

struct Link {
  const char* name;
  std::function<Grid(const Grid&, std::mt19937&)> apply;
};

Frame finer_or_coarser(const Grid& g, std::mt19937& random) {
  const double factor = std::vector<double>{0.5, 0.75, 1.5, 2}[random() % 4];
  const Frame& f = g.frame();
  return Frame::snapped(f.crs(), f.bounds(), {f.cell().x * factor, f.cell().y * factor});
}

// What keeps heights heights.
const std::vector<Link>& surface_links() {
  static const std::vector<Link> links = {
      {"in feet", [](const Grid& g, std::mt19937&) { return in_unit(g, LengthUnit::Foot); }},
      {"in metres", [](const Grid& g, std::mt19937&) { return in_unit(g, LengthUnit::Metre); }},
      {"raised",
       [](const Grid& g, std::mt19937& random) {
         return corrected(g, {.offset = Length::metres(static_cast<double>(random() % 100) / 7)});
       }},
      {"tilted",
       [](const Grid& g, std::mt19937&) {
         return corrected(g, {.tilt_x = 1e-3, .tilt_y = -2e-3, .pivot = g.frame().centre(3, 3)});
       }},
      {"filled", [](const Grid& g, std::mt19937&) { return fill_voids(g, {.edges = true, .run = {}}).grid; }},
      {"filled by membrane",
       [](const Grid& g, std::mt19937& random) {
         const bool second = random() % 2;
         FillOptions o{.edges = true, .method = random() % 2 ? FillMethod::Membrane : FillMethod::Automatic, .run = {}};
         if (second) o.second = corrected(rough_grid(g.frame(), 77, 1, g.quantity()), {.offset = 3_m});
         return fill_voids(g, o).grid;
       }},
      {"without spikes", [](const Grid& g, std::mt19937&) { return without_spikes(g, {}); }},
      {"cut",
       [](const Grid& g, std::mt19937& random) {
         const Window w = g.frame().window();
         return cut(g, {static_cast<std::int64_t>(random() % 5) - 2, static_cast<std::int64_t>(random() % 5) - 2,
                        w.cols - 3, w.rows - 1});
       }},
      {"clipped",
       [](const Grid& g, std::mt19937& random) {
         const Bounds b = g.frame().bounds();
         const double x = b.west + (b.east - b.west) * (0.4 + 0.001 * static_cast<double>(random() % 200)),
                      y = (b.south + b.north) / 2, r = 0.45 * std::min(b.east - b.west, b.north - b.south);
         MultiPolygon shape{Polygon{{{x - r, y}, {x, y + r}, {x + r, y}, {x, y - r}, {x - r, y}}}};
         return clip(g, Area(std::move(shape), g.frame().crs()));
       }},
      {"resampled",
       [](const Grid& g, std::mt19937& random) {
         return reproject(g, finer_or_coarser(g, random),
                          std::vector<Resampling>{Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic,
                                                  Resampling::Mean}[random() % 4]);
       }},
      {"in another zone",
       [](const Grid& g, std::mt19937&) {
         const Crs to = Crs::parse(g.frame().crs().epsg() == 32725 ? "EPSG:32724" : "EPSG:32725");
         return reproject(g, frame_for(g.frame(), to, {.cell = Length::metres(3)}), Resampling::Bilinear);
       }},
      {"in a mosaic with itself", [](const Grid& g, std::mt19937&) {
         return mosaic({g, corrected(g, {.offset = 1_m})}, {.feather = 3_m});
       }}};
  return links;
}

const std::vector<Link>& last_links() {
  static const std::vector<Link> links = {
      {"as it is", [](const Grid& g, std::mt19937&) { return g; }},
      {"shaded", [](const Grid& g, std::mt19937&) { return hillshade(g); }},
      {"its slope", [](const Grid& g, std::mt19937&) { return slope(g, SlopeAs::Percent); }},
      {"its aspect", [](const Grid& g, std::mt19937&) { return aspect(g); }},
      {"its roughness", [](const Grid& g, std::mt19937&) { return roughness(g); }}};
  return links;
}

std::vector<float> all_uncertainties(const Grid& g) {
  const Block b = g.read(g.frame().window(), Planes::ValuesAndUncertainty);
  return {b.uncertainty_row(0), b.uncertainty_row(0) + b.window().cells()};
}

// Nothing, a plane with holes of its own, or what a model says.
Grid of_some_sureness(const Grid& g, unsigned seed) {
  if (seed % 3 == 0) return g;
  if (seed % 3 == 1)
    return with_error_reach(with_uncertainty(g, {.constant = Length::metres(0.1), .per_slope = 0.3}), 3_m);
  std::mt19937 random(seed);
  std::vector<float> plane(static_cast<std::size_t>(g.frame().window().cells()));
  for (float& u : plane) u = random() % 50 == 0 ? kVoid : 0.05f + 0.001f * static_cast<float>(random() % 500);
  return with_uncertainty(g, grid_from_values(g.frame(), std::move(plane), {.kind = QuantityKind::Uncertainty}));
}

TEST(Pipelines, OfAnyOrderGiveTheSameThroughEveryWindow) {
  TemporaryFolder folder;
  for (unsigned seed = 1; seed <= 60; ++seed) {
    std::mt19937 random(seed);
    Grid g = rough_grid(
        utm_frame(31 + static_cast<std::int64_t>(random() % 60), 29 + static_cast<std::int64_t>(random() % 60), 2),
        seed);
    g = of_some_sureness(g, seed);
    std::string story = fmt::format("seed {}", seed);
    const auto links = 1 + random() % 4;
    for (unsigned k = 0; k < links; ++k) {
      const Link& link = surface_links()[random() % surface_links().size()];
      story += fmt::format(", {}", link.name);
      SCOPED_TRACE(story);
      g = link.apply(g, random);
    }
    const Link& last = last_links()[random() % last_links().size()];
    story += fmt::format(", {}", last.name);
    SCOPED_TRACE(story);
    g = last.apply(g, random);
    expect_same_for_every_window(g, seed, 8);
    // A file of it holds the same, with little memory and with much.
    if (seed % 4) continue;
    std::vector<std::vector<float>> written, sure;
    for (const RunOptions& run :
         {RunOptions{.threads = 1, .memory = 1u << 20}, RunOptions{.threads = 3, .memory = 64u << 20}}) {
      write_grid(g, folder / "a.tif", {.overwrite = true, .tile = 32, .run = run});
      written.push_back(all_values(open_grid(folder / "a.tif")));
      EXPECT_EQ(open_grid(folder / "a.tif").carries_uncertainty(), g.carries_uncertainty());
      sure.push_back(all_uncertainties(open_grid(folder / "a.tif")));
    }
    const std::vector<float> direct = all_values(g), uncertain = all_uncertainties(g);
    for (const auto& w : sure)
      for (std::size_t i = 0; i < uncertain.size(); ++i) ASSERT_TRUE(same_bits(w[i], uncertain[i])) << i;
    for (const auto& w : written)
      for (std::size_t i = 0; i < direct.size(); ++i) ASSERT_TRUE(same_bits(w[i], direct[i])) << i;
  }
}

// Laws that hold whatever the ground is.
TEST(Pipelines, Laws) {
  for (unsigned seed = 1; seed <= 10; ++seed) {
    SCOPED_TRACE(seed);
    const Grid g = rough_grid(utm_frame(47, 39, 2), seed);
    const std::vector<float> z = all_values(g);
    const auto near = [&](const Grid& a, const Grid& b, double tolerance, const char* what) {
      const std::vector<float> p = all_values(a), q = all_values(b);
      ASSERT_EQ(p.size(), q.size()) << what;
      for (std::size_t i = 0; i < p.size(); ++i) {
        ASSERT_EQ(std::isnan(p[i]), std::isnan(q[i])) << what << " at " << i;
        if (!std::isnan(p[i])) {
          ASSERT_NEAR(p[i], q[i], tolerance) << what << " at " << i;
        }
      }
    };
    near(in_unit(in_unit(g, LengthUnit::UsFoot), LengthUnit::Metre), g, 1e-4, "there and back in feet");
    near(corrected(corrected(g, {.offset = 3_m}), {.offset = -3_m}), g, 1e-4, "up and down");
    near(reproject(g, g.frame(), Resampling::Cubic), g, 1e-5, "onto its own cells");
    near(mosaic({g, g}), g, 0, "on top of itself");
    near(fill_voids(fill_voids(g).grid).grid, fill_voids(g).grid, 0, "filled twice");
    near(cut(cut(g, {-3, -3, 60, 60}), {3, 3, 47, 39}), g, 0, "cut wide and back");
    // Light, slope and facing do not know how high the ground lies, nor in which unit that is told.
    const Grid higher = corrected(g, {.offset = 40_m}), feet = in_unit(g, LengthUnit::Foot);
    for (const Grid& other : {higher, feet}) {
      near(slope(other), slope(g), 2e-2, "slope");
      near(hillshade(other), hillshade(g), 1, "shade");
    }
    // Heights turned over face the other way.
    const Grid below = scaled(g, -1, 0, [](GridInfo&) {});
    const std::vector<float> up = all_values(aspect(g)), down = all_values(aspect(below));
    for (std::size_t i = 0; i < up.size(); ++i) {
      if (std::isnan(up[i]) || std::isnan(down[i])) continue;
      ASSERT_NEAR(std::remainder(static_cast<double>(up[i] - down[i]) - 180, 360), 0, 0.02) << i;
    }
  }
}

}  // namespace
}  // namespace katoptra
