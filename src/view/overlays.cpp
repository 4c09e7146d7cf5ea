#include "overlays.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <string>

namespace katoptra {
namespace {

std::optional<double> property(const Feature& f, const char* name) {
  for (const auto& [key, value] : f.properties) {
    if (key != name) continue;
    if (const auto* d = std::get_if<double>(&value)) return *d;
    if (const auto* i = std::get_if<std::int64_t>(&value)) return static_cast<double>(*i);
  }
  return std::nullopt;
}

}  // namespace

Pen pen_of(OverlayStyle style) {
  switch (style) {
    case OverlayStyle::Area:
      return {{0.80, 0.12, 0.32}, 2.6, 0, false, "study area"};
    case OverlayStyle::Contours:
      return {{0.26, 0.20, 0.14}, 0.8, 0, false, "contours"};
    case OverlayStyle::Transect:
      return {{0.10, 0.10, 0.10}, 2.6, 0, true, "transect"};
    case OverlayStyle::Footprints:
      return {{0.45, 0.47, 0.50}, 1.1, 0.04, false, "tiles"};
    case OverlayStyle::Kept:
      return {{0.13, 0.42, 0.36}, 1.8, 0.16, false, "tiles kept"};
    case OverlayStyle::Gaps:
      return {{0.85, 0.33, 0.05}, 1.6, 0.30, false, "gaps"};
    case OverlayStyle::Points:
      return {{0.10, 0.10, 0.10}, 1.4, 0, false, "points"};
    case OverlayStyle::Places:
      return {{0.85, 0.33, 0.05}, 2.2, 0, false, "places"};
    case OverlayStyle::Residuals:
      return {{0.10, 0.10, 0.10}, 1.2, 0, false, "residuals"};
    case OverlayStyle::Streams:
      return {{0.03, 0.28, 0.58}, 2.2, 0, false, "streams, by order"};
    case OverlayStyle::Basins:
      return {{0.42, 0.20, 0.36}, 1.6, 0.10, false, "basins"};
    case OverlayStyle::Spots:
      return {{0.16, 0.12, 0.10}, 1.0, 0, false, "spot heights"};
    case OverlayStyle::Water:
      return {{0.10, 0.45, 0.70}, 1.0, 0.55, false, "water"};
  }
  return {};
}

OverlayPainter::OverlayPainter(Canvas& canvas, const Frame& frame, Point corner, bool lost)
    : canvas_(canvas),
      frame_(frame),
      corner_(corner),
      lost_(lost),
      // South is the smaller of the two, as y goes down.
      sheet_{corner.x, corner.y, corner.x + static_cast<double>(frame.cols()),
             corner.y + static_cast<double>(frame.rows())},
      numbers_(numbers_within(sheet_)) {}

void OverlayPainter::path(const LineString& line, bool close) {
  bool first = true;
  for (Point q : line) {
    const Point p = on_sheet(q);
    if (first)
      cairo_move_to(canvas_.cr(), p.x, p.y);
    else
      cairo_line_to(canvas_.cr(), p.x, p.y);
    first = false;
  }
  if (close) cairo_close_path(canvas_.cr());
}

void OverlayPainter::draw(const MapOverlay& o) {
  if (lost_ && o.layer.crs) return;
  const Pen p = pen_of(o.style);
  const Transform t(o.layer.crs ? o.layer.crs : frame_.crs(), frame_.crs());
  const OnSheet placed = [&](Point q) { return on_sheet(t.forward(q)); };
  if (o.style == OverlayStyle::Residuals) return residuals(o.layer, t);
  if (o.style == OverlayStyle::Contours) return draw_contours(canvas_, o.layer, placed, sheet_, p.colour, numbers_);
  if (o.style == OverlayStyle::Spots) return draw_spots(canvas_, o.layer, placed, sheet_, numbers_);
  for (const Feature& f : o.layer.features) {
    double w = p.width;
    // A stream of each higher order is wider.
    if (o.style == OverlayStyle::Streams) w += 0.9 * (property(f, "strahler").value_or(1) - 1);
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry))
      areas(transformed(*m, t), p);
    else if (const auto* l = std::get_if<LineString>(&f.geometry))
      line(*l, t, p, w);
    else
      place(placed(std::get<Point>(f.geometry)), o.style);
    canvas_.colour(p.colour);
    canvas_.line_width(w);
    cairo_stroke(canvas_.cr());
    canvas_.dashes({});
    label(f, t, p.colour);
  }
}

