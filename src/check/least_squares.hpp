// Least squares with few unknowns.
#pragma once
#include <algorithm>
#include <array>
#include <cmath>
#include <cstddef>
#include <cstdint>

namespace katoptra {

// Least squares with up to six unknowns by normal equations, solved by Cholesky's method.
class LeastSquares {
 public:
  static constexpr std::size_t kMost = 6;
  explicit LeastSquares(std::size_t unknowns) : n_(unknowns) {}

  void add(const std::array<double, kMost>& row, double value) {
    for (std::size_t i = 0; i < n_; ++i) {
      for (std::size_t k = 0; k <= i; ++k) a_[i][k] += row[i] * row[k];
      b_[i] += row[i] * value;
    }
    ++count_;
  }
  void add(const LeastSquares& o) {
    for (std::size_t i = 0; i < n_; ++i) {
      for (std::size_t k = 0; k <= i; ++k) a_[i][k] += o.a_[i][k];
      b_[i] += o.b_[i];
    }
    count_ += o.count_;
  }
  std::int64_t count() const { return count_; }

  // False when the unknowns cannot be told apart.
  bool solve() {
    std::array<double, kMost> diagonal{};
    for (std::size_t i = 0; i < n_; ++i) {
      diagonal[i] = a_[i][i];
      for (std::size_t k = 0; k <= i; ++k) {
        double s = a_[i][k];
        for (std::size_t j = 0; j < k; ++j) s -= l_[i][j] * l_[k][j];
        if (i == k) {
          if (!(s > 1e-9 * diagonal[i]) || s <= 0) return false;
          l_[i][i] = std::sqrt(s);
        } else {
          l_[i][k] = s / l_[k][k];
        }
      }
    }
    x_ = backward(forward(b_));
    return true;
  }
  double value(std::size_t i) const { return x_[i]; }
  // What the unknowns would be for another right hand side.
  std::array<double, kMost> solved(const std::array<double, kMost>& right) const { return backward(forward(right)); }
  // The standard error of an unknown for a residual deviation of one.
  double error(std::size_t i) const {
    std::array<double, kMost> unit{};
    unit[i] = 1;
    return std::sqrt(std::max(0.0, backward(forward(unit))[i]));
  }

 private:
  std::array<double, kMost> forward(std::array<double, kMost> v) const {
    for (std::size_t i = 0; i < n_; ++i) {
      for (std::size_t k = 0; k < i; ++k) v[i] -= l_[i][k] * v[k];
      v[i] /= l_[i][i];
    }
    return v;
  }
  std::array<double, kMost> backward(std::array<double, kMost> v) const {
    for (std::size_t i = n_; i-- > 0;) {
      for (std::size_t k = i + 1; k < n_; ++k) v[i] -= l_[k][i] * v[k];
      v[i] /= l_[i][i];
    }
    return v;
  }

  std::size_t n_;
  std::int64_t count_ = 0;
  std::array<std::array<double, kMost>, kMost> a_{}, l_{};
  std::array<double, kMost> b_{}, x_{};
};

}  // namespace katoptra
