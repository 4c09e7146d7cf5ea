// Stripes, straight steps and ripples along rows and columns.
//
// What is watched is how far a row stands off the middle of its two neighbours, averaged over 256 columns (and the same
// of columns over 256 rows). A stripe of height h gives -h/2, h, -h/2 there; a step gives -h/2, h/2; a ripple gives a
// peak in the spectrum. The sums are whole numbers (units of 2^-20 m), so bands may end anywhere.
#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <numbers>
#include <optional>
#include <set>

#include "base/clones.hpp"
#include "check/moments.hpp"
#include "detector.hpp"
#include "fourier.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kTile = 256;
constexpr std::int64_t kOverlap = 8;  // lines that two judged stretches share
constexpr double kFixed = 1048576;
constexpr double kDeviations = 8;
// Seven standard deviations of what noise makes of the two estimates, in standard errors of one line.
constexpr double kStripeErrors = 8, kStepErrors = 15;
constexpr std::int64_t kWidestBand = 64;

struct Sum {
  std::int32_t value = 0, squares = 0, count = 0;
  void add(const Sum& o) {
    value += o.value;
    squares += o.squares;
    count += o.count;
  }
};

// Sums of many cells side by side, for kernels.
struct Sums {
  explicit Sums(std::size_t n) : values(n), squares(n), counts(n) {}
  std::vector<std::int32_t> values, squares, counts;
  Sum at(std::size_t i) const { return {values[i], squares[i], counts[i]}; }
  void clear() {
    for (auto* v : {&values, &squares, &counts}) std::fill(v->begin(), v->end(), 0);
  }
};

struct TileColumns {
  std::int64_t tile = 0;
  std::vector<Sum> sums;  // of each column over the rows of the tile that lie in the band

  template <class Fields>
  void fields(Fields& f) {
    f(tile, sums);
  }
};

struct Part {
  std::vector<std::vector<Sum>> rows;  // of each row, by segments of 256 columns
  std::vector<TileColumns> columns;

  template <class Fields>
  void fields(Fields& f) {
    f(rows, columns);
  }
};

// Departures from the middle of two neighbours, in fixed point, at most a metre either way so that a spike makes no
// stripe of its row.
KATOPTRA_CLONES void add_departures(const float* __restrict before, const float* __restrict here,
                                    const float* __restrict after, std::int32_t n, float scale,
                                    std::int32_t* __restrict sums, std::int32_t* __restrict squares,
                                    std::int32_t* __restrict counts) {
  for (std::int32_t c = 0; c < n; ++c) {
    const float d = (here[c] - (before[c] + after[c]) * 0.5f) * scale;
    const bool known = d == d;
    const float at_most = d > 1048576.0f ? 1048576.0f : d, clamped = at_most < -1048576.0f ? -1048576.0f : at_most;
    const std::int32_t whole = known ? static_cast<std::int32_t>(clamped) : 0, coarse = whole / 1024;
    sums[c] += whole;
    squares[c] += coarse * coarse;
    counts[c] += known ? 1 : 0;
  }
}

// Something along one line within one segment.
struct Hit {
  bool column = false, step = false;
  std::int64_t line = 0, segment = 0;  // a step lies between line and line + 1
  double height = 0;                   // metres
};

struct Ripple {
  bool column = false;
  std::int64_t first = 0, segment = 0;
  int cycles = 0;  // in kTile lines
  double amplitude = 0;
};

// ---- one sequence of lines

struct Mean {
  double value = std::nan(""), error = 0;
};

class Sequence {
 public:
  // Means in metres, NaN where too little is known, and the standard errors of them.
  explicit Sequence(const std::vector<Mean>& means) {
    for (const Mean& m : means) {
      t_.push_back(m.value);
      error_.push_back(m.error);
    }
  }

