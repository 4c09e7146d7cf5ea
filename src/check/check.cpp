#include "katoptra/check/check.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <utility>

#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/terrain/sample.hpp"

namespace katoptra {
namespace {

double median_of(std::vector<double> v) {
  if (v.empty()) return std::nan("");
  const auto mid = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
  std::nth_element(v.begin(), mid, v.end());
  if (v.size() % 2) return *mid;
  return (*mid + *std::max_element(v.begin(), mid)) / 2;
}

// 1.4826 times the median absolute deviation: a standard deviation that a few outliers do not move.
double robust_deviation(const std::vector<double>& v, double median) {
  std::vector<double> d;
  for (double x : v) d.push_back(std::abs(x - median));
  return 1.4826 * median_of(std::move(d));
}

struct Spike {
  std::int64_t col = 0, row = 0;
  double off = 0;
};

struct Steps {
  std::vector<double> values;
  Bounds cells;  // columns and rows
};

constexpr std::size_t kMostSpikes = 2000, kMostSteps = 200000;
constexpr std::int64_t kSegments = 16;
constexpr std::int64_t kGroup = 16, kHalo = kGroup;

// What one band adds to the whole.
struct Gathered {
  std::vector<Spike> spikes;
  ValueSketch residuals;
  std::map<std::pair<std::uint32_t, std::uint32_t>, Steps> seams;
  // Mean second difference of rows, by segments of columns, and of columns summed over rows.
  std::vector<double> row_stripe;
  std::vector<double> col_sum, col_count;
  // Groups of 16 neighbours along a line, and how many of them repeat the line before.
  std::int64_t row_groups = 0, row_repeats = 0, col_groups = 0, col_repeats = 0;
};

class Scan {
 public:
  Scan(const Grid& grid, double metre, bool seams) : grid_(grid), metre_(metre), seams_(seams) {
    const std::int64_t cols = grid.frame().cols();
    segments_ = std::clamp<std::int64_t>(cols / 256, 1, kSegments);
  }
  std::int64_t segments() const { return segments_; }
  std::int64_t segment_begin(std::int64_t s) const { return s * grid_.frame().cols() / segments_; }

  std::shared_ptr<void> band(const Block& b, const Window& band) const {
    auto g = std::make_shared<Gathered>();
    const auto cols = static_cast<std::size_t>(band.cols);
    g->col_sum.assign(cols, 0);
    g->col_count.assign(cols, 0);
    for (std::int64_t r = 0; r < band.rows; ++r) {
      const std::int64_t in = r + kHalo;
      spikes(b, in, band.row + r, *g);
      stripes(b, in, *g);
      repeats(b, in, band.row + r, *g);
      if (seams_) seams(b, in, band.row + r, *g);
    }
    return g;
  }

 private:
  void spikes(const Block& b, std::int64_t r, std::int64_t row, Gathered& g) const {
    const float *up = b.row(r - 1), *here = b.row(r), *down = b.row(r + 1);
    const std::int64_t cols = b.window().cols;
    for (std::int64_t c = 0; c < cols; ++c) {
      const float z = here[c];
      if (std::isnan(z)) continue;
      float nb[8];
      int n = 0;
      for (std::int64_t k = std::max<std::int64_t>(0, c - 1); k <= std::min(cols - 1, c + 1); ++k) {
        if (!std::isnan(up[k])) nb[n++] = up[k];
        if (!std::isnan(down[k])) nb[n++] = down[k];
        if (k != c && !std::isnan(here[k])) nb[n++] = here[k];
      }
      if (n < 5) continue;
      // Only a cell beyond all its neighbours can be a spike: most cells are done here.
      float low = nb[0], high = nb[0];
      for (int i = 1; i < n; ++i) {
        low = std::min(low, nb[i]);
        high = std::max(high, nb[i]);
      }
      const bool sampled = ((c + row) & 7) == 0;
      if (z <= high && z >= low && !sampled) continue;
      std::nth_element(nb, nb + n / 2, nb + n);
      const double off = static_cast<double>(z - nb[n / 2]), range = static_cast<double>(high - low);
      if (sampled) g.residuals.add(static_cast<float>(std::abs(off)));
      if (std::abs(off) > kSpikeRange * range && std::abs(off) * metre_ > 0.5 && g.spikes.size() < kMostSpikes)
        g.spikes.push_back({c, row, off});
    }
  }

