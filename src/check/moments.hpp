// Mean and spread that are joined piece by piece.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <limits>
#include <vector>

#include "katoptra/check/statistics.hpp"

#include "base/robust.hpp"

namespace katoptra {

struct Moments {
  std::int64_t n = 0;
  double mean = 0, m2 = 0;

  void add(const Moments& o) {
    if (o.n == 0) return;
    const auto a = static_cast<double>(n), b = static_cast<double>(o.n), d = o.mean - mean;
    n += o.n;
    mean += d * b / (a + b);
    m2 += o.m2 + d * d * a * b / (a + b);
  }
  void add(double v) { add(Moments{1, v, 0}); }
  double population_deviation() const { return n > 0 ? std::sqrt(m2 / static_cast<double>(n)) : std::nan(""); }
  double sample_deviation() const { return n > 1 ? std::sqrt(m2 / static_cast<double>(n - 1)) : std::nan(""); }
  double rmse() const { return n > 0 ? std::sqrt(m2 / static_cast<double>(n) + mean * mean) : std::nan(""); }
};

// Of the values of a row that are no voids.
Moments moments_of(const float* row, std::int64_t cols);

// Errors as they stream by: exact mean, deviation, RMSE and range; the rest from a sketch.
struct ErrorGathering {
  explicit ErrorGathering(double origin = 0, int bits = 11) : sketch(origin, bits) {}
  Moments moments;
  ValueSketch sketch;
  double lowest = std::numeric_limits<double>::infinity(), highest = -lowest;

  // To sketch and range only; the moments of a row are added whole.
  void add(float d) {
    sketch.add(d);
    meet(static_cast<double>(d), static_cast<double>(d));
  }
  void meet(double low, double high) {
    lowest = std::min(lowest, low);
    highest = std::max(highest, high);
  }
  void add(const ErrorGathering& o);
  ErrorStatistics result() const;
};

}  // namespace katoptra
