// Regular ripples at any angle: a peak in the spectrum of a window of 128 x 128 cells, far above all around it.
#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <numbers>

#include "check/moments.hpp"
#include "fourier.hpp"
#include "oblique.hpp"

namespace katoptra {
namespace {

constexpr auto kN = static_cast<int>(kHalfEdge);
constexpr int kFewestCycles = 7;     // in kN cells: longer waves are relief
constexpr double kRayRatio = 20;     // times waves of its direction that are a little longer or shorter
constexpr std::size_t kSummits = 8;  // of a window that are looked at
constexpr double kPeakRatio = 60;    // times the median around
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

// Power of one half of the plane, kx >= 0; the other mirrors it.
class Power {
 public:
  explicit Power(const Spectrum& x) : x_(x) {}
  static bool holds(int kx, int ky) { return std::abs(kx) < kN / 2 && std::abs(ky) < kN / 2; }
  double at(int kx, int ky) const {
    if (kx < 0) return at(-kx, -ky);
    return std::norm(x_[static_cast<std::size_t>((ky + kN) % kN) * kHalfEdge + static_cast<std::size_t>(kx)]);
  }
  // Relief is strong in long waves: each is weighed as its slope, those shorter than four cells alike.
  double weighed(int kx, int ky) const { return at(kx, ky) * std::min(kx * kx + ky * ky, kN * kN / 16); }
  bool is_summit(int kx, int ky) const {
    for (int dx = -1; dx <= 1; ++dx)
      for (int dy = -1; dy <= 1; ++dy)
        if ((dx != 0 || dy != 0) && at(kx + dx, ky + dy) > at(kx, ky)) return false;
    return true;
  }

  // Far above the median around it and above shorter waves of its direction, and above the next longer: a scarp is
  // strong in all of those.
  bool stands_out(int kx, int ky) const {
    std::vector<double> around;
    for (int dx = -6; dx <= 6; ++dx)
      for (int dy = -6; dy <= 6; ++dy)
        if ((std::abs(dx) > 2 || std::abs(dy) > 2) && holds(kx + dx, ky + dy)) around.push_back(at(kx + dx, ky + dy));
    if (at(kx, ky) < kPeakRatio * median_of(std::move(around))) return false;
    const double k = std::hypot(kx, ky);
    for (const auto& [d, times] : {std::pair{-3, 2.0}, {3, kRayRatio}, {4, kRayRatio}, {5, kRayRatio}}) {
      const auto x = static_cast<int>(std::lround(kx * (1 + d / k))),
                 y = static_cast<int>(std::lround(ky * (1 + d / k)));
      if (holds(x, y) && at(kx, ky) < times * at(x, y)) return false;
    }
    return true;
  }

  // Of a wave that has its summit there: a N^2 / 8 under both windows, and 1.5 times the power in each direction.
  double amplitude(int kx, int ky) const {
    double peak = 0;
    for (int dx = -1; dx <= 1; ++dx)
      for (int dy = -1; dy <= 1; ++dy) peak += at(kx + dx, ky + dy);
    return 8 * std::sqrt(peak) / (1.5 * kN * kN);
  }

 private:
  const Spectrum& x_;
};

}  // namespace

void ObliqueRipples::look(const SampledWindow& w) {
  const Spectrum x = spectrum_of(w.middle);
  if (x.empty()) return;
  ++windows_;
  const Power power(x);
  std::vector<std::pair<double, Peak>> summits;
  for (int kx = 0; kx < kN / 2 - 1; ++kx)
    for (int ky = kx == 0 ? 1 : -kN / 2 + 2; ky < kN / 2 - 1; ++ky) {
      if (kx * kx + ky * ky < kFewestCycles * kFewestCycles) continue;
      const double weight = power.weighed(kx, ky);
      if (summits.size() == kSummits && weight <= summits.back().first) continue;
      if (!power.is_summit(kx, ky)) continue;
      summits.emplace_back(weight, Peak{kx, ky, 0, w.at});
      std::stable_sort(summits.begin(), summits.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
      if (summits.size() > kSummits) summits.pop_back();
    }
  for (auto& [weight, peak] : summits) {
    if (!power.stands_out(peak.kx, peak.ky)) continue;
    peak.amplitude = power.amplitude(peak.kx, peak.ky);
    if (peak.amplitude < scene_.in_unit(scene_.limits().ripple) || peaks_.size() >= kMostPeaks) continue;
    peaks_.push_back(peak);
    return;
  }
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
  // One along rows or columns was found in longer means, if it is one.
  const bool known = std::any_of(scene_.findings().begin(), scene_.findings().end(),
                                 [](const Finding& f) { return f.code == "ripple"; });
  if (known && std::min(std::abs(kx), std::abs(ky)) < 1) return;
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