  // Lines [from, to) of the sequence that stand out.
  void judge(std::size_t from, std::size_t to, double stripe, double step,
             const std::function<void(Hit)>& found) const {
    const std::size_t n = t_.size();
    std::vector<double> stripes(n, std::nan("")), steps(n, std::nan(""));
    for (std::size_t i = 1; i + 1 < n; ++i) stripes[i] = (t_[i] - (t_[i - 1] + t_[i + 1]) / 2) * 2 / 3;
    for (std::size_t i = 1; i + 2 < n; ++i)
      steps[i] = (t_[i + 1] - t_[i] - ((t_[i] - t_[i - 1]) + (t_[i + 2] - t_[i + 1])) / 2) * 2 / 3;
    // First what stands out at all, then of which kind it is, then whether that kind is told from this height on.
    const double least = std::min(stripe, step), least_stripe = limit(stripes, least), least_step = limit(steps, least);
    std::vector<std::pair<double, Hit>> all;  // how much of the sequence each explains
    for (std::size_t i = 1; i + 2 < n; ++i) {
      // Where little of a stretch is land, the rest tells nothing of the noise on it: each line's own error counts,
      // too.
      const double error = std::max({error_[i - 1], error_[i], error_[i + 1], error_[i + 2]});
      if (std::abs(stripes[i]) >= std::max(least_stripe, kStripeErrors * error)) {
        const double fit = t_[i] - (t_[i - 1] + t_[i + 1]) / 2;
        all.push_back({fit * fit / 1.5, {.step = false, .line = static_cast<std::int64_t>(i), .height = stripes[i]}});
      }
      if (std::abs(steps[i]) >= std::max(least_step, kStepErrors * error)) {
        const double fit = (t_[i + 1] - t_[i]) / 2;
        all.push_back({fit * fit / 0.5, {.step = true, .line = static_cast<std::int64_t>(i), .height = steps[i]}});
      }
    }
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<std::int64_t> taken;
    for (const auto& [explains, hit] : all) {
      // A flaw leaves echoes two lines to either side.
      const bool echo = std::any_of(taken.begin(), taken.end(),
                                    [&, line = hit.line](std::int64_t t) { return std::abs(t - line) <= 2; });
      if (echo) continue;
      taken.push_back(hit.line);
      if (std::abs(hit.height) < (hit.step ? step : stripe)) continue;
      if (hit.line >= static_cast<std::int64_t>(from) && hit.line < static_cast<std::int64_t>(to)) found(hit);
    }
  }

  // The strongest regular ripple: a peak of the spectrum above all its neighbours.
  std::optional<Ripple> ripple(std::size_t from, double least) const {
    std::array<std::complex<double>, kTile> x{};
    std::size_t unknown = 0;
    for (std::size_t i = 0; i < kTile; ++i) {
      const double v = from + i < t_.size() ? t_[from + i] : std::nan("");
      if (std::isnan(v)) {
        if (++unknown > kTile / 32) return std::nullopt;
        continue;
      }
      x[i] = v * hann_window<kTile>()[i];
    }
    fourier_transform<kTile>(x.data());
    std::array<double, kTile / 2 + 1> power{};
    for (std::size_t k = 0; k < power.size(); ++k) power[k] = std::norm(x[k]);
    std::optional<Ripple> best;
    for (std::size_t k = 12; k < power.size(); ++k) {
      // A half of a Hann window's weight is in the peak.
      const double slope = 1 - std::cos(2 * std::numbers::pi * static_cast<double>(k) / kTile),
                   amplitude = (k == kTile / 2 ? 1 : 2) * std::sqrt(power[k]) / (0.5 * kTile) / slope;
      if (amplitude < least || (best && best->amplitude >= amplitude)) continue;
      std::vector<double> around;
      for (std::size_t j = k < 20 ? 4 : k - 16; j < std::min(power.size(), k + 17); ++j)
        if (j + 3 < k || j > k + 3) around.push_back(power[j]);
      if (power[k] < 60 * median_of(std::move(around))) continue;
      best = {.cycles = static_cast<int>(k), .amplitude = amplitude};
    }
    return best;
  }

 private:
  static double limit(const std::vector<double>& values, double least) {
    std::vector<double> known;
    for (double v : values)
      if (!std::isnan(v)) known.push_back(v);
    if (known.size() < 12) return INFINITY;
    return std::max(least, kDeviations * robust_deviation(known, median_of(known)));
  }

  std::vector<double> t_, error_;
};

Mean mean_of(const Sum& s, std::int64_t length) {
  // The mean of a few cells wanders far without any stripe.
  if (s.count < 32 || 2 * s.count < length) return {};
  const double n = s.count, mean = s.value / n / kFixed, square = s.squares / n / (1024.0 * 1024.0);
  return {mean, std::sqrt(std::max(0.0, square - mean * mean) / n)};
}

// ---- the detector

// The same flaw over several segments.
struct Line {
  double height = 0;
  std::set<std::int64_t> segments;
};
using Lines = std::map<std::int64_t, Line>;

