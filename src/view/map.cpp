// A map for a page: the land in pixels, what lies on it as lines, and the margin that says what is seen (title, scale
// bar, north, colours with their unit). The land is read at pixel size, in bands: the mean of cells where they are
// finer than pixels, bilinear where they are coarser. Colours go by what the values are (Colouring of the quantity);
// shading changes their lightness alone, in a space where equal steps look equal, so a hill's colour stays the colour
// of its height.
#include "katoptra/view/map.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <numbers>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "canvas.hpp"
#include "map_lines.hpp"

namespace katoptra {
namespace {

constexpr double kLeft = 96, kTop = 84, kRight = 230, kBottom = 96;

// The picture of the land itself: a frame whose cells are pixels, as high as wide on the ground.
Frame pixel_frame(const Frame& f, double width) {
  const GroundSpacing s = ground_spacing(f);
  const double ground_x = s.x.metres() / f.cell().x, ground_y = s.y.metres() / f.cell().y;  // metres per unit
  const double cell_x = f.bounds().width() / width, cell_y = cell_x * ground_x / ground_y;
  const double rows = std::clamp(f.bounds().height() / cell_y, 1.0, 16000.0);
  return {f.crs(),
          f.west(),
          f.north(),
          {cell_x, f.bounds().height() / std::ceil(rows)},
          std::llround(width),
          static_cast<std::int64_t>(std::ceil(rows))};
}

// Reads a grid at pixel size. Where pixels are finer than cells, bilinear: a picture must not add swings of its own.
std::vector<float> pixels_of(const Grid& grid, const Frame& to, const RunOptions& run) {
  Resampling method = resolved(Resampling::Automatic, grid, to);
  if (method == Resampling::Cubic) method = Resampling::Bilinear;
  std::vector<float> out(static_cast<std::size_t>(to.cols() * to.rows()));
  std::int64_t at = 0;
  for_each_band(reproject(grid, to, method), Planes::Values, run, [&](const Block& b) {
    std::copy_n(b.row(0), b.window().cells(), out.data() + at);
    at += b.window().cells();
  });
  return out;
}

// For differences, the range that 99 of 100 pixels keep, the same on both sides of zero.
double difference_reach(const std::vector<float>& pixels) {
  std::vector<float> sizes;
  for (float v : pixels)
    if (!std::isnan(v)) sizes.push_back(std::abs(v));
  if (sizes.empty()) return 1;
  const auto at = sizes.begin() + static_cast<std::ptrdiff_t>(static_cast<double>(sizes.size() - 1) * 0.99);
  std::nth_element(sizes.begin(), at, sizes.end());
  return static_cast<double>(*at);
}

// The range that colours are spread over: all of it for heights; for others up to where only two in a thousand pixels
// lie beyond, so that one steep cell does not pale the rest.
std::pair<double, double> colour_range(const std::vector<float>& pixels, bool whole) {
  std::vector<float> known;
  std::copy_if(pixels.begin(), pixels.end(), std::back_inserter(known), [](float v) { return !std::isnan(v); });
  if (known.empty()) return {0, 0};
  const auto [low, high] = std::minmax_element(known.begin(), known.end());
  const auto lowest = static_cast<double>(*low), highest = static_cast<double>(*high);
  if (whole) return {lowest, highest};
  const auto beyond = static_cast<std::ptrdiff_t>(static_cast<double>(known.size()) * 0.998);
  std::nth_element(known.begin(), known.begin() + std::min<std::ptrdiff_t>(beyond, std::ssize(known) - 1), known.end());
  const auto most = static_cast<double>(known[std::min(static_cast<std::size_t>(beyond), known.size() - 1)]);
  return {lowest, most > lowest ? most : highest};
}

Palette palette_for(QuantityKind kind, double low, double high, double reach) {
  switch (colouring_of(kind)) {
    case Colouring::LandAndSea:
      return Palette::land_and_sea(low, high);
    case Colouring::Grey:
      return kind == QuantityKind::Shade ? Palette::grey(0, 255) : Palette::grey(low, high);
    case Colouring::Classes:
      return Palette::classes(kind);
    case Colouring::Directions:
      return Palette::directions();
    case Colouring::AroundZero:
      return Palette::around_zero(reach);
    case Colouring::Magnitudes:
    case Colouring::Plain:
      break;
  }
  return Palette::plain(low, high);
}

class MapPainter {
 public:
  MapPainter(const Grid& grid, const MapOptions& options, bool land = true)
      : grid_(grid.frame().crs()
                  ? grid
                  : relabelled(grid,
                               [](GridInfo& i) {
                                 i.frame = i.frame.with_crs(Crs::parse("+proj=utm +zone=31 +datum=WGS84 +type=crs"));
                               })),
        lost_(!grid.frame().crs()),
        has_land_(land),
        options_(options),
        frame_(pixel_frame(grid_.frame(), std::clamp(options.width, 400, 8000) - kLeft - kRight)),
        canvas_(options.format, std::clamp(options.width, 400, 8000),
                std::max(560, static_cast<int>(static_cast<double>(frame_.rows()) + kTop + kBottom))),
        palette_(Palette::grey(0, 1)) {}

