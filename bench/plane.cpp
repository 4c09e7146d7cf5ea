// What the uncertainty costs beside the values: cubic warps, feathered seams and means, read with and without it.
//
//   build/bin/plane [EDGE]
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"

#include "bench.hpp"

namespace {

using namespace katoptra;

double read_all(const Grid& g, Planes planes) {
  double sum = 0;
  map_bands(
      g, planes, 0, {},
      [](Block b, const Window&) -> std::shared_ptr<void> { return std::make_shared<float>(b.row(0)[0]); },
      [&](std::shared_ptr<void> z) { sum += static_cast<double>(*static_cast<float*>(z.get())); });
  return sum;
}

// `make`: of one surface and a second that lies over its eastern half.
void row(const char* what, const Grid& a, const Grid& b, const std::function<Grid(const Grid&, const Grid&)>& make) {
  const auto sure = [](const Grid& g) {
    return with_error_reach(with_uncertainty(g, {.constant = Length::metres(0.05)}), Length());
  };
  const Grid plain = make(a, b), carrying = make(sure(a), sure(b));
  bench::require(!plain.carries_uncertainty() && carrying.carries_uncertainty(), what);
  const bench::Pair unwanted = bench::side_by_side(
      7, [&] { read_all(carrying, Planes::Values); }, [&] { read_all(plain, Planes::Values); });
  const bench::Pair wanted = bench::side_by_side(
      7, [&] { read_all(carrying, Planes::ValuesAndUncertainty); }, [&] { read_all(plain, Planes::Values); });
  fmt::print("{:<22} not wanted {:.2f} x, wanted {:.2f} x\n", what, unwanted.ratio(), wanted.ratio());
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 3000;
  const auto in_memory = [n](double west, float above) {
    const Grid g = bench::ground_grid(n, n, west, 5900000, above);
    const Block b = g.read(g.frame().window());
    return grid_from_values(g.frame(), std::vector<float>(b.row(0), b.row(0) + n * n), g.quantity());
  };
  const Grid a = in_memory(600000, 0), b = in_memory(600000 + static_cast<double>(n) / 2, 0.2f);
  const auto moved = [&](double cell, Resampling how) {
    return [=](const Grid& g, const Grid&) {
      const Frame& f = g.frame();
      const auto cells = static_cast<std::int64_t>(static_cast<double>(n) / cell) - 20;
      return reproject(g, Frame(f.crs(), f.west() + 7.37, f.north() - 7.37, {cell, cell}, cells, cells), how);
    };
  };
  row("warp, cubic", a, b, moved(1, Resampling::Cubic));
  row("warp, bilinear", a, b, moved(1, Resampling::Bilinear));
  row("mean of cells", a, b, moved(4.6, Resampling::Mean));
  row("mosaic", a, b, [](const Grid& x, const Grid& y) { return mosaic({x, y}); });
  row("mosaic, 20 m feather", a, b, [](const Grid& x, const Grid& y) {
    const auto dated = [](const Grid& g, const char* date) {
      return relabelled(g, [&](GridInfo& i) { i.sources = {{.name = date, .survey = date, .date = date}}; });
    };
    return mosaic({dated(x, "2022-01-01"), dated(y, "2016-01-01")}, {.feather = Length::metres(20)});
  });
}
