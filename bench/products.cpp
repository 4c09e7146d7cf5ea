// Five local products of one surface from one reading, beside the slowest of them alone and all of them one by one.
//   build/bin/products [EDGE] [FOLDER]
#include "katoptra/terrain/products.hpp"

#include "katoptra/base/parallel.hpp"

#include "bench.hpp"

using namespace katoptra;
namespace fs = std::filesystem;

namespace {

void make_ground(const fs::path& path, std::int64_t n) {
  std::vector<float> v(static_cast<std::size_t>(n * n));
  parallel_for(static_cast<std::size_t>(n), {}, [&](std::size_t r) {
    for (std::int64_t c = 0; c < n; ++c)
      v[r * static_cast<std::size_t>(n) + static_cast<std::size_t>(c)] =
          std::round(bench::ground(c, static_cast<std::int64_t>(r)) * 100) / 100;
  });
  write_grid(
      grid_from_values(Frame(Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, n, n), std::move(v), bench::heights()),
      path, {.overwrite = true, .date = {}, .survey = {}, .run = {}});
}

std::string bytes_of(const fs::path& path) {
  const Grid g = open_grid(path);
  std::string out;
  for_each_band(g, Planes::Values, {}, [&](const Block& b) {
    out.append(reinterpret_cast<const char*>(b.row(0)), static_cast<std::size_t>(b.window().cells()) * 4);
  });
  return out;
}

void run(const fs::path& ground, const fs::path& folder, const char* what, const WriteOptions& options) {
  std::vector<GridTarget> targets;
  for (const char* text : {"slope", "aspect", "hillshade", "curvature:window=5", "roughness"}) {
    const ProductCall call = parse_product(text);
    targets.push_back(
        {[call](const Grid& g) { return call.product->make(g, call.settings); }, folder / (call.name + ".tif")});
  }
  double slowest = 0, sum = 0;
  std::string name;
  const double together = bench::seconds_of([&] { write_grids(open_grid(ground), targets, options); });
  const std::string first = bytes_of(targets[0].path);
  for (const GridTarget& t : targets) {
    const double alone = bench::seconds_of([&] { write_grid(t.make(open_grid(ground)), t.path, options); });
    sum += alone;
    if (alone > slowest) {
      slowest = alone;
      name = t.path.stem().string();
    }
  }
  bench::require(first == bytes_of(targets[0].path), "another slope from one reading");
  fmt::print(
      "{:<14} five together {:.2f} s, {:.2f} x the slowest alone ({}, {:.2f} s), {:.2f} x one by one; peak {:.0f} "
      "MiB\n",
      what, together, together / slowest, name, slowest, together / sum, bench::peak_mib());
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 6000;
  const fs::path folder = (argc > 2 ? fs::path(argv[2]) : fs::temp_directory_path()) / "katoptra-products";
  fs::create_directories(folder);
  make_ground(folder / "ground.tif", n);
  run(folder / "ground.tif", folder, "deflate", {.overwrite = true, .date = {}, .survey = {}, .run = {}});
  run(folder / "ground.tif", folder, "not packed",
      {.overwrite = true, .date = {}, .survey = {}, .codec = Codec::None, .run = {}});
  fs::remove_all(folder);
}