  Picture draw() {
    land();
    for (const MapOverlay& o : options_.overlays) overlay(o);
    cairo_reset_clip(canvas_.cr());
    ticks();
    title();
    legend();
    scale_bar();
    north_arrow();
    return canvas_.finish();
  }

 private:
  double width() const { return static_cast<double>(frame_.cols()); }
  double height() const { return static_cast<double>(frame_.rows()); }
  Point on_sheet(Point p) const { return {kLeft + frame_.col_at(p.x), kTop + frame_.row_at(p.y)}; }
  bool magnitudes() const { return colouring_of(grid_.quantity().kind) == Colouring::Magnitudes; }
  bool heights() const { return grid_.quantity().kind == QuantityKind::Height; }

  void land() {
    if (!has_land_) {
      canvas_.colour({0.965, 0.968, 0.96});
      canvas_.box(kLeft, kTop, width(), height());
      cairo_fill(canvas_.cr());
      canvas_.box(kLeft, kTop, width(), height());
      cairo_clip(canvas_.cr());
      return;
    }
    std::vector<float> values = pixels_of(grid_, frame_, options_.run);
    if (magnitudes())
      for (float& v : values) v = v > 0 ? std::log10(v) : kVoid;
    const auto [low, high] = colour_range(values, heights());
    palette_ = palette_for(grid_.quantity().kind, low, high, difference_reach(values));
    const bool shade = options_.shade && heights();
    std::vector<float> light;
    if (shade) {
      const Grid small = grid_from_values(frame_, values, grid_.quantity());
      const Block b = hillshade(small, {.exaggeration = options_.exaggeration}).read(frame_.window());
      light.assign(b.row(0), b.row(0) + b.window().cells());
    }
    const auto cols = static_cast<int>(frame_.cols()), rows = static_cast<int>(frame_.rows());
    cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, cols, rows);
    unsigned char* data = cairo_image_surface_get_data(image);
    const int stride = cairo_image_surface_get_stride(image);
    const double flat = 1 + 254 * std::sin(std::numbers::pi / 4);
    for (int r = 0; r < rows; ++r) {
      auto* row = reinterpret_cast<std::uint32_t*>(data + static_cast<std::ptrdiff_t>(r) * stride);
      for (int c = 0; c < cols; ++c) {
        const auto i = static_cast<std::size_t>(r) * static_cast<std::size_t>(cols) + static_cast<std::size_t>(c);
        const double lit = shade ? 0.55 + 0.45 * static_cast<double>(light[i]) / flat : 1;
        const Colour k = std::isnan(values[i]) ? void_colour(r, c) : palette_.at(static_cast<double>(values[i]), lit);
        auto byte = [](double v) { return static_cast<std::uint32_t>(std::lround(v * 255)); };
        row[c] = byte(k.red) << 16 | byte(k.green) << 8 | byte(k.blue);
      }
    }
    cairo_surface_mark_dirty(image);
    cairo_set_source_surface(canvas_.cr(), image, kLeft, kTop);
    cairo_paint(canvas_.cr());
    cairo_surface_destroy(image);
    canvas_.box(kLeft, kTop, width(), height());
    cairo_clip(canvas_.cr());
  }

  // Voids are hatched, so that they are no colour of the palette.
  static Colour void_colour(int r, int c) {
    return (r + c) % 10 < 2 ? Colour{0.72, 0.72, 0.74} : Colour{0.95, 0.95, 0.95};
  }

