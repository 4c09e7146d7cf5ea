// A map for a page: the land in pixels, what lies on it as lines, and the margin that says what is seen (title, scale
// bar, north, colours with their unit).
#include "katoptra/view/map.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <numbers>
#include <optional>
#include <string>
#include <tuple>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/derivatives.hpp"

#include "base/text.hpp"
#include "canvas.hpp"
#include "jpeg.hpp"
#include "land.hpp"
#include "overlays.hpp"
#include "registration.hpp"

namespace katoptra {
namespace {

constexpr double kInch = 0.0254, kWordsPerInch = 150, kLeastBelow = 12;
constexpr double kMostSheets = 200, kMostPaperPixels = 1e8, kBytesPerLandPixel = 12;

// What a page has around the map; a bare picture has nothing.
struct Margins {
  double left = 96, top = 84, right = 230, bottom = 96;
};
constexpr Margins kOnPaper{.left = 88, .top = 70, .right = 216, .bottom = 80};

// Voids are hatched, so that they are no colour of the palette.
Colour void_colour(int r, int c) { return (r + c) % 10 < 2 ? Colour{0.72, 0.72, 0.74} : Colour{0.95, 0.95, 0.95}; }

// One of the sheets of a map that does not fit onto one.
struct Sheet {
  int col = 0, row = 0, across = 1, down = 1;
  std::string name() const { return fmt::format("{}{}", static_cast<char>('A' + row), col + 1); }
};

// All lengths are those of the page; on paper there are kWordsPerInch of them to an inch, whatever the printer's dots.
class MapPainter {
 public:
  // `lost`: the grid's CRS is made up. `fine`: pixels of the land to a length of the page.
  MapPainter(Canvas& canvas, const Grid& grid, bool lost, const MapOptions& options, const Frame& frame,
             double page_high, int fine = 1)
      : margins_(page_high > 0 ? kOnPaper : Margins()),
        grid_(grid),
        lost_(lost),
        options_(options),
        frame_(frame),
        page_high_(page_high),
        fine_(fine),
        canvas_(canvas),
        overlays_(canvas_, frame_, {margins_.left, margins_.top}, lost_) {}

  void without_land() { has_land_ = false; }
  void with_colours(const LandColours& colours) { colours_ = colours; }
  void with_sheet(const Sheet& sheet) { sheet_ = sheet; }

  void draw() {
    land();
    for (const MapOverlay& o : options_.overlays) overlays_.draw(o);
    cairo_reset_clip(canvas_.cr());
    if (options_.grid_lines) grid_lines();
    ticks();
    title();
    const double below = legend();
    if (page_high_ > 0 && below > page_high_ - kLeastBelow)
      throw Error(ErrorCode::BadArgument, "the page is too small for its legend", "map",
                  "take a larger --page, or draw less on it");
    scale_bar();
    north_arrow();
    if (sheet_.across * sheet_.down > 1) index();
  }
  // Where the map itself lies on the page.
  Bounds field() const { return {margins_.left, margins_.top, margins_.left + width(), margins_.top + height()}; }

 private:
  double width() const { return static_cast<double>(frame_.cols()); }
  double height() const { return static_cast<double>(frame_.rows()); }
  Point on_sheet(Point p) const { return {margins_.left + frame_.col_at(p.x), margins_.top + frame_.row_at(p.y)}; }
  bool heights() const { return grid_.quantity().kind == QuantityKind::Height; }

