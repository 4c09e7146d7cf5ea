// How errors of the cells under a kernel add up in what is made of them.
//
// Errors of two cells that lie d apart correlate by exp(-(d / reach)^2), which is the product of one factor for columns
// and one for rows, so the variance of a separable kernel is that of a cell times a factor for each axis. Where the
// reach is not known the larger of two extremes holds: errors that have nothing to do with one another, or one error
// for all.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// An uncertainty to what it is known to, a part in 256: more digits would cost a file more than the values do.
inline float rounded_uncertainty(double u) {
  const auto value = static_cast<float>(u);
  std::uint32_t bits = 0;
  std::memcpy(&bits, &value, 4);
  constexpr std::uint32_t kDropped = 16;  // of 23
  if (!(u > 0) || std::isinf(u)) return value;
  bits = (bits + (1u << (kDropped - 1))) >> kDropped << kDropped;
  float out = 0;
  std::memcpy(&out, &bits, 4);
  return out;
}

class ErrorKernel {
 public:
  static constexpr int kMost = 7;  // cells of a kernel along an axis

  // Of the errors of a grid with that info, on its cells.
  explicit ErrorKernel(const GridInfo& info) : known_(info.error_reach.has_value()) {
    if (!known_) return;
    const GroundSpacing s = ground_spacing(info.frame);
    reach_x_ = *info.error_reach / s.x;
    reach_y_ = *info.error_reach / s.y;
    for (int k = 0; k < kMost; ++k) {
      rx_[k] = correlation(k, reach_x_);
      ry_[k] = correlation(k, reach_y_);
    }
  }

  bool known() const { return known_; }
  // How far the errors of neighbours in a row and in a column go together, where that is known.
  double beside() const { return rx_[1]; }
  double below() const { return ry_[1]; }

  // The variance of a sum of cells with these weights, of a cell's: along columns times along rows.
  double across(const float* w, int n) const { return known_ ? form(w, n, rx_) : 1; }
  double down(const float* w, int n) const { return known_ ? form(w, n, ry_) : 1; }

  // Of up to four cells around a place: weighted errors a[j][i] (weight times uncertainty, 0 where a cell has no part).
  double of_four(const double (&a)[2][2]) const {
    const double sum = a[0][0] + a[0][1] + a[1][0] + a[1][1];
    const double own = a[0][0] * a[0][0] + a[0][1] * a[0][1] + a[1][0] * a[1][0] + a[1][1] * a[1][1];
    if (!known_) return std::max(sum * sum, own);
    return own +
           2 * (rx_[1] * (a[0][0] * a[0][1] + a[1][0] * a[1][1]) + ry_[1] * (a[0][0] * a[1][0] + a[0][1] * a[1][1]) +
                rx_[1] * ry_[1] * (a[0][0] * a[1][1] + a[0][1] * a[1][0]));
  }

  // Of the mean over a box so many cells wide and high, at least one: what is left of a cell's variance.
  double of_box(double wide, double high) const {
    return known_ ? mean_of(wide, reach_x_) * mean_of(high, reach_y_) : 1;
  }

 private:
  static double correlation(double cells, double reach) {
    return cells == 0 ? 1 : reach > 0 ? std::exp(-(cells / reach) * (cells / reach)) : 0;
  }
  static double form(const float* w, int n, const double* r) {
    double v = 0;
    for (int k = 0; k < n; ++k) {
      double s = 0;
      for (int i = 0; i + k < n; ++i) s += static_cast<double>(w[i] * w[i + k]);
      v += (k == 0 ? 1 : 2) * r[k] * s;
    }
    return v;
  }
  // A row of whole cells and a part of one, as the box lies when it begins at the edge of a cell.
  static double mean_of(double cells, double reach) {
    const double whole = std::floor(cells), rest = cells - whole;
    const auto n = static_cast<int>(std::min(whole, 1e6));
    double v = whole + rest * rest;
    // Beyond three reaches nothing is left to add.
    const int last = static_cast<int>(std::min<double>(n, std::ceil(3 * reach)));
    for (int k = 1; k <= last; ++k) {
      const double pairs = std::max(0.0, whole - k) + (n >= k ? rest : 0);
      v += 2 * correlation(k, reach) * pairs;
    }
    return v / (cells * cells);
  }

  bool known_;
  double reach_x_ = 0, reach_y_ = 0;
  double rx_[kMost] = {1}, ry_[kMost] = {1};
};

// What is left of a cell's variance by a kernel along an axis, by how far the place lies beyond the cell before it:
// looked up, as it is asked for every cell.
class KernelShares {
 public:
  // `weights(t, w)` fills four weights.
  template <class Weights>
  KernelShares(const ErrorKernel& errors, bool along_x, const Weights& weights) {
    for (int i = 0; i <= kSteps; ++i) {
      float w[4];
      weights(static_cast<float>(i) / kSteps, w);
      share_[i] = static_cast<float>(along_x ? errors.across(w, 4) : errors.down(w, 4));
    }
  }
  float at(float t) const {
    const float x = t * kSteps;
    const int i = std::min(static_cast<int>(x), kSteps - 1);
    return share_[i] + (x - static_cast<float>(i)) * (share_[i + 1] - share_[i]);
  }
  static constexpr int kSteps = 64;
  const float* table() const { return share_; }  // kSteps + 1 of them

 private:
  float share_[kSteps + 1];
};

// The four cells around a place, as the bilinear kernel weighs them: how much each with a value counts, and how sure it
// is.
struct FourAround {
  double share[2][2] = {}, error[2][2] = {};

  // (col, row): in cells from the corner of the grid. `value` and `uncertainty` give those of a cell, NaN where there
  // is none.
  template <class Value, class Uncertainty>
  FourAround(double col, double row, const Value& value, const Uncertainty& uncertainty) {
    const double x = col - 0.5, y = row - 0.5, u = x - std::floor(x), v = y - std::floor(y);
    const auto c = static_cast<std::int64_t>(std::floor(x)), r = static_cast<std::int64_t>(std::floor(y));
    double all = 0;
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i) {
        const double w = (i ? u : 1 - u) * (j ? v : 1 - v);
        if (!(w > 0) || std::isnan(value(c + i, r + j))) continue;
        share[j][i] = w;
        error[j][i] = static_cast<double>(uncertainty(c + i, r + j));
        all += w;
      }
    for (auto& row_of : share)
      for (double& w : row_of) w /= all;
  }

  // Of the bilinear value.
  double variance(const ErrorKernel& kernel) const {
    double a[2][2];
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i) a[j][i] = share[j][i] * error[j][i];
    return kernel.of_four(a);
  }
  // Of a single cell, there.
  double own_variance() const {
    double v = 0;
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 2; ++i) v += share[j][i] * error[j][i] * error[j][i];
    return v;
  }
};

}  // namespace katoptra