void OverlayPainter::areas(const MultiPolygon& shape, const Pen& p) {
  for (const Polygon& poly : shape) {
    path(poly.outer, true);
    for (const Ring& hole : poly.holes) path(hole, true);
  }
  cairo_set_fill_rule(canvas_.cr(), CAIRO_FILL_RULE_EVEN_ODD);
  if (p.fill <= 0) return;
  canvas_.colour(p.colour, p.fill);
  cairo_fill_preserve(canvas_.cr());
}

void OverlayPainter::line(LineString line, const Transform& t, const Pen& p, double width) {
  t.forward(line);
  path(line, false);
  if (!p.dashed) return;
  // A pale edge under it, readable on every ground.
  canvas_.colour(kPaper, 0.85);
  canvas_.line_width(width + 2.4);
  cairo_stroke_preserve(canvas_.cr());
  canvas_.dashes({10, 5});
}

void OverlayPainter::place(Point at, OverlayStyle style) {
  cairo_new_path(canvas_.cr());
  if (style == OverlayStyle::Places) {
    cairo_arc(canvas_.cr(), at.x, at.y, 11, 0, 2 * std::numbers::pi);
    return;
  }
  cairo_arc(canvas_.cr(), at.x, at.y, 4.5, 0, 2 * std::numbers::pi);
  canvas_.colour(kPaper);
  cairo_fill_preserve(canvas_.cr());
}

// A disc at each point, as large as its residual is beside the largest that is no outlier.
void OverlayPainter::residuals(const Layer& layer, const Transform& t) {
  most_residual_ = 0;
  for (const Feature& f : layer.features)
    if (const auto r = property(f, "residual"); r && property(f, "outlier").value_or(0) == 0)
      most_residual_ = std::max(most_residual_, std::abs(*r));
  for (const Feature& f : layer.features) {
    const auto* p = std::get_if<Point>(&f.geometry);
    const auto r = property(f, "residual");
    if (p && r) disc(on_sheet(t.forward(*p)), *r, property(f, "outlier").value_or(0) != 0);
  }
}

void OverlayPainter::disc(Point at, double residual, bool outlier) {
  const double share = most_residual_ > 0 ? std::min(1.3, std::abs(residual) / most_residual_) : 0;
  cairo_new_path(canvas_.cr());
  cairo_arc(canvas_.cr(), at.x, at.y, 3 + 15 * share, 0, 2 * std::numbers::pi);
  canvas_.colour(Palette::around_zero(1).at(residual > 0 ? 0.8 : -0.8), 0.85);
  cairo_fill_preserve(canvas_.cr());
  canvas_.colour(outlier ? Colour{0.85, 0.33, 0.05} : kPaper);
  canvas_.line_width(outlier ? 3 : 1.2);
  cairo_stroke(canvas_.cr());
}

// In the middle of what is seen of a polygon, when there is room.
void OverlayPainter::label(const Feature& f, const Transform& t, Colour colour) {
  const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
  const auto named = std::find_if(f.properties.begin(), f.properties.end(), [](auto& p) { return p.first == "label"; });
  if (!shape || named == f.properties.end() || !std::holds_alternative<std::string>(named->second)) return;
  const std::string& text = std::get<std::string>(named->second);
  const Bounds b = bounds_of(transformed(*shape, t));
  const Point a = on_sheet({b.west, b.north}), z = on_sheet({b.east, b.south});
  const double left = std::max(a.x, sheet_.west), right = std::min(z.x, sheet_.east), top = std::max(a.y, sheet_.south),
               bottom = std::min(z.y, sheet_.north);
  if (right - left < canvas_.text_width(text, 13) + 8 || bottom - top < 20) return;
  canvas_.colour(colour);
  canvas_.text((left + right) / 2, (top + bottom) / 2 + 5, text, 13, Align::Centre);
  cairo_new_path(canvas_.cr());
}

}  // namespace katoptra