  void land() {
    Canvas& c = canvas_;
    if (has_land_) {
      cairo_surface_t* image = coloured();
      cairo_save(c.cr());
      cairo_translate(c.cr(), margins_.left, margins_.top);
      cairo_scale(c.cr(), 1.0 / fine_, 1.0 / fine_);
      if (options_.format == PictureFormat::Pdf) as_jpeg(image);
      cairo_set_source_surface(c.cr(), image, 0, 0);
      cairo_paint(c.cr());
      cairo_restore(c.cr());
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
    const Frame pixels(frame_.crs(), frame_.west(), frame_.north(), {frame_.cell().x / fine_, frame_.cell().y / fine_},
                       frame_.cols() * fine_, frame_.rows() * fine_);
    const std::vector<float> values = values_of(at_pixels(grid_, pixels), options_.run);
    if (!colours_) colours_.emplace(grid_.quantity(), values, options_.ramp, options_.classes);
    std::vector<float> light;
    if (options_.shade && heights())
      light = light_of(grid_from_values(pixels, values, grid_.quantity()), pixels.window(), options_.exaggeration);
    const auto cols = static_cast<int>(pixels.cols()), rows = static_cast<int>(pixels.rows());
    cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, cols, rows);
    unsigned char* data = cairo_image_surface_get_data(image);
    const int stride = cairo_image_surface_get_stride(image);
    for (int r = 0; r < rows; ++r) {
      auto* row = reinterpret_cast<std::uint32_t*>(data + static_cast<std::ptrdiff_t>(r) * stride);
      for (int col = 0; col < cols; ++col) {
        const auto i = static_cast<std::size_t>(r) * static_cast<std::size_t>(cols) + static_cast<std::size_t>(col);
        const Colour k = std::isnan(values[i]) ? void_colour(r / fine_, col / fine_)
                                               : colours_->at(values[i], light.empty() ? 0 : light[i]);
        auto byte = [](double v) { return static_cast<std::uint32_t>(std::lround(v * 255)); };
        row[col] = byte(k.red) << 16 | byte(k.green) << 8 | byte(k.blue);
      }
    }
    cairo_surface_mark_dirty(image);
    return image;
  }

  // Thin lines at the ticks, over everything, in the colour of the frame.
  void grid_lines() {
    Canvas& c = canvas_;
    c.line_width(0.6);
    c.colour(kInk, 0.45);
    const auto [xs, ys] = steps();
    const Bounds b = frame_.bounds();
    for (double v = std::ceil(b.west / xs) * xs; v <= b.east; v += xs)
      c.line(on_sheet({v, b.north}).x, margins_.top, on_sheet({v, b.north}).x, margins_.top + height());
    for (double v = std::ceil(b.south / ys) * ys; v <= b.north; v += ys)
      c.line(margins_.left, on_sheet({b.west, v}).y, margins_.left + width(), on_sheet({b.west, v}).y);
  }
  std::pair<double, double> steps() const {
    const Bounds b = frame_.bounds();
    return {axis_step(b.width(), std::max(2, static_cast<int>(width() / 190))),
            axis_step(b.height(), std::max(2, static_cast<int>(height() / 130)))};
  }

