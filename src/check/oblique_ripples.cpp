// Regular ripples at any angle: a peak in the spectrum of a window of 128 x 128 cells, far above all around it.
#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <numbers>

#include "fourier.hpp"
#include "moments.hpp"
#include "oblique.hpp"

namespace katoptra {
namespace {

constexpr auto kN = static_cast<int>(kHalfEdge);
constexpr int kFewestCycles = 7;   // in kN cells: longer waves are relief
constexpr int kAxis = 2;           // those along rows and columns are looked for in longer means
constexpr double kPeakRatio = 60;  // times the median around
constexpr double kMostVoids = 1.0 / 32;
constexpr std::int64_t kFewestWindows = 3;
constexpr std::size_t kMostPeaks = 5000;

using Spectrum = std::vector<std::complex<double>>;

// Of the departures from the window's mean under Hann's window; empty where too much is void.
Spectrum spectrum_of(const std::vector<float>& z) {
  double sum = 0;
  std::size_t known = 0;
  for (float v : z)
    if (!std::isnan(v)) {
      sum += static_cast<double>(v);
      ++known;
    }
  if (static_cast<double>(known) < (1 - kMostVoids) * static_cast<double>(z.size())) return {};
  const double mean = sum / static_cast<double>(known);
  const auto& hann = hann_window<kHalfEdge>();
  Spectrum x(z.size());
  for (std::size_t r = 0; r < kHalfEdge; ++r) {
    for (std::size_t c = 0; c < kHalfEdge; ++c) {
      const auto v = static_cast<double>(z[r * kHalfEdge + c]);
      x[r * kHalfEdge + c] = std::isnan(v) ? 0 : (v - mean) * hann[r] * hann[c];
    }
    fourier_transform<kHalfEdge>(&x[r * kHalfEdge]);
  }
  std::vector<std::complex<double>> column(kHalfEdge);
  for (std::size_t c = 0; c <= kHalfEdge / 2; ++c) {  // the rest mirrors it
    for (std::size_t r = 0; r < kHalfEdge; ++r) column[r] = x[r * kHalfEdge + c];
    fourier_transform<kHalfEdge>(column.data());
    for (std::size_t r = 0; r < kHalfEdge; ++r) x[r * kHalfEdge + c] = column[r];
  }
  return x;
}

}  // namespace

void ObliqueRipples::look(const SampledWindow& w) {
  const Spectrum x = spectrum_of(w.middle);
  if (x.empty()) return;
  ++windows_;
  auto power = [&](int kx, int ky) {
    return std::norm(x[static_cast<std::size_t>((ky + kN) % kN) * kHalfEdge + static_cast<std::size_t>(kx)]);
  };
  Peak best{.at = w.at};
  double largest = 0;
  for (int kx = kAxis + 1; kx < kN / 2 - 1; ++kx)
    for (int ky = -kN / 2 + 1; ky < kN / 2 - 1; ++ky) {
      if (std::abs(ky) <= kAxis || kx * kx + ky * ky < kFewestCycles * kFewestCycles) continue;
      // Relief is strong in long waves: each is weighed as its slope.
      const double p = power(kx, ky) * (kx * kx + ky * ky);
      if (p <= largest) continue;
      largest = p;
      best.kx = kx;
      best.ky = ky;
    }
  if (largest == 0) return;
  std::vector<double> around;
  double peak = 0;
  for (int dx = -6; dx <= 6; ++dx)
    for (int dy = -6; dy <= 6; ++dy) {
      const int kx = best.kx + dx, ky = best.ky + dy;
      if (kx < 1 || kx > kN / 2 || std::abs(ky) > kN / 2) continue;
      const bool inside = std::abs(dx) <= 1 && std::abs(dy) <= 1;
      if (inside) peak += power(kx, ky);
      // What is longer is stronger, and leaks.
      if (std::abs(dx) > 2 || std::abs(dy) > 2) around.push_back(power(kx, ky));
    }
  if (power(best.kx, best.ky) < kPeakRatio * median_of(std::move(around))) return;
  // A wave of amplitude a under both windows: a N^2 / 8 at its peak, and 1.5 times the power in each direction.
  best.amplitude = 8 * std::sqrt(peak) / (1.5 * kN * kN);
  if (best.amplitude >= scene_.in_unit(scene_.limits().ripple) && peaks_.size() < kMostPeaks) peaks_.push_back(best);
}

void ObliqueRipples::judge() {
  // Cells that were repeated or rounded make patterns of their own.
  if (std::any_of(scene_.findings().begin(), scene_.findings().end(),
                  [](const Finding& f) { return f.code == "repeated" || f.code == "terraces"; }))
    return;
  // The mark of a sensor is the same in several windows; in one alone it may be ploughed land.
  std::vector<const Peak*> most;
  for (const Peak& p : peaks_) {
    std::vector<const Peak*> same;
    for (const Peak& q : peaks_)
      if (std::abs(p.kx - q.kx) <= 1 && std::abs(p.ky - q.ky) <= 1) same.push_back(&q);
    if (same.size() > most.size()) most = std::move(same);
  }
  const std::int64_t wanted = std::max({std::int64_t{2}, std::min(kFewestWindows, windows_), windows_ / 100});
  if (static_cast<std::int64_t>(most.size()) < wanted) return;
  double amplitude = 0, kx = 0, ky = 0;
  for (const Peak* p : most) {
    amplitude = std::max(amplitude, p->amplitude);
    kx += p->kx;
    ky += p->ky;
  }
  kx /= static_cast<double>(most.size());
  ky /= static_cast<double>(most.size());
  // The way across the crests, clockwise from grid north; rows run south.
  double bearing = std::atan2(kx, -ky) * 180 / std::numbers::pi;
  if (bearing >= 180) bearing -= 180;
  Finding& f = scene_.add(
      "ripple", Severity::Warning,
      fmt::format("a regular ripple across {:.0f} degrees, every {:.1f} cells, up to {:.3f} {} either way, in {} of {} "
                  "windows of 128 x 128 cells",
                  bearing, static_cast<double>(kN) / std::hypot(kx, ky), amplitude, scene_.unit(), most.size(),
                  windows_),
      "the mark of a sensor or of resampling: get another copy, or smooth across it", amplitude);
  for (const Peak* p : most)
    if (f.place.size() < kMostPlaces) f.place.push_back(scene_.place_of(p->at));
}

}  // namespace katoptra
