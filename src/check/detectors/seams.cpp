// The height step along each border between two sources.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <set>

#include "check/moments.hpp"
#include "detector.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kMostSteps = 200'000;
constexpr std::int64_t kSquare = 32;  // places are told in squares of so many cells

using Pair = std::pair<std::uint32_t, std::uint32_t>;
struct Steps {
  std::vector<float> values;
  std::int64_t along_x = 0, along_y = 0;                    // borders that run east, and north
  std::set<std::pair<std::int64_t, std::int64_t>> patches;  // row, column

  template <class Fields>
  void fields(Fields& f) {
    f(values, along_x, along_y, patches);
  }
};
using Part = std::map<Pair, Steps>;

class SeamDetector final : public DetectorOf<Part> {
 public:
  using DetectorOf::DetectorOf;

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<Part>();
    const std::int64_t cols = band.cols;
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const std::int64_t in = r + kHalo;
      const float *up = b.row(in - 1), *here = b.row(in), *down = b.row(in + 1), *below = b.row(in + 2);
      const Origin *o = b.origin_row(in), *under = b.origin_row(in + 1);
      for (std::int64_t c = 0; c < cols; ++c) {
        if (c >= 1 && c + 2 < cols && source_of(o[c]) != source_of(o[c + 1]))
          step({here[c - 1], here[c], here[c + 1], here[c + 2]}, o[c], o[c + 1], c, band.row + r, false, *part);
        if (source_of(o[c]) != source_of(under[c]))
          step({up[c], here[c], down[c], below[c]}, o[c], under[c], c, band.row + r, true, *part);
      }
    }
    return part;
  }

  void merge(void* p) override {
    for (const auto& [pair, steps] : *static_cast<const Part*>(p)) {
      Steps& s = all_[pair];
      const std::size_t room = kMostSteps - std::min(kMostSteps, s.values.size());
      s.values.insert(s.values.end(), steps.values.begin(),
                      steps.values.begin() + static_cast<std::ptrdiff_t>(std::min(room, steps.values.size())));
      s.along_x += steps.along_x;
      s.along_y += steps.along_y;
      s.patches.insert(steps.patches.begin(), steps.patches.end());
    }
  }

  void judge() override {
    for (const auto& [pair, steps] : all_) report(pair, steps);
  }

 private:
  // The step between two cells of different sources, less the slope on both sides of it.
  static void step(const std::array<float, 4>& z, Origin a, Origin b, std::int64_t c, std::int64_t row, bool along_x,
                   Part& part) {
    std::uint32_t sa = source_of(a), sb = source_of(b);
    if (sa == 0 || sb == 0 || how_of(a) == How::Filled || how_of(b) == How::Filled) return;
    float d = (z[2] - z[1]) - ((z[1] - z[0]) + (z[3] - z[2])) / 2;
    if (std::isnan(d)) return;
    if (sa > sb) {
      std::swap(sa, sb);
      d = -d;
    }
    Steps& s = part[{sa, sb}];
    if (s.values.size() < kMostSteps) s.values.push_back(d);
    ++(along_x ? s.along_x : s.along_y);
    s.patches.insert({row / kSquare, c / kSquare});
  }

  void report(Pair pair, const Steps& steps) {
    const auto& sources = scene_.grid().info().sources;
    const auto n = static_cast<double>(steps.values.size());
    if (n < 20 || pair.first > sources.size() || pair.second > sources.size()) return;
    const std::vector<double> values(steps.values.begin(), steps.values.end());
    const double median = median_of(values), error = 1.2533 * robust_deviation(values, median) / std::sqrt(n);
    if (std::abs(median) < scene_.in_unit(scene_.limits().seam) || std::abs(median) < 4 * error) return;
    const GroundSpacing s = ground_spacing(scene_.frame());
    const double length =
        static_cast<double>(steps.along_x) * s.x.metres() + static_cast<double>(steps.along_y) * s.y.metres();
    Finding& f = scene_.add("seam", Severity::Failure,
                            fmt::format("a step of {:+.2f} {} (median of {} cells, {:.0f} m of border) from {} to {}",
                                        median, scene_.unit(), steps.values.size(), length,
                                        sources[pair.first - 1].name, sources[pair.second - 1].name),
                            "correct the offset of one of them, or feather the seam", median);
    for (const auto& [row, col] : steps.patches) {
      if (f.place.size() == kMostPlaces) break;
      f.place.push_back(
          scene_.place_of(Window{col * kSquare, row * kSquare, kSquare, kSquare}.intersected(scene_.frame().window())));
    }
  }

  Part all_;
};

}  // namespace

std::unique_ptr<Detector> make_seam_detector(Scene& scene) { return std::make_unique<SeamDetector>(scene); }

}  // namespace katoptra
