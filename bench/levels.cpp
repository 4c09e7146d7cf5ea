// A thousand overlapping surveys brought to one level: time beside one reading of them all, and what is left of what
// was planted.
//
//   build/bin/levels [ACROSS] [FOLDER]
#include <random>

#include "katoptra/check/levelling.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/grid/cache.hpp"

#include "bench.hpp"

namespace {

using namespace katoptra;

constexpr std::int64_t kEdge = 500, kStep = 400;

struct Planted {
  double offset, tilt_x, tilt_y;
};

// Ground with noise of its own, 5 cm, raised and tilted.
Grid survey(std::int64_t i, std::int64_t j, const Planted& p) {
  const double west = 600000 + static_cast<double>(i * kStep), north = 5900000 - static_cast<double>(j * kStep);
  const Frame f(Crs::parse("EPSG:32725"), west, north, {1, 1}, kEdge, kEdge);
  std::mt19937 random(static_cast<unsigned>(1000 * j + i));
  std::normal_distribution<float> noise(0, 0.05f);
  std::vector<float> z;
  for (std::int64_t r = 0; r < kEdge; ++r)
    for (std::int64_t c = 0; c < kEdge; ++c) {
      const double x = static_cast<double>(c - kEdge / 2), y = static_cast<double>(kEdge / 2 - r);
      z.push_back(bench::ground(i * kStep + c, j * kStep + r) +
                  static_cast<float>(p.offset + p.tilt_x * x + p.tilt_y * y) + noise(random));
    }
  return grid_from_values(f, std::move(z), bench::heights());
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t across = argc > 1 ? std::atoll(argv[1]) : 32;
  const std::filesystem::path folder = argc > 2 ? argv[2] : std::filesystem::temp_directory_path().string();
  std::mt19937 random(1);
  std::uniform_real_distribution<double> any(-1, 1);
  std::vector<Planted> planted;
  std::vector<std::filesystem::path> files;
  for (std::int64_t j = 0; j < across; ++j)
    for (std::int64_t i = 0; i < across; ++i) {
      planted.push_back({any(random), any(random) * 4e-4, any(random) * 4e-4});
      files.push_back(folder / fmt::format("level-{}-{}.tif", i, j));
      if (!std::filesystem::exists(files.back())) write_grid(survey(i, j, planted.back()), files.back());
    }
  // One in four is held, as surveys on fixed points would be.
  std::vector<std::string> held;
  for (std::size_t k = 0; k < files.size(); ++k)
    if (static_cast<std::int64_t>(k) % across % 4 == 0 && static_cast<std::int64_t>(k) / across % 4 == 0)
      held.push_back(files[k].filename().string());
  const auto open_all = [&] {
    BlockCache::shared().set_budget(0);
    BlockCache::shared().set_budget(256u << 20);
    std::vector<Grid> tiles;
    for (std::size_t k = 0; k < files.size(); ++k) {
      const Grid g = open_grid(files[k]);
      const bool right = std::find(held.begin(), held.end(), files[k].filename().string()) != held.end();
      // What is held has nothing planted in it.
      tiles.push_back(right ? corrected(g, {.offset = Length::metres(-planted[k].offset),
                                            .tilt_x = -planted[k].tilt_x,
                                            .tilt_y = -planted[k].tilt_y,
                                            .pivot = g.frame().bounds().centre()})
                            : g);
    }
    return tiles;
  };
  Levelling l;
  const bench::Pair pair = bench::side_by_side(
      1, [&] { l = level(open_all(), {.fit = LevelFit::Planes, .hold = held}); },
      [&] {
        double sum = 0;
        for (const Grid& g : open_all())
          map_bands(
              g, Planes::Values, 0, {},
              [](Block b, const Window&) -> std::shared_ptr<void> { return std::make_shared<float>(b.row(0)[0]); },
              [&](std::shared_ptr<void> z) { sum += static_cast<double>(*static_cast<float*>(z.get())); });
        bench::require(sum != 0, "the tiles were read");
      });
  std::vector<double> left;
  for (std::size_t k = 0; k < files.size(); ++k)
    if (!l.surveys[k].held) left.push_back(std::abs(planted[k].offset + l.surveys[k].offset.metres()));
  std::sort(left.begin(), left.end());
  const double p95 = left[left.size() * 95 / 100];
  bench::require(p95 < 0.01, fmt::format("95 % of the offsets are back within {:.4f} m", p95));
  fmt::print(
      "{} surveys, {} overlaps: {:.1f} s, {:.2f} x reading them all; 95 % of the offsets within {:.1f} mm; peak {:.0f} "
      "MiB\n",
      files.size(), l.overlaps.size(), pair.ours, pair.ratio(), 1000 * p95, bench::peak_mib());
  return 0;
}
