#include "overlays.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <string>
#include <tuple>
#include <utility>

namespace katoptra {
namespace {

constexpr double kNameSize = 13, kMarkSize = 4, kLetterSize = 16;

std::optional<double> property(const Feature& f, const char* name) {
  for (const auto& [key, value] : f.properties) {
    if (key != name) continue;
    if (const auto* d = std::get_if<double>(&value)) return *d;
    if (const auto* i = std::get_if<std::int64_t>(&value)) return static_cast<double>(*i);
  }
  return std::nullopt;
}

LineString on_sheet_all(LineString line, const OnSheet& placed) {
  std::transform(line.begin(), line.end(), line.begin(), placed);
  return line;
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
    case OverlayStyle::Reference:
      return {{0.76, 0.03, 0.50}, 1.0, 0, false, "reference contours"};
    case OverlayStyle::Waypoints:
      return {{0.45, 0.08, 0.12}, 1.4, 0, false, "waypoints"};
    case OverlayStyle::Lines:
      return {{0.25, 0.25, 0.28}, 1.4, 0, false, "lines"};
    case OverlayStyle::Areas:
      return {{0.36, 0.30, 0.46}, 1.4, 0.20, false, "areas"};
    case OverlayStyle::Raster:
    case OverlayStyle::Land:
      break;
  }
  return {};
}

Pen pen_of(const MapOverlay& o) {
  Pen p = pen_of(o.style);
  p.colour = o.look.colour.value_or(p.colour);
  p.width = o.look.width.value_or(p.width);
  p.fill = o.look.fill.value_or(p.fill);
  p.dashed = o.look.dashed.value_or(p.dashed);
  return p;
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

void OverlayPainter::draw(const std::vector<MapOverlay>& overlays, const RasterPixels& rasters, const DrawLand& land) {
  for (const MapOverlay& o : overlays) {
    if (o.style != OverlayStyle::Transect || (lost_ && o.layer.crs)) continue;
    const Transform t = to_frame(o.layer);
    for (const Feature& f : o.layer.features)
      if (const auto* l = std::get_if<LineString>(&f.geometry))
        place_letters(f, on_sheet_all(*l, [&](Point q) { return on_sheet(t.forward(q)); }));
  }
  place_names(overlays);
  const bool ordered =
      std::any_of(overlays.begin(), overlays.end(), [](const MapOverlay& o) { return o.style == OverlayStyle::Land; });
  if (!ordered) land({}, true);
  for (const MapOverlay& o : overlays)
    if (o.style == OverlayStyle::Land)
      land(o.look, &o == &overlays.front());
    else
      draw(o, rasters);
}

void OverlayPainter::draw(const MapOverlay& o, const RasterPixels& rasters) {
  if (o.raster) return raster(o, rasters);
  if (lost_ && o.layer.crs) return;
  const Pen p = pen_of(o);
  const Transform t = to_frame(o.layer);
  const OnSheet placed = [&](Point q) { return on_sheet(t.forward(q)); };
  switch (o.style) {
    case OverlayStyle::Residuals:
      return residuals(o.layer, t);
    case OverlayStyle::Contours:
    case OverlayStyle::Reference:
      return draw_contours(canvas_, o.layer, placed, sheet_, {.ink = p.colour, .width = p.width}, numbers_);
    case OverlayStyle::Spots:
      return draw_spots(canvas_, o.layer, placed, sheet_, numbers_);
    case OverlayStyle::Waypoints:
      return waypoints(o, p);
    default:
      break;
  }
  for (const Feature& f : o.layer.features) {
    double w = p.width;
    // A stream of each higher order is wider.
    if (o.style == OverlayStyle::Streams) w += 0.9 * (property(f, "strahler").value_or(1) - 1);
    const auto* l = std::get_if<LineString>(&f.geometry);
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry))
      areas(transformed(*m, t), p);
    else if (l)
      line(*l, t, p, w);
    else
      place(placed(std::get<Point>(f.geometry)), o.style);
    canvas_.colour(p.colour);
    canvas_.line_width(w);
    cairo_stroke(canvas_.cr());
    canvas_.dashes({});
    label(f, t, p.colour, o.look);
    if (o.style == OverlayStyle::Transect)
      for (const auto& [at, text] : letters_[&f]) {
        canvas_.text_clear(at.x, at.y + 0.36 * kLetterSize, text, kLetterSize, Align::Centre, p.colour);
        cairo_new_path(canvas_.cr());
      }
    if (l && !o.look.words.empty()) name_along(f, on_sheet_all(*l, placed), p.colour, o.look.words);
  }
}

