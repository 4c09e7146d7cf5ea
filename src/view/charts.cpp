#include "katoptra/view/charts.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

#include "katoptra/base/error.hpp"
#include "katoptra/view/palette.hpp"

#include "axes.hpp"
#include "canvas.hpp"

namespace katoptra {
namespace {

void heading(Canvas& c, double left, const std::string& title, const std::string& facts) {
  c.colour(kInk);
  c.text(left, 40, title, 25, Align::Left, true);
  c.colour(kQuiet);
  c.text(left, 68, facts, 17);
}

Plot plot_on(const GraphOptions& o, double x0, double x1, double y0, double y1) {
  const int width = std::clamp(o.width, 640, 8000), height = std::clamp(o.height, 400, 8000);
  return {.left = 120,
          .top = 104,
          .width = width - 120.0 - 40,
          .height = height - 104.0 - 84,
          .x0 = x0,
          .x1 = x1,
          .y0 = y0,
          .y1 = y1};
}

// Upright marks, their names where they do not cover one another.
void draw_marks(Canvas& c, const Plot& p, std::vector<std::pair<double, std::string>> marks) {
  std::sort(marks.begin(), marks.end());
  double taken[4] = {-1e9, -1e9, -1e9, -1e9};
  for (const auto& [value, name] : marks) {
    if (!(value >= p.x0 && value <= p.x1)) continue;
    const double x = p.x(value), w = c.text_width(name, 15);
    int row = 0;
    while (row < 3 && x - w / 2 < taken[row] + 10) ++row;
    taken[row] = x + w / 2;
    c.colour(kInk);
    c.line_width(1.6);
    c.dashes({6, 4});
    c.line(x, p.top + 20.0 * row + 6, x, p.top + p.height);
    c.dashes({});
    c.text(std::clamp(x, p.left + w / 2, p.left + p.width - w / 2), p.top + 20.0 * row, name, 15, Align::Centre);
  }
}

}  // namespace

Picture draw_histogram(const HistogramChart& chart, const GraphOptions& options) {
  if (chart.counts.empty() || !(chart.to > chart.from))
    throw Error(ErrorCode::BadArgument, "a histogram without values cannot be drawn", "histogram");
  const double most = std::max(1.0, *std::max_element(chart.counts.begin(), chart.counts.end()));
  const Plot p = plot_on(options, chart.from, chart.to, 0, most * 1.12);
  Canvas c(options.format, std::clamp(options.width, 640, 8000), std::clamp(options.height, 400, 8000));
  draw_axes(c, p, chart.value_title, "cells");
  const Palette differences = Palette::around_zero(std::max(std::abs(chart.from), std::abs(chart.to)));
  const auto n = static_cast<double>(chart.counts.size());
  for (std::size_t i = 0; i < chart.counts.size(); ++i) {
    const double a = chart.from + (chart.to - chart.from) * static_cast<double>(i) / n,
                 b = chart.from + (chart.to - chart.from) * static_cast<double>(i + 1) / n;
    c.box(p.x(a), p.y(chart.counts[i]), std::max(1.0, p.x(b) - p.x(a) - 1), p.y(0) - p.y(chart.counts[i]));
    Colour k = from_oklch(0.58, 0.07, 140);
    if (chart.around_zero) k = shaded(differences.at((a + b) / 2), 0.88);
    c.colour(k);
    cairo_fill(c.cr());
  }
  draw_marks(c, p, chart.marks);
  heading(c, p.left, options.title.empty() ? "Histogram" : options.title, chart.facts);
  return c.finish();
}

Picture draw_rose(const std::vector<ZoneStatistics>& zones, const GraphOptions& options) {
  const int width = std::clamp(options.width, 640, 8000), height = std::clamp(options.height, 400, 8000);
  Canvas c(options.format, width, height);
  double most = 0, area = 0;
  for (std::size_t i = 0; i < std::min<std::size_t>(8, zones.size()); ++i) {
    if (zones[i].cells > 0) most = std::max(most, zones[i].mean);
    area += zones[i].area;
  }
  if (!(most > 0)) throw Error(ErrorCode::BadArgument, "ground without slope has no rose", "rose");
  const double step = axis_step(most, 4), rim = std::ceil(most / step) * step;
  const double radius = std::min((height - 190) / 2.0, width * 0.32), x0 = radius + 130, y0 = 124 + radius;
  // Rings, and the names of the directions.
  for (double v = step; v <= rim + 1e-9; v += step) {
    cairo_new_path(c.cr());
    cairo_arc(c.cr(), x0, y0, radius * v / rim, 0, 2 * std::numbers::pi);
    c.colour(kHairline);
    c.line_width(1.2);
    cairo_stroke(c.cr());
  }
  double largest = 0;
  for (std::size_t i = 0; i < std::min<std::size_t>(8, zones.size()); ++i) largest = std::max(largest, zones[i].area);
  for (std::size_t i = 0; i < std::min<std::size_t>(8, zones.size()); ++i) {
    const ZoneStatistics& z = zones[i];
    if (z.cells == 0) continue;
    const double azimuth = static_cast<double>(i) * std::numbers::pi / 4,
                 half = std::numbers::pi / 8 * 0.92 * std::sqrt(z.area / largest),
                 from = azimuth - std::numbers::pi / 2;
    auto petal = [&](double value, Colour k) {
      cairo_new_path(c.cr());
      cairo_move_to(c.cr(), x0, y0);
      cairo_arc(c.cr(), x0, y0, radius * std::min(value, rim) / rim, from - half, from + half);
      cairo_close_path(c.cr());
      c.colour(k);
      cairo_fill(c.cr());
    };
    petal(z.mean, from_oklch(0.72, 0.09, 55));
    petal(z.median, from_oklch(0.50, 0.10, 40));
  }
  // Labels of the rings lie over the petals, half way between two directions.
  const double turn = -3 * std::numbers::pi / 8;
  for (double v = step; v <= rim + 1e-9; v += step) {
    const std::string label = axis_label(v, step) + "°";
    const double x = x0 + radius * v / rim * std::cos(turn), y = y0 + radius * v / rim * std::sin(turn),
                 w = c.text_width(label, 15);
    c.colour(kPaper, 0.85);
    c.box(x - w / 2 - 3, y - 11, w + 6, 20);
    cairo_fill(c.cr());
    c.colour(kQuiet);
    c.text(x, y + 5, label, 15, Align::Centre);
  }
  constexpr const char* kShort[8] = {"N", "NE", "E", "SE", "S", "SW", "W", "NW"};
  c.colour(kInk);
  for (int i = 0; i < 8; ++i) {
    const double a = i * std::numbers::pi / 4;
    c.text(x0 + (radius + 26) * std::sin(a), y0 - (radius + 26) * std::cos(a) + 7, kShort[i], 19, Align::Centre, true);
  }
  // The table beside it.
  double x = x0 + radius + 90, y = 170;
  c.text(x, y, "facing", 17, Align::Left, true);
  c.text(x + 230, y, "mean", 17, Align::Right, true);
  c.text(x + 320, y, "median", 17, Align::Right, true);
  c.text(x + 400, y, "95 %", 17, Align::Right, true);
  c.text(x + 560, y, "share of area", 17, Align::Right, true);
  for (const ZoneStatistics& z : zones) {
    if (z.cells == 0 || z.name == "flat") continue;
    y += 36;
    c.text(x, y, z.name, 17);
    c.text(x + 230, y, fmt::format("{:.1f}°", z.mean), 17, Align::Right);
    c.text(x + 320, y, fmt::format("{:.1f}°", z.median), 17, Align::Right);
    c.text(x + 400, y, fmt::format("{:.1f}°", z.p95), 17, Align::Right);
    c.text(x + 560, y, fmt::format("{:.1f} %", 100 * z.area / area), 17, Align::Right);
  }
  y += 56;
  for (auto [text, k] :
       {std::pair{"mean slope", from_oklch(0.72, 0.09, 55)}, std::pair{"median slope", from_oklch(0.50, 0.10, 40)}}) {
    c.colour(k);
    c.box(x, y - 14, 22, 16);
    cairo_fill(c.cr());
    c.colour(kInk);
    c.text(x + 34, y, text, 16);
    y += 30;
  }
  c.colour(kQuiet);
  c.text(x, y, "wider petals: more ground faces that way", 16);
  const auto steepest = std::max_element(zones.begin(), zones.begin() + std::min<std::ptrdiff_t>(8, std::ssize(zones)),
                                         [](const ZoneStatistics& a, const ZoneStatistics& b) {
                                           return (a.cells ? a.mean : -1) < (b.cells ? b.mean : -1);
                                         });
  heading(c, 60, options.title.empty() ? "Slope by aspect" : options.title,
          fmt::format("the {} flank is steepest, {:.1f} degrees in the mean", steepest->name, steepest->mean));
  return c.finish();
}

Picture draw_hypsometry(const std::vector<LevelVolumes>& levels, LengthUnit unit, const GraphOptions& options) {
  if (levels.size() < 2) throw Error(ErrorCode::BadArgument, "a curve needs two levels or more", "hypsometry");
  const double all = levels.back().area_below + levels.back().area_above;
  const double low = levels.front().level, high = levels.back().level, room = std::max((high - low) * 0.04, 1e-6);
  const Plot p = plot_on(options, 0, 100, low - room, high + room);
  Canvas c(options.format, std::clamp(options.width, 640, 8000), std::clamp(options.height, 400, 8000));
  draw_axes(c, p, "share of the area that lies above (%)", fmt::format("height ({})", symbol(unit)));
  auto curve = [&] {
    bool first = true;
    for (const LevelVolumes& v : levels) {
      const double x = p.x(100 * v.area_above / all), y = p.y(v.level);
      first ? cairo_move_to(c.cr(), x, y) : cairo_line_to(c.cr(), x, y);
      first = false;
    }
  };
  cairo_new_path(c.cr());
  curve();
  c.colour(from_oklch(0.45, 0.07, 140));
  c.line_width(2.8);
  cairo_stroke(c.cr());
  // The height that half of the area lies above.
  const auto half =
      std::find_if(levels.begin(), levels.end(), [&](const LevelVolumes& v) { return v.area_above <= all / 2; });
  const double middle = half == levels.end() ? high : half->level;
  c.colour(kQuiet);
  c.dashes({6, 4});
  c.line_width(1.4);
  c.line(p.x(50), p.y(low - room), p.x(50), p.y(middle));
  c.line(p.x(0), p.y(middle), p.x(50), p.y(middle));
  c.dashes({});
  heading(c, p.left, options.title.empty() ? "Hypsometric curve" : options.title,
          fmt::format("half of {:.4g} km² lies above {:.1f} {}", all / 1e6, middle, symbol(unit)));
  return c.finish();
}

}  // namespace katoptra
