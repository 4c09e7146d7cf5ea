// Points: LAZ coded and decoded on one thread, the Delaunay triangulation beside CGAL's, and a large cloud to a grid.
//   build/bin/points [laz|tin|grid] [POINTS] [FOLDER], or read FILE
// LAZ is timed per core; the yardstick is copying the same records. CGAL takes part when it was there at build time.
#include <optional>
#include <random>

#ifdef KATOPTRA_BENCH_CGAL
#include <CGAL/Delaunay_triangulation_2.h>
#include <CGAL/Exact_predicates_inexact_constructions_kernel.h>
#endif

#include "katoptra/formats/point_file.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/points/triangulation.hpp"

#include "bench.hpp"
#include "scanned_ground.hpp"

namespace {

using namespace katoptra;
namespace fs = std::filesystem;

// All columns of all points.
std::pair<std::uint64_t, double> pass(const PointCloud& cloud, int threads = 1) {
  double sum = 0;
  std::uint64_t count = 0;
  for_each_batch(cloud, PointFields::All, {.threads = threads}, [&](const PointBatch& b) {
    count += b.size();
    for (std::size_t i = 0; i < b.size(); ++i) sum += b.z[i] + b.intensity[i] + b.classification[i];
  });
  return {count, sum};
}

// One pass over a file on one thread, for bench/laz_yardstick.py.
void read(const fs::path& file) {
  const PointCloud cloud = open_points(file);
  std::uint64_t count = 0;
  const double seconds = bench::seconds_of([&] { count = pass(cloud).first; });
  fmt::print("{:.3f} M points/s\n", static_cast<double>(count) / seconds / 1e6);
}

void laz(std::size_t n, int record_format, const fs::path& folder) {
  const double edge = 0.5 * std::floor(std::sqrt(static_cast<double>(n)));
  const PointCloud made(std::make_shared<bench::ScannedGround>(677000, 5842000, edge));
  const fs::path las = folder / "bench.las", packed = folder / "bench.laz";
  write_points(made, las, {.overwrite = true, .record_format = record_format});
  const PointCloud plain = open_points(las);
  const double points = static_cast<double>(plain.info().count);
  const PointWriteOptions alone{.overwrite = true, .record_format = record_format, .run = {.threads = 1}};
  const auto writing = bench::side_by_side(
      3, [&] { write_points(plain, packed, alone); }, [&] { write_points(plain, folder / "copy.las", alone); });
  const PointCloud back = open_points(packed);
  if (pass(back) != pass(plain)) throw std::runtime_error("the points came back otherwise");
  const auto reading = bench::side_by_side(
      5, [&] { pass(back); }, [&] { pass(plain); });
  const auto together = bench::side_by_side(
      5, [&] { pass(back, 0); }, [&] { pass(back); });
  fmt::print("LAZ, point format {}, {:.1f} M points, {:.2f} bytes a point; one thread\n", record_format, points / 1e6,
             static_cast<double>(fs::file_size(packed)) / points);
  fmt::print("  write {:6.2f} M points/s   {:.2f} x copying plain LAS ({:.2f} M/s)\n", points / writing.ours / 1e6,
             writing.ratio(), points / writing.yardstick / 1e6);
  fmt::print("  read  {:6.2f} M points/s   {:.2f} x reading plain LAS ({:.2f} M/s)\n", points / reading.ours / 1e6,
             reading.ratio(), points / reading.yardstick / 1e6);
  fmt::print("  read  {:6.2f} M points/s on {} threads, {:.2f} x one\n", points / together.ours / 1e6, thread_count({}),
             1 / together.ratio());
}

void tin(std::size_t n) {
  for (const auto& [name, step] : {std::pair{"random", 1}, {"1 cm lattice", 10}}) {
    std::mt19937 random(5);
    const auto range = static_cast<std::uint32_t>(500 * std::sqrt(static_cast<double>(n)) / step);
    std::vector<LatticePoint> p(n);
    for (LatticePoint& q : p)
      q = {static_cast<std::int32_t>(random() % range) * step, static_cast<std::int32_t>(random() % range) * step};
    std::optional<Triangulation> t;
    std::vector<double> ones, twos, gains;
    for (int i = 0; i < 5; ++i) {
      ones.push_back(bench::seconds_of([&] { t.emplace(p); }));
      twos.push_back(bench::seconds_of([&] { Triangulation(p, RunOptions{.threads = 2}); }));
      gains.push_back(ones.back() / twos.back());
    }
    std::sort(gains.begin(), gains.end());
    [[maybe_unused]] const std::size_t ours = t->triangles();
    const double one = *std::min_element(ones.begin(), ones.end());
    fmt::print("Delaunay, {} {}: {:.2f} M points/s on one thread, {:.2f} times that on two; {} bytes a point\n", n,
               name, static_cast<double>(n) / one / 1e6, gains[2], kTriangulationBytes);
#ifdef KATOPTRA_BENCH_CGAL
    using Kernel = CGAL::Exact_predicates_inexact_constructions_kernel;
    using Theirs = CGAL::Delaunay_triangulation_2<Kernel>;
    std::vector<Kernel::Point_2> q;
    for (const LatticePoint& a : p) q.emplace_back(a.x, a.y);
    std::size_t theirs = 0;
    double yardstick = 1e300;
    for (int i = 0; i < 3; ++i)
      yardstick = std::min(yardstick, bench::seconds_of([&] {
                             Theirs made(q.begin(), q.end());
                             theirs = made.number_of_faces();
                           }));
    if (theirs != ours) throw std::runtime_error(fmt::format("{} triangles, and CGAL has {}", ours, theirs));
    fmt::print("  {:.2f} x CGAL ({:.2f} M points/s), the same {} triangles\n", yardstick / one,
               static_cast<double>(n) / yardstick / 1e6, ours);
#endif
  }
}

// Sixteen sheets to a grid of one metre.
void grid(std::size_t n, const fs::path& folder) {
  const double edge = bench::sheet_edge(n);
  const PointCloud all = bench::scanned_sheets(n, folder);
  const auto points = static_cast<double>(all.info().count);
  BlockCache::shared().set_budget(192u << 20);
  const double cpu = bench::cpu_seconds();
  WriteReport report;
  const double wall = bench::seconds_of([&] {
    const GriddedPoints g =
        grid_points(select(all, {.area = nullptr, .classes = {2}}), {.cell = 1_m, .run = {.memory = 192u << 20}});
    report = write_grid(g.grids[0], folder / "points.tif",
                        {.overwrite = true, .lineage = true, .run = {.memory = 192u << 20}});
  });
  double squares = 0, border = 0;
  std::int64_t cells = 0, border_cells = 0;
  const Grid made = open_grid(folder / "points.tif");
  for_each_band(made, Planes::Values, {}, [&](const Block& b) {
    for (std::int64_t r = 0; r < b.window().rows; ++r)
      for (std::int64_t c = 0; c < b.window().cols; ++c) {
        const Point p =
            made.frame().centre(static_cast<double>(b.window().col + c), static_cast<double>(b.window().row + r));
        const double d = b.at(c, r) - (120 + 40 * std::sin(p.x / 210) + 30 * std::cos(p.y / 170));
        if (std::isnan(d)) continue;
        squares += d * d;
        ++cells;
        if (std::abs(std::remainder(p.x - 660000, edge)) > 1 && std::abs(std::remainder(p.y - 5830000, edge)) > 1)
          continue;
        border += d * d;
        ++border_cells;
      }
  });
  fmt::print(
      "{:.0f} M points in 16 sheets to {} x {} cells: {:.1f} s, {:.2f} M points/s, {:.2f} cores busy, peak memory "
      "{:.2f} GiB\n",
      points / 1e6, made.frame().cols(), made.frame().rows(), wall, points / wall / 1e6,
      (bench::cpu_seconds() - cpu) / wall, bench::peak_mib() / 1024);
  fmt::print("  RMSE against the ground it was drawn from {:.4f} m; beside the borders of sheets {:.4f} m\n",
             std::sqrt(squares / static_cast<double>(cells)),
             std::sqrt(border / static_cast<double>(std::max<std::int64_t>(1, border_cells))));
}

}  // namespace

int main(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "all";
  const auto n = argc > 2 && what != "read" ? static_cast<std::size_t>(std::stod(argv[2])) : std::size_t{2'000'000};
  const fs::path folder = argc > 3 ? argv[3] : fs::temp_directory_path();
  try {
    if (what == "read" && argc > 2) {
      read(argv[2]);
      return 0;
    }
    if (what == "laz" || what == "all")
      for (const int record_format : {1, 6}) laz(n, record_format, folder);
    if (what == "tin" || what == "all") tin(n);
    if (what == "grid" || what == "all") grid(n, folder);
  } catch (const std::exception& e) {
    fmt::print(stderr, "points: {}\n", e.what());
    return 1;
  }
  return 0;
}
