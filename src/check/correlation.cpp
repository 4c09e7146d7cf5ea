#include "correlation.hpp"

#include <algorithm>
#include <cmath>
#include <vector>

namespace katoptra {
namespace {

constexpr std::int64_t kFewPairs = 200;  // fewer say nothing of a lag
constexpr double kByChance = 45;         // by which the sum of weighted squares falls with two unknowns more

double correlation(double h, double reach, bool long_tailed) {
  return long_tailed ? std::exp(-h / reach) : std::exp(-h * h / (reach * reach));
}

// The sum of correlations over all steps within a square, each as often as it fits.
double alike_in_square(double side, double reach, bool long_tailed) {
  const double step = std::max(1.0, reach / 16), end = std::min(side, reach * (long_tailed ? 9 : 3.2));
  const auto n = static_cast<int>(std::floor(end / step));
  const auto fits = [&](int i) { return std::max(0.0, 1 - std::abs(i) * step / side); };
  if (!long_tailed) {
    double line = 0;
    for (int i = -n; i <= n; ++i) line += step * fits(i) * correlation(i * step, reach, false);
    return line * line;
  }
  double sum = 0;
  for (int i = -n; i <= n; ++i)
    for (int k = -n; k <= n; ++k)
      sum += step * step * fits(i) * fits(k) * correlation(std::hypot(i, k) * step, reach, true);
  return sum;
}

}  // namespace

double cells_alike(double side, double reach) {
  return reach > 0 ? std::max(1.0, alike_in_square(std::max(1.0, side), reach, false)) : 1;
}

double ErrorModel::alike(double side) const {
  if (!(together > 0) || !(variance() > 0)) return 1;
  return (apart + together * std::max(1.0, alike_in_square(std::max(1.0, side), reach, long_tailed))) / variance();
}

void Variogram::add(std::span<const float> values, std::int64_t cols, std::int64_t rows) {
  for (std::size_t k = 0; k < kLags.size(); ++k) {
    const std::int64_t lag = kLags[k];
    const auto pair = [&](std::int64_t i, std::int64_t j) {
      const double d = static_cast<double>(values[static_cast<std::size_t>(i)]) -
                       static_cast<double>(values[static_cast<std::size_t>(j)]);
      if (std::isnan(d)) return;
      squares_[k] += d * d;
      ++pairs_[k];
    };
    // No further than three quarters of the block: beyond, few places say it all.
    if (4 * lag <= 3 * cols)
      for (std::int64_t r = 0; r < rows; ++r)
        for (std::int64_t c = 0; c + lag < cols; ++c) pair(r * cols + c, r * cols + c + lag);
    if (4 * lag <= 3 * rows)
      for (std::int64_t r = 0; r + lag < rows; ++r)
        for (std::int64_t c = 0; c < cols; ++c) pair(r * cols + c, (r + lag) * cols + c);
  }
}

void Variogram::add(const Variogram& other) {
  for (std::size_t k = 0; k < kLags.size(); ++k) {
    squares_[k] += other.squares_[k];
    pairs_[k] += other.pairs_[k];
  }
}

ErrorModel Variogram::fit() const {
  struct Seen {
    double lag, half, weight;
  };
  std::vector<Seen> seen;
  for (std::size_t k = 0; k < kLags.size(); ++k) {
    if (pairs_[k] < kFewPairs) continue;
    const auto n = static_cast<double>(pairs_[k]);
    const double half = squares_[k] / (2 * n);
    if (half > 0) seen.push_back({static_cast<double>(kLags[k]), half, n / (half * half)});
  }
  if (seen.empty()) return {};
  // Independent errors first; anything else must fit better than chance makes it.
  ErrorModel best;
  double least = 0, weights = 0, halves = 0;
  for (const Seen& s : seen) {
    weights += s.weight;
    halves += s.weight * s.half;
  }
  best.apart = halves / weights;
  for (const Seen& s : seen) least += s.weight * std::pow(s.half - best.apart, 2);
  least -= kByChance;
  const auto try_with = [&](double reach, bool long_tailed) {
    // half = apart + together * (1 - correlation), both not below zero.
    double w = 0, wf = 0, wff = 0, wh = 0, wfh = 0;
    for (const Seen& s : seen) {
      const double f = 1 - correlation(s.lag, reach, long_tailed);
      w += s.weight;
      wf += s.weight * f;
      wff += s.weight * f * f;
      wh += s.weight * s.half;
      wfh += s.weight * f * s.half;
    }
    const double det = w * wff - wf * wf;
    double apart = det > 1e-12 * w * wff ? (wh * wff - wf * wfh) / det : wh / w,
           together = det > 1e-12 * w * wff ? (w * wfh - wf * wh) / det : 0;
    if (apart < 0) {
      apart = 0;
      together = wfh / wff;
    }
    if (together < 0) {
      together = 0;
      apart = wh / w;
    }
    double off = 0;
    for (const Seen& s : seen)
      off += s.weight * std::pow(s.half - apart - together * (1 - correlation(s.lag, reach, long_tailed)), 2);
    // The short-tailed is taken unless the other fits clearly better.
    if (off < (long_tailed && best.together > 0 ? 0.7 : 1) * least) {
      least = off;
      best = {apart, together, reach, long_tailed};
    }
  };
  for (const bool long_tailed : {false, true})
    for (double reach = 0.8; reach <= 2 * seen.back().lag; reach *= 1.06) try_with(reach, long_tailed);
  return best;
}

double two_sided_95(double freedom) {
  constexpr double z = 1.959964;
  const double v = std::max(2.0, freedom);
  // Cornish & Fisher's expansion of Student's quantile.
  return z + (z * z * z + z) / (4 * v) + (5 * std::pow(z, 5) + 16 * z * z * z + 3 * z) / (96 * v * v) +
         (3 * std::pow(z, 7) + 19 * std::pow(z, 5) + 17 * z * z * z - 15 * z) / (384 * v * v * v);
}

}  // namespace katoptra