  void stripes(const Block& b, std::int64_t r, Gathered& g) const {
    const float *up = b.row(r - 1), *here = b.row(r), *down = b.row(r + 1);
    const std::int64_t cols = b.window().cols;
    for (std::int64_t s = 0; s < segments_; ++s) {
      double sum = 0;
      std::int64_t n = 0;
      for (std::int64_t c = segment_begin(s); c < segment_begin(s + 1); ++c) {
        const double d = clamped(here[c] - (up[c] + down[c]) / 2);
        if (!std::isnan(d)) {
          sum += d;
          ++n;
        }
      }
      // The mean of a few cells wanders far without any stripe.
      const bool enough = n >= 32 && 2 * n >= segment_begin(s + 1) - segment_begin(s);
      g.row_stripe.push_back(enough ? sum / static_cast<double>(n) : std::nan(""));
    }
    for (std::int64_t c = 1; c < cols; ++c) {
      const auto i = static_cast<std::size_t>(c);
      if (std::isnan(here[c]) || std::isnan(here[c - 1])) continue;
      if (c + 1 >= cols || std::isnan(here[c + 1])) continue;
      g.col_sum[i] += clamped(here[c] - (here[c - 1] + here[c + 1]) / 2);
      ++g.col_count[i];
    }
  }

  // Sixteen neighbours that all equal those of the line before although they differ among themselves are no accident.
  // Short groups, so that a small rotation between the lattices does not hide it; fixed places, so that bands do not
  // matter.
  void repeats(const Block& b, std::int64_t r, std::int64_t row, Gathered& g) const {
    const std::int64_t cols = b.window().cols;
    auto judge = [](auto value, auto before, std::int64_t& groups, std::int64_t& repeated) {
      int changes = 0;
      bool equal = true;
      for (std::int64_t i = 0; i < kGroup; ++i) {
        const float z = value(i), y = before(i);
        if (std::isnan(z) || std::isnan(y)) return;
        equal = equal && z == y;
        changes += i > 0 && z != value(i - 1);
      }
      if (changes < 3) return;
      ++groups;
      repeated += equal;
    };
    const float *here = b.row(r), *up = b.row(r - 1);
    for (std::int64_t c = 0; c + kGroup <= cols; c += kGroup)
      judge([&](std::int64_t i) { return here[c + i]; }, [&](std::int64_t i) { return up[c + i]; }, g.row_groups,
            g.row_repeats);
    if (row % kGroup == 0)
      for (std::int64_t c = 1; c < cols; ++c)
        judge([&](std::int64_t i) { return b.row(r + i)[c]; }, [&](std::int64_t i) { return b.row(r + i)[c - 1]; },
              g.col_groups, g.col_repeats);
  }

  // A single spike must not make a stripe of its row: no cell counts for more than a metre.
  double clamped(float d) const {
    return std::isnan(d) ? static_cast<double>(d) : std::clamp(static_cast<double>(d), -1 / metre_, 1 / metre_);
  }

  // The step between two cells of different sources, less the slope on both sides of it.
  void seams(const Block& b, std::int64_t r, std::int64_t row, Gathered& g) const {
    const std::int64_t cols = b.window().cols;
    for (std::int64_t c = 0; c < cols; ++c) {
      if (c >= 1 && c + 2 < cols)
        step({b.row(r)[c - 1], b.row(r)[c], b.row(r)[c + 1], b.row(r)[c + 2]}, b.origin_row(r)[c],
             b.origin_row(r)[c + 1], c, row, g);
      step({b.row(r - 1)[c], b.row(r)[c], b.row(r + 1)[c], b.row(r + 2)[c]}, b.origin_row(r)[c], b.origin_row(r + 1)[c],
           c, row, g);
    }
  }

  void step(const std::array<float, 4>& z, Origin a, Origin b, std::int64_t c, std::int64_t row, Gathered& g) const {
    std::uint32_t sa = source_of(a), sb = source_of(b);
    if (sa == sb || sa == 0 || sb == 0 || how_of(a) == How::Filled || how_of(b) == How::Filled) return;
    double d =
        static_cast<double>(z[2] - z[1]) - (static_cast<double>(z[1] - z[0]) + static_cast<double>(z[3] - z[2])) / 2;
    if (std::isnan(d)) return;
    if (sa > sb) {
      std::swap(sa, sb);
      d = -d;
    }
    Steps& s = g.seams[{sa, sb}];
    if (s.values.size() < kMostSteps) s.values.push_back(d);
    s.cells.include(Point{static_cast<double>(c), static_cast<double>(row)});
  }

