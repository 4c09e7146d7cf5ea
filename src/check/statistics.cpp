#include "katoptra/check/statistics.hpp"

#include <bit>
#include <cmath>
#include <limits>

namespace katoptra {
namespace {

constexpr int kDropped = 12;  // of the 32 bits of a float: 11 bits of its fraction stay

// Floats in order as unsigned numbers.
std::uint32_t ordered(float v) {
  const auto bits = std::bit_cast<std::uint32_t>(v);
  return bits & 0x80000000u ? ~bits : bits | 0x80000000u;
}
double value_of(std::uint32_t order) {
  return static_cast<double>(std::bit_cast<float>(order & 0x80000000u ? order & 0x7FFFFFFFu : ~order));
}

struct Part {
  ValueSketch sketch;
  std::int64_t cells = 0, voids = 0;
  double sum = 0, squares = 0, origin = 0;
  float lowest = std::numeric_limits<float>::infinity(), highest = -std::numeric_limits<float>::infinity();
  std::int64_t low_col = 0, low_row = 0, high_col = 0, high_row = 0;
};

}  // namespace

ValueSketch::ValueSketch() : bins_(std::size_t{1} << (32 - kDropped), 0) {}

void ValueSketch::add(float v) {
  ++bins_[ordered(v) >> kDropped];
  ++count_;
}

void ValueSketch::add(const ValueSketch& other) {
  for (std::size_t i = 0; i < bins_.size(); ++i) bins_[i] += other.bins_[i];
  count_ += other.count_;
}

double ValueSketch::quantile(double q) const {
  if (count_ == 0) return std::nan("");
  const double rank = q * static_cast<double>(count_ - 1);
  double below = 0;
  for (std::size_t i = 0; i < bins_.size(); ++i) {
    const auto n = static_cast<double>(bins_[i]);
    if (n == 0) continue;
    if (rank < below + n) {
      const auto first = static_cast<std::uint32_t>(i << kDropped);
      const double a = value_of(first), b = value_of(first | ((1u << kDropped) - 1));
      const double v = n == 1 ? (a + b) / 2 : a + (b - a) * (rank - below) / (n - 1);
      // The bin of zero reaches up to the smallest numbers there are.
      return std::abs(v) < 1e-30 ? 0 : v;
    }
    below += n;
  }
  return std::nan("");
}

Statistics statistics(const Grid& grid, const RunOptions& options) {
  Part all;
  for_each_band(grid, Planes::Values, options, [&](const Block& band) {
    const Window& w = band.window();
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const float* row = band.row(r);
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float z = row[c];
        if (std::isnan(z)) {
          ++all.voids;
          continue;
        }
        // Sums about the first value, so that a high plateau loses no digits.
        if (all.sketch.count() == 0) all.origin = static_cast<double>(z);
        all.sketch.add(z);
        const double d = static_cast<double>(z) - all.origin;
        all.sum += d;
        all.squares += d * d;
        if (z < all.lowest) {
          all.lowest = z;
          all.low_col = c;
          all.low_row = w.row + r;
        }
        if (z > all.highest) {
          all.highest = z;
          all.high_col = c;
          all.high_row = w.row + r;
        }
      }
    }
    all.cells += w.cells();
  });
  Statistics s;
  s.cells = all.cells;
  s.voids = all.voids;
  const auto n = static_cast<double>(all.cells - all.voids);
  const double none = std::nan("");
  s.lowest = n > 0 ? static_cast<double>(all.lowest) : none;
  s.highest = n > 0 ? static_cast<double>(all.highest) : none;
  s.mean = n > 0 ? all.origin + all.sum / n : none;
  s.deviation = n > 0 ? std::sqrt(std::max(0.0, all.squares / n - (all.sum / n) * (all.sum / n))) : none;
  s.lowest_at = grid.frame().centre(static_cast<double>(all.low_col), static_cast<double>(all.low_row));
  s.highest_at = grid.frame().centre(static_cast<double>(all.high_col), static_cast<double>(all.high_row));
  for (int i = 0; i < 7; ++i) s.percentiles[i] = all.sketch.quantile(kPercents[i] / 100);
  return s;
}

}  // namespace katoptra
