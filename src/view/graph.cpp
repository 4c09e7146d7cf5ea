#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "axes.hpp"
#include "canvas.hpp"

namespace katoptra {
namespace {

// Calls body(first, last) for each run of points with values.
template <class Body>
void each_run(const std::vector<SectionPoint>& points, const Body& body) {
  for (std::size_t i = 0; i < points.size();) {
    if (std::isnan(points[i].value)) {
      ++i;
      continue;
    }
    std::size_t end = i;
    while (end < points.size() && !std::isnan(points[end].value)) ++end;
    body(i, end);
    i = end;
  }
}

// The ground as a filled curve; with a `shore`, water over it up to zero.
void draw_ground(Canvas& c, const Plot& p, const std::vector<SectionPoint>& points, bool shore) {
  const Colour land = from_oklch(0.45, 0.07, 140), fill = from_oklch(0.80, 0.05, 110),
               sea = from_oklch(0.55, 0.11, 240);
  each_run(points, [&](std::size_t first, std::size_t last) {
    if (shore) {
      // Water stands over the ground up to zero.
      cairo_move_to(c.cr(), p.x(points[first].distance), p.y(0));
      for (std::size_t i = first; i < last; ++i)
        cairo_line_to(c.cr(), p.x(points[i].distance), p.y(std::min(0.0, points[i].value)));
      cairo_line_to(c.cr(), p.x(points[last - 1].distance), p.y(0));
      c.colour(from_oklch(0.86, 0.05, 230), 0.85);
      cairo_fill(c.cr());
    }
    cairo_move_to(c.cr(), p.x(points[first].distance), p.top + p.height);
    for (std::size_t i = first; i < last; ++i) cairo_line_to(c.cr(), p.x(points[i].distance), p.y(points[i].value));
    cairo_line_to(c.cr(), p.x(points[last - 1].distance), p.top + p.height);
    c.colour(fill, 0.75);
    cairo_fill(c.cr());
    for (std::size_t i = first; i < last; ++i) cairo_line_to(c.cr(), p.x(points[i].distance), p.y(points[i].value));
    c.colour(land);
    c.line_width(2.6);
    cairo_set_line_join(c.cr(), CAIRO_LINE_JOIN_ROUND);
    cairo_stroke(c.cr());
  });
  if (shore) {
    c.colour(sea);
    c.line_width(1.4);
    c.dashes({8, 5});
    c.line(p.left, p.y(0), p.left + p.width, p.y(0));
    c.dashes({});
  }
}

std::string section_facts(const Section& section, const Plot& p, double low, double high) {
  const auto& points = section.points;
  std::string facts = fmt::format("{} {} long", axis_label(points.back().distance, 0.1), symbol(section.unit));
  if (high >= low)
    facts +=
        fmt::format(", from {} to {} {}", axis_label(low, 0.01), axis_label(high, 0.01), unit_name(section.quantity));
  if (section.quantity.kind == QuantityKind::Height) {
    const double vertical = p.height / ((p.y1 - p.y0) * metres_per(section.quantity.unit)),
                 horizontal = p.width / ((p.x1 - p.x0) * metres_per(section.unit));
    facts += fmt::format("; vertical exaggeration {:.1f} times", vertical / horizontal);
  }
  const auto voids =
      std::count_if(points.begin(), points.end(), [](const SectionPoint& q) { return std::isnan(q.value); });
  if (voids > 0) facts += fmt::format("; {} of {} points are void", voids, points.size());
  return facts;
}

}  // namespace

Picture draw_section(const Section& section, const GraphOptions& options) {
  const auto& points = section.points;
  double low = 1e300, high = -1e300;
  for (const SectionPoint& p : points)
    if (!std::isnan(p.value)) {
      low = std::min(low, p.value);
      high = std::max(high, p.value);
    }
  if (points.size() < 2) throw Error(ErrorCode::BadArgument, "a section without points cannot be drawn", "section");
  if (low > high) low = high = 0;
  const int width = std::clamp(options.width, 640, 8000), height = std::clamp(options.height, 400, 8000);
  Canvas c(options.format, width, height);
  const double room = std::max({(high - low) * 0.08, std::abs(high) * 1e-6, 0.05});
  Plot p{.left = 110,
         .top = 92,
         .width = width - 110.0 - 36,
         .height = height - 92.0 - 84,
         .x0 = 0,
         .x1 = points.back().distance,
         .y0 = low - room,
         .y1 = high + room};
  const std::string unit = symbol(section.unit), value_unit = unit_name(section.quantity);
  const bool heights = section.quantity.kind == QuantityKind::Height;
  draw_axes(c, p, fmt::format("distance along the line ({})", unit),
            heights ? fmt::format("height ({}{})", value_unit,
                                  section.quantity.heights.known() ? ", " + section.quantity.heights.name() : "")
                    : fmt::format("{} ({})", name_of(section.quantity.kind), value_unit));

  draw_ground(c, p, points, heights && low < 0 && high > 0);
  c.colour(kInk);
  c.text(p.left, 40, options.title.empty() ? "Section" : options.title, 25, Align::Left, true);
  c.colour(kQuiet);
  c.text(p.left, 68, section_facts(section, p, low, high), 17);
  return c.finish();
}

}  // namespace katoptra
