// Bicubic warping of a grid in memory on one thread: cells a second of processor time, and what the transformation of
// coordinates costs of it. The yardstick is beside it in warp_yardstick.py.
//   build/bin/warp [EDGE]
#include "katoptra/surface/reproject.hpp"

#include "bench.hpp"

namespace {

using namespace katoptra;

double read_all(const Grid& g) {
  const double start = bench::cpu_seconds();
  const Frame& f = g.frame();
  double sum = 0;
  for (std::int64_t r = 0; r < f.rows(); r += 512)
    for (std::int64_t c = 0; c < f.cols(); c += 512) {
      const Window w = Window{c, r, 512, 512}.intersected(f.window());
      const Block b = g.read(w);
      sum += static_cast<double>(b.at(w.cols / 2, w.rows / 2));
    }
  bench::require(!std::isnan(sum) || sum != 0, "no sums");
  return bench::cpu_seconds() - start;
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 4096;
  const Grid lazy = bench::ground_grid(n, n, 600000);
  std::vector<float> values;
  const Block all = lazy.read(lazy.frame().window());
  values.assign(all.row(0), all.row(0) + n * n);
  const Grid source = grid_from_values(lazy.frame(), std::move(values), bench::heights());
  const Crs to = Crs::parse("+proj=tmerc +lat_0=-37 +lon_0=-31 +k=1 +x_0=0 +y_0=0 +datum=WGS84 +units=m +type=crs");
  const Frame frame = frame_for(source.frame(), to, {.cell = 1_m});
  const Grid warped = reproject(source, frame, Resampling::Cubic);

  // Against every cell's own transformation: a plane comes out as that plane.
  const Grid east = reproject(grid_from_function(source.frame(), [](double x, double) { return x - 600000; }), frame,
                              Resampling::Cubic);
  for (std::int64_t k = 1; k < 40; ++k) {
    const std::int64_t c = frame.cols() * k / 40, r = frame.rows() / 2;
    const double x =
        Transform(to, source.frame().crs()).forward(frame.centre(static_cast<double>(c), static_cast<double>(r))).x;
    const float v = east.at(c, r);
    bench::require(std::isnan(v) || std::abs(static_cast<double>(v) - (x - 600000)) < 0.02, "a cell is misplaced");
  }
  double best = 1e9;
  for (int i = 0; i < 3; ++i) best = std::min(best, read_all(warped));
  // A run asks PROJ for one point in 64 x 64 cells; many more of them are timed, for a few are too quick.
  std::vector<Point> points;
  for (std::int64_t r = 0; r < frame.rows(); r += 8)
    for (std::int64_t c = 0; c < frame.cols(); c += 8)
      points.push_back({static_cast<double>(c), static_cast<double>(r)});
  const double start = bench::cpu_seconds();
  exact_source_cells(source.frame(), frame, points);
  const double transform = (bench::cpu_seconds() - start) / 64;
  const double cells = static_cast<double>(frame.cols()) * static_cast<double>(frame.rows());
  fmt::print("{:.2f} Mcells/s, transform {:.1f} % of the time\n", cells / best / 1e6, 100 * transform / best);
  return 0;
}
