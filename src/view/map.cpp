// A map for a page: the land in pixels, what lies on it as lines, and the margin that says what is seen (title, scale
// bar, north, colours with their unit).
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
#include "land.hpp"
#include "overlays.hpp"
#include "registration.hpp"

namespace katoptra {
namespace {

// What a page has around the map; a bare picture has nothing.
struct Margins {
  double left = 96, top = 84, right = 230, bottom = 96;
};

// Voids are hatched, so that they are no colour of the palette.
Colour void_colour(int r, int c) { return (r + c) % 10 < 2 ? Colour{0.72, 0.72, 0.74} : Colour{0.95, 0.95, 0.95}; }

class MapPainter {
 public:
  MapPainter(const Grid& grid, const MapOptions& options, bool land = true)
      : grid_(somewhere(grid)),
        lost_(!grid.frame().crs()),
        has_land_(land),
        options_(options),
        frame_(pixel_frame(grid_.frame(), std::clamp(options.width, 400, 8000) - margins_.left - margins_.right)),
        canvas_(options.format, std::clamp(options.width, 400, 8000),
                std::max(560, static_cast<int>(height() + margins_.top + margins_.bottom))),
        overlays_(canvas_, frame_, {margins_.left, margins_.top}, lost_) {}

  Picture draw() {
    land();
    for (const MapOverlay& o : options_.overlays) overlays_.draw(o);
    cairo_reset_clip(canvas_.cr());
    ticks();
    title();
    legend();
    scale_bar();
    north_arrow();
    Picture p = canvas_.finish();
    if (p.format == PictureFormat::Pdf && !lost_)
      register_page(p, frame_, {margins_.left, margins_.top, margins_.left + width(), margins_.top + height()},
                    options_.title.empty() ? grid_.info().name : options_.title);
    return p;
  }

 private:
  double width() const { return static_cast<double>(frame_.cols()); }
  double height() const { return static_cast<double>(frame_.rows()); }
  Point on_sheet(Point p) const { return {margins_.left + frame_.col_at(p.x), margins_.top + frame_.row_at(p.y)}; }
  bool heights() const { return grid_.quantity().kind == QuantityKind::Height; }

  void land() {
    Canvas& c = canvas_;
    if (has_land_) {
      cairo_surface_t* image = coloured();
      cairo_set_source_surface(c.cr(), image, margins_.left, margins_.top);
      cairo_paint(c.cr());
      cairo_surface_destroy(image);
    } else {
      c.colour({0.965, 0.968, 0.96});
      c.box(margins_.left, margins_.top, width(), height());
      cairo_fill(c.cr());
    }
    c.box(margins_.left, margins_.top, width(), height());
    cairo_clip(c.cr());
  }

  cairo_surface_t* coloured() {
    std::vector<float> values;
    for_each_band(at_pixels(grid_, frame_), Planes::Values, options_.run,
                  [&](const Block& b) { values.insert(values.end(), b.row(0), b.row(0) + b.window().cells()); });
    colours_.emplace(grid_.quantity(), values);
    std::vector<float> light;
    if (options_.shade && heights())
      light = light_of(grid_from_values(frame_, values, grid_.quantity()), frame_.window(), options_.exaggeration);
    const auto cols = static_cast<int>(frame_.cols()), rows = static_cast<int>(frame_.rows());
    cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, cols, rows);
    unsigned char* data = cairo_image_surface_get_data(image);
    const int stride = cairo_image_surface_get_stride(image);
    for (int r = 0; r < rows; ++r) {
      auto* row = reinterpret_cast<std::uint32_t*>(data + static_cast<std::ptrdiff_t>(r) * stride);
      for (int col = 0; col < cols; ++col) {
        const auto i = static_cast<std::size_t>(r) * static_cast<std::size_t>(cols) + static_cast<std::size_t>(col);
        const Colour k =
            std::isnan(values[i]) ? void_colour(r, col) : colours_->at(values[i], light.empty() ? 0 : light[i]);
        auto byte = [](double v) { return static_cast<std::uint32_t>(std::lround(v * 255)); };
        row[col] = byte(k.red) << 16 | byte(k.green) << 8 | byte(k.blue);
      }
    }
    cairo_surface_mark_dirty(image);
    return image;
  }