class LineDetector final : public DetectorOf<Part> {
 public:
  explicit LineDetector(Scene& scene)
      : DetectorOf(scene),
        cols_(scene.frame().cols()),
        rows_(scene.frame().rows()),
        segments_(std::max<std::int64_t>(1, (cols_ + kTile / 2) / kTile)),
        history_(static_cast<std::size_t>(segments_)),
        columns_(static_cast<std::size_t>(cols_)) {}

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<Part>();
    Sums sums(static_cast<std::size_t>(cols_)), columns(static_cast<std::size_t>(cols_));
    const float scale = static_cast<float>(scene_.metre() * kFixed);
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const std::int64_t in = r + kHalo, tile = (band.row + r) / kTile;
      sums.clear();
      add_departures(b.row(in - 1), b.row(in), b.row(in + 1), static_cast<std::int32_t>(cols_), scale,
                     sums.values.data(), sums.squares.data(), sums.counts.data());
      part->rows.push_back(by_segment(sums));
      if (part->columns.empty() || part->columns.back().tile != tile) {
        close(part.get(), columns);
        part->columns.push_back({tile, {}});
      }
      if (cols_ > 2)
        add_departures(b.row(in), b.row(in) + 1, b.row(in) + 2, static_cast<std::int32_t>(cols_ - 2), scale,
                       columns.values.data() + 1, columns.squares.data() + 1, columns.counts.data() + 1);
    }
    close(part.get(), columns);
    return part;
  }

  void merge(void* p) override {
    const Part& part = *static_cast<const Part*>(p);
    for (const TileColumns& t : part.columns) {
      if (t.tile != tile_) judge_columns();
      tile_ = t.tile;
      for (std::size_t c = 0; c < columns_.size(); ++c) columns_[c].add(t.sums[c]);
    }
    for (const auto& row : part.rows) {
      for (std::size_t s = 0; s < row.size(); ++s) {
        const std::int64_t length = segment_end(static_cast<std::int64_t>(s)) - static_cast<std::int64_t>(s) * kTile;
        history_[s].push_back(mean_of(row[s], length));
      }
      ++row_;
      if (row_ == next_judged() || row_ == rows_) judge_rows(row_ == rows_);
    }
  }

  void judge() override {
    judge_columns();
    for (const bool column : {false, true}) {
      Lines stripes = gathered(column, false), steps = gathered(column, true);
      wide_stripes(steps, stripes);
      report_stripes(stripes, column);
      report_steps(steps, column);
      report_ripples(column);
    }
  }

 private:
  std::int64_t segment_end(std::int64_t s) const { return s + 1 == segments_ ? cols_ : (s + 1) * kTile; }

  std::vector<Sum> by_segment(const Sums& sums) const {
    std::vector<Sum> out(static_cast<std::size_t>(segments_));
    for (std::int64_t s = 0; s < segments_; ++s)
      for (std::int64_t c = s * kTile; c < segment_end(s); ++c)
        out[static_cast<std::size_t>(s)].add(sums.at(static_cast<std::size_t>(c)));
    return out;
  }

  static void close(Part* part, Sums& sums) {
    if (part->columns.empty()) return;
    auto& to = part->columns.back().sums;
    for (std::size_t c = 0; c < sums.values.size(); ++c) to.push_back(sums.at(c));
    sums.clear();
  }

  // Rows are judged kTile at a time, with kOverlap rows before and after that belong to the neighbours.
  // What would leave less than a whole stretch is judged with it.
  std::int64_t next_judged() const { return rows_ - judged_ < 2 * kTile ? rows_ : judged_ + kTile + kOverlap; }

  void judge_rows(bool last) {
    const std::int64_t end = last ? rows_ : row_ - kOverlap;
    if (end <= judged_) return;
    for (std::int64_t s = 0; s < segments_; ++s) {
      auto& means = history_[static_cast<std::size_t>(s)];
      look_along(means, begin_, judged_, end, s, false);
      if (!last) means.erase(means.begin(), means.end() - 2 * kOverlap);
    }
    begin_ = last ? begin_ : row_ - 2 * kOverlap;
    judged_ = end;
  }

  void judge_columns() {
    if (tile_ < 0) return;
    const std::int64_t height = std::min(kTile, rows_ - tile_ * kTile);
    for (std::int64_t first = 0; first < cols_; first += kTile) {
      const std::int64_t end = first + 2 * kTile > cols_ ? cols_ : first + kTile,
                         begin = std::max<std::int64_t>(0, first - kOverlap), stop = std::min(cols_, end + kOverlap);
      std::vector<Mean> means;
      for (std::int64_t c = begin; c < stop; ++c)
        means.push_back(mean_of(columns_[static_cast<std::size_t>(c)], height));
      look_along(means, begin, first, end, tile_, true);
      if (end == cols_) break;
    }
    std::fill(columns_.begin(), columns_.end(), Sum{});
    tile_ = -1;
  }

  // Means of lines from `begin` on; those in [first, end) are this stretch's own.
  void look_along(const std::vector<Mean>& means, std::int64_t begin, std::int64_t first, std::int64_t end,
                  std::int64_t segment, bool column) {
    const Sequence q(means);
    const std::size_t before = hits_.size();
    q.judge(static_cast<std::size_t>(first - begin), static_cast<std::size_t>(end - begin),
            scene_.limits().stripe.metres(), scene_.limits().step.metres(), [&](Hit h) {
              h.column = column;
              h.line += begin;
              h.segment = segment;
              if (hits_.size() < 200'000) hits_.push_back(h);
            });
    if (hits_.size() != before) return;  // stripes at even distances are a spectrum of their own
    for (std::int64_t at = first; at + kTile <= end; at += std::max<std::int64_t>(kTile, end - kTile - at)) {
      const auto r = q.ripple(static_cast<std::size_t>(at - begin), scene_.limits().ripple.metres());
      if (r && ripples_.size() < 200'000) ripples_.push_back({column, at, segment, r->cycles, r->amplitude});
    }
  }

  Lines gathered(bool column, bool step) const {
    Lines lines;
    for (const Hit& h : hits_) {
      if (h.column != column || h.step != step) continue;
      Line& l = lines[h.line];
      if (std::abs(h.height) > std::abs(l.height)) l.height = h.height;
      l.segments.insert(h.segment);
    }
    return lines;
  }

  // A step up and one down again within some lines, over the same stretch, are one broad stripe.
  static void wide_stripes(Lines& steps, Lines& stripes) {
    for (auto a = steps.begin(); a != steps.end();) {
      auto b = std::next(a);
      for (; b != steps.end() && b->first - a->first <= kWidestBand; ++b) {
        const double up = a->second.height, down = b->second.height;
        if (up * down < 0 && std::abs(up + down) < 0.4 * std::abs(up) &&
            std::any_of(a->second.segments.begin(), a->second.segments.end(),
                        [&](std::int64_t s) { return b->second.segments.count(s) > 0; }))
          break;
      }
      if (b == steps.end() || b->first - a->first > kWidestBand) {
        ++a;
        continue;
      }
      for (std::int64_t i = a->first + 1; i <= b->first; ++i) stripes[i] = {a->second.height, a->second.segments};
      steps.erase(b);
      a = steps.erase(a);
    }
  }

  Window window_of(bool column, std::int64_t line, const Line& l, std::int64_t thick) const {
    const std::int64_t first = *l.segments.begin() * kTile;
    if (column) {
      const std::int64_t last = std::min(rows_, (*l.segments.rbegin() + 1) * kTile);
      return {line, first, thick, last - first};
    }
    return {first, line, segment_end(*l.segments.rbegin()) - first, thick};
  }

  static std::string period_of(const Lines& lines) {
    if (lines.size() < 3) return {};
    std::map<std::int64_t, std::size_t> gaps;
    for (auto a = lines.begin(), b = std::next(a); b != lines.end(); ++a, ++b) ++gaps[b->first - a->first];
    const auto most = std::max_element(gaps.begin(), gaps.end(), [](auto& a, auto& b) { return a.second < b.second; });
    if (most->first == 1 || 2 * most->second < lines.size() - 1) return {};
    return fmt::format(", every {}", most->first);
  }

  static double largest(const Lines& lines) {
    double off = 0;
    for (const auto& [line, l] : lines)
      if (std::abs(l.height) > std::abs(off)) off = l.height;
    return off;
  }

  void places(Finding& f, const Lines& lines, bool column, std::int64_t thick) {
    for (const auto& [line, l] : lines) {
      if (f.place.size() == kMostPlaces) return;
      f.place.push_back(scene_.place_of(window_of(column, line, l, thick)));
    }
  }

  std::string where(const Lines& lines, bool column) const {
    const Window w = window_of(column, lines.begin()->first, lines.begin()->second, 1);
    const Point p = scene_.frame().sub(w).bounds().centre();
    const bool degrees = scene_.frame().crs().is_geographic();
    return fmt::format("{} = {:.{}f}", column ? "x" : "y", column ? p.x : p.y, degrees ? 5 : 1);
  }

  void report_stripes(const Lines& lines, bool column) {
    if (lines.empty()) return;
    const auto n = static_cast<std::int64_t>(lines.size());
    const double off = largest(lines) / scene_.metre();
    Finding& f =
        scene_.add("stripe", Severity::Failure,
                   fmt::format("{} stand{} off {} neighbours by up to {:+.2f} {}, the first at {}{}",
                               counted(n, column ? "column" : "row"), n == 1 ? "s" : "", n == 1 ? "its" : "their", off,
                               scene_.unit(), where(lines, column), period_of(lines)),
                   "get another copy, or make such lines voids and fill them", off);
    places(f, lines, column, 1);
  }

  void report_steps(const Lines& found, bool column) {
    Lines lines = found;
    // Between two sources it is a seam, which is told by itself.
    std::erase_if(lines, [&](const auto& l) {
      const Window w = window_of(column, l.first, l.second, 2);
      return std::any_of(scene_.findings().begin(), scene_.findings().end(), [&](const Finding& f) {
        return f.code == "seam" && std::any_of(f.place.begin(), f.place.end(), [&](const Polygon& p) {
                 return bounds_of({p}).intersects(scene_.frame().sub(w).bounds());
               });
      });
    });
    if (lines.empty()) return;
    const double off = largest(lines) / scene_.metre();
    const auto n = static_cast<std::int64_t>(lines.size());
    Finding& f = scene_.add(
        "step", Severity::Failure,
        fmt::format("{} along {}: the ground jumps by up to {:+.2f} {}, the first at {}{}", counted(n, "straight step"),
                    column ? "columns" : "rows", off, scene_.unit(), where(lines, column), period_of(lines)),
        "sheets or flight strips were joined here: correct the offset of one and feather the seam", off);
    places(f, lines, column, 2);
  }

  void report_ripples(bool column) {
    // One stretch alone may be ploughed land, and of thousands some will look alike; the mark of a sensor is on several
    // and on one in a hundred, or on all there are.
    std::map<int, std::vector<const Ripple*>> by_period;
    for (const Ripple& r : ripples_)
      if (r.column == column) by_period[r.cycles].push_back(&r);
    const auto most = std::max_element(by_period.begin(), by_period.end(),
                                       [](const auto& a, const auto& b) { return a.second.size() < b.second.size(); });
    if (most == by_period.end()) return;
    std::vector<const Ripple*> all = most->second;
    for (int beside : {most->first - 1, most->first + 1})
      if (const auto it = by_period.find(beside); it != by_period.end())
        all.insert(all.end(), it->second.begin(), it->second.end());
    const std::int64_t stretches = std::max<std::int64_t>(1, (column ? cols_ : rows_) / kTile) *
                                   std::max<std::int64_t>(1, (column ? rows_ : cols_) / kTile);
    if (static_cast<std::int64_t>(all.size()) < std::min(std::max<std::int64_t>(2, stretches / 100), stretches)) return;
    double amplitude = 0;
    for (const Ripple* r : all) amplitude = std::max(amplitude, r->amplitude);
    Finding& f = scene_.add(
        "ripple", Severity::Warning,
        fmt::format("a regular ripple across {}, every {:.1f}, up to {:.3f} {} either way, in {}",
                    column ? "columns" : "rows", static_cast<double>(kTile) / most->first, amplitude / scene_.metre(),
                    scene_.unit(), counted(static_cast<std::int64_t>(all.size()), "block") + " of 256 x 256 cells"),
        "the mark of a sensor or of resampling: get another copy, or smooth across it", amplitude / scene_.metre());
    for (const Ripple* r : all) {
      if (f.place.size() == kMostPlaces) return;
      const Window w = column ? Window{r->first, r->segment * kTile, kTile, kTile}
                              : Window{r->segment * kTile, r->first, kTile, kTile};
      f.place.push_back(scene_.place_of(w.intersected(scene_.frame().window())));
    }
  }

  std::int64_t cols_, rows_, segments_;
  // Row means of each segment from row begin_ on; rows before judged_ are done.
  std::vector<std::vector<Mean>> history_;
  std::int64_t begin_ = 0, judged_ = 0, row_ = 0, tile_ = -1;
  std::vector<Sum> columns_;
  std::vector<Hit> hits_;
  std::vector<Ripple> ripples_;
};

}  // namespace

std::unique_ptr<Detector> make_line_detector(Scene& scene) { return std::make_unique<LineDetector>(scene); }

}  // namespace katoptra
