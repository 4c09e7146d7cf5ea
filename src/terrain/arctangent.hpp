// Arctangents of many values at once: the same formula for each, without a decision or a call, so that compilers work
// on several side by side. Off by less than 1e-11 of the angle: floats come out as those of the mathematical library
// but for a last digit now and then.
#pragma once
#include <cmath>
#include <numbers>

namespace katoptra {

// In radians, 0 to pi/2; `y` and `x` at least 0 and not both 0. NaN where one is NaN.
inline double arctangent_of(double y, double x) {
  constexpr double kTanOfEighth = std::numbers::sqrt2 - 1, kQuarter = std::numbers::pi / 4;
  const bool steep = y > x;
  const double low = steep ? x : y, high = steep ? y : x;
  // Brought to the slope of an eighth of the circle at most, where the series needs few terms.
  const bool beyond = low > kTanOfEighth * high;
  const double t = (beyond ? low - high : low) / (beyond ? low + high : high), s = t * t;
  double sum = 1.0 / 25;
  sum = 1.0 / 23 - s * sum;
  sum = 1.0 / 21 - s * sum;
  sum = 1.0 / 19 - s * sum;
  sum = 1.0 / 17 - s * sum;
  sum = 1.0 / 15 - s * sum;
  sum = 1.0 / 13 - s * sum;
  sum = 1.0 / 11 - s * sum;
  sum = 1.0 / 9 - s * sum;
  sum = 1.0 / 7 - s * sum;
  sum = 1.0 / 5 - s * sum;
  sum = 1.0 / 3 - s * sum;
  const double angle = (beyond ? kQuarter : 0.0) + (t - t * s * sum);
  return steep ? 2 * kQuarter - angle : angle;
}

}  // namespace katoptra
