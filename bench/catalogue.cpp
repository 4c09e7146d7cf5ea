// A catalogue of a million tiles: filled from a STAC ItemCollection, and searched.
//   catalogue [TILES]
// Yardsticks of the same run: checking the same text to be JSON on one thread, and looking at every box in turn.
#include <algorithm>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>

#include "katoptra/catalogue/catalogue_file.hpp"
#include "katoptra/formats/bytes.hpp"

#include "bench.hpp"

using namespace katoptra;
namespace fs = std::filesystem;

namespace {

// Sheets of a hundredth of a degree in rows around the globe, some of them crossing the antimeridian.
std::vector<Bounds> boxes_of(std::size_t n) {
  std::mt19937 random(7);
  std::uniform_real_distribution<double> x(-180, 180), y(-80, 80);
  std::vector<Bounds> out;
  for (std::size_t i = 0; i < n; ++i) {
    const double w = x(random), s = y(random);
    out.push_back({w, s, w + 0.01, s + 0.01});
  }
  return out;
}

void write_items(const fs::path& path, const std::vector<Bounds>& boxes) {
  std::ofstream out(path);
  out << "{\"type\":\"FeatureCollection\",\"features\":[\n";
  for (std::size_t i = 0; i < boxes.size(); ++i) {
    const Bounds& b = boxes[i];
    out << fmt::format(
        R"({{"type":"Feature","stac_version":"1.0.0","stac_extensions":["https://stac-extensions.github.io/projection/v1.1.0/schema.json","https://stac-extensions.github.io/file/v2.1.0/schema.json"],"id":"sheet_{0}","bbox":[{1:.7f},{2:.7f},{3:.7f},{4:.7f}],"geometry":{{"type":"Polygon","coordinates":[[[{1:.7f},{2:.7f}],[{3:.7f},{2:.7f}],[{3:.7f},{4:.7f}],[{1:.7f},{4:.7f}],[{1:.7f},{2:.7f}]]]}},"properties":{{"datetime":"20{5:02}-03-14T00:00:00Z","gsd":1,"proj:epsg":32725}},"collection":"ground","links":[],"assets":{{"data":{{"href":"./ground/sheet_{0}.tif","type":"image/tiff; application=geotiff; profile=cloud-optimized","roles":["data"],"file:size":{6}}}}}}}{7})",
        i, b.west, b.south, b.east, b.north, i % 25, 300000 + i % 1000, i + 1 < boxes.size() ? ",\n" : "\n");
  }
  out << "],\"links\":[]}\n";
}

}  // namespace

int main(int argc, char** argv) {
  const std::size_t n = argc > 1 ? std::strtoull(argv[1], nullptr, 10) : 1'000'000;
  const fs::path folder = fs::temp_directory_path() / "katoptra-bench-catalogue";
  fs::remove_all(folder);
  fs::create_directories(folder);
  const auto boxes = boxes_of(n);
  write_items(folder / "items.json", boxes);
  const double size = static_cast<double>(fs::file_size(folder / "items.json"));

  const std::string text = read_text_file(folder / "items.json", std::size_t{8} << 30);
  const double check = bench::seconds_of([&] {
    if (!nlohmann::json::accept(text)) std::abort();
  });
  CatalogueUpdate filled;
  CatalogueFile file(folder / "tiles.katalog");
  const double fill = bench::seconds_of([&] { filled = file.add_items(folder / "items.json"); });
  if (filled.items != n || file.size() != n) return fmt::print("wrong: {} tiles\n", filled.items), 1;
  fmt::print("{} tiles, {:.0f} MiB of JSON\n", n, size / (1 << 20));
  fmt::print("filled          {:6.2f} s  {:8.0f} tiles/s   {:.2f} x checking that it is JSON, one thread ({:.2f} s)\n",
             fill, static_cast<double>(n) / fill, fill / check, check);

  // Areas of a tenth of a degree.
  std::mt19937 random(8);
  std::uniform_real_distribution<double> x(-180, 179.9), y(-80, 79.9);
  std::vector<double> times, plain;
  std::size_t hits = 0;
  for (int i = 0; i < 200; ++i) {
    const double w = x(random), s = y(random);
    const Bounds box{w, s, w + 0.1, s + 0.1};
    const Area area = Area::box(box);
    Catalogue c;
    times.push_back(bench::seconds_of([&] { c = file.search({.area = &area}); }));
    std::size_t expected = 0;
    plain.push_back(bench::seconds_of([&] {
      for (const Bounds& b : boxes)
        for (double turn : {-360.0, 0.0, 360.0})
          expected += Bounds{b.west + turn, b.south, b.east + turn, b.north}.intersects(box);
    }));
    // Boxes are rounded outwards to 32 bits, so a neighbour that misses by a metre may come, too.
    if (c.tiles.size() < expected || c.tiles.size() > expected + 2)
      return fmt::print("wrong: {} of {}\n", c.tiles.size(), expected), 1;
    hits += expected;
  }
  std::sort(times.begin(), times.end());
  std::sort(plain.begin(), plain.end());
  fmt::print(
      "area found      {:6.2f} ms median, {:.2f} ms worst of 200 ({} tiles)   {:.3f} x looking at every box ({:.2f} "
      "ms)\n",
      times[100] * 1e3, times.back() * 1e3, hits, times[100] / plain[100], plain[100] * 1e3);
  fs::remove_all(folder);
}
