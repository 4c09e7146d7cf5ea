// Kernels without codecs: hillshade and curvature against memcpy, void filling in cells a second, contours in cells a
// second.
//   build/bin/kernels [EDGE [GROUND.tif [HOLED.tif]]]
// bench/contours_yardstick.py and bench/fill_yardstick.py compare with contourpy and scipy on the same ground.
#include <cstring>

#include "katoptra/base/parallel.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/curvature.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "bench.hpp"

using namespace katoptra;

namespace {

Grid in_memory(std::int64_t n, bool voids) {
  std::vector<float> v(static_cast<std::size_t>(n * n));
  parallel_for(static_cast<std::size_t>(n), {}, [&](std::size_t r) {
    for (std::int64_t c = 0; c < n; ++c)
      v[r * static_cast<std::size_t>(n) + static_cast<std::size_t>(c)] = bench::ground(c, static_cast<std::int64_t>(r));
  });
  if (voids)
    for (std::int64_t j = 64; j + 64 < n; j += 128)
      for (std::int64_t i = 64; i + 64 < n; i += 128) {
        const std::int64_t radius = 3 + (i * 7 + j * 13) % 26;
        for (std::int64_t b = -radius; b <= radius; ++b)
          for (std::int64_t a = -radius; a <= radius; ++a)
            if (a * a + b * b < radius * radius) v[static_cast<std::size_t>((j + b) * n + i + a)] = kVoid;
      }
  return grid_from_values(Frame(Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, n, n), std::move(v),
                          bench::heights());
}

// A local product of `g` beside memcpy. `right`: what a value of it must be.
void local_row(const char* name, const Grid& g, const Grid& product, const std::function<bool(float)>& right) {
  const std::int64_t n = g.frame().cols();
  std::vector<float> from(static_cast<std::size_t>(n * n), 1), to(from.size());
  auto blocks = [&](int threads) {
    const std::int64_t down = n / 512;
    parallel_for(static_cast<std::size_t>(down * down), {.threads = threads}, [&](std::size_t i) {
      const auto k = static_cast<std::int64_t>(i);
      const Block b = product.read({k % down * 512, k / down * 512, 512, 512});
      bench::require(right(b.at(5, 5)), name);
    });
  };
  // What of it is reading: the same windows of the source, a cell wider all around.
  auto reads = [&](int threads) {
    const std::int64_t down = n / 512;
    parallel_for(static_cast<std::size_t>(down * down), {.threads = threads}, [&](std::size_t i) {
      const auto k = static_cast<std::int64_t>(i);
      const Block b = g.read(Window{k % down * 512, k / down * 512, 512, 512}.grown(1));
      bench::require(b.at(5, 5) >= 0, "ground");
    });
  };
  const bench::Pair read = bench::side_by_side(
      5, [&] { reads(1); }, [&] { blocks(1); });
  const bench::Pair one = bench::side_by_side(
      5, [&] { blocks(1); }, [&] { std::memcpy(to.data(), from.data(), from.size() * 4); });
  // By processor time, which a busy neighbour on the machine does not lengthen: twice the time of one thread over that
  // of two together is how much faster two are when both run.
  std::vector<double> gains;
  for (int i = 0; i < 5; ++i) {
    auto busy = [&](int threads) {
      const double start = bench::cpu_seconds();
      blocks(threads);
      return bench::cpu_seconds() - start;
    };
    const double alone = busy(1);
    gains.push_back(2 * alone / busy(2));
  }
  std::sort(gains.begin(), gains.end());
  const double cells = static_cast<double>(n * n) / 1e6;
  fmt::print(
      "{:<17} {:.0f} Mcells/s on one thread, {:.2f} x memcpy; two threads {:.2f} x one (block reads and void tests "
      "included)\n",
      name, cells / one.ours, one.yardstick / one.ours, gains[2]);
  const double kernel = one.ours * (1 - read.ratio());
  fmt::print("                  the kernel alone {:.0f} Mcells/s, {:.2f} x memcpy; reading is {:.0f} % of the time\n",
             cells / kernel, one.yardstick / kernel, 100 * read.ratio());
}

void fill_row(std::int64_t n, FillMethod method, const char* name) {
  const Grid g = in_memory(n, true);
  FillReport report;
  const double find = bench::seconds_of([&] { find_voids(g, {.threads = 1}); });
  double squares = 0;
  const double whole = bench::seconds_of([&] {
    const FillResult r = fill_voids(g, {.method = method, .run = {.threads = 1}});
    report = r.report;
    for (std::int64_t row = 0; row < n; row += 512)
      for (std::int64_t col = 0; col < n; col += 512)
        bench::require(r.grid.read({col, row, 512, 512}).at(64, 64) > 0, "a void was left");
  });
  {
    const Grid filled = fill_voids(g, {.method = method, .run = {.threads = 1}}).grid;
    const Block before = g.read(g.frame().window()), after = filled.read(g.frame().window());
    for (std::int64_t row = 0; row < n; ++row)
      for (std::int64_t col = 0; col < n; ++col)
        if (std::isnan(before.at(col, row)))
          squares += std::pow(static_cast<double>(after.at(col, row) - bench::ground(col, row)), 2);
  }
  const double scan = bench::seconds_of([&] {
    for (std::int64_t row = 0; row < n; row += 512)
      for (std::int64_t col = 0; col < n; col += 512) g.read({col, row, 512, 512});
  });
  bench::require(report.voids_left_large == 0, "voids left");
  fmt::print(
      "fill      {:.2f} M void cells/s on one thread by {} ({} cells in {} voids; finding them {:.2f} s, "
      "reading {:.2f} s of {:.2f} s); rms {:.2f} m\n",
      static_cast<double>(report.cells_closed) / 1e6 / (whole - scan), name, report.cells_closed, report.voids_closed,
      find, scan, whole, std::sqrt(squares / static_cast<double>(report.cells_closed)));
}

// One void so many cells across, nearly round.
void wide_fill_row(std::int64_t across, FillMethod method, const char* name) {
  const std::int64_t n = across + 60;
  std::vector<float> z(static_cast<std::size_t>(n * n));
  for (std::int64_t r = 0; r < n; ++r)
    for (std::int64_t c = 0; c < n; ++c) {
      const double x = static_cast<double>(2 * c - n) / static_cast<double>(across),
                   y = static_cast<double>(2 * r - n) / static_cast<double>(across);
      z[static_cast<std::size_t>(r * n + c)] =
          std::hypot(x, y) < 1 - 0.04 * std::sin(9 * std::atan2(y, x)) * x ? kVoid : bench::ground(c, r);
    }
  const Grid g = grid_from_values(Frame(Crs::parse("EPSG:32725"), 500000, 5800000, {1, 1}, n, n), std::move(z));
  FillReport report;
  const double s = bench::seconds_of([&] {
    const FillResult r = fill_voids(g, {.largest = Length::metres(1e6), .method = method, .run = {.threads = 1}});
    report = r.report;
    bench::require(!std::isnan(r.grid.at(n / 2, n / 2)), "a void was left");
  });
  bench::require(report.voids_by_smooth + report.voids_by_membrane == 1, "one void");
  fmt::print("wide fill {:.2f} M void cells/s on one thread by {} (one void of {} cells; {:.2f} s)\n",
             static_cast<double>(report.cells_closed) / 1e6 / s, name, report.cells_closed, s);
}

void contour_row(const Grid& g, std::int64_t n, int levels, int threads) {
  std::size_t lines = 0, points = 0;
  const double s = bench::seconds_of([&] {
    const auto all = contours(g, {.interval = Length::metres(1500.0 / levels), .run = {.threads = threads}});
    lines = all.size();
    for (const auto& l : all) points += l.points.size();
  });
  bench::require(lines > 0, "no contours");
  fmt::print("contours  {:.3f} s for {} levels, {} threads: {:.1f} Mcells/s, {} joined lines, {} points\n", s, levels,
             threads, static_cast<double>(n * n) / 1e6 / s, lines, points);
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 4096;
  const Grid g = in_memory(n, false);
  local_row("hillshade", g, hillshade(g), [](float v) { return v >= 1 && v <= 255; });
  for (const int window : {3, 9, 41})
    local_row(window == 3   ? "curvature 3 x 3"
              : window == 9 ? "curvature 9 x 9"
                            : "curvature 41 x 41",
              g, curvature(g, CurvatureKind::Mean, window), [](float v) { return std::abs(v) < 10; });
  fill_row(n / 2, FillMethod::Usual, "inverse distance");
  fill_row(n / 2, FillMethod::Membrane, "a membrane");
  fill_row(n / 2, FillMethod::Smooth, "a smooth surface");
  for (const std::int64_t across : {30, 300, 1500}) {
    wide_fill_row(across, FillMethod::Membrane, "a membrane");
    wide_fill_row(across, FillMethod::Smooth, "a smooth surface");
  }
  for (int levels : {20, 200})
    for (int threads : {1, 2}) contour_row(g, n, levels, threads);
  if (argc > 3)
    write_grid(in_memory(n / 2, true), argv[3],
               {.overwrite = true, .codec = Codec::None, .overviews = false, .run = {}});
  if (argc > 2) write_grid(g, argv[2], {.overwrite = true, .codec = Codec::None, .overviews = false, .run = {}});
}
