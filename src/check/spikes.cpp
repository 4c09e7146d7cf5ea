// Spikes and pits of up to 3 x 3 cells.
#include "spikes.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>

#include "base/clones.hpp"
#include "detector.hpp"
#include "least_squares.hpp"
#include "moments.hpp"

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

}  // namespace

std::optional<RingFit> fit_ring(const Block& b, std::int64_t c, std::int64_t r) {
  const std::int64_t cols = b.window().cols, rows = b.window().rows;
  auto z = [&](std::int64_t i, std::int64_t j) {
    return i < 0 || j < 0 || i >= cols || j >= rows ? std::nan("") : static_cast<double>(b.at(i, j));
  };
  if (std::isnan(z(c, r))) return std::nullopt;
  struct Cell {
    std::array<double, LeastSquares::kMost> row;
    double height;
  };
  std::array<Cell, 40> ring{};
  std::size_t n = 0;
  for (std::int64_t j = -3; j <= 3; ++j)
    for (std::int64_t i = -3; i <= 3; ++i) {
      const double h = z(c + i, r + j), x = static_cast<double>(i), y = static_cast<double>(j);
      if (std::max(std::abs(i), std::abs(j)) >= 2 && !std::isnan(h)) ring[n++] = {{1, x, y, x * x, x * y, y * y}, h};
    }
  if (n < 12) return std::nullopt;
  // Fitted twice: what stands off the first time (another spike, the edge of this one) has no say the second time.
  std::array<double, 40> left{};
  std::array<double, LeastSquares::kMost> x{};
  double limit = std::numeric_limits<double>::infinity(), usual = 0;
  for (int round = 0; round < 3; ++round) {
    LeastSquares fit(6);
    std::size_t used = 0;
    for (std::size_t i = 0; i < n; ++i)
      if (round == 0 || std::abs(left[i]) <= limit) {
        fit.add(ring[i].row, ring[i].height);
        ++used;
      }
    if (used < 10 || !fit.solve()) break;
    std::array<double, 40> sizes{};
    for (std::size_t k = 0; k < 6; ++k) x[k] = fit.value(k);
    for (std::size_t i = 0; i < n; ++i) {
      left[i] = ring[i].height;
      for (std::size_t k = 0; k < 6; ++k) left[i] -= x[k] * ring[i].row[k];
      sizes[i] = std::abs(left[i]);
    }
    const auto middle = sizes.begin() + static_cast<std::ptrdiff_t>(n / 2);
    std::nth_element(sizes.begin(), middle, sizes.begin() + static_cast<std::ptrdiff_t>(n));
    usual = kNmadFactor * *middle;
    limit = 3 * usual;
  }
  return RingFit{z(c, r) - x[0], usual};
}

namespace {

class SpikeDetector final : public Detector {
 public:
  explicit SpikeDetector(Scene& scene)
      : Detector(scene), least_(static_cast<float>(scene.in_unit(scene.limits().spike))) {}

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
    spikes_.insert(spikes_.end(), part.spikes.begin(), part.spikes.end());
    keep_largest(spikes_);
  }

  void judge() override {
    const double usual = kNmadFactor * residuals_.quantile(0.5), times = scene_.limits().spike_times;
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
    double sum = 0, n = 0;
    for (std::int64_t c = first; c < last; ++c) {
      const bool known = off[c] == off[c];
      sum += known ? static_cast<double>(off[c]) : 0.0;
      n += known ? 1.0 : 0.0;
    }
    if (n == 0) return;
    const float limit = std::max(0.5f * least_, static_cast<float>(4 * sum / n));
    for (std::int64_t c = first + (row & 7); c < last; c += 8)
      if (off[c] > 0) part.residuals.add(off[c]);  // the still sea tells nothing of the noise on land
    for (std::int64_t c = first; c < last; ++c)
      if (off[c] > limit) examine(b, c, in, row, part);
  }

  void examine(const Block& b, std::int64_t c, std::int64_t in, std::int64_t row, Part& part) const {
    const auto f = fit_ring(b, c, in);
    if (!f || std::abs(f->off) < static_cast<double>(least_) ||
        std::abs(f->off) < scene_.limits().spike_times * f->usual)
      return;
    part.spikes.push_back({c, row, f->off, f->usual});
  }

  static void keep_largest(std::vector<Spike>& s) {
    if (s.size() <= kMostSpikes) return;
    std::sort(s.begin(), s.end(), larger);
    s.resize(kMostSpikes);
  }

  float least_;
  std::vector<Spike> spikes_;
  ValueSketch residuals_{0, 9};
};

}  // namespace

std::unique_ptr<Detector> make_spike_detector(Scene& scene) { return std::make_unique<SpikeDetector>(scene); }

}  // namespace katoptra
