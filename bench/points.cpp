// Points: LAZ coded and decoded on one thread, the Delaunay triangulation beside CGAL's, and a large cloud to a grid.
//   build/bin/points [laz|tin|grid] [POINTS] [FOLDER]
// LAZ is timed per core; the yardstick is copying the same records. CGAL takes part when it was there at build time.
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

namespace {

using namespace katoptra;
namespace fs = std::filesystem;

// A sheet as a scanner delivers it: 4 points a square metre, noise of 3 cm, four of five pulses with one return.
class ScannedGround : public PointSource {
 public:
  ScannedGround(double west, double south, double edge) : west_(west), south_(south), edge_(edge) {
    info_.name = "scanned";
    info_.crs = Crs::parse("EPSG:32725");
    info_.quantity.heights = HeightReference::parse("EGM2008");
    info_.quantity.unit_known = true;
    info_.record_format = 6;
    info_.time = PointTime::Standard;
    PointLattice lattice;
    lattice.step[0] = lattice.step[1] = lattice.step[2] = 0.01;
    lattice.origin[0] = 600000;
    lattice.origin[1] = 5800000;
    info_.lattice = lattice;
    info_.bounds = {west, south, west + edge, south + edge};
    lines_ = static_cast<std::size_t>(edge / 0.5);
    info_.count = lines_ * lines_;
    info_.fields = PointFields::Intensity | PointFields::Return | PointFields::Class | PointFields::Flags |
                   PointFields::Angle | PointFields::Source | PointFields::Time | PointFields::User;
  }
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return (lines_ + 19) / 20; }
  PointPart part(std::size_t i) const override {
    return {std::min<std::size_t>(20, lines_ - 20 * i) * lines_, {}, 20 * i * lines_};
  }
  void read(std::size_t i, PointFields fields, PointBatch& b) const override {
    const auto n = static_cast<std::size_t>(part(i).count);
    b.resize(n, info_.fields & fields, 0);
    std::mt19937_64 random(i + static_cast<std::size_t>(west_));
    for (std::size_t k = 0; k < n; ++k) {
      const std::size_t line = 20 * i + k / lines_, at = line % 2 ? lines_ - 1 - k % lines_ : k % lines_;
      const std::uint64_t r = random();
      const double x = west_ + (static_cast<double>(at) + 0.1 + 0.8 * static_cast<double>(r & 1023) / 1024) * 0.5,
                   y = south_ +
                       (static_cast<double>(line) + 0.1 + 0.8 * static_cast<double>(r >> 10 & 1023) / 1024) * 0.5;
      b.x[k] = std::round(x * 100) / 100;
      b.y[k] = std::round(y * 100) / 100;
      const double noise = (static_cast<double>(r >> 20 & 255) + static_cast<double>(r >> 28 & 255) - 255) / 255 * 0.06;
      b.z[k] = std::round((120 + 40 * std::sin(x / 210) + 30 * std::cos(y / 170) + noise) * 100) / 100;
      auto set = [&](auto& column, auto value) {
        if (!column.empty())
          column[k] = static_cast<typename std::remove_reference_t<decltype(column)>::value_type>(value);
      };
      const bool two = (r >> 40 & 7) == 0;
      set(b.intensity, 300 + (r >> 44 & 127));
      set(b.return_count, two ? 2 : 1);
      set(b.return_number, two ? 1 + (r >> 43 & 1) : 1);
      set(b.classification, (r >> 50 & 15) == 0 ? 5 : 2);
      set(b.flags, (line % 2 ? kScanForward : 0) | (k % lines_ == lines_ - 1 ? kEdgeOfLine : 0));
      set(b.angle, static_cast<int>(at * 4000 / lines_) - 2000);
      set(b.source, 7);
      set(b.user, 0);
      set(b.time, 3e8 + static_cast<double>(line) * 0.01 + static_cast<double>(k % lines_) * 4e-6);
    }
  }

 private:
  PointInfo info_;
  double west_, south_, edge_;
  std::size_t lines_;
};

