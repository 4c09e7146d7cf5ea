// The discrete Fourier transform and its window, for lengths that are powers of two.
#pragma once
#include <array>
#include <cmath>
#include <complex>
#include <cstddef>
#include <numbers>
#include <utility>

namespace katoptra {

// In place (Cooley & Tukey 1965).
template <std::size_t N>
void fourier_transform(std::complex<double>* x) {
  static_assert((N & (N - 1)) == 0);
  static const auto turns = [] {
    std::array<std::complex<double>, N / 2> t{};
    for (std::size_t k = 0; k < N / 2; ++k)
      t[k] = std::polar(1.0, -2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(N));
    return t;
  }();
  for (std::size_t i = 1, j = 0; i < N; ++i) {
    std::size_t bit = N >> 1;
    for (; j & bit; bit >>= 1) j ^= bit;
    j ^= bit;
    if (i < j) std::swap(x[i], x[j]);
  }
  for (std::size_t len = 2; len <= N; len <<= 1)
    for (std::size_t i = 0; i < N; i += len)
      for (std::size_t k = 0; k < len / 2; ++k) {
        const std::complex<double> w = turns[k * (N / len)], v = x[i + k + len / 2], a = x[i + k];
        // Written out: the library's product asks for infinities.
        const std::complex<double> b(v.real() * w.real() - v.imag() * w.imag(),
                                     v.real() * w.imag() + v.imag() * w.real());
        x[i + k] = a + b;
        x[i + k + len / 2] = a - b;
      }
}

// Hann's window: half of its weight is in the peak of a wave that fits N.
template <std::size_t N>
const std::array<double, N>& hann_window() {
  static const auto window = [] {
    std::array<double, N> w{};
    for (std::size_t i = 0; i < N; ++i)
      w[i] = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (static_cast<double>(i) + 0.5) / static_cast<double>(N));
    return w;
  }();
  return window;
}

}  // namespace katoptra
