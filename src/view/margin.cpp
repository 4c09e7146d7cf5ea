#include "margin.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <initializer_list>
#include <numbers>

#include "graticule.hpp"

namespace katoptra {
namespace {

constexpr double kWordsSize = 11.5, kWordsLine = 15, kBeside = 34, kAway = 14;
constexpr double kIndexWide = 110, kIndexHigh = 70;

}  // namespace

std::string Sheet::name() const { return fmt::format("{}{}", static_cast<char>('A' + row), col + 1); }

// Where the map comes from, in lines that the column beside it holds.
std::vector<std::string> MapMargin::words() const {
  std::vector<std::string> lines;
  const double room = field_.margins.right - kBeside - kAway;
  auto fits = [&](const std::string& line) { return canvas_.text_width(line, kWordsSize) <= room; };
  const MapOptions& o = field_.options;
  for (const auto& [what, text] : {std::pair{"Sources", &o.sources}, {"Licence", &o.licence}, {"Date", &o.date}}) {
    if (text->empty()) continue;
    // A word that is wider than the column is cut when it is drawn.
    lines.emplace_back();
    const std::string part = fmt::format("{}: {}", what, *text);
    for (std::size_t from = 0; from < part.size();) {
      const std::size_t to = std::min(part.size(), part.find(' ', from));
      const std::string word = part.substr(from, to - from);
      if (!lines.back().empty() && !fits(lines.back() + " " + word)) lines.emplace_back();
      lines.back() += (lines.back().empty() ? "" : " ") + word;
      from = to + 1;
    }
  }
  return lines;
}

double MapMargin::draw(const LandColours* colours, const RasterColours& rasters, OverlayPainter& overlays) {
  if (field_.options.grid_lines) grid_lines();
  ticks();
  title();
  double down = legend(colours, rasters, overlays);
  scale_bar();
  north_arrow();
  // From below: the words, as far as they do not fit beside the scale bar within the map's height; the index of sheets;
  // the inset.
  const std::vector<std::string> lines = words();
  double bottom = field_.margins.top + height();
  const double taken = kWordsLine * static_cast<double>(lines.size()), under = field_.margins.bottom - 2 * kAway;
  const double first = bottom + kAway - std::max(0.0, taken - under);
  if (taken > under) bottom = first - kWordsLine - kAway;
  if (field_.sheet.across * field_.sheet.down > 1) {
    index(bottom);
    bottom -= kIndexHigh + kAway;
  }
  if (field_.options.inset) down = inset(down, bottom);
  canvas_.colour(kQuiet);
  double y = std::max(first, down + kAway) + kWordsLine / 2;
  for (const std::string& line : lines) {
    canvas_.text(field_.margins.left + width() + kBeside, y, line, kWordsSize);
    y += kWordsLine;
  }
  if (!lines.empty()) down = std::max(down, y - kWordsLine);
  return down;
}

std::pair<double, double> MapMargin::steps() const {
  const Bounds b = field_.frame.bounds();
  return {axis_step(b.width(), std::max(2, static_cast<int>(width() / 190))),
          axis_step(b.height(), std::max(2, static_cast<int>(height() / 130)))};
}

// Thin lines at the ticks, over everything, in the colour of the frame.
void MapMargin::grid_lines() {
  Canvas& c = canvas_;
  c.line_width(0.6);
  c.colour(kInk, 0.45);
  const auto [xs, ys] = steps();
  const Bounds b = field_.frame.bounds();
  for (double v = std::ceil(b.west / xs) * xs; v <= b.east; v += xs)
    c.line(on_sheet({v, b.north}).x, field_.margins.top, on_sheet({v, b.north}).x, field_.margins.top + height());
  for (double v = std::ceil(b.south / ys) * ys; v <= b.north; v += ys)
    c.line(field_.margins.left, on_sheet({b.west, v}).y, field_.margins.left + width(), on_sheet({b.west, v}).y);
}

void MapMargin::ticks() {
  Canvas& c = canvas_;
  c.colour(kInk);
  c.line_width(1.4);
  c.box(field_.margins.left, field_.margins.top, width(), height());
  cairo_stroke(c.cr());
  const Bounds b = field_.frame.bounds();
  const auto [xs, ys] = steps();
  c.line_width(1.2);
  for (double v = std::ceil(b.west / xs) * xs; v <= b.east; v += xs) {
    const double x = on_sheet({v, b.north}).x;
    c.line(x, field_.margins.top + height(), x, field_.margins.top + height() + 7);
    c.line(x, field_.margins.top - 7, x, field_.margins.top);
    c.text(x, field_.margins.top + height() + 25, coordinate(v, xs, true), 15, Align::Centre);
  }
  for (double v = std::ceil(b.south / ys) * ys; v <= b.north; v += ys) {
    const double y = on_sheet({b.west, v}).y;
    c.line(field_.margins.left - 7, y, field_.margins.left, y);
    c.line(field_.margins.left + width(), y, field_.margins.left + width() + 7, y);
    // At a corner the number would run into that of the other axis.
    const double room = c.text_width(coordinate(v, ys, false), 15) / 2;
    c.text_upright(field_.margins.left - 14,
                   std::clamp(y, field_.margins.top + room,
                              std::max(field_.margins.top + room, field_.margins.top + height() - room)),
                   coordinate(v, ys, false), 15);
  }
}

std::string MapMargin::coordinate(double v, double step, bool east) const {
  if (!field_.frame.crs().is_geographic()) return axis_label(v, step);
  return axis_label(std::abs(v), step) + "° " + (east ? (v < 0 ? "W" : "E") : (v < 0 ? "S" : "N"));
}

void MapMargin::title() {
  Canvas& c = canvas_;
  c.colour(kInk);
  std::string name = field_.options.title.empty() ? field_.grid.info().name : field_.options.title;
  if (field_.sheet.across * field_.sheet.down > 1) name += ", sheet " + field_.sheet.name();
  c.text(field_.margins.left, 36, name, 24, Align::Left, true);
  c.colour(kQuiet);
  const GroundSpacing s = ground_spacing(field_.grid.frame());
  std::string facts = field_.lost
                          ? "no CRS"
                          : fmt::format("{}{}", field_.frame.crs().name(),
                                        field_.frame.crs().epsg() ? " (" + field_.frame.crs().code() + ")" : "");
  if (!field_.options.subtitle.empty()) {
    c.text(field_.margins.left, 62, field_.options.subtitle, 15);
    return;
  }
  facts += fmt::format("; cells of {:.3g} × {:.3g} m on the ground", s.x.metres(), s.y.metres());
  if (field_.heights()) facts += "; heights: " + field_.grid.quantity().heights.name();
  c.text(field_.margins.left, 62, facts, 15);
}

// Returns where it ends.
double MapMargin::legend(const LandColours* colours, const RasterColours& rasters, OverlayPainter& overlays) {
  const double x = field_.margins.left + width() + 34;
  double y = field_.margins.top + 8;
  const Quantity& q = field_.grid.quantity();
  if (colours) y = class_legend(x, y, *colours);
  if (colours && classes_of(q.kind).empty() && q.kind != QuantityKind::Shade && q.kind != QuantityKind::Code)
    y = ramp_legend(x, y, *colours);
  for (const MapOverlay& o : field_.options.overlays) {
    if (o.style == OverlayStyle::Residuals) {
      y = residual_legend(x, y, overlays);
      continue;
    }
    // Light and pictures are seen to be what they are.
    if (o.style == OverlayStyle::Land || (o.style == OverlayStyle::Raster && o.label.empty())) continue;
    if (const LandColours* own = rasters.of(o))
      ramp_sign(x, y, *own);
    else
      sign(x, y, o);
    canvas_.colour(kInk);
    canvas_.text(x + 36, y, o.label.empty() ? pen_of(o.style).label : o.label, 15);
    y += 26;
  }
  return y;
}

double MapMargin::ramp_legend(double x, double y, const LandColours& colours) {
  const Quantity& q = field_.grid.quantity();
  Canvas& c = canvas_;
  c.colour(kInk);
  const std::string unit = unit_name(q);
  // Of what has no name, the unit says what it is.
  const std::string what = q.kind == QuantityKind::Unknown && !unit.empty()
                               ? unit
                               : name_of(q.kind) + (unit.empty() ? std::string() : " (" + unit + ")");
  c.text(x, y + 8, what, 16, Align::Left, true);
  const double tall = std::clamp(height() * 0.45, 160.0, 360.0), low = colours.palette().lowest(),
               high = colours.palette().highest();
  y += 26;
  for (int i = 0; i < static_cast<int>(tall); ++i) {
    c.colour(colours.palette().at(high - (high - low) * (i + 0.5) / tall));
    c.box(x, y + i, 26, 1.5);
    cairo_fill(c.cr());
  }
  c.colour(kInk);
  c.line_width(1);
  c.box(x, y, 26, tall);
  cairo_stroke(c.cr());
  auto tick = [&](double v, const std::string& number) {
    const double at = y + (high - v) / (high - low) * tall;
    c.line(x + 26, at, x + 32, at);
    c.text(x + 38, at + 5, number, 15);
    return at;
  };
  const std::vector<double>& breaks = colours.palette().breaks();
  double last = 1e9;
  for (const double v : breaks) {
    // Numbers of classes that are very narrow beside the others would stand in one another.
    const double at = y + (high - v) / (high - low) * tall;
    if (last - at >= 15) last = tick(v, fmt::format("{:.4g}", v));
  }
  const double step = colours.magnitudes() ? std::max(1.0, std::round((high - low) / 7)) : axis_step(high - low, 7);
  for (double v = std::ceil(low / step - 1e-9) * step; breaks.empty() && v <= high + 1e-9 * step; v += step)
    tick(v, colours.magnitudes() ? axis_label(std::pow(10, v), 1) : axis_label(v, step));
  y += tall + 34;
  return y;
}

// The colours of a grid over the land, from the lowest to the highest.
void MapMargin::ramp_sign(double x, double y, const LandColours& colours) {
  Canvas& c = canvas_;
  constexpr int kParts = 24;
  const double low = colours.palette().lowest(), high = colours.palette().highest();
  for (int i = 0; i < kParts; ++i) {
    c.colour(colours.palette().at(low + (high - low) * (i + 0.5) / kParts));
    c.box(x + 1 + i, y - 13, 1.5, 15);
    cairo_fill(c.cr());
  }
  c.colour(kInk);
  c.line_width(1);
  c.box(x + 1, y - 13, kParts, 15);
  cairo_stroke(c.cr());
}

// How something that is drawn over the land looks.
void MapMargin::sign(double x, double y, const MapOverlay& o) {
  Canvas& c = canvas_;
  const Pen p = pen_of(o);
  c.colour(p.colour);
  c.line_width(std::max(1.4, p.width));
  if (p.dashed) c.dashes({8, 4});
  const double middle = y - 5;
  cairo_new_path(c.cr());
  auto shape = [&](std::initializer_list<Point> corners) {
    for (const Point& q : corners) cairo_line_to(c.cr(), x + 13 + q.x, middle + q.y);
    cairo_close_path(c.cr());
    cairo_fill(c.cr());
  };
  switch (o.style) {
    case OverlayStyle::Spots:
      shape({{0, -5}, {5, 4}, {-5, 4}});
      break;
    case OverlayStyle::Waypoints:
      shape({{0, -5}, {5, 0}, {0, 5}, {-5, 0}});
      break;
    case OverlayStyle::Points:
    case OverlayStyle::Places:
      cairo_arc(c.cr(), x + 13, middle, o.style == OverlayStyle::Places ? 9 : 4.5, 0, 2 * std::numbers::pi);
      cairo_stroke(c.cr());
      break;
    case OverlayStyle::Contours:
    case OverlayStyle::Reference:
    case OverlayStyle::Transect:
    case OverlayStyle::Streams:
    case OverlayStyle::Lines:
      c.line(x, middle, x + 26, middle);
      break;
    default:
      c.box(x + 1, y - 13, 24, 15);
      c.colour(p.colour, p.fill);
      cairo_fill_preserve(c.cr());
      c.colour(p.colour);
      cairo_stroke(c.cr());
  }
  c.dashes({});
}

double MapMargin::class_legend(double x, double y, const LandColours& colours) {
  const QuantityKind kind = field_.grid.quantity().kind;
  double code = 1;
  for (const char* name : classes_of(kind)) {
    canvas_.colour(colours.palette().at(code++));
    canvas_.box(x, y, 26, 20);
    cairo_fill(canvas_.cr());
    canvas_.colour(kInk);
    canvas_.line_width(1);
    canvas_.box(x, y, 26, 20);
    cairo_stroke(canvas_.cr());
    canvas_.text(x + 38, y + 15, name, 15);
    y += 30;
  }
  return code > 1 ? y + 18 : y;
}

double MapMargin::residual_legend(double x, double y, OverlayPainter& overlays) {
  Canvas& c = canvas_;
  const std::string unit = unit_name(field_.grid.quantity());
  c.colour(kInk);
  c.text(x, y, "surface less known", 15, Align::Left, true);
  y += 36;
  for (const double sign : {1.0, -1.0}) {
    overlays.disc({x + 19, y - 5}, sign * overlays.most_residual(), false);
    c.colour(kInk);
    c.text(x + 48, y, fmt::format("{}{:.3f} {}", sign > 0 ? "+" : "\u2212", overlays.most_residual(), unit), 15);
    y += 42;
  }
  overlays.disc({x + 19, y - 5}, 0, true);
  c.colour(kInk);
  c.text(x + 48, y, "outlier", 15);
  return y + 30;
}

void MapMargin::scale_bar() {
  Canvas& c = canvas_;
  const double per_pixel = ground_spacing(field_.frame).x.metres();
  const double length = axis_step(per_pixel * std::min(width() * 0.35, 360.0) * 0.4, 1);
  const double w = length / per_pixel, x = field_.margins.left, y = field_.margins.top + height() + 43;
  const bool km = length >= 1000;
  for (int i = 0; i < 4; ++i) {
    c.colour(i % 2 ? kPaper : kInk);
    c.box(x + w * i / 4, y, w / 4, 9);
    cairo_fill(c.cr());
  }
  c.colour(kInk);
  c.line_width(1.2);
  c.box(x, y, w, 9);
  cairo_stroke(c.cr());
  auto label = [&](double v) { return km ? fmt::format("{:g}", v / 1000) : fmt::format("{:g}", v); };
  c.text(x, y + 25, "0", 15, Align::Centre);
  c.text(x + w / 2, y + 25, label(length / 2), 15, Align::Centre);
  c.text(x + w, y + 25, label(length), 15, Align::Centre);
  c.text(x + w + c.text_width(label(length), 15) / 2 + 6, y + 25, km ? "km" : "m", 15);
  if (field_.options.paper && !field_.lost)
    c.text(x + w + 90, y + 9, "1:" + axis_label(per_pixel * kWordsPerInch / kInch, 1), 17, Align::Left, true);
}

// Where this sheet lies among the others.
void MapMargin::index(double bottom) {
  Canvas& c = canvas_;
  const double box = std::min(kIndexWide / field_.sheet.across, kIndexHigh / field_.sheet.down);
  const double x = field_.margins.left + width() + 34, y = bottom - box * field_.sheet.down;
  for (int row = 0; row < field_.sheet.down; ++row)
    for (int col = 0; col < field_.sheet.across; ++col) {
      const bool here = row == field_.sheet.row && col == field_.sheet.col;
      c.box(x + col * box, y + row * box, box, box);
      c.colour(here ? kInk : kPaper);
      cairo_fill_preserve(c.cr());
      c.colour(kInk);
      c.line_width(1);
      cairo_stroke(c.cr());
      const std::string name = Sheet{col, row, 1, 1}.name();
      if (c.text_width(name, 11) + 4 > box || box < 14) continue;
      c.colour(here ? kPaper : kInk);
      c.text(x + (col + 0.5) * box, y + (row + 0.5) * box + 4, name, 11, Align::Centre);
    }
}

void MapMargin::north_arrow() {
  Canvas& c = canvas_;
  const double x = field_.margins.left + width() - 24, y = field_.margins.top + height() + 34;
  cairo_move_to(c.cr(), x, y);
  cairo_line_to(c.cr(), x + 10, y + 38);
  cairo_line_to(c.cr(), x, y + 29);
  cairo_close_path(c.cr());
  c.colour(kInk);
  cairo_fill(c.cr());
  cairo_move_to(c.cr(), x, y);
  cairo_line_to(c.cr(), x - 10, y + 38);
  cairo_line_to(c.cr(), x, y + 29);
  cairo_close_path(c.cr());
  c.line_width(1.2);
  cairo_stroke(c.cr());
  c.text(x - 26, y + 30, "N", 18, Align::Centre, true);
}

// The lowest of what stands beside the map, above the index of sheets; lower where the legend is long.
double MapMargin::inset(double from, double bottom) {
  constexpr double kHigh = 170, kWords = 12.5;
  Canvas& c = canvas_;
  const MapInset& inset = *field_.options.inset;
  const Grid grid = somewhere(inset.grid);
  const double most = field_.margins.right - kBeside - kAway;
  Frame f = pixel_frame(grid.frame(), most);
  if (static_cast<double>(f.rows()) > kHigh)
    f = pixel_frame(grid.frame(), std::max(16.0, std::floor(most * kHigh / static_cast<double>(f.rows()))));
  const double wide = static_cast<double>(f.cols()), high = static_cast<double>(f.rows());
  const double above = inset.label.empty() ? 0 : 20;
  const double x = field_.margins.left + width() + kBeside, y = std::max(bottom - high, from + kAway + above);
  c.colour(kInk);
  if (above > 0) c.text(x, y - 7, inset.label, kWords);
  c.paint(coloured(grid, f, {}, field_.options.run), f.cols(), {.corner = {x, y}, .photo = true});
  c.colour(kInk);
  c.line_width(1);
  c.box(x, y, wide, high);
  cairo_stroke_preserve(c.cr());
  cairo_save(c.cr());
  cairo_clip(c.cr());
  // Where the map lies: its outline, which another CRS bends. Never so small that it is not seen.
  const Transform t(field_.frame.crs(), f.crs());
  const Frame& m = field_.frame;
  Bounds seen;
  constexpr int kParts = 24;
  LineString outline;
  for (int side = 0; side < 4; ++side)
    for (int i = 0; i < kParts; ++i) {
      const double a = static_cast<double>(i) / kParts,
                   u = side == 0   ? a
                       : side == 1 ? 1
                       : side == 2 ? 1 - a
                                   : 0,
                   v = side == 0   ? 0
                       : side == 1 ? a
                       : side == 2 ? 1
                                   : 1 - a;
      const Point p = t.forward({m.west() + u * m.bounds().width(), m.north() - v * m.bounds().height()});
      outline.push_back({x + f.col_at(p.x), y + f.row_at(p.y)});
      seen.include(outline.back());
    }
  c.colour(pen_of(OverlayStyle::Area).colour);
  c.line_width(2);
  if (std::max(seen.width(), seen.height()) < 6)
    cairo_arc(c.cr(), seen.centre().x, seen.centre().y, 6, 0, 2 * std::numbers::pi);
  else
    for (const Point& p : outline) cairo_line_to(c.cr(), p.x, p.y);
  cairo_close_path(c.cr());
  cairo_stroke(c.cr());
  cairo_restore(c.cr());
  return y + high;
}

}  // namespace katoptra