  const Grid& grid_;
  double metre_;
  bool seams_;
  std::int64_t segments_;
};

void merge(Gathered& all, const Gathered& g) {
  all.residuals.add(g.residuals);
  all.spikes.insert(all.spikes.end(), g.spikes.begin(), g.spikes.end());
  if (all.spikes.size() > kMostSpikes) {
    std::stable_sort(all.spikes.begin(), all.spikes.end(),
                     [](const Spike& a, const Spike& b) { return std::abs(a.off) > std::abs(b.off); });
    all.spikes.resize(kMostSpikes);
  }
  for (const auto& [key, steps] : g.seams) {
    Steps& s = all.seams[key];
    const std::size_t room = kMostSteps - std::min(kMostSteps, s.values.size());
    s.values.insert(s.values.end(), steps.values.begin(),
                    steps.values.begin() + static_cast<std::ptrdiff_t>(std::min(room, steps.values.size())));
    s.cells.include(steps.cells);
  }
  all.row_stripe.insert(all.row_stripe.end(), g.row_stripe.begin(), g.row_stripe.end());
  all.row_groups += g.row_groups;
  all.row_repeats += g.row_repeats;
  all.col_groups += g.col_groups;
  all.col_repeats += g.col_repeats;
  if (all.col_sum.empty()) {
    all.col_sum = g.col_sum;
    all.col_count = g.col_count;
    return;
  }
  for (std::size_t i = 0; i < g.col_sum.size(); ++i) {
    all.col_sum[i] += g.col_sum[i];
    all.col_count[i] += g.col_count[i];
  }
}

class Judge {
 public:
  Judge(const Grid& grid, const CheckOptions& options, CheckReport& report)
      : grid_(grid),
        options_(options),
        report_(report),
        unit_(symbol(grid.quantity().unit)),
        metre_(metres_per(grid.quantity().unit)) {}

  void run() {
    heights_ = grid_.quantity().kind == QuantityKind::Height;
    references();
    report_.statistics = statistics(grid_, options_.run);
    voids();
    if (options_.area) coverage();
    if (heights_ && report_.statistics.cells > report_.statistics.voids) surface();
  }

 private:
  Finding& add(const std::string& code, Severity severity, std::string message, std::string advice) {
    report_.findings.push_back({.code = code,
                                .severity = severity,
                                .file = grid_.info().name,
                                .message = std::move(message),
                                .advice = std::move(advice),
                                .measure = {},
                                .unit = {},
                                .place = {},
                                .crs = grid_.frame().crs()});
    return report_.findings.back();
  }

  // A window of cells as a polygon.
  MultiPolygon place_of(const Window& w) const { return {to_polygon(grid_.frame().sub(w).bounds())}; }
  std::string at(Point p) const {
    const bool degrees = grid_.frame().crs().is_geographic();
    return degrees ? fmt::format("{:.5f}, {:.5f}", p.x, p.y) : fmt::format("{:.1f}, {:.1f}", p.x, p.y);
  }

  void references() {
    const Crs& crs = grid_.frame().crs();
    const GroundSpacing s = ground_spacing(grid_.frame());
    if (!crs)
      add("no-crs", Severity::Failure, "has no coordinate reference system: nobody can say where it lies",
          "find out from its source and tell it with --crs");
    if (heights_ && !grid_.quantity().heights.known())
      add("no-heights", Severity::Warning, "does not say from where its heights are counted",
          "find out, and tell it with --heights");
    if (heights_ && !grid_.quantity().unit_known)
      add("no-unit", Severity::Warning, "does not say in which unit its heights are: metres are taken",
          "tell it with --unit");
    if (crs.is_geographic())
      add("degrees", Severity::Warning,
          fmt::format("is in degrees: a cell is {:.2f} m wide and {:.2f} m high on the ground here", s.x.metres(),
                      s.y.metres()),
          "reproject before measuring lengths, areas or volumes outside Katoptra");
    if (crs.is_mercator()) {
      Finding& f =
          add("mercator", Severity::Warning,
              fmt::format(
                  "is in a Mercator projection: lengths in its coordinates are {:.3f} times those on the ground here",
                  grid_.frame().cell().y * crs.unit_factor() / s.y.metres()),
              "reproject before measuring");
      f.measure = grid_.frame().cell().y * crs.unit_factor() / s.y.metres();
    }
  }

