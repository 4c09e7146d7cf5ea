#include "katoptra/view/charts.hpp"

#include <algorithm>
#include <array>
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

class RosePainter {
 public:
  RosePainter(const std::vector<ZoneStatistics>& zones, const GraphOptions& options)
      : zones_(zones),
        options_(options),
        width_(std::clamp(options.width, 1100, 8000)),  // the rose, and its table beside it
        height_(std::clamp(options.height, 400, 8000)),
        sectors_(std::min<std::size_t>(8, zones.size())),
        canvas_(options.format, width_, height_) {
    for (std::size_t i = 0; i < sectors_; ++i) {
      if (zones[i].cells > 0) steepest_ = !steepest_ || zones[i].mean > steepest_->mean ? &zones[i] : steepest_;
      area_ += zones[i].area;
      largest_ = std::max(largest_, zones[i].area);
    }
    if (!steepest_ || !(steepest_->mean > 0))
      throw Error(ErrorCode::BadArgument, "ground without slope has no rose", "rose");
    step_ = axis_step(steepest_->mean, 4);
    rim_ = std::ceil(steepest_->mean / step_) * step_;
    radius_ = std::min({(height_ - 190) / 2.0, width_ * 0.32, (width_ - 800) / 2.0});
    x0_ = radius_ + 130;
    y0_ = 124 + radius_;
  }

  Picture draw() {
    rings();
    for (std::size_t i = 0; i < sectors_; ++i)
      if (zones_[i].cells > 0) sector(i);
    labels();
    legend(table());
    heading(canvas_, 60, options_.title.empty() ? "Slope by aspect" : options_.title,
            fmt::format("the {} flank is steepest, {:.1f} degrees in the mean", steepest_->name, steepest_->mean));
    return canvas_.finish();
  }

 private:
  static Colour mean_colour() { return from_oklch(0.72, 0.09, 55); }
  static Colour median_colour() { return from_oklch(0.50, 0.10, 40); }

  void rings() {
    for (double v = step_; v <= rim_ + 1e-9; v += step_) {
      cairo_new_path(canvas_.cr());
      cairo_arc(canvas_.cr(), x0_, y0_, radius_ * v / rim_, 0, 2 * std::numbers::pi);
      canvas_.colour(kHairline);
      canvas_.line_width(1.2);
      cairo_stroke(canvas_.cr());
    }
  }

  void sector(std::size_t i) {
    const double half = std::numbers::pi / 8 * 0.92 * std::sqrt(zones_[i].area / largest_),
                 from = static_cast<double>(i) * std::numbers::pi / 4 - std::numbers::pi / 2;
    for (auto [value, colour] : {std::pair{zones_[i].mean, mean_colour()}, {zones_[i].median, median_colour()}}) {
      cairo_new_path(canvas_.cr());
      cairo_move_to(canvas_.cr(), x0_, y0_);
      cairo_arc(canvas_.cr(), x0_, y0_, radius_ * std::min(value, rim_) / rim_, from - half, from + half);
      cairo_close_path(canvas_.cr());
      canvas_.colour(colour);
      cairo_fill(canvas_.cr());
    }
  }

  // Numbers of the rings half way between two directions, over the petals; names of the directions outside.
  void labels() {
    Canvas& c = canvas_;
    const double turn = -3 * std::numbers::pi / 8;
    for (double v = step_; v <= rim_ + 1e-9; v += step_) {
      const std::string label = axis_label(v, step_) + "°";
      const double x = x0_ + radius_ * v / rim_ * std::cos(turn), y = y0_ + radius_ * v / rim_ * std::sin(turn),
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
      c.text(x0_ + (radius_ + 26) * std::sin(a), y0_ - (radius_ + 26) * std::cos(a) + 7, kShort[i], 19, Align::Centre,
             true);
    }
  }

