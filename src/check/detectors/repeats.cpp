// The mark of nearest-neighbour resampling: lines that repeat the one before. And heights kept in coarse steps.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "check/moments.hpp"
#include "detector.hpp"

namespace katoptra {
namespace {

// Groups of neighbours along a line, and how often neighbours in one must differ for it to tell anything: short ones,
// so that a turn between the lattices does not hide the mark, and long ones for cells that were much larger.
struct Group {
  std::int64_t cells;
  int changes;
};
constexpr Group kGroups[] = {{8, 5}, {16, 3}};
static_assert(kGroups[0].cells <= kHalo);

constexpr std::int64_t kCounted = 16;

struct Counts {
  std::int64_t groups = 0, repeats = 0;
  double share() const { return groups ? static_cast<double>(repeats) / static_cast<double>(groups) : 0; }
};
struct RepeatPart {
  Counts rows[2], columns[2];  // by group
};

// A group that equals that of the line before although its cells differ among themselves is no accident. Groups begin
// at fixed places, so that bands do not matter.
class RepeatDetector final : public DetectorOf<RepeatPart> {
 public:
  using DetectorOf::DetectorOf;

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<RepeatPart>();
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const float* here = b.row(r + kHalo);
      const std::int64_t width = b.window().cols;
      judge_row<0>(here, width, band.row + r, band.cols, part->rows[0]);
      judge_row<1>(here, width, band.row + r, band.cols, part->rows[1]);
      // Down the columns short groups do: cells much larger repeat rows, too.
      if ((band.row + r) % kGroups[0].cells == 0)
        for (std::int64_t c = 1; c < band.cols; ++c)
          judge_group(here + c, here + c - 1, width, kGroups[0], c % kCounted == 0, part->columns[0]);
    }
    return part;
  }

  void merge(void* p) override {
    const auto& part = *static_cast<const RepeatPart*>(p);
    for (int k = 0; k < 2; ++k)
      for (auto [to, from] : {std::pair{&all_.rows[k], &part.rows[k]}, std::pair{&all_.columns[k], &part.columns[k]}}) {
        to->groups += from->groups;
        to->repeats += from->repeats;
      }
  }

  void judge() override {
    report("rows", all_.rows);
    report("columns", all_.columns);
  }

 private:
  template <std::size_t K>
  static void judge_row(const float* here, std::int64_t width, std::int64_t row, std::int64_t cols, Counts& counts) {
    constexpr std::int64_t kCells = kGroups[K].cells;
    std::int64_t number = row;
    for (std::int64_t c = 0; c + kCells <= cols; c += kCells, ++number)
      judge_group(here + c, here + c - width, 1, kGroups[K], number % kCounted == 0, counts);
  }

  // Most groups differ in their first cell: of those one in kCounted is looked at, to know how many there are.
  static void judge_group(const float* z, const float* before, std::int64_t step, const Group& group, bool counted,
                          Counts& counts) {
    if (*z != *before && !counted) return;
    bool equal = true, known = true;
    int changes = 0;
    for (std::int64_t i = 0; i < group.cells; ++i) {
      const float a = z[i * step], b = before[i * step];
      known = known && a == a && b == b;
      equal = equal && a == b;
      changes += i > 0 && a != z[(i - 1) * step];
    }
    if (!known || changes < group.changes) return;
    counts.groups += counted ? kCounted : 0;
    counts.repeats += equal;
  }

  void report(const char* what, const Counts* counts) {
    const Counts& most = counts[0].share() > counts[1].share() ? counts[0] : counts[1];
    // Where nearly everything repeats, the ground is a plane along that line.
    if (most.repeats < 20 || most.share() < scene_.limits().repeated || most.share() > 0.9) return;
    Finding& f = scene_.add("repeated", Severity::Failure,
                            fmt::format("{:.0f} % of its {} repeat the one before: the mark of nearest-neighbour "
                                        "resampling, which a hillshade shows as stripes",
                                        100 * most.share(), what),
                            "resample the original with cubic or bilinear");
    f.measure = most.share();
  }

  RepeatPart all_;
};

// ---- terraces

struct NextCells {
  float difference;  // from the next cell
  bool sloping;      // the cell eight further on differs
};
constexpr std::int64_t kWantedSamples = 200'000;

class TerraceDetector final : public DetectorOf<std::vector<NextCells>> {
 public:
  explicit TerraceDetector(Scene& scene) : DetectorOf(scene) {
    const std::int64_t cells = scene.frame().cols() * scene.frame().rows();
    stride_ = std::max<std::int64_t>(1, cells / kWantedSamples) | 1;
  }

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<std::vector<NextCells>>();
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const std::int64_t first = (band.row + r) * band.cols;
      const float* z = b.row(r + kHalo);
      for (std::int64_t c = (stride_ - first % stride_) % stride_; c + 8 < band.cols; c += stride_) {
        if (std::isnan(z[c]) || std::isnan(z[c + 1]) || std::isnan(z[c + 8])) continue;
        part->push_back({std::abs(z[c + 1] - z[c]), z[c] != z[c + 8]});
      }
    }
    return part;
  }

  void merge(void* p) override {
    const auto& part = *static_cast<const std::vector<NextCells>*>(p);
    samples_.insert(samples_.end(), part.begin(), part.end());
  }

  void judge() override {
    std::vector<double> steps;
    double sloping = 0, equal = 0;
    for (const NextCells& n : samples_) {
      if (!n.sloping) continue;
      ++sloping;
      if (n.difference == 0)
        ++equal;
      else
        steps.push_back(static_cast<double>(n.difference));
    }
    if (steps.size() < 200 || equal < scene_.limits().terraces * sloping) return;
    std::sort(steps.begin(), steps.end());
    const double step = quantile_of(steps, 0.1);
    double whole = 0;
    for (double d : steps) {
      const double k = d / step;
      whole += std::abs(k - std::round(k)) < 0.02;
    }
    if (whole < 0.98 * static_cast<double>(steps.size())) return;
    scene_.add(
        "terraces", Severity::Warning,
        fmt::format("heights are kept in steps of {:.4g} {} although neighbours differ by less: {:.0f} % of neighbours "
                    "on sloping ground are equal, and slope, contours and hillshade will show terraces",
                    step, scene_.unit(), 100 * equal / sloping),
        "get it with finer heights, or smooth before deriving", step);
  }

 private:
  std::int64_t stride_ = 1;
  std::vector<NextCells> samples_;
};

}  // namespace

std::unique_ptr<Detector> make_repeat_detector(Scene& scene) { return std::make_unique<RepeatDetector>(scene); }
std::unique_ptr<Detector> make_terrace_detector(Scene& scene) { return std::make_unique<TerraceDetector>(scene); }

}  // namespace katoptra
