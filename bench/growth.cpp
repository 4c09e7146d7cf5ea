// How time and memory grow: each main command on surfaces of 10^6, 10^7, 10^8 and 1.6 * 10^9 cells, and up to 10^8
// points to a grid, each in a process of its own. Lines of figures for bench/growth_figure.py, which draws
// docs/growth.svg:
//
//   build/bin/growth [MOST [FOLDER]] > growth.csv          cells; 1e8 unless told
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "katoptra/check/check.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "bench.hpp"
#include "scanned_ground.hpp"

namespace {

using namespace katoptra;
namespace fs = std::filesystem;

const RunOptions kRun{.memory = 192u << 20};

struct Took {
  bool good = false;
  double seconds = 0, cores = 0, mib = 0;
};

// In a process of its own, so that its memory is told apart.
Took measured(const std::function<void()>& body) {
  std::fflush(stdout);
  const auto start = std::chrono::steady_clock::now();
  const pid_t child = fork();
  if (child == 0) {
    int status = 0;
    try {
      BlockCache::shared().set_budget(192u << 20);
      body();
    } catch (const std::exception& e) {
      fmt::print(stderr, "growth: {}\n", e.what());
      status = 1;
    }
    _exit(status);
  }
  bench::require(child > 0, "a process can be started");
  int status = 0;
  rusage u{};
  wait4(child, &status, 0, &u);
  const double wall = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  auto s = [](const timeval& t) { return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec); };
  return {WIFEXITED(status) && WEXITSTATUS(status) == 0, wall, (s(u.ru_utime) + s(u.ru_stime)) / wall,
          static_cast<double>(u.ru_maxrss) / 1024};
}

// Ground with round voids of 3 to 12 cells, one in 256 x 256 cells.
Grid ground_with_voids(std::int64_t cols, std::int64_t rows, std::int64_t from) {
  const Frame f(Crs::parse("EPSG:32725"), 600000 + static_cast<double>(from), 5900000, {1, 1}, cols, rows);
  return grid_from_function(
      f,
      [](double x, double y) {
        const std::int64_t c = std::llround(x - 600000.5), r = std::llround(5900000 - 0.5 - y), i = c % 256 - 128,
                           j = r % 256 - 128, radius = 3 + (c / 256 * 7 + r / 256 * 3) % 10;
        if (i * i + j * j < radius * radius) return std::nan("");
        return static_cast<double>(std::round(bench::ground(c, r) * 100) / 100);
      },
      bench::heights());
}

// One number of cells.
class Size {
 public:
  Size(std::int64_t edge, const fs::path& folder)
      : cells_(static_cast<double>(edge) * static_cast<double>(edge)),
        west_(folder / fmt::format("west-{}.tif", edge)),
        east_(folder / fmt::format("east-{}.tif", edge)),
        whole_(folder / fmt::format("whole-{}.tif", edge)),
        out_(folder / "out.tif") {
    make(west_, edge * 11 / 20, edge, 0);
    make(east_, edge - edge * 9 / 20, edge, edge * 9 / 20);
  }
  ~Size() {
    for (const fs::path& path : {west_, east_, whole_, out_}) fs::remove(path);
  }

  void surfaces() {
    tell("mosaic", [&] { write(mosaic({open_grid(west_), open_grid(east_)}), whole_); });
    tell("fill", [&] { write(fill_voids(open_grid(whole_), {.run = kRun}).grid, out_); });
    tell("clip", [&] {
      const Grid g = open_grid(whole_);
      const Bounds b = g.frame().bounds();
      const double by = 0.01 * (b.east - b.west);
      write(clip(g, Area::box({b.west + by, b.south + by, b.east - by, b.north - by}, g.frame().crs())), out_);
    });
    tell("reproject", [&] {
      const Grid g = open_grid(whole_);
      const Crs to = Crs::parse("+proj=tmerc +lat_0=-37 +lon_0=-31 +k=1 +x_0=0 +y_0=0 +datum=WGS84 +units=m +type=crs");
      write(reproject(g, frame_for(g.frame(), to, {.cell = 1_m})), out_);
    });
  }
  void products() {
    tell("hillshade", [&] { write(hillshade(open_grid(whole_)), out_); });
    tell("slope", [&] { write(slope(open_grid(whole_)), out_); });
    tell("contours", [&] {
      std::size_t lines = 0;
      for_each_contour(open_grid(whole_), {.levels = {300_m, 750_m, 1200_m}, .run = kRun},
                       [&](const ContourLine&) { ++lines; });
      bench::require(lines > 0, "there are contours");
    });
  }
  void judgements() {
    tell("statistics", [&] { bench::require(statistics(open_grid(whole_), kRun).voids > 0, "voids are counted"); });
    tell("check", [&] { bench::require(check(open_grid(whole_), {.run = kRun}).statistics.voids > 0, "checked"); });
    tell("compare", [&] {
      const Grid g = open_grid(whole_);
      bench::require(compare(g, g, {.coregister = false, .run = kRun}).overall.highest == 0, "it equals itself");
    });
  }
  // As many points as cells.
  void points() {
    constexpr double kMost = 1.01e8;
    if (cells_ > kMost) return;
    const auto n = static_cast<std::size_t>(cells_);
    const fs::path sheets = out_.parent_path() / "sheets";
    fs::create_directories(sheets);
    bench::require(measured([&] { bench::scanned_sheets(n, sheets); }).good, "points are written");
    tell("points to a grid", [&] {
      const PointCloud all = bench::scanned_sheets(n, sheets);
      const GriddedPoints g = grid_points(select(all, {.area = nullptr, .classes = {2}}), {.cell = 1_m, .run = kRun});
      write(g.grids[0], out_);
    });
    fs::remove_all(sheets);
  }

 private:
  static void make(const fs::path& path, std::int64_t cols, std::int64_t rows, std::int64_t from) {
    const Took t =
        measured([&] { write_grid(ground_with_voids(cols, rows, from), path, {.overwrite = true, .run = kRun}); });
    bench::require(t.good, path.string() + " is written");
  }
  static void write(const Grid& g, const fs::path& path) {
    const WriteReport r = write_grid(g, path, {.overwrite = true, .run = kRun});
    bench::require(r.cells > g.frame().cols() * g.frame().rows() * 9 / 10, "cells missing");
  }
  void tell(const char* command, const std::function<void()>& body) const {
    const Took t = measured(body);
    bench::require(t.good, fmt::format("{} of {} cells", command, cells_));
    fmt::print("{},{:.0f},{:.3f},{:.2f},{:.0f}\n", command, cells_, t.seconds, t.cores, t.mib);
    std::fflush(stdout);
  }

  double cells_;
  fs::path west_, east_, whole_, out_;
};

}  // namespace

int main(int argc, char** argv) {
  const double most = argc > 1 ? std::atof(argv[1]) : 1e8;
  const fs::path folder = argc > 2 ? fs::path(argv[2]) : fs::temp_directory_path() / "katoptra-growth";
  fs::create_directories(folder);
  fmt::print("command,cells,seconds,cores,mib\n");
  for (std::int64_t edge : {1000, 3162, 10000, 40000}) {
    if (static_cast<double>(edge) * static_cast<double>(edge) > most * 1.01) break;
    Size size(edge, folder);
    size.surfaces();
    size.products();
    size.judgements();
    size.points();
  }
  return 0;
}
