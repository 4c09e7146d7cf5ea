#include "water_level.hpp"

#include <algorithm>
#include <cmath>

#include "base/robust.hpp"

namespace katoptra {
namespace {

struct Shortest {
  std::size_t first = 0;
  double width = 0;
};
// The shortest interval that holds `count` of the sorted heights from `begin` to `end`.
Shortest shortest_with(const std::vector<double>& z, std::size_t begin, std::size_t end, std::size_t count) {
  Shortest best{begin, z[begin + count - 1] - z[begin]};
  for (std::size_t i = begin + 1; i + count <= end; ++i)
    if (const double width = z[i + count - 1] - z[i]; width < best.width) best = {i, width};
  return best;
}

// Halves of halves, each the densest, down to two (Bickel & Fruehwirth 2006).
double half_sample_mode(const std::vector<double>& z) {
  std::size_t begin = 0, count = z.size();
  while (count > 2) {
    const std::size_t half = (count + 1) / 2;
    begin = shortest_with(z, begin, begin + count, half).first;
    count = half == count ? 2 : half;
  }
  return (z[begin] + z[begin + count - 1]) / 2;
}

}  // namespace

std::optional<WaterLevel> water_level(std::vector<double> z) {
  if (z.size() < 3) return std::nullopt;
  std::sort(z.begin(), z.end());
  // Half of a normal distribution lies within 0.6745 deviations of its middle.
  double spread = shortest_with(z, 0, z.size(), (z.size() + 1) / 2).width / 2 / 0.6745;
  double level = half_sample_mode(z);
  std::size_t cells = 0;
  for (int round = 0; round < 4; ++round) {
    const double reach = std::max(3 * spread, 1e-6 * std::max(1.0, std::abs(level)));
    const std::vector<double> near(std::lower_bound(z.begin(), z.end(), level - reach),
                                   std::upper_bound(z.begin(), z.end(), level + reach));
    cells = near.size();
    if (near.empty()) break;
    level = median_of(near);
    spread = robust_deviation(near, level);
  }
  return WaterLevel{level, spread, cells};
}

}  // namespace katoptra