  void voids() {
    if (report_.statistics.voids == 0) return;
    const VoidMap map = find_voids(grid_, options_.run);
    std::vector<VoidRegion> inside;
    std::int64_t cells = 0, edge = 0;
    for (const VoidRegion& v : map.regions) {
      if (v.at_edge) {
        edge += v.cells;
        continue;
      }
      inside.push_back(v);
      cells += v.cells;
    }
    if (edge > 0) add("edge-voids", Severity::Note, fmt::format("{} void cells reach the edge of the grid", edge), "");
    if (inside.empty()) return;
    std::stable_sort(inside.begin(), inside.end(),
                     [](const VoidRegion& a, const VoidRegion& b) { return a.cells > b.cells; });
    const Window& w = inside[0].box;
    Finding& f = add(
        "voids", Severity::Failure,
        fmt::format("{} void{} inside with {} cells; the largest has {} cells at {}", inside.size(),
                    inside.size() == 1 ? "" : "s", cells, inside[0].cells, at(grid_.frame().sub(w).bounds().centre())),
        "close them with fill, or join a second source");
    f.measure = static_cast<double>(cells);
    f.unit = "cells";
    for (std::size_t i = 0; i < std::min<std::size_t>(inside.size(), 100); ++i)
      f.place.push_back(place_of(inside[i].box)[0]);
  }

  void coverage() {
    if (!grid_.frame().crs()) return;
    const Area here = options_.area->in(grid_.frame().crs());
    const Frame& frame = grid_.frame();
    const Window window = frame.window_of_centres(here.bounds());
    if (window.empty()) return;
    const CellMask mask(here.shape(), frame.sub(window));
    std::int64_t wanted = 0;
    for (std::int64_t r = 0; r < window.rows; ++r)
      for (auto [a, b] : mask.spans(r)) wanted += b - a;
    std::int64_t known = 0;
    const Window common = window.intersected(frame.window());
    if (!common.empty())
      for_each_band(cut(grid_, common), Planes::Values, options_.run, [&](const Block& band) {
        for (std::int64_t r = 0; r < band.window().rows; ++r)
          for (auto [a, b] : mask.spans(common.row - window.row + band.window().row + r))
            for (std::int64_t c = std::max(a, common.col - window.col);
                 c < std::min(b, common.col - window.col + common.cols); ++c)
              known += !std::isnan(band.row(r)[c - (common.col - window.col)]);
      });
    const double fraction = wanted ? static_cast<double>(known) / static_cast<double>(wanted) : 0;
    Finding& f = add("coverage", known < wanted ? Severity::Failure : Severity::Note,
                     fmt::format("{:.2f} % of the area has values ({} of {} cells)", 100 * fraction, known, wanted),
                     known < wanted ? "add tiles for the missing part, or fill its voids" : "");
    f.measure = fraction;
    if (known < wanted) f.place = overlay(here.shape(), {to_polygon(frame.bounds())}, Overlay::Difference);
  }

  void surface() {
    const bool seams = grid_.info().sources.size() > 1;
    const Scan scan(grid_, metre_, seams);
    Gathered all;
    map_bands(
        grid_, seams ? Planes::ValuesAndOrigin : Planes::Values, kHalo, options_.run,
        [&](Block b, const Window& band) { return scan.band(b, band); },
        [&](std::shared_ptr<void> g) { merge(all, *static_cast<Gathered*>(g.get())); });
    spikes(all);
    row_stripes(all, scan);
    column_stripes(all);
    repeats(all);
    for (const auto& [key, steps] : all.seams) seam(key.first, key.second, steps);
  }

