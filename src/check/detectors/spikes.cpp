// Spikes and pits of up to 3 x 3 cells.
#include "spikes.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>

#include "base/clones.hpp"
#include "check/least_squares.hpp"
#include "check/moments.hpp"
#include "detector.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kMostSpikes = 2000;
constexpr std::int64_t kSegment = 256;

struct Spike {
  std::int64_t col = 0, row = 0;
  double off = 0, usual = 0;
};

bool larger(const Spike& a, const Spike& b) {
  return std::abs(a.off) != std::abs(b.off) ? std::abs(a.off) > std::abs(b.off)
                                            : std::pair(a.row, a.col) < std::pair(b.row, b.col);
}

struct Part {
  std::vector<Spike> spikes;
  ValueSketch residuals{0, 9};
  std::int64_t standing_off = 0;

  template <class Fields>
  void fields(Fields& f) {
    f(spikes, residuals, standing_off);
  }
};

// How far each cell stands off the middle of its second neighbours, along the row or across it, whichever is less: a
// ridge or an edge stands off on one way only. NaN where neither can be told.
KATOPTRA_CLONES void departures(const float* __restrict up, const float* __restrict here, const float* __restrict down,
                                std::int32_t cols, float* __restrict out) {
  for (std::int32_t c = 2; c < cols - 2; ++c) {
    const float z = here[c], a = std::abs(z - (here[c - 2] + here[c + 2]) * 0.5f),
                b = std::abs(z - (up[c] + down[c]) * 0.5f);
    const float ab = b < a ? b : a;
    out[c] = a == a ? (b == b ? ab : a) : b;
  }
}

// The mean of what is known, in eight lanes joined in order; NaN when nothing is.
KATOPTRA_CLONES float mean_known(const float* __restrict z, std::int32_t n) {
  float sum[8] = {}, known[8] = {};
  std::int32_t c = 0;
  for (; c + 8 <= n; c += 8)
    for (std::int32_t k = 0; k < 8; ++k) {
      const float v = z[c + k];
      sum[k] += v == v ? v : 0.0f;
      known[k] += v == v ? 1.0f : 0.0f;
    }
  for (; c < n; ++c) {
    sum[0] += z[c] == z[c] ? z[c] : 0.0f;
    known[0] += z[c] == z[c] ? 1.0f : 0.0f;
  }
  float s = 0, m = 0;
  for (std::int32_t k = 0; k < 8; ++k) {
    s += sum[k];
    m += known[k];
  }
  return m > 0 ? s / m : std::nanf("");
}

}  // namespace

namespace {

constexpr std::size_t kRing = 40;
using Terms = std::array<double, LeastSquares::kMost>;

// The cells of the ring, their terms of a quadratic, and what turns 40 heights into its coefficients.
struct Ring {
  std::array<std::int8_t, kRing> x{}, y{};
  std::array<Terms, kRing> terms{};
  std::array<std::array<double, kRing>, LeastSquares::kMost> inverse{};

  Ring() {
    std::size_t n = 0;
    for (int j = -3; j <= 3; ++j)
      for (int i = -3; i <= 3; ++i) {
        if (std::max(std::abs(i), std::abs(j)) < 2) continue;
        x[n] = static_cast<std::int8_t>(i);
        y[n] = static_cast<std::int8_t>(j);
        const double u = i, v = j;
        terms[n++] = {1, u, v, u * u, u * v, v * v};
      }
    for (std::size_t k = 0; k < kRing; ++k) {
      LeastSquares fit(6);
      for (std::size_t i = 0; i < kRing; ++i) fit.add(terms[i], i == k ? 1 : 0);
      fit.solve();
      for (std::size_t t = 0; t < 6; ++t) inverse[t][k] = fit.value(t);
    }
  }
};

const Ring& ring() {
  static const Ring r;
  return r;
}

struct Quadratic {
  Terms x{};
  std::array<double, kRing> left{};  // of the known cells
  double usual = 0;