// Only what is seen of it is made: of pictures that are made in bands, a band.
void OverlayPainter::raster(const MapOverlay& o, const RasterPixels& rasters) {
  Bounds seen;
  cairo_clip_extents(canvas_.cr(), &seen.west, &seen.south, &seen.east, &seen.north);
  const Window all = rasters.frame().window();
  const double fine = static_cast<double>(all.cols) / static_cast<double>(frame_.cols());
  auto within = [&](double at, double corner, std::int64_t most) {
    return std::clamp<std::int64_t>(std::llround((at - corner) * fine), 0, most);
  };
  const std::int64_t left = within(std::floor(seen.west), corner_.x, all.cols),
                     top = within(std::floor(seen.south), corner_.y, all.rows),
                     right = within(std::ceil(seen.east), corner_.x, all.cols),
                     bottom = within(std::ceil(seen.north), corner_.y, all.rows);
  if (left >= right || top >= bottom) return;
  const Pixels rgba = rasters.read(o, {left, top, right - left, bottom - top});
  if (rgba.empty()) return;
  canvas_.paint(rgba, right - left,
                {.corner = {corner_.x + static_cast<double>(left) / fine, corner_.y + static_cast<double>(top) / fine},
                 .pixel = 1 / fine,
                 .opacity = o.look.opacity,
                 .multiply = o.look.multiply,
                 .photo = true});
}

// Names choose their places before numbers of contours do: beside their mark, clear of all other marks.
void OverlayPainter::place_names(const std::vector<MapOverlay>& overlays) {
  std::vector<std::pair<const MapOverlay*, Named>> all;
  for (const MapOverlay& o : overlays) {
    if (o.style != OverlayStyle::Waypoints || (lost_ && o.layer.crs)) continue;
    const Transform t = to_frame(o.layer);
    for (const Feature& f : o.layer.features) {
      const auto* place = std::get_if<Point>(&f.geometry);
      const Point at = place ? on_sheet(t.forward(*place)) : Point{};
      if (!place || !sheet_.contains(at)) continue;
      const Property* word = property_of(f, o.look.words.empty() ? "name" : o.look.words);
      all.push_back({&o, {.at = at, .text = word ? text_of(*word) : ""}});
    }
  }
  auto hits_mark = [&](const Bounds& box) {
    return std::any_of(all.begin(), all.end(),
                       [&](const auto& n) { return box.grown(kMarkSize).contains(n.second.at); });
  };
  for (auto& [overlay, n] : all) {
    const double width = canvas_.text_width(n.text, kNameSize), beside = 2 * kMarkSize + width / 2,
                 above = 1.3 * kNameSize;
    for (const Point off : {Point{beside, 0},
                            {-beside, 0},
                            {0, -above},
                            {0, above},
                            {beside, -above},
                            {-beside, -above},
                            {beside, above},
                            {-beside, above}}) {
      const Point m{n.at.x + off.x, n.at.y + off.y};
      const Bounds box{m.x - width / 2, m.y - kNameSize / 2, m.x + width / 2, m.y + kNameSize / 2};
      if (n.text.empty() || box.west < sheet_.west || box.east > sheet_.east || box.south < sheet_.south ||
          box.north > sheet_.north || hits_mark(box) || !numbers_.take({m.x, -m.y}, 0, width))
        continue;
      n.middle = m;
      break;
    }
  }
  for (auto& [overlay, n] : all) {
    numbers_.keep({n.at.x, -n.at.y}, 0, kMarkSize);
    names_[overlay].push_back(std::move(n));
  }
}

void OverlayPainter::waypoints(const MapOverlay& o, const Pen& p) {
  cairo_t* cr = canvas_.cr();
  for (const Named& n : names_[&o]) {
    cairo_new_path(cr);
    for (const Point tip : {Point{0, -kMarkSize}, {kMarkSize, 0}, {0, kMarkSize}, {-kMarkSize, 0}})
      cairo_line_to(cr, n.at.x + tip.x, n.at.y + tip.y);
    cairo_close_path(cr);
    canvas_.colour(kPaper, 0.85);
    canvas_.line_width(2.6);
    cairo_stroke_preserve(cr);
    canvas_.colour(p.colour);
    cairo_fill(cr);
    if (n.middle)
      canvas_.text_clear(n.middle->x, n.middle->y + 0.36 * kNameSize, n.text, kNameSize, Align::Centre, p.colour);
  }
}

