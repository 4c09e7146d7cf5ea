#include "map_lines.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <string>
#include <vector>

#include "katoptra/terrain/contours.hpp"

namespace katoptra {
namespace {

constexpr double kNumberSize = 12.5, kNumberSpacing = 430, kTickSpacing = 22, kTick = 5, kMark = 3.2;
constexpr Colour kSpotInk{0.16, 0.12, 0.10};

// Labels think of y as going up.
LineString upwards(const LineString& line, const OnSheet& on_sheet) {
  LineString out;
  for (const Point p : line) {
    const Point q = on_sheet(p);
    out.push_back({q.x, -q.y});
  }
  return out;
}

void stroke(Canvas& canvas, const LineString& up, double width, Colour ink) {
  cairo_new_path(canvas.cr());
  for (std::size_t i = 0; i < up.size(); ++i) (i ? cairo_line_to : cairo_move_to)(canvas.cr(), up[i].x, -up[i].y);
  canvas.colour(ink, 0.85);
  canvas.line_width(width);
  cairo_stroke(canvas.cr());
}

// Into the hollow: to the right, where lines have the higher ground on their left.
void ticks(Canvas& canvas, const LineString& up, double width, Colour ink) {
  cairo_new_path(canvas.cr());
  double left = kTickSpacing / 2;
  for (std::size_t i = 1; i < up.size(); ++i) {
    const double dx = up[i].x - up[i - 1].x, dy = up[i].y - up[i - 1].y, step = std::hypot(dx, dy);
    if (!(step > 0)) continue;
    double at = left;
    for (; at <= step; at += kTickSpacing) {
      const double x = up[i - 1].x + dx * at / step, y = up[i - 1].y + dy * at / step;
      cairo_move_to(canvas.cr(), x, -y);
      cairo_line_to(canvas.cr(), x + dy / step * kTick, -(y - dx / step * kTick));
    }
    left = at - step;
  }
  canvas.colour(ink, 0.85);
  canvas.line_width(width);
  cairo_stroke(canvas.cr());
}

}  // namespace

LineLabels numbers_within(const Bounds& sheet) {
  return LineLabels({.height = kNumberSize,
                     .spacing = kNumberSpacing,
                     .within = {sheet.west, -sheet.north, sheet.east, -sheet.south}});
}

void draw_contours(Canvas& canvas, const Layer& layer, const OnSheet& on_sheet, const Bounds& sheet,
                   const ContourPen& pen, LineLabels& numbers) {
  const Colour ink = pen.ink;
  const bool has_index = has_index_lines(layer);
  struct Number {
    LineLabel at;
    std::string text;
  };
  std::vector<Number> texts;
  // Index lines first: they choose their places before others do.
  for (const bool index : {true, false})
    for (const Feature& f : layer.features) {
      const auto* line = std::get_if<LineString>(&f.geometry);
      if (!line || line->size() < 2 || is_set(f, "index") != index) continue;
      const LineString up = upwards(*line, on_sheet);
      Bounds box = bounds_of(up);
      if (!box.intersects({sheet.west, -sheet.north, sheet.east, -sheet.south})) continue;
      const double width = index ? 2 * pen.width : pen.width;
      const std::string text = number_on(f);
      std::vector<LineLabel> places;
      if (is_numbered(f, has_index) && !text.empty()) places = numbers.along(up, canvas.text_width(text, kNumberSize));
      for (const LineLabel& l : places) texts.push_back({l, text});
      for (const LineString& part : without_labels(up, places)) stroke(canvas, part, width, ink);
      if (is_set(f, "hollow")) ticks(canvas, up, width, ink);
    }
  for (const Number& n : texts) canvas.text_along(n.at.centre.x, -n.at.centre.y, n.text, kNumberSize, -n.at.turn, ink);
}

void draw_spots(Canvas& canvas, const Layer& layer, const OnSheet& on_sheet, const Bounds& sheet, LineLabels& numbers) {
  cairo_t* cr = canvas.cr();
  for (const Feature& f : layer.features) {
    const auto* place = std::get_if<Point>(&f.geometry);
    if (!place) continue;
    const Point p = on_sheet(*place);
    if (!sheet.contains(p)) continue;
    const Property* kind = property_of(f, "kind");
    const std::string is = kind ? text_of(*kind) : "";
    cairo_new_path(cr);
    if (is == "summit" || is == "pit") {  // a small triangle on its base, or on its tip
      const double way = is == "summit" ? 1 : -1;
      cairo_move_to(cr, p.x, p.y - way * 1.3 * kMark);
      cairo_line_to(cr, p.x + 1.2 * kMark, p.y + way * 0.9 * kMark);
      cairo_line_to(cr, p.x - 1.2 * kMark, p.y + way * 0.9 * kMark);
      cairo_close_path(cr);
    } else {
      cairo_arc(cr, p.x, p.y, 0.7 * kMark, 0, 2 * std::numbers::pi);
    }
    canvas.colour(kPaper, 0.8);
    canvas.line_width(2.4);
    cairo_stroke_preserve(cr);
    canvas.colour(kSpotInk);
    cairo_fill(cr);
    const Property* height = property_of(f, "height");
    const auto* z = height ? std::get_if<double>(height) : nullptr;
    if (!z) continue;
    const std::string text = fmt::format("{:.1f}", std::round(*z * 10) / 10 + 0.0);  // no zero with a sign
    const double width = canvas.text_width(text, kNumberSize);
    // To the right of its mark, else to the left of it, above or below.
    const double beside = 2.2 * kMark + width / 2;
    for (const Point off : {Point{beside, 0}, {-beside, 0}, {0, -kNumberSize}, {0, kNumberSize}})
      if (numbers.take({p.x + off.x, -(p.y + off.y)}, 0, width)) {
        canvas.text_clear(p.x + off.x, p.y + off.y + 0.36 * kNumberSize, text, kNumberSize, Align::Centre, kSpotInk);
        break;
      }
  }
}

}  // namespace katoptra