  void spikes(Gathered& all) {
    const double usual = all.residuals.quantile(0.5);
    std::erase_if(all.spikes, [&](const Spike& s) { return std::abs(s.off) < kSpikeDeviations * usual; });
    if (all.spikes.empty()) return;
    std::stable_sort(all.spikes.begin(), all.spikes.end(),
                     [](const Spike& a, const Spike& b) { return std::abs(a.off) > std::abs(b.off); });
    const Spike& s = all.spikes[0];
    const Point p = grid_.frame().centre(static_cast<double>(s.col), static_cast<double>(s.row));
    Finding& f =
        add("spike", Severity::Failure,
            fmt::format("{} cell{} stand{} far off {} neighbours; the worst by {:+.2f} {} at {} (its value is {:.2f})",
                        all.spikes.size(), all.spikes.size() == 1 ? "" : "s", all.spikes.size() == 1 ? "s" : "",
                        all.spikes.size() == 1 ? "its" : "their", s.off, unit_, at(p),
                        static_cast<double>(grid_.at(s.col, s.row))),
            "make such cells voids and fill them");
    f.measure = s.off;
    f.unit = unit_;
    for (std::size_t i = 0; i < std::min<std::size_t>(all.spikes.size(), 100); ++i)
      f.place.push_back(place_of({all.spikes[i].col, all.spikes[i].row, 1, 1})[0]);
  }

  struct Stripes {
    std::vector<std::int64_t> at;
    double largest = 0;
  };

  // Lines whose mean second difference stands out. A stripe pulls that of both its neighbours the other way by half.
  Stripes outstanding(const std::vector<double>& means) const {
    std::vector<double> known;
    for (double m : means)
      if (!std::isnan(m)) known.push_back(m);
    Stripes s;
    if (known.size() < 16) return s;
    const double median = median_of(known), limit = std::max(8 * robust_deviation(known, median), 0.02 / metre_);
    for (std::size_t i = 0; i < means.size(); ++i) {
      const double off = means[i] - median;
      if (std::isnan(off) || std::abs(off) < limit) continue;
      auto beyond = [&](std::size_t k) { return k < means.size() && std::abs(means[k] - median) > std::abs(off); };
      if (beyond(i - 1) || beyond(i + 1)) continue;
      s.at.push_back(static_cast<std::int64_t>(i));
      if (std::abs(off) > std::abs(s.largest)) s.largest = off;
    }
    return s;
  }

  static std::string period_of(const std::vector<std::int64_t>& at) {
    if (at.size() < 3) return {};
    std::map<std::int64_t, std::size_t> gaps;
    for (std::size_t i = 1; i < at.size(); ++i) ++gaps[at[i] - at[i - 1]];
    const auto most = std::max_element(gaps.begin(), gaps.end(), [](auto& a, auto& b) { return a.second < b.second; });
    return 2 * most->second >= at.size() - 1 ? fmt::format(", every {}", most->first) : std::string();
  }

  void row_stripes(const Gathered& all, const Scan& scan) {
    const std::int64_t n = scan.segments();
    std::map<std::int64_t, double> rows;
    std::int64_t c0 = grid_.frame().cols(), c1 = 0;
    for (std::int64_t s = 0; s < n; ++s) {
      std::vector<double> means;
      for (std::size_t i = static_cast<std::size_t>(s); i < all.row_stripe.size(); i += static_cast<std::size_t>(n))
        means.push_back(all.row_stripe[i]);
      const Stripes found = outstanding(means);
      for (std::int64_t r : found.at) {
        double& off = rows[r];
        const double m = means[static_cast<std::size_t>(r)];
        if (std::abs(m) > std::abs(off)) off = m;
        c0 = std::min(c0, scan.segment_begin(s));
        c1 = std::max(c1, scan.segment_begin(s + 1));
      }
    }
    std::vector<std::int64_t> at;
    double largest = 0;
    for (auto& [r, off] : rows) {
      at.push_back(r);
      if (std::abs(off) > std::abs(largest)) largest = off;
    }
    striped("row", at, largest, [&](std::int64_t r) { return Window{c0, r, c1 - c0, 1}; });
  }

  void column_stripes(const Gathered& all) {
    std::vector<double> means;
    for (std::size_t i = 0; i < all.col_sum.size(); ++i)
      means.push_back(all.col_count[i] >= 32 ? all.col_sum[i] / all.col_count[i] : std::nan(""));
    const Stripes s = outstanding(means);
    striped("column", s.at, s.largest, [&](std::int64_t c) { return Window{c, 0, 1, grid_.frame().rows()}; });
  }

