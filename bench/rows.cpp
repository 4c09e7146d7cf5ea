// The mosaic of two overlapping 8192 x 8192 grids of 32-bit floats, compressed, and its hillshade; beside a plain
// single-threaded copy of the mosaic's own file through libtiff with the same codec and predictor.
//   build/bin/rows [EDGE] [FOLDER]
// With "int16 EDGE": the same of two 16-bit grids whose mosaic has EDGE x EDGE cells, for the memory it takes.
#include <tiffio.h>

#include "katoptra/grid/cache.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "bench.hpp"
#include "libtiff_copy.hpp"

namespace {

using namespace katoptra;
namespace fs = std::filesystem;

// Hills that cost little to make: rows and columns of waves, and a roughness of a few units that does not repeat soon.
class CheapGround final : public GridSource {
 public:
  CheapGround(GridInfo info) : info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const auto c0 = std::llround(info_.frame.west() - 600000);
    std::vector<float> wave(static_cast<std::size_t>(w.cols));
    for (std::int64_t c = 0; c < w.cols; ++c)
      wave[static_cast<std::size_t>(c)] = static_cast<float>(400 * std::sin(static_cast<double>(c0 + w.col + c) / 700));
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const auto height = static_cast<float>(500 + 300 * std::cos(static_cast<double>(w.row + r) / 900));
      const auto row = static_cast<std::uint32_t>(w.row + r);
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const std::uint32_t h = (row * 2654435761U) ^ (static_cast<std::uint32_t>(c0 + w.col + c) * 2246822519U);
        out.row(r)[c] = std::floor(height + wave[static_cast<std::size_t>(c)] + static_cast<float>(h >> 30));
      }
      if (out.origin) std::fill_n(out.origin_row(r), w.cols, origin_code(1, How::Measured));
    }
  }

 private:
  GridInfo info_;
};

void make_int16(const fs::path& path, std::int64_t cols, std::int64_t rows, double west, const char* date) {
  if (fs::exists(path)) return;
  GridInfo info;
  info.frame = Frame(Crs::parse("EPSG:32725"), west, 5900000, {1, 1}, cols, rows);
  info.quantity = bench::heights();
  info.type = SampleType::Int16;
  info.name = "ground";
  info.sources = {{.name = "ground"}};
  write_grid(Grid(std::make_shared<CheapGround>(info)), path,
             {.date = date, .survey = {}, .level = 1, .overviews = false, .run = {}});
}

void large(std::int64_t n, const fs::path& folder) {
  const fs::path a = folder / "a.tif", b = folder / "b.tif";
  make_int16(a, n * 55 / 100, n, 600000, "2022-01-01");
  make_int16(b, n * 55 / 100, n, 600000 + static_cast<double>(n * 45 / 100), "2016-01-01");
  fmt::print("sources   {} + {}, made at a peak of {:.0f} MiB\n", format_bytes(static_cast<double>(fs::file_size(a))),
             format_bytes(static_cast<double>(fs::file_size(b))), bench::peak_mib());
  const RunOptions run{.memory = 192u << 20};
  WriteReport m;
  const double joined = bench::seconds_of([&] {
    m = write_grid(mosaic({open_grid(a), open_grid(b)}), folder / "mosaic.tif", {.overwrite = true, .run = run});
  });
  bench::require(m.type == SampleType::Int16 && m.cells == n * (n * 45 / 100 + n * 55 / 100) && m.voids == 0,
                 "another mosaic");
  const double shaded = bench::seconds_of([&] {
    write_grid(hillshade(open_grid(folder / "mosaic.tif")), folder / "shade.tif", {.overwrite = true, .run = run});
  });
  fmt::print("mosaic    {:.0f} s, {} cells, {} int16, {:.1f} Mcells/s\n", joined, m.cells,
             format_bytes(static_cast<double>(m.bytes)), static_cast<double>(m.cells) / joined / 1e6);
  fmt::print("hillshade {:.0f} s = {:.2f} x the mosaic\n", shaded, shaded / joined);
  fmt::print("memory    {:.0f} MiB at the peak of the process\n", bench::peak_mib());
  for (const char* made : {"mosaic.tif", "shade.tif"}) fs::remove(folder / made);
}

}  // namespace

