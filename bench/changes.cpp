// How often the 95 % of a net volume, and of a shift and an offset between two surfaces, holds: nothing has changed but
// a tenth of the ground where said, and errors go together over a known reach. Prints the table of docs/check.md.
//
//   build/bin/changes [TRIALS [FIRST [REACH]]]
//
// FIRST: the number of the first trial, for others than those of the table; REACH: this one alone, in cells.
#include <fmt/format.h>
#include <string>

#include "katoptra/base/parallel.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/surface/reproject.hpp"

#include "../tests/sureness.hpp"
#include "bench.hpp"

namespace {

using namespace katoptra;
using namespace katoptra::testing;

constexpr std::int64_t kEdge = 400;

double rolling(double x, double y) {
  return 40 + 12 * std::sin((x - 677000) / 31) * std::cos((y - 5841000) / 47) + 3 * std::sin((x + y) / 13);
}

Frame frame() { return {Crs::parse("EPSG:32725"), 677300, 5841900, {1, 1}, kEdge, kEdge}; }

struct Tally {
  int all = 0, volume = 0, east = 0, north = 0, offset = 0, found = 0;
  double share(int n) const { return 100.0 * n / all; }
};

void one(double reach, unsigned seed, Tally& t) {
  constexpr double kEast = 0.37, kNorth = -0.62;
  const Length far = Length::metres(reach);
  const Grid a = measured(frame(), rolling, 0.05, far, 2 * seed),
             still = measured(frame(), rolling, 0.08, far, 2 * seed + 1),
             moved = measured(
                 frame(), [](double x, double y) { return rolling(x + kEast, y + kNorth); }, 0.08, far, 2 * seed + 1);
  RunOptions run;
  run.threads = 1;
  ++t.all;
  const Comparison c = compare(a, still, {.coregister = false, .run = run});
  t.volume += std::abs(c.volume.net()) <= c.volume.uncertainty;
  const Coregistration s = coregister(a, moved, {.tilt = false, .run = run});
  if (!s.found) return;
  ++t.found;
  t.east += std::abs(s.east.metres() - kEast) <= kTwoSided95 * s.east_error.metres();
  t.north += std::abs(s.north.metres() - kNorth) <= kTwoSided95 * s.north_error.metres();
  t.offset += std::abs(s.offset.metres()) <= kTwoSided95 * s.offset_error.metres();
}

}  // namespace

int main(int argc, char** argv) {
  const int trials = argc > 1 ? std::atoi(argv[1]) : 200, first = argc > 2 ? std::atoi(argv[2]) : 1;
  fmt::print("| errors go together over | net volume | shift east | shift north | offset |\n|---|---|---|---|---|\n");
  const std::vector<double> reaches =
      argc > 3 ? std::vector{std::atof(argv[3])} : std::vector{0.0, 1.5, 5.0, 15.0, 30.0};
  for (const double reach : reaches) {
    std::vector<Tally> each(static_cast<std::size_t>(trials));
    parallel_for(each.size(), {},
                 [&](std::size_t i) { one(reach, static_cast<unsigned>(first) + static_cast<unsigned>(i), each[i]); });
    Tally t;
    for (const Tally& e : each) {
      t.all += e.all;
      t.volume += e.volume;
      t.east += e.east;
      t.north += e.north;
      t.offset += e.offset;
      t.found += e.found;
    }
    fmt::print("| {:g} cells | {:.1f} % | {:.1f} % | {:.1f} % | {:.1f} % |\n", reach, t.share(t.volume),
               t.share(t.east), t.share(t.north), t.share(t.offset));
    if (t.found < t.all) fmt::print("found {} of {}\n", t.found, t.all);
    std::fflush(stdout);
  }
}