  template <class ToWindow>
  void striped(const std::string& what, const std::vector<std::int64_t>& at, double largest,
               const ToWindow& to_window) {
    if (at.empty()) return;
    const Window first = to_window(at[0]);
    const Point p = grid_.frame().sub(first).bounds().centre();
    Finding& f =
        add("stripe", Severity::Failure,
            fmt::format("{} {}{} stand{} off {} neighbours by up to {:+.2f} {}, the first at {} = {:.1f}{}", at.size(),
                        what, at.size() == 1 ? "" : "s", at.size() == 1 ? "s" : "", at.size() == 1 ? "its" : "their",
                        largest, unit_, what == "row" ? "y" : "x", what == "row" ? p.y : p.x, period_of(at)),
            "get another copy, or make such lines voids and fill them");
    f.measure = largest;
    f.unit = unit_;
    for (std::size_t i = 0; i < std::min<std::size_t>(at.size(), 100); ++i)
      f.place.push_back(place_of(to_window(at[i]))[0]);
  }

  void repeats(const Gathered& all) {
    auto report = [&](const char* what, std::int64_t repeated, std::int64_t groups) {
      const double share = groups ? static_cast<double>(repeated) / static_cast<double>(groups) : 0;
      // Where nearly everything repeats, the ground is a plane along that line.
      if (repeated < 20 || share < 0.02 || share > 0.9) return;
      Finding& f = add("repeated", Severity::Failure,
                       fmt::format("{:.0f} % of its {} repeat the one before: the mark of nearest-neighbour "
                                   "resampling, which a hillshade shows as stripes",
                                   100 * share, what),
                       "resample the original with cubic or bilinear");
      f.measure = share;
    };
    report("rows", all.row_repeats, all.row_groups);
    report("columns", all.col_repeats, all.col_groups);
  }

  void seam(std::uint32_t a, std::uint32_t b, const Steps& steps) {
    const auto n = static_cast<double>(steps.values.size());
    if (n < 20) return;
    const double median = median_of(steps.values),
                 error = 1.2533 * robust_deviation(steps.values, median) / std::sqrt(n);
    const auto& sources = grid_.info().sources;
    if (std::abs(median) * metre_ < kLeastStep || std::abs(median) < 4 * error || a > sources.size() ||
        b > sources.size())
      return;
    Finding& f = add("seam", Severity::Failure,
                     fmt::format("a step of {:+.2f} {} (median of {} cells) from {} to {}", median, unit_,
                                 steps.values.size(), sources[a - 1].name, sources[b - 1].name),
                     "correct the offset of one of them, or feather the seam");
    f.measure = median;
    f.unit = unit_;
    f.place = place_of({static_cast<std::int64_t>(steps.cells.west), static_cast<std::int64_t>(steps.cells.south),
                        static_cast<std::int64_t>(steps.cells.width()) + 1,
                        static_cast<std::int64_t>(steps.cells.height()) + 1});
  }

