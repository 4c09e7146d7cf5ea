// How errors of neighbouring cells go together, measured on differences.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <span>

namespace katoptra {

// The variance of differences, and how much of it goes together over how many cells: correlations of
// together / (apart + together) times exp(-(h / reach)^2), or exp(-h / reach) where that fits better.
struct ErrorModel {
  double apart = 0, together = 0;
  double reach = 0;  // cells
  bool long_tailed = false;

  double variance() const { return apart + together; }
  // How many cells of a square of `side` cells count as one: the variance of its mean is variance() * alike(side) /
  // side^2. 1 where errors are independent.
  double alike(double side) const;
};

// The same for errors that correlate by exp(-(d / reach)^2); both in cells.
double cells_alike(double side, double reach);

// Half the mean square of differences between cells that lie `lag` apart, along rows and columns (Matheron 1963): what
// they have in common, a mean among it, does not count.
class Variogram {
 public:
  static constexpr std::array<std::int64_t, 15> kLags{1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192};

  // A dense block of values; NaN where there is none.
  void add(std::span<const float> values, std::int64_t cols, std::int64_t rows);
  void add(const Variogram& other);
  // Weighted least squares (Cressie 1985) over reaches up to twice the longest lag that was seen.
  ErrorModel fit() const;

 private:
  std::array<double, kLags.size()> squares_{};
  std::array<std::int64_t, kLags.size()> pairs_{};
};

// So many standard errors to either side hold 95 of 100 when the error is known from `freedom` independent values
// (Student), 1.96 for many.
double two_sided_95(double freedom);

}  // namespace katoptra