  // Returns where it ends.
  double table() {
    Canvas& c = canvas_;
    double y = 170;
    auto row = [&](const std::array<std::string, 5>& cells, bool bold) {
      constexpr double kEnds[] = {0, 230, 320, 400, 560};
      for (std::size_t i = 0; i < 5; ++i)
        c.text(right() + kEnds[i], y, cells[i], 17, i == 0 ? Align::Left : Align::Right, bold);
      y += 36;
    };
    row({"facing", "mean", "median", "95 %", "share of area"}, true);
    for (std::size_t i = 0; i < sectors_; ++i) {
      const ZoneStatistics& z = zones_[i];
      if (z.cells > 0)
        row({z.name, fmt::format("{:.1f}°", z.mean), fmt::format("{:.1f}°", z.median), fmt::format("{:.1f}°", z.p95),
             fmt::format("{:.1f} %", 100 * z.area / area_)},
            false);
    }
    return y;
  }

  void legend(double y) {
    y += 20;
    for (auto [text, colour] : {std::pair{"mean slope", mean_colour()}, {"median slope", median_colour()}}) {
      canvas_.colour(colour);
      canvas_.box(right(), y - 14, 22, 16);
      cairo_fill(canvas_.cr());
      canvas_.colour(kInk);
      canvas_.text(right() + 34, y, text, 16);
      y += 30;
    }
    canvas_.colour(kQuiet);
    canvas_.text(right(), y, "wider petals: more ground faces that way", 16);
  }
  double right() const { return x0_ + radius_ + 90; }

  const std::vector<ZoneStatistics>& zones_;
  const GraphOptions& options_;
  int width_, height_;
  std::size_t sectors_;
  Canvas canvas_;
  const ZoneStatistics* steepest_ = nullptr;
  double area_ = 0, largest_ = 0, step_ = 1, rim_ = 1, radius_ = 1, x0_ = 0, y0_ = 0;
};

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
    if (chart.around_zero) k = differences.at((a + b) / 2, 0.88);
    c.colour(k);
    cairo_fill(c.cr());
  }
  draw_marks(c, p, chart.marks);
  heading(c, p.left, options.title.empty() ? "Histogram" : options.title, chart.facts);
  return c.finish();
}

Picture draw_rose(const std::vector<ZoneStatistics>& zones, const GraphOptions& options) {
  return RosePainter(zones, options).draw();
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

Picture draw_storage(const Reservoir& reservoir, LengthUnit unit, const GraphOptions& options) {
  const std::vector<ReservoirLevel>& curve = reservoir.curve;
  if (curve.size() < 2) throw Error(ErrorCode::BadArgument, "a curve needs two levels or more", "reservoir");
  const double low = curve.front().level, high = curve.back().level, room = std::max((high - low) * 0.04, 1e-6);
  const Plot p = plot_on(options, 0, 100, low - room, high + room);
  Canvas c(options.format, std::clamp(options.width, 640, 8000), std::clamp(options.height, 400, 8000));
  draw_axes(c, p, "share of what it is when full (%)", fmt::format("level of the water ({})", symbol(unit)));
  const auto line = [&](double ReservoirLevel::*value, Colour colour, const std::string& label, double along) {
    const double full = std::max(curve.back().*value, 1e-9);
    cairo_new_path(c.cr());
    for (const ReservoirLevel& v : curve) cairo_line_to(c.cr(), p.x(100 * v.*value / full), p.y(v.level));
    c.colour(colour);
    c.line_width(2.8);
    cairo_stroke(c.cr());
    const ReservoirLevel& at = curve[static_cast<std::size_t>(along * static_cast<double>(curve.size() - 1))];
    c.text(p.x(100 * at.*value / full) + 12, p.y(at.level) + 18, label, 17);
  };
  const ReservoirLevel& full = curve.back();
  line(&ReservoirLevel::area, from_oklch(0.55, 0.10, 60), fmt::format("area, full {:.4g} ha", full.area / 1e4), 0.5);
  line(&ReservoirLevel::volume, from_oklch(0.45, 0.11, 245),
       full.volume >= 1e6 ? fmt::format("volume, full {:.4g} million m³", full.volume / 1e6)
                          : fmt::format("volume, full {:.0f} m³", full.volume),
       0.75);
  heading(c, p.left, options.title.empty() ? "Behind the dam" : options.title,
          reservoir.runs_over ? fmt::format("runs over elsewhere at {:.2f} {}, below the crest at {:.2f}",
                                            reservoir.top, symbol(unit), reservoir.crest)
                              : fmt::format("full at the crest, {:.2f} {}", reservoir.top, symbol(unit)));
  return c.finish();
}

}  // namespace katoptra
