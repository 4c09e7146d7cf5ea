#include "derivative_errors.hpp"

#include <algorithm>
#include <cmath>

#include "grid/error_kernel.hpp"

namespace katoptra {
namespace {

double axis_form(const std::vector<double>& a, const std::vector<double>& b, double reach) {
  const std::int64_t n = std::ssize(a);
  // Beyond three reaches nothing is left to add.
  const std::int64_t far = std::min<std::int64_t>(n - 1, static_cast<std::int64_t>(std::ceil(3 * reach)));
  double sum = 0;
  for (std::int64_t k = -far; k <= far; ++k) {
    double s = 0;
    for (std::int64_t i = std::max<std::int64_t>(0, -k); i < std::min(n, n - k); ++i)
      s += a[static_cast<std::size_t>(i)] * b[static_cast<std::size_t>(i + k)];
    const double d = static_cast<double>(k);
    sum += (k == 0 ? 1 : std::exp(-(d / reach) * (d / reach))) * s;
  }
  return sum;
}

}  // namespace

WindowCovariance::WindowCovariance(const GridInfo& info) : known_(info.error_reach.has_value()) {
  if (!known_) return;
  const GroundSpacing s = ground_spacing(info.frame);
  reach_x_ = *info.error_reach / s.x;
  reach_y_ = *info.error_reach / s.y;
}

double WindowCovariance::with_reach(const AxisWeights& a, const AxisWeights& b, double reach_x, double reach_y) const {
  return axis_form(a.across, b.across, reach_x) * axis_form(a.down, b.down, reach_y);
}

double WindowCovariance::harmful_reach(const AxisWeights& a) const {
  double worst = 0, most = -1;
  const auto wide = static_cast<double>(a.across.size());
  for (double reach = 0; reach <= 2 * wide; reach = reach < 0.5 ? 0.5 : reach * 1.3)
    if (const double v = with_reach(a, a, reach, reach); v > most) {
      most = v;
      worst = reach;
    }
  return worst;
}

double WindowCovariance::of(const AxisWeights& a) const { return of(a, a); }

double WindowCovariance::of(const AxisWeights& a, const AxisWeights& b) const {
  if (known_) return with_reach(a, b, reach_x_, reach_y_);
  const double reach = harmful_reach(a);
  return with_reach(a, b, reach, reach);
}

std::optional<Length> reach_over_window(const GridInfo& heights, double cells) {
  if (!heights.error_reach) return std::nullopt;
  const GroundSpacing s = ground_spacing(heights.frame);
  return Length::metres(std::hypot(heights.error_reach->metres(), cells * std::max(s.x.metres(), s.y.metres()) / 2));
}

void mean_squares(const Block& in, std::int64_t r, std::int64_t m, std::span<double> out) {
  const std::int64_t n = std::ssize(out);
  std::vector<double> sum(static_cast<std::size_t>(n + 2 * m), 0), known(sum.size(), 0);
  for (std::int64_t j = 0; j <= 2 * m; ++j) {
    const float* u = in.uncertainty_row(r + j);
    for (std::size_t c = 0; c < sum.size(); ++c) {
      const auto v = static_cast<double>(u[c]);
      sum[c] += std::isnan(v) ? 0 : v * v;
      known[c] += std::isnan(v) ? 0 : 1;
    }
  }
  const float* own = in.uncertainty_row(r + m) + m;
  for (std::int64_t c = 0; c < n; ++c) {
    double s = 0, k = 0;
    for (std::int64_t i = 0; i <= 2 * m; ++i) {
      s += sum[static_cast<std::size_t>(c + i)];
      k += known[static_cast<std::size_t>(c + i)];
    }
    out[static_cast<std::size_t>(c)] = std::isnan(own[c]) ? std::nan("") : s / k;
  }
}

void add_change(const float* value, const float* up, const float* down, std::span<double> squares) {
  for (std::size_t c = 0; c < squares.size(); ++c) {
    const auto v = static_cast<double>(value[c]);
    const double a = std::abs(static_cast<double>(up[c]) - v), b = std::abs(static_cast<double>(down[c]) - v);
    const double d = std::isnan(a) ? b : std::isnan(b) ? a : std::max(a, b);
    squares[c] += d * d;
  }
}

void state_error(const float* value, std::span<const double> squares, float* uncertainty) {
  for (std::size_t c = 0; c < squares.size(); ++c) {
    const double u = std::sqrt(squares[c]);
    uncertainty[c] = std::isnan(value[c]) || !std::isfinite(u) ? kVoid : rounded_uncertainty(u);
  }
}

}  // namespace katoptra
