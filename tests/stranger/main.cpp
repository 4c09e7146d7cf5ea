// A project that knows nothing but the installed package.
#include <cstdio>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/version.hpp"

int main() {
  using namespace katoptra;
  const Frame frame(Crs::parse("EPSG:32725"), 676000, 5842000, {1, 1}, 64, 64);
  const Grid plane = grid_from_function(frame, [](double x, double) { return (x - 676000) * 0.5; });
  write_grid(slope(plane, SlopeAs::Percent), "slope.tif", {.overwrite = true});
  std::printf("%s %.1f\n", KATOPTRA_VERSION, static_cast<double>(open_grid("slope.tif").at(32, 32)));
}
