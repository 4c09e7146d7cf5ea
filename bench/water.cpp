// Water on fractal ground: depressions filled beside a plain heap, and the whole chain beside reading the grid.
//   build/bin/water [EDGE] [FOLDER]
#include <queue>

#include "katoptra/base/parallel.hpp"
#include "katoptra/water/basins.hpp"

#include "bench.hpp"

using namespace katoptra;
namespace fs = std::filesystem;

namespace {

std::vector<float> heights_of(std::int64_t n) {
  std::vector<float> v(static_cast<std::size_t>(n * n));
  parallel_for(static_cast<std::size_t>(n), {}, [&](std::size_t r) {
    for (std::int64_t c = 0; c < n; ++c)
      v[r * static_cast<std::size_t>(n) + static_cast<std::size_t>(c)] =
          std::round(bench::ground(c, static_cast<std::int64_t>(r)) * 100) / 100;
  });
  return v;
}

// The flood as it is written down: one heap, every cell through it.
std::vector<float> plain_flood(const std::vector<float>& z, std::int64_t n) {
  using Item = std::pair<float, std::int64_t>;
  std::priority_queue<Item, std::vector<Item>, std::greater<>> heap;
  std::vector<float> level = z;
  std::vector<std::uint8_t> closed(z.size(), 0);
  for (std::int64_t r = 0; r < n; ++r)
    for (std::int64_t c = 0; c < n; c += (r == 0 || r + 1 == n) ? 1 : n - 1) {
      closed[static_cast<std::size_t>(r * n + c)] = 1;
      heap.push({z[static_cast<std::size_t>(r * n + c)], r * n + c});
    }
  while (!heap.empty()) {
    const auto [water, at] = heap.top();
    heap.pop();
    const std::int64_t c = at % n, r = at / n;
    for (std::int64_t y = std::max<std::int64_t>(r - 1, 0); y <= std::min(r + 1, n - 1); ++y)
      for (std::int64_t x = std::max<std::int64_t>(c - 1, 0); x <= std::min(c + 1, n - 1); ++x) {
        const auto i = static_cast<std::size_t>(y * n + x);
        if (closed[i]) continue;
        closed[i] = 1;
        level[i] = std::max(z[i], water);
        heap.push({level[i], y * n + x});
      }
  }
  return level;
}

void filling(std::int64_t n) {
  const Frame f(Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, n, n);
  const std::vector<float> z = heights_of(n);
  const Grid g = grid_from_values(f, z, bench::heights());
  std::vector<float> truth, made;
  for (int threads : {1, 2}) {
    const bench::Pair t = bench::side_by_side(
        3,
        [&] {
          const Grid level = drained(g, {.way = TakeOut::Fill, .run = {.threads = threads}}).surface;
          made.clear();
          for_each_band(level, Planes::Values, {.threads = threads},
                        [&](const Block& b) { made.insert(made.end(), b.row(0), b.row(0) + b.window().cells()); });
        },
        [&] { truth = plain_flood(z, n); });
    bench::require(made == truth, "another level than a flood with one heap");
    fmt::print("fill, {} threads   {:.2f} s; {:.2f} x as fast as a heap on one ({:.2f} s)\n", threads, t.ours,
               1 / t.ratio(), t.yardstick);
  }
}

void chain(std::int64_t n, const fs::path& path) {
  const Frame f(Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, n, n);
  write_grid(n <= 12000 ? grid_from_values(f, heights_of(n), bench::heights()) : bench::ground_grid(n, n), path,
             {.overwrite = true, .date = {}, .survey = {}, .run = {}});
  const auto read = [&] { for_each_band(open_grid(path), Planes::Values, {}, [](const Block&) {}); };
  read();
  const double reading = bench::seconds_of(read);
  std::optional<Flow> water;
  std::size_t reaches = 0, shapes = 0;
  const double flowing = bench::seconds_of([&] { water = flow(open_grid(path)); });
  const double from_area = 1e-4 * static_cast<double>(n) * static_cast<double>(n);
  const double streaming =
      bench::seconds_of([&] { reaches = streams(*water, {.from_area = from_area}).reaches.size(); });
  const double basining = bench::seconds_of([&] { shapes = basins(*water, {.from_area = from_area}).size(); });
  bench::require(reaches == shapes && reaches > 10, "a basin for each reach");
  bench::require(water->report().area == water->report().leaving_area, "what leaves is what there is");
  fmt::print(
      "chain of {}²      {:.2f} s: flow {:.2f}, {} streams {:.2f}, their basins {:.2f}; {:.1f} x reading ({:.2f} s); "
      "peak {:.0f} MiB\n",
      n, flowing + streaming + basining, flowing, reaches, streaming, basining,
      (flowing + streaming + basining) / reading, reading, bench::peak_mib());
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 10000;
  const fs::path folder = (argc > 2 ? fs::path(argv[2]) : fs::temp_directory_path()) / "katoptra-water";
  fs::create_directories(folder);
  if (n <= 12000) filling(4000);
  chain(n, folder / "ground.tif");
  fs::remove_all(folder);
}