  void ticks() {
    Canvas& c = canvas_;
    c.colour(kInk);
    c.line_width(1.4);
    c.box(margins_.left, margins_.top, width(), height());
    cairo_stroke(c.cr());
    const Bounds b = frame_.bounds();
    const double xs = axis_step(b.width(), std::max(2, static_cast<int>(width() / 190))),
                 ys = axis_step(b.height(), std::max(2, static_cast<int>(height() / 130)));
    c.line_width(1.2);
    for (double v = std::ceil(b.west / xs) * xs; v <= b.east; v += xs) {
      const double x = on_sheet({v, b.north}).x;
      c.line(x, margins_.top + height(), x, margins_.top + height() + 7);
      c.line(x, margins_.top - 7, x, margins_.top);
      c.text(x, margins_.top + height() + 25, coordinate(v, xs, true), 15, Align::Centre);
    }
    for (double v = std::ceil(b.south / ys) * ys; v <= b.north; v += ys) {
      const double y = on_sheet({b.west, v}).y;
      c.line(margins_.left - 7, y, margins_.left, y);
      c.line(margins_.left + width(), y, margins_.left + width() + 7, y);
      // At a corner the number would run into that of the other axis.
      const double room = c.text_width(coordinate(v, ys, false), 15) / 2;
      c.text_upright(margins_.left - 14,
                     std::clamp(y, margins_.top + room, std::max(margins_.top + room, margins_.top + height() - room)),
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
    c.text(margins_.left, 36, options_.title.empty() ? grid_.info().name : options_.title, 24, Align::Left, true);
    c.colour(kQuiet);
    const GroundSpacing s = ground_spacing(grid_.frame());
    std::string facts =
        lost_ ? "no CRS"
              : fmt::format("{}{}", frame_.crs().name(), frame_.crs().epsg() ? " (" + frame_.crs().code() + ")" : "");
    if (!options_.subtitle.empty()) {
      c.text(margins_.left, 62, options_.subtitle, 15);
      return;
    }
    facts += fmt::format("; cells of {:.3g} × {:.3g} m on the ground", s.x.metres(), s.y.metres());
    if (heights()) facts += "; heights: " + grid_.quantity().heights.name();
    c.text(margins_.left, 62, facts, 15);
  }

  void legend() {
    Canvas& c = canvas_;
    const double x = margins_.left + width() + 34;
    double y = margins_.top + 8;
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
      const double tall = std::clamp(height() * 0.45, 160.0, 360.0), low = colours_->palette().lowest(),
                   high = colours_->palette().highest();
      y += 26;
      for (int i = 0; i < static_cast<int>(tall); ++i) {
        c.colour(colours_->palette().at(high - (high - low) * (i + 0.5) / tall));
        c.box(x, y + i, 26, 1.5);
        cairo_fill(c.cr());
      }
      c.colour(kInk);
      c.line_width(1);
      c.box(x, y, 26, tall);
      cairo_stroke(c.cr());
      const double step =
          colours_->magnitudes() ? std::max(1.0, std::round((high - low) / 7)) : axis_step(high - low, 7);
      for (double v = std::ceil(low / step - 1e-9) * step; v <= high + 1e-9 * step; v += step) {
        const double at = y + (high - v) / (high - low) * tall;
        c.line(x + 26, at, x + 32, at);
        c.text(x + 38, at + 5, colours_->magnitudes() ? axis_label(std::pow(10, v), 1) : axis_label(v, step), 15);
      }
      y += tall + 34;
    }
    for (const MapOverlay& o : options_.overlays) {
      const Pen p = pen_of(o.style);
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
      canvas_.colour(colours_->palette().at(code++));
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
      overlays_.disc({x + 19, y - 5}, sign * overlays_.most_residual(), false);
      c.colour(kInk);
      c.text(x + 48, y, fmt::format("{}{:.3f} {}", sign > 0 ? "+" : "\u2212", overlays_.most_residual(), unit), 15);
      y += 42;
    }
    overlays_.disc({x + 19, y - 5}, 0, true);
    c.colour(kInk);
    c.text(x + 48, y, "outlier", 15);
    return y + 30;
  }

  void scale_bar() {
    Canvas& c = canvas_;
    const double per_pixel = ground_spacing(frame_).x.metres();
    const double length = axis_step(per_pixel * std::min(width() * 0.35, 360.0) * 0.4, 1);
    const double w = length / per_pixel, x = margins_.left, y = margins_.top + height() + 50;
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
    const double x = margins_.left + width() - 24, y = margins_.top + height() + 42;
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

  Margins margins_;
  Grid grid_;
  bool lost_, has_land_;
  const MapOptions& options_;
  Frame frame_;
  Canvas canvas_;
  OverlayPainter overlays_;
  std::optional<LandColours> colours_;
};

}  // namespace

Picture draw_map(const Grid& grid, const MapOptions& options) { return MapPainter(grid, options).draw(); }

Picture draw_outlines(const Frame& frame, const MapOptions& options) {
  // Only the frame of this grid is looked at.
  const Frame one(frame.crs(), frame.west(), frame.north(), {frame.bounds().width(), frame.bounds().height()}, 1, 1);
  return MapPainter(grid_from_values(one, {0}), options, false).draw();
}

}  // namespace katoptra
