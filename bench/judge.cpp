// What judging costs beside reading: check, statistics and compare of a large grid, and their peak memory.
//
//   build/bin/judge [EDGE] [FOLDER]
#include "katoptra/check/check.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/grid/cache.hpp"

#include "bench.hpp"

namespace {

using namespace katoptra;

std::string written(const std::string& folder, std::int64_t edge, const char* name, float above) {
  const std::string path = fmt::format("{}/judge-{}-{}.tif", folder, name, edge);
  if (!std::filesystem::exists(path)) write_grid(bench::ground_grid(edge, edge, 600000, 5900000, above), path, {});
  return path;
}

// Every run decodes anew.
Grid opened(const std::string& path) {
  BlockCache::shared().set_budget(0);
  BlockCache::shared().set_budget(64u << 20);
  return open_grid(path);
}

}  // namespace

int main(int argc, char** argv) {
  const std::int64_t edge = argc > 1 ? std::atoll(argv[1]) : 10000;
  const std::string folder = argc > 2 ? argv[2] : std::filesystem::temp_directory_path().string();
  const RunOptions run{.memory = 192u << 20};
  const std::string a = written(folder, edge, "a", 0), b = written(folder, edge, "b", 0.25f);
  const double cells = static_cast<double>(edge) * static_cast<double>(edge) / 1e6;
  const auto read = [&](const std::string& path) {
    double first = 0;
    map_bands(
        opened(path), Planes::Values, 0, run,
        [](Block block, const Window&) -> std::shared_ptr<void> { return std::make_shared<float>(block.row(0)[0]); },
        [&](std::shared_ptr<void> z) { first += static_cast<double>(*static_cast<float*>(z.get())); });
    bench::require(first != 0, "the grid was read");
  };
  read(a);
  const bench::Pair checked = bench::side_by_side(
      5,
      [&] {
        const CheckReport r = check(opened(a), {.run = run});
        bench::require(r.statistics.cells == edge * edge && !r.failed(), "check finds nothing on clean ground");
      },
      [&] { read(a); });
  fmt::print("read      {:7.2f} s  {:6.1f} M cells/s\n", checked.yardstick, cells / checked.yardstick);
  fmt::print("check     {:7.2f} s  {:6.1f} M cells/s  {:.2f} x reading\n", checked.ours, cells / checked.ours,
             checked.ratio());
  const bench::Pair counted = bench::side_by_side(
      3, [&] { statistics(opened(a), run); }, [&] { read(a); });
  fmt::print("statistics{:7.2f} s  {:6.1f} M cells/s  {:.2f} x reading\n", counted.ours, cells / counted.ours,
             counted.ratio());
  fmt::print("peak      {:7.0f} MiB\n", bench::peak_mib());
  const bench::Pair compared = bench::side_by_side(
      3,
      [&] {
        const Comparison c = compare(opened(a), opened(b), {.run = run});
        bench::require(std::abs(c.overall.median + 0.25) < 0.001, "the offset is found");
        bench::require(c.coregistration && c.coregistration->found, "no shift is found as none");
      },
      [&] {
        read(a);
        read(b);
      });
  fmt::print("compare   {:7.2f} s  {:6.1f} M cells/s  {:.2f} x reading both, with the shift\n", compared.ours,
             cells / compared.ours, compared.ratio());
  fmt::print("peak      {:7.0f} MiB\n", bench::peak_mib());
  return 0;
}