  void look(const std::array<double, kRing>& z, const std::array<std::size_t, kRing>& known, std::size_t n) {
    std::array<double, kRing> sizes{};
    for (std::size_t i = 0; i < n; ++i) {
      const Terms& t = ring().terms[known[i]];
      left[i] = z[i] - x[0] - x[1] * t[1] - x[2] * t[2] - x[3] * t[3] - x[4] * t[4] - x[5] * t[5];
      sizes[i] = std::abs(left[i]);
    }
    const auto middle = sizes.begin() + static_cast<std::ptrdiff_t>(n / 2);
    std::nth_element(sizes.begin(), middle, sizes.begin() + static_cast<std::ptrdiff_t>(n));
    usual = kNmadFactor * *middle;
  }
};

bool fitted(const std::array<double, kRing>& z, const std::array<std::size_t, kRing>& known, std::size_t n,
            double limit, Quadratic& q) {
  if (n == kRing && limit == std::numeric_limits<double>::infinity()) {
    for (std::size_t t = 0; t < 6; ++t) {
      double sum = 0;
      for (std::size_t i = 0; i < kRing; ++i) sum += ring().inverse[t][i] * z[i];
      q.x[t] = sum;
    }
    return true;
  }
  LeastSquares fit(6);
  std::size_t used = 0;
  for (std::size_t i = 0; i < n; ++i)
    if (std::abs(q.left[i]) <= limit) {
      fit.add(ring().terms[known[i]], z[i]);
      ++used;
    }
  if (used < 10 || !fit.solve()) return false;
  for (std::size_t t = 0; t < 6; ++t) q.x[t] = fit.value(t);
  return true;
}

}  // namespace

std::optional<RingFit> fit_ring(const Block& b, std::int64_t c, std::int64_t r, double least, double times) {
  const std::int64_t cols = b.window().cols, rows = b.window().rows;
  const auto here = static_cast<double>(b.at(c, r));
  if (std::isnan(here)) return std::nullopt;
  std::array<double, kRing> z{};
  std::array<std::size_t, kRing> known{};
  std::size_t n = 0;
  for (std::size_t k = 0; k < kRing; ++k) {
    const std::int64_t i = c + ring().x[k], j = r + ring().y[k];
    if (i < 0 || j < 0 || i >= cols || j >= rows || std::isnan(b.at(i, j))) continue;
    z[n] = static_cast<double>(b.at(i, j));
    known[n++] = k;
  }
  if (n < 12) return std::nullopt;
  Quadratic q;
  if (!fitted(z, known, n, std::numeric_limits<double>::infinity(), q)) return std::nullopt;
  if (std::abs(here - q.x[0]) < 0.5 * least) return std::nullopt;
  q.look(z, known, n);
  // Far from a spike already; leaving out what stands off would not make it one.
  if (std::abs(here - q.x[0]) < 0.5 * std::max(least, times * q.usual)) return std::nullopt;
  // Fitted twice more: what stands off (another spike, the edge of this one) has no say.
  for (int round = 0; round < 2 && fitted(z, known, n, 3 * q.usual, q); ++round) q.look(z, known, n);
  const RingFit f{here - q.x[0], q.usual};
  if (std::abs(f.off) < least || std::abs(f.off) < times * f.usual) return std::nullopt;
  return f;
}

