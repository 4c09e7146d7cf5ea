#include "robust.hpp"

#include <algorithm>
#include <cmath>

namespace katoptra {

double quantile_of(const std::vector<double>& sorted, double q) {
  if (sorted.empty()) return std::nan("");
  const double rank = q * static_cast<double>(sorted.size() - 1);
  const auto i = static_cast<std::size_t>(rank);
  const double next = i + 1 < sorted.size() ? sorted[i + 1] : sorted[i];
  return sorted[i] + (next - sorted[i]) * (rank - static_cast<double>(i));
}

double median_of(std::vector<double> v) {
  if (v.empty()) return std::nan("");
  const double upper = upper_median_of(v);
  if (v.size() % 2) return upper;
  return (upper + *std::max_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2))) / 2;
}

double upper_median_of(std::vector<double>& v) {
  const auto half = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
  std::nth_element(v.begin(), half, v.end());
  return *half;
}

double robust_deviation(const std::vector<double>& v, double median) {
  std::vector<double> d;
  d.reserve(v.size());
  for (double x : v) d.push_back(std::abs(x - median));
  constexpr double kOfMedian = 1.4826;
  return kOfMedian * median_of(std::move(d));
}

}  // namespace katoptra
