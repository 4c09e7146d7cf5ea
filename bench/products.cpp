// Five local products of one surface from one reading, beside the slowest of them alone and all of them one by one.
//   build/bin/products [EDGE] [FOLDER]
#include "katoptra/terrain/products.hpp"

#include "katoptra/base/parallel.hpp"
#include "katoptra/terrain/position.hpp"

#include "bench.hpp"

using namespace katoptra;
namespace fs = std::filesystem;

namespace {

std::string bytes_of(const fs::path& path) {
  const Grid g = open_grid(path);
  std::string out;
  for_each_band(g, Planes::Values, {}, [&](const Block& b) {
    out.append(reinterpret_cast<const char*>(b.row(0)), static_cast<std::size_t>(b.window().cells()) * 4);
  });
  return out;
}

constexpr const char* kNarrow[] = {"slope", "aspect", "hillshade", "curvature:window=5", "roughness"};
// As in the README: shapes of some size, which take longer to find.
constexpr const char* kWide[] = {"slope:window=9", "curvature:kind=tangential,window=9", "position:radius=50m",
                                 "ruggedness:window=9", "openness:radius=30m"};

void run(const fs::path& ground, const fs::path& folder, const char* what, const char* const (&products)[5],
         const WriteOptions& options) {
  std::vector<GridTarget> targets;
  for (const char* text : products) {
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

// What a radius costs: found alone, in blocks of 512 as files are written, and as a file.
void positions(const fs::path& ground, const fs::path& folder) {
  const Grid g = open_grid(ground);
  const auto at = [&](double radius) { return position(g, {.radii = {Length::metres(radius)}}); };
  const auto found = [&](double radius) {
    const Grid p = at(radius);
    constexpr std::int64_t kEdge = 512;
    const std::int64_t across = (g.frame().cols() + kEdge - 1) / kEdge, down = (g.frame().rows() + kEdge - 1) / kEdge;
    return bench::seconds_of([&] {
      parallel_for(static_cast<std::size_t>(across * down), {}, [&](std::size_t i) {
        const auto t = static_cast<std::int64_t>(i);
        p.read(Window{t % across * kEdge, t / across * kEdge, kEdge, kEdge}.intersected(g.frame().window()));
      });
    });
  };
  const auto written = [&](double radius) {
    return bench::seconds_of([&] {
      write_grid(at(radius), folder / "position.tif", {.overwrite = true, .date = {}, .survey = {}, .run = {}});
    });
  };
  found(5);
  const double near = found(5), far = found(100), near_file = written(5), far_file = written(100);
  fmt::print("position       radius of 100 cells {:.2f} s, {:.2f} x a radius of 5; as a file {:.2f} s, {:.2f} x\n", far,
             far / near, far_file, far_file / near_file);
  fmt::print("               of 1000 cells {:.2f} s\n", found(1000));
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t n = argc > 1 ? std::atoll(argv[1]) : 6000;
  const fs::path folder = (argc > 2 ? fs::path(argv[2]) : fs::temp_directory_path()) / "katoptra-products";
  fs::create_directories(folder);
  const fs::path ground = folder / "ground.tif";
  bench::write_ground(ground, n);
  const WriteOptions packed{.overwrite = true, .date = {}, .survey = {}, .run = {}};
  run(ground, folder, "deflate", kNarrow, packed);
  run(ground, folder, "not packed", kNarrow,
      {.overwrite = true, .date = {}, .survey = {}, .codec = Codec::None, .run = {}});
  run(ground, folder, "deflate, wide", kWide, packed);
  positions(ground, folder);
  fs::remove_all(folder);
}