  void ticks() {
    Canvas& c = canvas_;
    c.colour(kInk);
    c.line_width(1.4);
    c.box(margins_.left, margins_.top, width(), height());
    cairo_stroke(c.cr());
    const Bounds b = frame_.bounds();
    const auto [xs, ys] = steps();
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
    std::string name = options_.title.empty() ? grid_.info().name : options_.title;
    if (sheet_.across * sheet_.down > 1) name += ", sheet " + sheet_.name();
    c.text(margins_.left, 36, name, 24, Align::Left, true);
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

  // Returns where it ends.
  double legend() {
    const double x = margins_.left + width() + 34;
    double y = margins_.top + 8;
    const Quantity& q = grid_.quantity();
    if (has_land_) y = class_legend(x, y, q.kind);
    if (has_land_ && classes_of(q.kind).empty() && q.kind != QuantityKind::Shade && q.kind != QuantityKind::Code)
      y = ramp_legend(x, y, q);
    for (const MapOverlay& o : options_.overlays) {
      if (o.style == OverlayStyle::Residuals) {
        y = residual_legend(x, y);
        continue;
      }
      const Pen p = pen_of(o.style);
      sign(x, y, o.style, p);
      canvas_.colour(kInk);
      canvas_.text(x + 36, y, o.label.empty() ? p.label : o.label, 15);
      y += 26;
    }
    return y;
  }

  double ramp_legend(double x, double y, const Quantity& q) {
    Canvas& c = canvas_;
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
    auto tick = [&](double v, const std::string& number) {
      const double at = y + (high - v) / (high - low) * tall;
      c.line(x + 26, at, x + 32, at);
      c.text(x + 38, at + 5, number, 15);
      return at;
    };
    const std::vector<double>& breaks = colours_->palette().breaks();
    double last = 1e9;
    for (const double v : breaks) {
      // Numbers of classes that are very narrow beside the others would stand in one another.
      const double at = y + (high - v) / (high - low) * tall;
      if (last - at >= 15) last = tick(v, fmt::format("{:.4g}", v));
    }
    const double step = colours_->magnitudes() ? std::max(1.0, std::round((high - low) / 7)) : axis_step(high - low, 7);
    for (double v = std::ceil(low / step - 1e-9) * step; breaks.empty() && v <= high + 1e-9 * step; v += step)
      tick(v, colours_->magnitudes() ? axis_label(std::pow(10, v), 1) : axis_label(v, step));
    y += tall + 34;
    return y;
  }

  // How something that is drawn over the land looks.
  void sign(double x, double y, OverlayStyle style, const Pen& p) {
    Canvas& c = canvas_;
    c.colour(p.colour);
    c.line_width(std::max(1.4, p.width));
    if (p.dashed) c.dashes({8, 4});
    if (style == OverlayStyle::Spots) {
      cairo_new_path(c.cr());
      cairo_move_to(c.cr(), x + 13, y - 10);
      cairo_line_to(c.cr(), x + 18, y - 1);
      cairo_line_to(c.cr(), x + 8, y - 1);
      cairo_close_path(c.cr());
      cairo_fill(c.cr());
    } else if (style == OverlayStyle::Points || style == OverlayStyle::Places) {
      cairo_new_path(c.cr());
      cairo_arc(c.cr(), x + 13, y - 5, style == OverlayStyle::Places ? 9 : 4.5, 0, 2 * std::numbers::pi);
      cairo_stroke(c.cr());
    } else if (style == OverlayStyle::Contours || style == OverlayStyle::Transect || style == OverlayStyle::Streams) {
      c.line(x, y - 5, x + 26, y - 5);
    } else {
      c.box(x + 1, y - 13, 24, 15);
      c.colour(p.colour, p.fill);
      cairo_fill_preserve(c.cr());
      c.colour(p.colour);
      cairo_stroke(c.cr());
    }
    c.dashes({});
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
    if (options_.paper && !lost_)
      c.text(x + w + 90, y + 9, "1:" + axis_label(per_pixel * kWordsPerInch / kInch, 1), 17, Align::Left, true);
  }

  // Where this sheet lies among the others.
  void index() {
    Canvas& c = canvas_;
    const double wide = 110, box = std::min(wide / sheet_.across, 70.0 / sheet_.down);
    const double x = margins_.left + width() + 34, y = margins_.top + height() - box * sheet_.down;
    for (int row = 0; row < sheet_.down; ++row)
      for (int col = 0; col < sheet_.across; ++col) {
        const bool here = row == sheet_.row && col == sheet_.col;
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
  bool lost_, has_land_ = true;
  const MapOptions& options_;
  Frame frame_;
  double page_high_;  // 0: as high as it takes
  int fine_;
  Canvas& canvas_;
  OverlayPainter overlays_;
  std::optional<LandColours> colours_;
  Sheet sheet_;
};

}  // namespace

namespace {

Picture draw_by_width(const Grid& grid, const MapOptions& options, bool land) {
  const Grid g = somewhere(grid);
  const bool lost = !grid.frame().crs();
  const Margins m;
  const int width = std::clamp(options.width, 400, 8000);
  const Frame frame = pixel_frame(g.frame(), width - m.left - m.right);
  Canvas canvas(options.format, width,
                std::max(560, static_cast<int>(static_cast<double>(frame.rows()) + m.top + m.bottom)));
  MapPainter painter(canvas, g, lost, options, frame, 0);
  if (!land) painter.without_land();
  painter.draw();
  Picture p = canvas.finish();
  if (p.format == PictureFormat::Pdf && !lost)
    register_pages(p, {{frame, painter.field()}}, options.title.empty() ? g.info().name : options.title);
  return p;
}

// The sheets that a grid takes on paper: each with the part of the ground that it shows.
struct PaperPlan {
  double wide = 0, high = 0;  // of the page
  double metres = 0;          // of ground in a length of the page
  std::vector<std::pair<Sheet, Frame>> sheets;
};

PaperPlan plan_of(const Frame& f, const MapOptions& o) {
  PaperPlan plan;
  plan.wide = o.paper->width.metres() / kInch * kWordsPerInch;
  plan.high = o.paper->height.metres() / kInch * kWordsPerInch;
  const Margins m = kOnPaper;
  const double across = std::floor(plan.wide - m.left - m.right), down = std::floor(plan.high - m.top - m.bottom);
  if (!(across >= 100 && down >= 100))
    throw Error(ErrorCode::BadArgument, "the page has no room for a map", "map", "take A6 or larger");
  if (plan.wide > 20'000 || plan.high > 20'000)
    throw Error(ErrorCode::TooLarge, "the page is larger than 3 m", "map", "take A0 or smaller");
  const GroundSpacing s = ground_spacing(f);
  const double ground_x = s.x.metres() * static_cast<double>(f.cols()),
               ground_y = s.y.metres() * static_cast<double>(f.rows());
  const double fits = std::max(ground_x / across, ground_y / down);
  plan.metres = o.scale > 0 ? o.scale * kInch / kWordsPerInch : fits;
  const double x = plan.metres * f.cell().x / s.x.metres(), y = plan.metres * f.cell().y / s.y.metres();
  const int nx = static_cast<int>(std::ceil(ground_x / plan.metres / across - 1e-6)),
            ny = static_cast<int>(std::ceil(ground_y / plan.metres / down - 1e-6));
  if (static_cast<double>(nx) * ny > kMostSheets || ny > 26)
    throw Error(ErrorCode::TooLarge, fmt::format("at that scale it takes {} x {} sheets", nx, ny), "map",
                fmt::format("1:{:.0f} fits onto one", std::ceil(fits * kWordsPerInch / kInch)));
  if (nx * ny > 1 && o.format != PictureFormat::Pdf)
    throw Error(
        ErrorCode::BadArgument, fmt::format("at that scale it takes {} x {} sheets, and a picture is one", nx, ny),
        "map",
        fmt::format("write .pdf, take a larger page, or a scale of 1:{:.0f}", std::ceil(fits * kWordsPerInch / kInch)));
  // The ground lies in the middle of its sheets; a sheet is no wider than the ground where one is enough.
  const double cols = nx == 1 ? std::min(across, std::ceil(ground_x / plan.metres)) : across,
               rows = ny == 1 ? std::min(down, std::ceil(ground_y / plan.metres)) : down;
  const Point middle = f.bounds().centre();
  const double west = middle.x - nx * cols * x / 2, north = middle.y + ny * rows * y / 2;
  for (int row = 0; row < ny; ++row)
    for (int col = 0; col < nx; ++col)
      plan.sheets.emplace_back(Sheet{col, row, nx, ny},
                               Frame(f.crs(), west + col * cols * x, north - row * rows * y, {x, y},
                                     static_cast<std::int64_t>(cols), static_cast<std::int64_t>(rows)));
  return plan;
}

Picture draw_on_paper(const Grid& grid, const MapOptions& options) {
  if (!grid.frame().crs() && options.scale > 0)
    throw Error(ErrorCode::Refused, "a scale needs a CRS, which says how large the ground is", grid.info().name,
                "tell it with --crs");
  const Grid g = somewhere(grid);
  const bool lost = !grid.frame().crs(), png = options.format == PictureFormat::Png;
  const PaperPlan plan = plan_of(g.frame(), options);
  const double scale = png ? static_cast<double>(options.dpi) / kWordsPerInch : 72.0 / kWordsPerInch;
  if (png && plan.wide * plan.high * scale * scale > kMostPaperPixels)
    throw Error(ErrorCode::TooLarge,
                fmt::format("a page of {:.0f} x {:.0f} pixels is too large", plan.wide * scale, plan.high * scale),
                "map", "take a smaller --dpi, or write .pdf");
  // 300 pixels of land to an inch, unless the page is so large that memory would not hold them.
  const double twice = 4 * kBytesPerLandPixel * plan.wide * plan.high;
  const int fine = (png && options.dpi <= kWordsPerInch) || twice > static_cast<double>(options.run.memory) ? 1 : 2;
  Canvas canvas(options.format, static_cast<int>(std::lround(plan.wide * scale)),
                static_cast<int>(std::lround(plan.high * scale)));
  canvas.within(static_cast<int>(plan.wide), static_cast<int>(plan.high));
  // Of the whole, so that all sheets have the same.
  const LandColours colours(g.quantity(), sample_of(g, options.run), options.ramp, options.classes);
  std::vector<RegisteredPlace> places;
  for (std::size_t i = 0; i < plan.sheets.size(); ++i) {
    if (i > 0) canvas.next_page();
    cairo_save(canvas.cr());
    cairo_scale(canvas.cr(), scale, scale);
    const auto& [sheet, frame] = plan.sheets[i];
    MapPainter painter(canvas, g, lost, options, frame, plan.high, fine);
    painter.with_colours(colours);
    painter.with_sheet(sheet);
    painter.draw();
    cairo_restore(canvas.cr());
    const Bounds b = painter.field();
    places.push_back({frame, {b.west * scale, b.south * scale, b.east * scale, b.north * scale}});
  }
  Picture p = canvas.finish();
  p.scale = plan.metres * kWordsPerInch / kInch;
  p.sheets = static_cast<int>(plan.sheets.size());
  if (p.format == PictureFormat::Pdf && !lost)
    register_pages(p, places, options.title.empty() ? g.info().name : options.title);
  return p;
}

}  // namespace

Picture draw_map(const Grid& grid, const MapOptions& options) {
  return options.paper ? draw_on_paper(grid, options) : draw_by_width(grid, options, true);
}

Picture draw_outlines(const Frame& frame, const MapOptions& options) {
  // Only the frame of this grid is looked at.
  const Frame one(frame.crs(), frame.west(), frame.north(), {frame.bounds().width(), frame.bounds().height()}, 1, 1);
  return draw_by_width(grid_from_values(one, {0}), options, false);
}

Paper parse_paper(std::string_view text, double wide_to_high) {
  std::string name = lower_case(std::string(text));
  std::optional<bool> across;
  for (const auto& [word, is] : {std::pair{"-landscape", true}, {"-portrait", false}})
    if (name.ends_with(word)) {
      across = is;
      name.resize(name.size() - std::string_view(word).size());
    }
  auto refuse = [&] {
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no size of paper", text), "page",
                "write A0 to A6, with -landscape or -portrait if it matters, or for instance 297mmx420mm");
  };
  if (name.size() == 2 && name[0] == 'a' && name[1] >= '0' && name[1] <= '6') {
    // ISO 216: each is half of the one before, in whole millimetres.
    int wide = 841, high = 1189;
    for (int i = name[1] - '0'; i > 0; --i) std::tie(wide, high) = std::pair{high / 2, wide};
    if (across.value_or(wide_to_high > 1)) std::swap(wide, high);
    return {Length::metres(wide / 1000.0), Length::metres(high / 1000.0)};
  }
  const auto at = name.find('x');
  if (at == name.npos || across) refuse();
  try {
    const Paper p{Length::parse(name.substr(0, at)), Length::parse(name.substr(at + 1))};
    if (p.width.metres() > 0 && p.height.metres() > 0) return p;
  } catch (const Error&) {
    refuse();
  }
  refuse();
  return {};
}

}  // namespace katoptra