int main(int argc, char** argv) {
  TIFFSetWarningHandler(nullptr);
  const bool whole_metres = argc > 1 && std::string(argv[1]) == "int16";
  const std::int64_t n = argc > 1 + whole_metres ? std::atoll(argv[1 + whole_metres]) : whole_metres ? 40000 : 8192;
  const fs::path folder =
      (argc > 2 + whole_metres ? fs::path(argv[2 + whole_metres]) : fs::temp_directory_path() / "katoptra-bench") /
      (std::to_string(n) + (whole_metres ? "-int16" : "-overlap"));
  fs::create_directories(folder);
  BlockCache::shared().set_budget(192u << 20);
  if (whole_metres) {
    large(n, folder);
    return 0;
  }
  const RunOptions run{.memory = 192u << 20};
  const fs::path a = folder / "a.tif", b = folder / "b.tif";
  // Rounded to centimetres, as surveys are.
  auto make = [&](const fs::path& path, std::int64_t from, const char* date) {
    if (fs::exists(path)) return;
    const Frame f(Crs::parse("EPSG:32725"), 600000 + static_cast<double>(from), 5900000, {1, 1}, n, n);
    const Grid g = grid_from_function(
        f,
        [](double x, double y) {
          return std::round(100 * static_cast<double>(
                                      bench::ground(std::llround(x - 600000.5), std::llround(5900000 - 0.5 - y)))) /
                 100;
        },
        bench::heights());
    write_grid(g, path, {.date = date, .survey = {}, .overviews = false, .run = {}});
  };
  make(a, 0, "2022-01-01");
  make(b, n / 2, "2016-01-01");
  WriteReport m;
  std::vector<double> copies, plain, mosaics, shades;
  for (int turn = 0; turn < 3; ++turn) {
    plain.push_back(bench::seconds_of([&] {
      write_grid(mosaic({open_grid(a), open_grid(b)}), folder / "plain.tif",
                 {.overwrite = true, .overviews = false, .run = run});
    }));
    mosaics.push_back(bench::seconds_of([&] {
      m = write_grid(mosaic({open_grid(a), open_grid(b)}), folder / "mosaic.tif", {.overwrite = true, .run = run});
    }));
    copies.push_back(bench::seconds_of([&] { bench::copy_by_libtiff(folder / "mosaic.tif", folder / "copy.tif"); }));
    shades.push_back(bench::seconds_of([&] {
      write_grid(hillshade(open_grid(folder / "mosaic.tif")), folder / "shade.tif", {.overwrite = true, .run = run});
    }));
  }
  bench::require(m.cells == n * (n + n / 2) && m.voids == 0, "another mosaic");
  for (auto* v : {&copies, &plain, &mosaics, &shades}) std::sort(v->begin(), v->end());
  fmt::print("copy      {:.1f} s (libtiff, one thread, {}, level 3, {})\n", copies[1], m.compression,
             format_bytes(static_cast<double>(m.bytes)));
  fmt::print("mosaic    {:.1f} s = {:.2f} x the copy, without overviews as the copy is\n", plain[1],
             plain[1] / copies[1]);
  fmt::print("          {:.1f} s = {:.2f} x the copy, with overviews\n", mosaics[1], mosaics[1] / copies[1]);
  fmt::print("hillshade {:.1f} s = {:.2f} x the mosaic\n", shades[1], shades[1] / mosaics[1]);
  fmt::print("memory    {:.0f} MiB at the peak of the process\n", bench::peak_mib());
  for (const char* made : {"plain.tif", "mosaic.tif", "copy.tif", "shade.tif"}) fs::remove(folder / made);
  return 0;
}