// Beyond its ends: A and A′ of the first line, B and B′ of the next. Of a line that leaves the sheet, beside the place
// where it does. They stand there before anything else looks for a place.
void OverlayPainter::place_letters(const Feature& f, const LineString& line) {
  constexpr double kBeyond = 13;
  if (line.size() < 2) return;
  const std::string letter(1, static_cast<char>('A' + lines_++ % 26));
  const Bounds room = sheet_.grown(-kLetterSize);
  auto place = [&](const LineString& from) -> std::optional<Point> {
    for (std::size_t i = 1; i < from.size(); ++i) {
      const Point a = from[i - 1], b = from[i];
      const double dx = b.x - a.x, dy = b.y - a.y, far = std::hypot(dx, dy);
      if (!(far > 0) || !std::isfinite(far)) continue;
      if (i == 1 && room.contains(a)) return Point{a.x - dx / far * kBeyond, a.y - dy / far * kBeyond};
      // Where this part of it comes in.
      double in = 0, out = 1;
      for (const auto& [at, along, low, high] :
           {std::tuple{a.x, dx, room.west, room.east}, {a.y, dy, room.south, room.north}}) {
        if (along == 0 && (at < low || at > high)) out = -1;
        if (along == 0) continue;
        in = std::max(in, std::min((low - at) / along, (high - at) / along));
        out = std::min(out, std::max((low - at) / along, (high - at) / along));
      }
      if (in <= out) return Point{a.x + in * dx - dy / far * kBeyond, a.y + in * dy + dx / far * kBeyond};
    }
    return std::nullopt;
  };
  const auto first = place(line), last = place({line.rbegin(), line.rend()});
  for (const auto& [at, text] : {std::pair{first, letter}, {last, letter + "\u2032"}}) {
    if (!at) continue;
    numbers_.keep({at->x, -at->y}, 0, kLetterSize);
    letters_[&f].emplace_back(*at, text);
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

// On straight stretches, upright to the reader.
void OverlayPainter::name_along(const Feature& f, LineString line, Colour ink, const std::string& words) {
  const Property* named = property_of(f, words);
  if (!named || text_of(*named).empty()) return;
  // Labels think of y as going up; of two ways to read a line the one that goes to the right is wanted.
  for (Point& p : line) p.y = -p.y;
  if (line.back().x < line.front().x) std::reverse(line.begin(), line.end());
  for (const LineLabel& l : numbers_.along(line, canvas_.text_width(text_of(*named), kNameSize)))
    canvas_.text_along(l.centre.x, -l.centre.y, text_of(*named), kNameSize,
                       std::cos(l.turn) < 0 ? std::numbers::pi - l.turn : -l.turn, ink);
  cairo_new_path(canvas_.cr());
}

// In the middle of what is seen of a polygon, when there is room.
void OverlayPainter::label(const Feature& f, const Transform& t, Colour colour, const OverlayLook& look) {
  const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
  const Property* named = property_of(f, look.words.empty() ? "label" : look.words);
  if (!shape || !named) return;
  const std::string text = text_of(*named);
  const Bounds b = bounds_of(transformed(*shape, t));
  const Point a = on_sheet({b.west, b.north}), z = on_sheet({b.east, b.south});
  const double left = std::max(a.x, sheet_.west), right = std::min(z.x, sheet_.east), top = std::max(a.y, sheet_.south),
               bottom = std::min(z.y, sheet_.north);
  if (right - left < canvas_.text_width(text, 13) + 8 || bottom - top < 20) return;
  const double x = (left + right) / 2, y = (top + bottom) / 2;
  // Words that a style asks for stand among others.
  if (!look.words.empty()) {
    if (numbers_.take({x, -y}, 0, canvas_.text_width(text, 13)))
      canvas_.text_clear(x, y + 5, text, 13, Align::Centre, colour);
  } else {
    canvas_.colour(colour);
    canvas_.text(x, y + 5, text, 13, Align::Centre);
  }
  cairo_new_path(canvas_.cr());
}

}  // namespace katoptra