void laz(std::size_t n, const fs::path& folder) {
  const double edge = 0.5 * std::floor(std::sqrt(static_cast<double>(n)));
  const PointCloud made(std::make_shared<ScannedGround>(677000, 5842000, edge));
  const fs::path las = folder / "bench.las", packed = folder / "bench.laz";
  write_points(made, las, {.overwrite = true});
  const PointCloud plain = open_points(las);
  const double points = static_cast<double>(plain.info().count);
  auto pass = [&](const PointCloud& cloud, int threads = 1) {
    double sum = 0;
    std::uint64_t count = 0;
    for_each_batch(cloud, PointFields::All, {.threads = threads}, [&](const PointBatch& b) {
      count += b.size();
      for (std::size_t i = 0; i < b.size(); ++i) sum += b.z[i] + b.intensity[i] + b.classification[i];
    });
    return std::pair{count, sum};
  };
  const auto expected = pass(plain);
  const double copy =
      bench::seconds_of([&] { write_points(plain, folder / "copy.las", {.overwrite = true, .run = {.threads = 1}}); });
  const double encode =
      bench::seconds_of([&] { write_points(plain, packed, {.overwrite = true, .run = {.threads = 1}}); });
  const PointCloud back = open_points(packed);
  if (pass(back) != expected) throw std::runtime_error("the points came back otherwise");
  const double read = bench::seconds_of([&] { pass(plain); }), decode = bench::seconds_of([&] { pass(back); }),
               together = bench::seconds_of([&] { pass(back, 0); });
  fmt::print("LAZ, point format 6, {:.1f} M points, {:.2f} bytes a point; one thread\n", points / 1e6,
             static_cast<double>(fs::file_size(packed)) / points);
  fmt::print("  write {:6.2f} M points/s   {:.2f} x copying plain LAS ({:.2f} M/s)\n", points / encode / 1e6,
             encode / copy, points / copy / 1e6);
  fmt::print("  read  {:6.2f} M points/s   {:.2f} x reading plain LAS ({:.2f} M/s)\n", points / decode / 1e6,
             decode / read, points / read / 1e6);
  fmt::print("  read  {:6.2f} M points/s on {} threads\n", points / together / 1e6, thread_count({}));
  fmt::print("  (tests/npm/laz_perf.mjs {} reads it with an independent decoder)\n", packed.string());
}

void tin(std::size_t n) {
  for (const auto& [name, step] : {std::pair{"random", 1}, {"1 cm lattice", 10}}) {
    std::mt19937 random(5);
    const auto range = static_cast<std::uint32_t>(500 * std::sqrt(static_cast<double>(n)) / step);
    std::vector<LatticePoint> p(n);
    for (LatticePoint& q : p)
      q = {static_cast<std::int32_t>(random() % range) * step, static_cast<std::int32_t>(random() % range) * step};
    std::size_t ours = 0;
    const double one = bench::seconds_of([&] { ours = Triangulation(p).triangles(); }),
                 two = bench::seconds_of([&] { Triangulation(p, RunOptions{.threads = 2}); });
    fmt::print("Delaunay, {} {}: {:.2f} M points/s on one thread, {:.2f} times that on two; {} bytes a point\n", n,
               name, static_cast<double>(n) / one / 1e6, one / two, kTriangulationBytes);
#ifdef KATOPTRA_BENCH_CGAL
    using Kernel = CGAL::Exact_predicates_inexact_constructions_kernel;
    using Theirs = CGAL::Delaunay_triangulation_2<Kernel>;
    std::vector<Kernel::Point_2> q;
    for (const LatticePoint& a : p) q.emplace_back(a.x, a.y);
    std::size_t theirs = 0;
    const double yardstick = bench::seconds_of([&] {
      Theirs t(q.begin(), q.end());
      theirs = t.number_of_faces();
    });
    if (theirs != ours) throw std::runtime_error(fmt::format("{} triangles, and CGAL has {}", ours, theirs));
    fmt::print("  {:.2f} x CGAL ({:.2f} M points/s), the same {} triangles\n", yardstick / one,
               static_cast<double>(n) / yardstick / 1e6, ours);
#endif
  }
}

// Sixteen sheets to a grid of one metre.
void grid(std::size_t n, const fs::path& folder) {
  const double edge = 0.5 * std::floor(std::sqrt(static_cast<double>(n) / 16));
  std::vector<PointCloud> sheets;
  for (int i = 0; i < 16; ++i) {
    const fs::path path = folder / fmt::format("sheet{}_{}.laz", i, n);
    if (!fs::exists(path))
      write_points(PointCloud(std::make_shared<ScannedGround>(660000 + edge * (i % 4), 5830000 + edge * (i / 4), edge)),
                   path);
    sheets.push_back(open_points(path));
  }
  const PointCloud all = merged(sheets);
  const auto points = static_cast<double>(all.info().count);
  BlockCache::shared().set_budget(256u << 20);
  const double cpu = bench::cpu_seconds();
  WriteReport report;
  const double wall = bench::seconds_of([&] {
    const GriddedPoints g =
        grid_points(select(all, {.area = nullptr, .classes = {2}}), {.cell = 1_m, .run = {.memory = 256u << 20}});
    report = write_grid(g.grids[0], folder / "points.tif",
                        {.overwrite = true, .lineage = true, .run = {.memory = 256u << 20}});
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
  const auto n = argc > 2 ? static_cast<std::size_t>(std::stod(argv[2])) : std::size_t{2'000'000};
  const fs::path folder = argc > 3 ? argv[3] : fs::temp_directory_path();
  try {
    if (what == "laz" || what == "all") laz(n, folder);
    if (what == "tin" || what == "all") tin(n);
    if (what == "grid" || what == "all") grid(n, folder);
  } catch (const std::exception& e) {
    fmt::print(stderr, "points: {}\n", e.what());
    return 1;
  }
  return 0;
}
