// What leaves the house, beside the work that it rests on: contours in a GeoPackage beside finding them, a picture
// beside reading the surface, a solid, lines drawn smoother.
//   build/bin/leaving [EDGE] [FOLDER]
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/solid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/solid.hpp"
#include "katoptra/view/image.hpp"

#include "bench.hpp"

using namespace katoptra;
namespace fs = std::filesystem;

namespace {

Grid make_ground(const fs::path& path, std::int64_t n) {
  bench::write_ground(path, n);
  return open_grid(path);
}

std::pair<double, double> range_of(const Grid& g) {
  double low = 1e300, high = -1e300;
  for_each_band(g, Planes::Values, {}, [&](const Block& b) {
    for (std::int64_t i = 0; i < b.window().cells(); ++i) {
      low = std::min(low, static_cast<double>(b.row(0)[i]));
      high = std::max(high, static_cast<double>(b.row(0)[i]));
    }
  });
  return {low, high};
}

void contours_beside_finding(const Grid& g, const fs::path& folder) {
  const auto [low, high] = range_of(g);
  ContourOptions o{.interval = Length::metres((high - low) / 50)};
  o.run.memory = std::size_t{8} << 30;
  std::vector<ContourLine> lines;
  const double finding = bench::seconds_of([&] { lines = contours(g, o); });
  std::size_t points = 0;
  for (const ContourLine& l : lines) points += l.points.size();
  bench::require(lines.size() > 50, "there are contours");
  const double both = finding + bench::seconds_of([&] {
                        write_layer(contour_layer(lines, g), folder / "lines.gpkg", {.overwrite = true});
                      });
  bench::require(read_layer(folder / "lines.gpkg").features.size() == lines.size(), "all lines are in the file");
  fmt::print(
      "contours at 50 levels, {} lines, {:.1f} M points: found in {:.2f} s, in a GeoPackage after {:.2f} s: {:.2f} x "
      "(at most 2)\n",
      lines.size(), static_cast<double>(points) / 1e6, finding, both, both / finding);
}

void picture_beside_reading(const fs::path& ground, const fs::path& folder) {
  const double reading = bench::seconds_of([&] {
    double sum = 0;
    for_each_band(open_grid(ground), Planes::Values, {},
                  [&](const Block& b) { sum += static_cast<double>(b.row(0)[0]); });
    bench::require(std::isfinite(sum), "the surface can be read");
  });
  const double drawing = bench::seconds_of([&] {
    write_image(draw_image(open_grid(ground), {.width = 4000, .overlays = {}}), folder / "relief.png",
                {.overwrite = true});
  });
  const double page = bench::seconds_of([&] {
    const Picture p = draw_map(open_grid(ground), {.width = 4000});
    bench::require(p.width == 4000, "the map is as wide as asked");
    write_file(folder / "map.png", p.bytes, {.overwrite = true});
  });
  fmt::print(
      "surface read in {:.2f} s; colour relief of 4000 pixels drawn in {:.2f} s: {:.2f} x; a map so wide in {:.2f} s: "
      "{:.2f} x (at most 2)\n",
      reading, drawing, drawing / reading, page, page / reading);
}

void solid_of(const Grid& g, const fs::path& folder) {
  Solid s;
  const double seconds = bench::seconds_of([&] {
    s = surface_solid(g, {.bed_width = Length::metres(0.2), .bed_depth = Length::metres(0.2)});
    write_solid(s, folder / "solid.stl", {.overwrite = true});
  });
  bench::require(s.triangles.size() > 1000, "there is a solid");
  fmt::print("solid of {} x {} cells on a bed of 200 mm, 0.1 mm: {} triangles in {:.2f} s (at most 1 M in 10 s)\n",
             g.frame().cols(), g.frame().rows(), s.triangles.size(), seconds);
}

void smoother(const Grid& g) {
  const auto [low, high] = range_of(g);
  ContourOptions o{.interval = Length::metres((high - low) / 20)};
  std::size_t before = 0, after = 0;
  const double exact = bench::seconds_of([&] {
    for (const ContourLine& l : contours(g, o)) before += l.points.size();
  });
  o.tolerance = Length::metres(1);
  const double smooth = bench::seconds_of([&] {
    for (const ContourLine& l : contours(g, o)) after += l.points.size();
  });
  bench::require(after < before, "smooth lines have fewer points");
  fmt::print("lines of {} x {} cells smoothed by a cell: {:.2f} M points become {:.2f} M, {:.1f} us a point\n",
             g.frame().cols(), g.frame().rows(), static_cast<double>(before) / 1e6, static_cast<double>(after) / 1e6,
             (smooth - exact) / static_cast<double>(before) * 1e6);
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t edge = argc > 1 ? std::atoll(argv[1]) : 10000;
  const fs::path folder = argc > 2 ? argv[2] : fs::temp_directory_path() / "katoptra-leaving";
  fs::create_directories(folder);
  const Grid g = make_ground(folder / "ground.tif", edge);
  contours_beside_finding(g, folder);
  picture_beside_reading(folder / "ground.tif", folder);
  solid_of(make_ground(folder / "part.tif", std::min<std::int64_t>(4000, edge)), folder);
  smoother(make_ground(folder / "small.tif", std::min<std::int64_t>(1000, edge)));
  if (argc <= 2) fs::remove_all(folder);
}
