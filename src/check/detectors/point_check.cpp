#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/check/check.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/summary.hpp"

#include "detector.hpp"

namespace katoptra {
namespace {

class PointJudge {
 public:
  PointJudge(const PointCloud& cloud, const PointCheckOptions& options)
      : cloud_(cloud), options_(options), summary_(summarise(cloud, options.run)) {}

  std::vector<Finding> run() {
    gaps();
    if (options_.density > 0) density();
    lines();
    return std::move(findings_);
  }

 private:
  Finding& add(const std::string& code, Severity severity, std::string message, std::string advice) {
    findings_.push_back({.code = code,
                         .severity = severity,
                         .file = cloud_.info().name,
                         .message = std::move(message),
                         .advice = std::move(advice),
                         .measure = {},
                         .unit = {},
                         .place = {},
                         .crs = cloud_.info().crs});
    return findings_.back();
  }

  void gaps() {
    const double width = options_.thresholds.gap * summary_.spacing.metres();
    if (summary_.largest_gap < width * width) return;
    Finding& f = add("gaps", Severity::Failure,
                     fmt::format("{} between points cover {:.0f} m2, the largest {:.0f} m2 about {:.1f}, {:.1f}",
                                 counted(summary_.gaps, "gap"), summary_.gap_area, summary_.largest_gap,
                                 summary_.largest_gap_at.x, summary_.largest_gap_at.y),
                     "water gives no return; elsewhere ask for the strip to be flown again");
    f.measure = summary_.largest_gap;
    f.unit = "m2";
    const double half = std::sqrt(summary_.largest_gap) / 2;
    const Point p = summary_.largest_gap_at;
    f.place = {to_polygon(Bounds{p.x - half, p.y - half, p.x + half, p.y + half})};
  }

  // Squares four nominal spacings wide: a cloud of that density has sixteen points in each.
  void density() {
    const double edge = 4 / std::sqrt(options_.density);
    PointGridding g{.methods = {parse_point_method("count")}, .cell = Length::metres(edge)};
    g.run = options_.run;
    const Grid counts = grid_points(cloud_, g).grids.front();
    const double square = edge * edge, wanted = options_.density;
    std::int64_t held = 0, enough = 0;
    Window worst;
    double least = INFINITY;
    for_each_band(counts, Planes::Values, options_.run, [&](const Block& b) {
      for (std::int64_t r = 0; r < b.window().rows; ++r)
        for (std::int64_t c = 0; c < b.window().cols; ++c) {
          const float n = b.at(c, r);
          if (std::isnan(n) || n == 0) continue;
          ++held;
          // Chance makes counts differ by about their root.
          const double k = static_cast<double>(n);
          if (k + 2 * std::sqrt(k) >= wanted * square) {
            ++enough;
          } else if (k < least) {
            least = k;
            worst = {c, b.window().row + r, 1, 1};
          }
        }
    });
    const double share = held ? static_cast<double>(enough) / static_cast<double>(held) : 0;
    if (share >= options_.thresholds.density) return;
    Finding& f =
        add("sparse", Severity::Failure,
            fmt::format("{:.1f} % of the squares of {:.2f} m that hold points reach {:g} points a square metre "
                        "({:.2f} in the mean)",
                        100 * share, edge, wanted, summary_.density),
            "ask for the density that was ordered, or grid to a coarser cell");
    f.measure = share;
    if (!worst.empty()) f.place = {to_polygon(counts.frame().sub(worst).bounds())};
  }

  void lines() {
    const double limit = options_.thresholds.seam.metres() / metres_per(cloud_.info().quantity.unit);
    for (const LineDifference& d : summary_.lines) {
      if (std::abs(d.median) < limit || d.squares < 100) continue;
      Finding& f = add("line-offset", Severity::Warning,
                       fmt::format("flight line {} lies {:+.3f} {} from line {} (median of {} squares)", d.other,
                                   d.median, symbol(cloud_.info().quantity.unit), d.line, d.squares),
                       "ask for the strips to be adjusted");
      f.measure = d.median;
      f.unit = symbol(cloud_.info().quantity.unit);
    }
  }

  const PointCloud& cloud_;
  const PointCheckOptions& options_;
  PointSummary summary_;
  std::vector<Finding> findings_;
};

}  // namespace

std::vector<Finding> check_points(const PointCloud& cloud, const PointCheckOptions& options) {
  return PointJudge(cloud, options).run();
}

}  // namespace katoptra
