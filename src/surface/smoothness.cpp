#include "smoothness.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace katoptra {
namespace {

constexpr std::int64_t kLookEdge = 24;   // of a window, in cells
constexpr std::size_t kFewestLooks = 8;  // windows that say something

constexpr double kDifference[4][4] = {{}, {-1, 1}, {1, -2, 1}, {-1, 3, -3, 1}};

// The mean square of differences over `step` cells, along rows or columns; nothing where most are not known.
std::optional<double> mean_square(const Block& z, int order, std::int64_t step, bool along_x) {
  const std::int64_t span = order * step, cols = z.window().cols, rows = z.window().rows;
  double sum = 0;
  std::int64_t n = 0, all = 0;
  for (std::int64_t r = 0; r + (along_x ? 0 : span) < rows; ++r)
    for (std::int64_t c = 0; c + (along_x ? span : 0) < cols; ++c) {
      double d = 0;
      for (int k = 0; k <= order; ++k)
        d += kDifference[order][k] * static_cast<double>(along_x ? z.at(c + k * step, r) : z.at(c, r + k * step));
      ++all;
      if (std::isnan(d)) continue;
      sum += d * d;
      ++n;
    }
  return 2 * n > all ? std::optional(sum / static_cast<double>(n)) : std::nullopt;
}

// Of a cell's variance, what noise makes of such a mean square. Where nobody knows how far errors go together they are
// taken to be apart, which makes most of it.
double noise_of(const ErrorKernel& errors, int order, std::int64_t step, bool along_x) {
  float w[ErrorKernel::kMost] = {};
  double apart = 0;
  for (int k = 0; k <= order; ++k) {
    w[k * step] = static_cast<float>(kDifference[order][k]);
    apart += kDifference[order][k] * kDifference[order][k];
  }
  const int n = static_cast<int>(order * step) + 1;
  if (!errors.known()) return apart;
  return along_x ? errors.across(w, n) : errors.down(w, n);
}

double mean_variance(const Block& b) {
  double sum = 0, n = 0;
  for (std::int64_t r = 0; r < b.window().rows; ++r)
    for (std::int64_t c = 0; c < b.window().cols; ++c) {
      const auto u = static_cast<double>(b.uncertainty_row(r)[c]);
      if (std::isnan(u)) continue;
      sum += u * u;
      ++n;
    }
  return n > 0 ? sum / n : 0;
}

}  // namespace

std::optional<double> growth_of_differences(const Grid& grid, std::span<const Point> cells, int order,
                                            const ErrorKernel& errors) {
  std::vector<double> seen;
  for (const Point& p : cells) {
    if (!(std::abs(p.x) < 1e15 && std::abs(p.y) < 1e15)) continue;
    const auto corner = [](double x) { return static_cast<std::int64_t>(std::floor(x)) - kLookEdge / 2; };
    const Window w = Window{corner(p.x), corner(p.y), kLookEdge, kLookEdge}.intersected(grid.frame().window());
    if (std::min(w.cols, w.rows) < kLookEdge / 2) continue;
    const Block b = grid.read(w, Planes::ValuesAndUncertainty);
    const double variance = mean_variance(b);
    for (const bool along_x : {true, false}) {
      const auto one = mean_square(b, order, 1, along_x), two = mean_square(b, order, 2, along_x);
      if (!one || !two) continue;
      const double noise = variance * noise_of(errors, order, 1, along_x), ground = *one - noise,
                   wider = *two - variance * noise_of(errors, order, 2, along_x);
      if (ground > noise && wider > 0) seen.push_back(std::log2(wider / ground));
    }
  }
  if (seen.size() < kFewestLooks) return std::nullopt;
  const auto middle = seen.begin() + static_cast<std::ptrdiff_t>(seen.size() / 2);
  std::nth_element(seen.begin(), middle, seen.end());
  return *middle;
}

double left_out_on(int order, std::optional<double> growth) {
  if (!growth) return 1;
  // Found once on self-affine ground of H 0.2 to 2.2, on waves of 4 to 40 cells and on the example island.
  struct Known {
    double growth, times;
  };
  static constexpr Known kNearest[] = {{0.5, 2.75}, {0.85, 2.26}, {1.2, 1.82},  {1.5, 1.49},
                                       {1.75, 1.2}, {1.88, 0.99}, {1.97, 0.93}, {2, 0.885}};
  static constexpr Known kBilinear[] = {{0.5, 2.85},  {0.87, 2.45}, {1.2, 2.12},  {1.6, 1.84}, {1.9, 1.65}, {2.4, 1.39},
                                        {2.95, 1.02}, {3.25, 0.88}, {3.6, 0.785}, {3.8, 0.66}, {4, 0.56}};
  static constexpr Known kCubic[] = {{0.5, 2.85}, {0.87, 2.45}, {1.23, 2.08}, {1.6, 1.8}, {1.9, 1.62},
                                     {2.4, 1.37}, {2.82, 0.95}, {3.2, 0.9},   {3.9, 0.6}, {4.4, 0.46},
                                     {4.8, 0.34}, {5.35, 0.26}, {5.7, 0.22},  {6, 0.19}};
  const std::span<const Known> table = order == 1   ? std::span<const Known>(kNearest)
                                       : order == 2 ? std::span<const Known>(kBilinear)
                                                    : std::span<const Known>(kCubic);
  const auto next =
      std::upper_bound(table.begin(), table.end(), *growth, [](double g, const Known& k) { return g < k.growth; });
  if (next == table.begin()) return table.front().times;
  if (next == table.end()) return table.back().times;
  const Known &a = *(next - 1), &b = *next;
  return a.times + (*growth - a.growth) / (b.growth - a.growth) * (b.times - a.times);
}

}  // namespace katoptra