namespace {

class SpikeDetector final : public DetectorOf<Part> {
 public:
  explicit SpikeDetector(Scene& scene)
      : DetectorOf(scene), least_(static_cast<float>(scene.in_unit(scene.limits().spike))) {}

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<Part>();
    const std::int64_t cols = band.cols;
    if (cols < 5) return part;
    std::vector<float> off(static_cast<std::size_t>(cols), kVoid);
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const std::int64_t in = r + kHalo;
      departures(b.row(in - 2), b.row(in), b.row(in + 2), static_cast<std::int32_t>(cols), off.data());
      rim(b, in, off);
      for (std::int64_t c = 0; c < cols; c += kSegment)
        segment(b, in, band.row + r, c, std::min(cols, c + kSegment), off.data(), *part);
    }
    keep_largest(part->spikes);
    return part;
  }

  void merge(void* p) override {
    Part& part = *static_cast<Part*>(p);
    residuals_.add(part.residuals);
    standing_off_ += part.standing_off;
    spikes_.insert(spikes_.end(), part.spikes.begin(), part.spikes.end());
    keep_largest(spikes_);
  }

  void judge() override {
    const double usual = tells_of_noise(standing_off_) ? kNmadFactor * residuals_.quantile(0.5) : 0;
    const double times = scene_.limits().spike_times;
    std::erase_if(spikes_, [&](const Spike& s) { return std::abs(s.off) < times * std::max(s.usual, usual); });
    if (spikes_.empty()) return;
    std::sort(spikes_.begin(), spikes_.end(), larger);
    const Spike& s = spikes_[0];
    const auto n = static_cast<std::int64_t>(spikes_.size());
    const Point p = scene_.frame().centre(static_cast<double>(s.col), static_cast<double>(s.row));
    const bool pits = std::all_of(spikes_.begin(), spikes_.end(), [](const Spike& k) { return k.off < 0; });
    const bool high = std::all_of(spikes_.begin(), spikes_.end(), [](const Spike& k) { return k.off > 0; });
    Finding& f =
        scene_.add("spike", Severity::Failure,
                   fmt::format("{} far off the ground around {}{}; the worst by {:+.2f} {} at {} (its value is {:.2f})",
                               n == 1 ? "1 cell stands" : fmt::format("{} cells stand", n), n == 1 ? "it" : "them",
                               pits   ? " (pits)"
                               : high ? ""
                                      : " (spikes and pits)",
                               s.off, scene_.unit(), scene_.at(p), static_cast<double>(scene_.grid().at(s.col, s.row))),
                   "make such cells voids (correct --spikes) and fill them", s.off);
    for (std::size_t i = 0; i < std::min(spikes_.size(), kMostPlaces); ++i)
      f.place.push_back(scene_.place_of({spikes_[i].col, spikes_[i].row, 1, 1}));
  }

 private:
  // The first and last two columns have neighbours on one side only: rows alone tell.
  static void rim(const Block& b, std::int64_t r, std::vector<float>& off) {
    const std::int64_t cols = b.window().cols;
    for (std::int64_t c : {std::int64_t{0}, std::int64_t{1}, cols - 2, cols - 1})
      off[static_cast<std::size_t>(c)] = std::abs(b.row(r)[c] - (b.row(r - 2)[c] + b.row(r + 2)[c]) * 0.5f);
  }

  void segment(const Block& b, std::int64_t in, std::int64_t row, std::int64_t first, std::int64_t last,
               const float* off, Part& part) const {
    const float mean = mean_known(off + first, static_cast<std::int32_t>(last - first));
    if (mean != mean) return;
    const float limit = std::max(0.5f * least_, 4 * mean);
    for (std::int64_t c = first + (row & 7); c < last; c += 8)
      if (off[c] > 0) {  // the still sea tells nothing of the noise on land
        ++part.standing_off;
        part.residuals.add(off[c]);
      }
    for (std::int64_t c = first; c < last; ++c)
      if (off[c] > limit && stands_out(off, c, b.window().cols)) examine(b, c, in, row, part);
  }

  // Beyond what its surroundings along the row do, a few cells away: on rough ground most cells end here.
  static bool stands_out(const float* off, std::int64_t c, std::int64_t cols) {
    float sum = 0, n = 0;
    for (std::int64_t d = 4; d <= 8; ++d)
      for (const std::int64_t k : {c - d, c + d}) {
        if (k < 0 || k >= cols || off[k] != off[k]) continue;
        sum += off[k];
        n += 1;
      }
    return n < 4 || off[c] * n > 3 * sum;
  }

  void examine(const Block& b, std::int64_t c, std::int64_t in, std::int64_t row, Part& part) const {
    const auto f = fit_ring(b, c, in, static_cast<double>(least_), scene_.limits().spike_times);
    if (f) part.spikes.push_back({c, row, f->off, f->usual});
  }

  static void keep_largest(std::vector<Spike>& s) {
    if (s.size() <= kMostSpikes) return;
    std::sort(s.begin(), s.end(), larger);
    s.resize(kMostSpikes);
  }

  float least_;
  std::vector<Spike> spikes_;
  ValueSketch residuals_{0, 9};
  std::int64_t standing_off_ = 0;
};

}  // namespace

std::unique_ptr<Detector> make_spike_detector(Scene& scene) { return std::make_unique<SpikeDetector>(scene); }

}  // namespace katoptra