  struct Pen {
    Colour colour;
    double width, fill;
    bool dashed;
    const char* label;
  };
  static Pen pen(OverlayStyle style) {
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

  void path(const LineString& line, bool close) {
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

  void overlay(const MapOverlay& o) {
    if (lost_ && o.layer.crs) return;
    const Pen p = pen(o.style);
    const Transform t(o.layer.crs ? o.layer.crs : frame_.crs(), frame_.crs());
    if (o.style == OverlayStyle::Residuals) return residuals(o.layer, t);
    const Bounds sheet{kLeft, kTop, kLeft + width(), kTop + height()};
    const OnSheet placed = [&](Point q) { return on_sheet(t.forward(q)); };
    if (!numbers_) numbers_ = numbers_within(sheet);
    if (o.style == OverlayStyle::Contours) return draw_contours(canvas_, o.layer, placed, sheet, p.colour, *numbers_);
    if (o.style == OverlayStyle::Spots) return draw_spots(canvas_, o.layer, placed, sheet, *numbers_);
    for (const Feature& f : o.layer.features) {
      double w = p.width;
      // A stream of each higher order is wider.
      if (o.style == OverlayStyle::Streams) w += 0.9 * (property(f, "strahler").value_or(1) - 1);
      if (const auto* m = std::get_if<MultiPolygon>(&f.geometry)) {
        for (const Polygon& poly : transformed(*m, t)) {
          path(poly.outer, true);
          for (const Ring& hole : poly.holes) path(hole, true);
        }
        cairo_set_fill_rule(canvas_.cr(), CAIRO_FILL_RULE_EVEN_ODD);
        if (p.fill > 0) {
          canvas_.colour(p.colour, p.fill);
          cairo_fill_preserve(canvas_.cr());
        }
      } else if (const auto* l = std::get_if<LineString>(&f.geometry)) {
        LineString line = *l;
        t.forward(line);
        path(line, false);
        if (p.dashed) {  // a pale edge under it, readable on every ground
          canvas_.colour(kPaper, 0.85);
          canvas_.line_width(w + 2.4);
          cairo_stroke_preserve(canvas_.cr());
          canvas_.dashes({10, 5});
        }
      } else {
        const Point q = on_sheet(t.forward(std::get<Point>(f.geometry)));
        cairo_new_path(canvas_.cr());
        if (o.style == OverlayStyle::Places) {
          cairo_arc(canvas_.cr(), q.x, q.y, 11, 0, 2 * std::numbers::pi);
        } else {
          cairo_arc(canvas_.cr(), q.x, q.y, 4.5, 0, 2 * std::numbers::pi);
          canvas_.colour(kPaper);
          cairo_fill_preserve(canvas_.cr());
        }
      }
      canvas_.colour(p.colour);
      canvas_.line_width(w);
      cairo_stroke(canvas_.cr());
      canvas_.dashes({});
      label(f, t, p.colour);
    }
  }

  static std::optional<double> property(const Feature& f, const char* name) {
    for (const auto& [key, value] : f.properties) {
      if (key != name) continue;
      if (const auto* d = std::get_if<double>(&value)) return *d;
      if (const auto* i = std::get_if<std::int64_t>(&value)) return static_cast<double>(*i);
    }
    return std::nullopt;
  }

  // A disc at each point, as large as its residual is beside the largest that is no outlier.
  void residuals(const Layer& layer, const Transform& t) {
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

  void disc(Point at, double residual, bool outlier) {
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
  void label(const Feature& f, const Transform& t, Colour colour) {
    const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
    const auto named =
        std::find_if(f.properties.begin(), f.properties.end(), [](auto& p) { return p.first == "label"; });
    if (!shape || named == f.properties.end() || !std::holds_alternative<std::string>(named->second)) return;
    const std::string& text = std::get<std::string>(named->second);
    const Bounds b = bounds_of(transformed(*shape, t));
    const Point a = on_sheet({b.west, b.north}), z = on_sheet({b.east, b.south});
    const double left = std::max(a.x, kLeft), right = std::min(z.x, kLeft + width()), top = std::max(a.y, kTop),
                 bottom = std::min(z.y, kTop + height());
    if (right - left < canvas_.text_width(text, 13) + 8 || bottom - top < 20) return;
    canvas_.colour(colour);
    canvas_.text((left + right) / 2, (top + bottom) / 2 + 5, text, 13, Align::Centre);
    cairo_new_path(canvas_.cr());
  }

  void ticks() {
    Canvas& c = canvas_;
    c.colour(kInk);
    c.line_width(1.4);
    c.box(kLeft, kTop, width(), height());
    cairo_stroke(c.cr());
    const Bounds b = frame_.bounds();
    const double xs = axis_step(b.width(), std::max(2, static_cast<int>(width() / 190))),
                 ys = axis_step(b.height(), std::max(2, static_cast<int>(height() / 130)));
    c.line_width(1.2);
    for (double v = std::ceil(b.west / xs) * xs; v <= b.east; v += xs) {
      const double x = on_sheet({v, b.north}).x;
      c.line(x, kTop + height(), x, kTop + height() + 7);
      c.line(x, kTop - 7, x, kTop);
      c.text(x, kTop + height() + 25, coordinate(v, xs, true), 15, Align::Centre);
    }
    for (double v = std::ceil(b.south / ys) * ys; v <= b.north; v += ys) {
      const double y = on_sheet({b.west, v}).y;
      c.line(kLeft - 7, y, kLeft, y);
      c.line(kLeft + width(), y, kLeft + width() + 7, y);
      // At a corner the number would run into that of the other axis.
      const double room = c.text_width(coordinate(v, ys, false), 15) / 2;
      c.text_upright(kLeft - 14, std::clamp(y, kTop + room, std::max(kTop + room, kTop + height() - room)),
                     coordinate(v, ys, false), 15);
    }
  }

  std::string coordinate(double v, double step, bool east) const {
    if (!frame_.crs().is_geographic()) return axis_label(v, step);
    return axis_label(std::abs(v), step) + "° " + (east ? (v < 0 ? "W" : "E") : (v < 0 ? "S" : "N"));
  }

  void title() {
    Canvas& c = canvas_;
    c.colour(kInk);
    c.text(kLeft, 36, options_.title.empty() ? grid_.info().name : options_.title, 24, Align::Left, true);
    c.colour(kQuiet);
    const GroundSpacing s = ground_spacing(grid_.frame());
    std::string facts =
        lost_ ? "no CRS"
              : fmt::format("{}{}", frame_.crs().name(), frame_.crs().epsg() ? " (" + frame_.crs().code() + ")" : "");
    if (!options_.subtitle.empty()) {
      c.text(kLeft, 62, options_.subtitle, 15);
      return;
    }
    facts += fmt::format("; cells of {:.3g} × {:.3g} m on the ground", s.x.metres(), s.y.metres());
    if (heights()) facts += "; heights: " + grid_.quantity().heights.name();
    c.text(kLeft, 62, facts, 15);
  }

  void legend() {
    Canvas& c = canvas_;
    const double x = kLeft + width() + 34;
    double y = kTop + 8;
    const Quantity& q = grid_.quantity();
    if (has_land_) y = class_legend(x, y, q.kind);
    if (has_land_ && classes_of(q.kind).empty() && q.kind != QuantityKind::Shade && q.kind != QuantityKind::Code) {
      c.colour(kInk);
      const std::string unit = unit_name(q);
      // Of what has no name, the unit says what it is.
      const std::string what = q.kind == QuantityKind::Unknown && !unit.empty()
                                   ? unit
                                   : name_of(q.kind) + (unit.empty() ? std::string() : " (" + unit + ")");
      c.text(x, y + 8, what, 16, Align::Left, true);
      const double tall = std::clamp(height() * 0.45, 160.0, 360.0), low = palette_.lowest(), high = palette_.highest();
      y += 26;
      for (int i = 0; i < static_cast<int>(tall); ++i) {
        c.colour(palette_.at(high - (high - low) * (i + 0.5) / tall));
        c.box(x, y + i, 26, 1.5);
        cairo_fill(c.cr());
      }
      c.colour(kInk);
      c.line_width(1);
      c.box(x, y, 26, tall);
      cairo_stroke(c.cr());
      const double step = magnitudes() ? std::max(1.0, std::round((high - low) / 7)) : axis_step(high - low, 7);
      for (double v = std::ceil(low / step - 1e-9) * step; v <= high + 1e-9 * step; v += step) {
        const double at = y + (high - v) / (high - low) * tall;
        c.line(x + 26, at, x + 32, at);
        c.text(x + 38, at + 5, magnitudes() ? axis_label(std::pow(10, v), 1) : axis_label(v, step), 15);
      }
      y += tall + 34;
    }
    for (const MapOverlay& o : options_.overlays) {
      const Pen p = pen(o.style);
      if (o.style == OverlayStyle::Residuals) {
        y = residual_legend(x, y);
        continue;
      }
      c.colour(p.colour);
      c.line_width(std::max(1.4, p.width));
      if (p.dashed) c.dashes({8, 4});
      if (o.style == OverlayStyle::Spots) {
        cairo_new_path(c.cr());
        cairo_move_to(c.cr(), x + 13, y - 10);
        cairo_line_to(c.cr(), x + 18, y - 1);
        cairo_line_to(c.cr(), x + 8, y - 1);
        cairo_close_path(c.cr());
        cairo_fill(c.cr());
      } else if (o.style == OverlayStyle::Points || o.style == OverlayStyle::Places) {
        cairo_new_path(c.cr());
        cairo_arc(c.cr(), x + 13, y - 5, o.style == OverlayStyle::Places ? 9 : 4.5, 0, 2 * std::numbers::pi);
        cairo_stroke(c.cr());
      } else if (o.style == OverlayStyle::Contours || o.style == OverlayStyle::Transect ||
                 o.style == OverlayStyle::Streams) {
        c.line(x, y - 5, x + 26, y - 5);
      } else {
        c.box(x + 1, y - 13, 24, 15);
        c.colour(p.colour, p.fill);
        cairo_fill_preserve(c.cr());
        c.colour(p.colour);
        cairo_stroke(c.cr());
      }
      c.dashes({});
      c.colour(kInk);
      c.text(x + 36, y, o.label.empty() ? p.label : o.label, 15);
      y += 26;
    }
  }

  double class_legend(double x, double y, QuantityKind kind) {
    double code = 1;
    for (const char* name : classes_of(kind)) {
      canvas_.colour(palette_.at(code++));
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

  double residual_legend(double x, double y) {
    Canvas& c = canvas_;
    const std::string unit = unit_name(grid_.quantity());
    c.colour(kInk);
    c.text(x, y, "surface less known", 15, Align::Left, true);
    y += 36;
    for (const double sign : {1.0, -1.0}) {
      disc({x + 19, y - 5}, sign * most_residual_, false);
      c.colour(kInk);
      c.text(x + 48, y, fmt::format("{}{:.3f} {}", sign > 0 ? "+" : "\u2212", most_residual_, unit), 15);
      y += 42;
    }
    disc({x + 19, y - 5}, 0, true);
    c.colour(kInk);
    c.text(x + 48, y, "outlier", 15);
    return y + 30;
  }

  void scale_bar() {
    Canvas& c = canvas_;
    const double per_pixel = ground_spacing(frame_).x.metres();
    const double length = axis_step(per_pixel * std::min(width() * 0.35, 360.0) * 0.4, 1);
    const double w = length / per_pixel, x = kLeft, y = kTop + height() + 50;
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
    c.text(x, y + 28, "0", 15, Align::Centre);
    c.text(x + w / 2, y + 28, label(length / 2), 15, Align::Centre);
    c.text(x + w, y + 28, label(length), 15, Align::Centre);
    c.text(x + w + c.text_width(label(length), 15) / 2 + 6, y + 28, km ? "km" : "m", 15);
  }

  void north_arrow() {
    Canvas& c = canvas_;
    const double x = kLeft + width() - 24, y = kTop + height() + 42;
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

  Grid grid_;
  bool lost_, has_land_;
  const MapOptions& options_;
  Frame frame_;
  Canvas canvas_;
  Palette palette_;
  double most_residual_ = 0;
  std::optional<LineLabels> numbers_;
};

}  // namespace

Picture draw_map(const Grid& grid, const MapOptions& options) { return MapPainter(grid, options).draw(); }

Picture draw_outlines(const Frame& frame, const MapOptions& options) {
  // Only the frame of this grid is looked at.
  const Frame one(frame.crs(), frame.west(), frame.north(), {frame.bounds().width(), frame.bounds().height()}, 1, 1);
  return MapPainter(grid_from_values(one, {0}), options, false).draw();
}

}  // namespace katoptra
