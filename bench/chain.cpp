// mosaic -> fill -> clip -> reproject -> hillshade of 10,000 x 10,000 cells in one process: time, memory, cores; beside
// a plain single-threaded copy of the two source files through libtiff with the same codec.
//   build/bin/chain [CELLS] [FOLDER]
#include <tiffio.h>

#include "katoptra/grid/cache.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "bench.hpp"
#include "libtiff_copy.hpp"

namespace {

using namespace katoptra;
namespace fs = std::filesystem;

// Round voids, 3 to 28 cells in radius, about two in a hundred cells.
bool is_void(double x, double y) {
  const double cell = 160, i = std::floor(x / cell), j = std::floor(y / cell);
  const double a = std::fmod(i * 12.9898 + j * 78.233, 1.0), b = std::abs(a);
  const double cx = (i + 0.5) * cell, cy = (j + 0.5) * cell, radius = 3 + 25 * std::fmod(b * 43758.5453, 1.0);
  return std::hypot(x - cx, y - cy) < radius;
}

void make_tile(const fs::path& path, std::int64_t cols, std::int64_t rows, double west, const char* date, bool voids) {
  if (fs::exists(path)) return;
  const Grid g = bench::ground_grid(cols, rows, west);
  const Frame f = g.frame();
  const Grid holed = grid_from_function(
      f,
      [&](double x, double y) {
        return voids && is_void(x, y)
                   ? std::nan("")
                   : static_cast<double>(bench::ground(std::llround(x - 600000.5), std::llround(5900000 - 0.5 - y)));
      },
      bench::heights());
  write_grid(holed, path, {.date = date, .survey = {}, .overviews = false, .run = {}});
}

}  // namespace

int main(int argc, char** argv) {
  TIFFSetWarningHandler(nullptr);
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 10000;
  const fs::path folder =
      (argc > 2 ? fs::path(argv[2]) : fs::temp_directory_path() / "katoptra-bench") / std::to_string(n);
  fs::create_directories(folder);
  const RunOptions run{.memory = 192u << 20};
  BlockCache::shared().set_budget(192u << 20);
  const fs::path a = folder / "a.tif", b = folder / "b.tif";
  make_tile(a, n * 55 / 100, n, 600000, "2022-01-01", true);
  make_tile(b, n * 55 / 100, n, 600000 + static_cast<double>(n * 45 / 100), "2016-01-01", false);
  fmt::print("sources   {} + {}\n", format_bytes(static_cast<double>(fs::file_size(a))),
             format_bytes(static_cast<double>(fs::file_size(b))));

  const double yardstick = bench::seconds_of([&] {
    bench::copy_by_libtiff(a, folder / "copy.tif");
    bench::copy_by_libtiff(b, folder / "copy.tif");
  });
  fs::remove(folder / "copy.tif");

  WriteReport mosaic_report;
  const double mosaic_seconds = bench::seconds_of([&] {
    mosaic_report =
        write_grid(mosaic({open_grid(a), open_grid(b)}), folder / "mosaic.tif", {.overwrite = true, .run = run});
  });
  const double shade_seconds = bench::seconds_of([&] {
    write_grid(hillshade(open_grid(folder / "mosaic.tif")), folder / "shade.tif", {.overwrite = true, .run = run});
  });
  fs::remove(folder / "mosaic.tif");
  fs::remove(folder / "shade.tif");

  WriteReport report;
  const double cpu = bench::cpu_seconds();
  const double chain = bench::seconds_of([&] {
    const Grid whole = mosaic({open_grid(a), open_grid(b)});
    const Grid filled = fill_voids(whole, {.run = run}).grid;
    const Bounds box = whole.frame().bounds();
    const Grid here =
        clip(filled, Area::box({box.west + 20, box.south + 20, box.east - 20, box.north - 20}, whole.frame().crs()));
    const Frame to =
        frame_for(here.frame(),
                  Crs::parse("+proj=tmerc +lat_0=-37 +lon_0=-31 +k=1 +x_0=0 +y_0=0 +datum=WGS84 +units=m +type=crs"),
                  {.cell = 1_m});
    report = write_grid(hillshade(reproject(here, to)), folder / "chain.tif", {.overwrite = true, .run = run});
  });
  const double cores = (bench::cpu_seconds() - cpu) / chain;
  bench::require(report.lowest >= 1 && report.highest <= 255, "shades out of range");
  bench::require(report.cells > n * n * 9 / 10, "cells missing");
  fs::remove(folder / "chain.tif");

  fmt::print("copy      {:.1f} s (libtiff, one thread, deflate 3, predictor 3)\n", yardstick);
  fmt::print("mosaic    {:.1f} s = {:.2f} x the copy, overviews included\n", mosaic_seconds,
             mosaic_seconds / yardstick);
  fmt::print("hillshade {:.1f} s = {:.2f} x the mosaic\n", shade_seconds, shade_seconds / mosaic_seconds);
  fmt::print("chain     {:.1f} s = {:.2f} x the copy: mosaic, fill, clip, reproject, hillshade of {} cells\n", chain,
             chain / yardstick, report.cells);
  fmt::print("cores     {:.2f} busy during the chain\n", cores);
  fmt::print("memory    {:.0f} MiB at the peak of the process\n", bench::peak_mib());
  return 0;
}