  const Grid& grid_;
  const CheckOptions& options_;
  CheckReport& report_;
  std::string unit_;
  double metre_;
  bool heights_ = false;
};

}  // namespace

const char* name_of(Severity s) {
  return s == Severity::Failure ? "failure" : s == Severity::Warning ? "warning" : "note";
}

bool CheckReport::failed() const {
  return std::any_of(findings.begin(), findings.end(),
                     [](const Finding& f) { return f.severity == Severity::Failure; });
}

CheckReport check(const Grid& grid, const CheckOptions& options) {
  CheckReport report;
  Judge(grid, options, report).run();
  std::stable_sort(report.findings.begin(), report.findings.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  return report;
}

namespace {

// Height differences of two grids where they overlap, first less second, in metres.
struct OverlapSample {
  std::vector<double> differences;
  Bounds common;  // in the CRS of the first
};

OverlapSample sample_overlap(const Grid& a, const Grid& b, const RunOptions& options) {
  OverlapSample out;
  const Bounds box = a.frame().bounds(),
               other = transformed(b.frame().bounds(), Transform(b.frame().crs(), a.frame().crs()));
  out.common = {std::max(box.west, other.west), std::max(box.south, other.south), std::min(box.east, other.east),
                std::min(box.north, other.north)};
  const CellSize cell = a.frame().cell();
  if (out.common.empty() || out.common.width() < 4 * cell.x || out.common.height() < 4 * cell.y) return out;
  const Window w = a.frame().window_of_centres(out.common).intersected(a.frame().window());
  std::vector<Point> here;
  const std::int64_t step_c = std::max<std::int64_t>(1, w.cols / 250), step_r = std::max<std::int64_t>(1, w.rows / 250);
  for (std::int64_t r = w.row; r < w.row + w.rows; r += step_r)
    for (std::int64_t c = w.col; c < w.col + w.cols; c += step_c)
      here.push_back(a.frame().centre(static_cast<double>(c), static_cast<double>(r)));
  std::vector<Point> there = here;
  Transform(a.frame().crs(), b.frame().crs()).forward(there);
  const std::vector<double> za = sample(a, here, options), zb = sample(b, there, options);
  const double ua = metres_per(a.quantity().unit), ub = metres_per(b.quantity().unit);
  for (std::size_t p = 0; p < here.size(); ++p)
    if (!std::isnan(za[p]) && !std::isnan(zb[p])) out.differences.push_back(za[p] * ua - zb[p] * ub);
  return out;
}

// Tiles of one survey share its offset and are judged together.
std::string group_of(const Grid& g) {
  const auto& sources = g.info().sources;
  for (const SourceRecord& s : sources)
    if (s.survey.empty() || s.survey != sources[0].survey) return g.info().name;
  return sources.empty() ? g.info().name : sources[0].survey;
}

struct SurveyPair {
  std::vector<double> differences;
  std::size_t pairs = 0;
  MultiPolygon place;
  Crs crs;
};

}  // namespace

std::vector<Finding> check_overlaps(const std::vector<Grid>& grids, const RunOptions& options) {
  std::map<std::pair<std::string, std::string>, SurveyPair> by_survey;
  for (std::size_t i = 0; i < grids.size(); ++i)
    for (std::size_t k = i + 1; k < grids.size(); ++k) {
      const Grid &a = grids[i], &b = grids[k];
      if (!a.frame().crs() || !b.frame().crs() || a.quantity().kind != QuantityKind::Height ||
          b.quantity().kind != QuantityKind::Height)
        continue;
      OverlapSample s = sample_overlap(a, b, options);
      if (s.differences.size() < 50) continue;
      std::pair key{group_of(a), group_of(b)};
      if (by_survey.count({key.second, key.first})) {
        std::swap(key.first, key.second);
        for (double& d : s.differences) d = -d;
      }
      SurveyPair& all = by_survey[key];
      if (!all.crs) all.crs = a.frame().crs();
      all.differences.insert(all.differences.end(), s.differences.begin(), s.differences.end());
      ++all.pairs;
      if (all.crs.same_place(a.frame().crs())) all.place.push_back(to_polygon(s.common));
    }
  std::vector<Finding> out;
  for (const auto& [names, pair] : by_survey) {
    const auto n = static_cast<double>(pair.differences.size());
    const double median = median_of(pair.differences), spread = robust_deviation(pair.differences, median);
    // Coarse grids differ everywhere by what they smooth away: the median must stand out from that, too.
    if (std::abs(median) < kLeastStep || std::abs(median) < 4 * 1.2533 * spread / std::sqrt(n) ||
        std::abs(median) < 0.25 * spread)
      continue;
    out.push_back(
        {.code = "offset",
         .severity = Severity::Failure,
         .file = names.first,
         .message = fmt::format(
             "lies {:.2f} m {} {} where they overlap (median of {} points in {} pair{} of tiles, spread {:.2f} m)",
             std::abs(median), median > 0 ? "above" : "below", names.second, pair.differences.size(), pair.pairs,
             pair.pairs == 1 ? "" : "s", spread),
         .advice = "find out which of them keeps to the stated reference before joining them",
         .measure = median,
         .unit = "m",
         .place = pair.place,
         .crs = pair.crs});
  }
  return out;
}

Layer finding_layer(const std::vector<Finding>& findings) {
  Layer layer{.name = "findings", .crs = Crs::wgs84(), .features = {}};
  for (const Finding& f : findings) {
    if (f.place.empty() || !f.crs) continue;
    Feature feature{transformed(f.place, Transform(f.crs, layer.crs)),
                    {{"code", f.code},
                     {"severity", std::string(name_of(f.severity))},
                     {"file", f.file},
                     {"message", f.message},
                     {"advice", f.advice}}};
    if (f.measure) feature.properties.emplace_back("measure", *f.measure);
    if (!f.unit.empty()) feature.properties.emplace_back("unit", f.unit);
    layer.features.push_back(std::move(feature));
  }
  return layer;
}

}  // namespace katoptra
