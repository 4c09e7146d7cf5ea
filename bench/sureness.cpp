// How often the 95 % that a surface states of itself holds: analytic ground and the example island, measured with noise
// that is known, then resampled, averaged, blended. Prints the table of docs/uncertainty.md.
//
//   build/bin/sureness [TRIALS]
#include "../tests/sureness.hpp"

#include <fmt/format.h>
#include <random>
#include <string>

#include "katoptra/geo/area.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/soundings.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "marrowick.hpp"

namespace {

using namespace katoptra;
using namespace katoptra::testing;

const Crs& zone() {
  static const Crs crs = Crs::parse("EPSG:32725");
  return crs;
}
Frame frame(double cell, std::int64_t cols, std::int64_t rows, double shift = 0) {
  return {zone(), 677300 + shift, 5841900 - shift, {cell, cell}, cols, rows};
}

double waves(double x, double y) {
  return 40 + 12 * std::sin((x - 677000) / 31) * std::cos((y - 5841000) / 47) + 3 * std::sin((x + y) / 13);
}
double island(double x, double y) { return marrowick::ground_utm(x, y); }

// The mean of the ground over a cell, from 144 places.
Ground mean_over(const Ground& ground, double cell) {
  return [=](double x, double y) {
    double sum = 0;
    for (int j = 0; j < 12; ++j)
      for (int i = 0; i < 12; ++i) sum += ground(x + cell * ((i + 0.5) / 12 - 0.5), y + cell * ((j + 0.5) / 12 - 0.5));
    return sum / 144;
  };
}

// Ground points, one and a half a square metre, whose errors are those of a field on cells of 1 m; gridded by
// triangles.
Grid between_points(const Ground& ground, Length reach, unsigned seed) {
  constexpr std::int64_t kEdge = 120;
  const std::vector<double> noise = noise_of_reach(kEdge, kEdge, reach.metres(), seed);
  std::mt19937_64 random(seed + 77);
  std::uniform_real_distribution<double> place(0, static_cast<double>(kEdge));
  std::normal_distribution<double> normal;
  PointBatch b;
  b.resize(static_cast<std::size_t>(kEdge * kEdge * 3 / 2), PointFields::None, 0);
  for (std::size_t i = 0; i < b.size(); ++i) {
    const double x = place(random), y = place(random);
    const auto cell = static_cast<std::size_t>(y) * static_cast<std::size_t>(kEdge) + static_cast<std::size_t>(x);
    b.x[i] = 677300 + x;
    b.y[i] = 5841900 - y;
    // Noise from point to point, or that of the place.
    b.z[i] = ground(b.x[i], b.y[i]) + 0.05 * (reach > Length() ? noise[cell] : normal(random));
  }
  PointInfo info;
  info.crs = zone();
  info.quantity.heights = HeightReference::parse("EGM2008");
  info.quantity.unit_known = true;
  info.bounds = {677300, 5841900 - static_cast<double>(kEdge), 677300 + static_cast<double>(kEdge), 5841900};
  info.count = b.size();
  const PointCloud cloud = points_from_batch(std::move(b), info);
  return with_point_uncertainty(grid_points(cloud, {.cell = 1_m, .longest_edge = 10_m, .run = {}}).grids[0], cloud);
}

struct Case {
  std::string name;
  std::function<Held(const Ground& ground, Length reach, unsigned seed)> run;
  bool apart = false;  // only for noise from cell to cell
};

void print_row(const Case& c, const char* where, const Ground& ground, int trials) {
  std::string row = fmt::format("| {} | {} |", c.name, where);
  for (const double reach : {0.0, 3.0, 20.0}) {
    if (c.apart && reach > 0) {
      row += " – |";
      continue;
    }
    Held all;
    for (int t = 0; t < trials; ++t) all.add(c.run(ground, Length::metres(reach), static_cast<unsigned>(t + 1)));
    row += fmt::format(" {:.1f} % ({:.2f}) |", 100 * all.share(), all.ratio());
  }
  fmt::print("{}\n", row);
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  const int trials = argc > 1 ? std::atoi(argv[1]) : 20;
  const auto moved = [](Resampling how, double cell, double to) {
    return [=](const Ground& g, Length reach, unsigned seed) {
      // Each trial elsewhere, its cells between those of the other lattice at another place.
      const double east = 677300 + 263 * (seed % 5), north = 5841900 - 211 * (seed / 5 % 5);
      const auto between = [&](double step) { return cell * (7 + std::fmod(seed * step, 1.0)); };
      const Frame from(zone(), east, north, {cell, cell}, 150, 150);
      const auto n = static_cast<std::int64_t>(130 * cell / to);
      const Frame there(zone(), east + between(0.618), north - between(0.414), {to, to}, n, n);
      return held(reproject(measured(from, g, 0.05, reach, seed), there, how), g);
    };
  };
  const std::vector<Case> cases = {
      {"measured", [](const Ground& g, Length reach,
                      unsigned seed) { return held(measured(frame(1, 150, 150), g, 0.05, reach, seed), g); }},
      {"cubic, cells as large", moved(Resampling::Cubic, 1, 1)},
      {"cubic, to cells of a third", moved(Resampling::Cubic, 1, 1.0 / 3.1)},
      {"cubic, from cells of 10 m", moved(Resampling::Cubic, 10, 7)},
      {"bilinear, cells as large", moved(Resampling::Bilinear, 1, 1)},
      {"bilinear, from cells of 10 m", moved(Resampling::Bilinear, 10, 7)},
      {"nearest, cells as large", moved(Resampling::Nearest, 1, 1)},
      {"nearest, from cells of 10 m", moved(Resampling::Nearest, 10, 7)},
      {"mean, to cells of 4.6 m",
       [](const Ground& g, Length reach, unsigned seed) {
         const Grid in = measured(frame(1, 200, 200), g, 0.05, reach, seed);
         return held(reproject(in, frame(4.6, 38, 38, 7.37), Resampling::Mean), mean_over(g, 4.6));
       }},
      {"blended over 10 m",
       [](const Ground& g, Length reach, unsigned seed) {
         Grid a = measured(frame(1, 120, 60), g, 0.03, reach, seed),
              b = measured(frame(1, 120, 60, 30), g, 0.10, reach, seed + 1000);
         const auto dated = [](const Grid& grid, const char* date) {
           return relabelled(grid, [&](GridInfo& i) { i.sources[0].date = i.sources[0].survey = date; });
         };
         const Grid m = mosaic({dated(a, "2022-01-01"), dated(b, "2016-01-01")}, {.feather = 10_m});
         return held(m, g, [](const Block& block, std::int64_t c, std::int64_t r) {
           return how_of(block.origin_row(r)[c]) == How::Blended;
         });
       }},
  };
  const auto filled = [](FillMethod method, bool second) {
    return [=](const Ground& g, Length reach, unsigned seed) {
      const Grid in = with_voids(measured(frame(1, 300, 300), g, 0.05, reach, seed), seed);
      FillOptions o{.largest = 500_m, .method = method, .run = {}};
      if (second)
        o.second = measured(
            frame(5, 70, 70, -20), [&](double x, double y) { return g(x, y) + 1.5 + 0.002 * (x - 677300); }, 0.2, reach,
            seed + 500);
      return held(fill_voids(in, o).grid, g, [](const Block& block, std::int64_t c, std::int64_t r) {
        return how_of(block.origin_row(r)[c]) == How::Filled;
      });
    };
  };
  std::vector<Case> all = cases;
  all.push_back({"interpolated between points",
                 [](const Ground& g, Length reach, unsigned seed) { return held(between_points(g, reach, seed), g); },
                 true});
  all.push_back({"filled, the usual way", filled(FillMethod::Usual, false)});
  all.push_back({"filled by membrane", filled(FillMethod::Membrane, false)});
  all.push_back({"filled by a smooth surface", filled(FillMethod::Smooth, false)});
  all.push_back({"filled by triangles", filled(FillMethod::Tin, false)});
  all.push_back({"filled by what errs least", filled(FillMethod::Automatic, false)});
  all.push_back({"filled from a second surface of 5 m", filled(FillMethod::Automatic, true)});
  fmt::print(
      "| how it came about | ground | noise from cell to cell | over 3 m | over 20 m |\n|---|---|---|---|---|\n");
  for (const Case& c : all) {
    if (argc > 2 && c.name.find(argv[2]) == std::string::npos) continue;
    print_row(c, "waves", waves, trials);
    print_row(c, "island", island, trials);
  }
}
