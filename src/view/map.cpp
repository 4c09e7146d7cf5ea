// A map for a page: the land in pixels, what lies on it as lines, and the margin that says what is seen (title, scale
// bar, north, colours with their unit).
#include "katoptra/view/map.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <optional>
#include <string>
#include <tuple>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/text.hpp"
#include "canvas.hpp"
#include "graticule.hpp"
#include "land.hpp"
#include "margin.hpp"
#include "overlays.hpp"
#include "registration.hpp"

namespace katoptra {
namespace {

constexpr double kLeastBelow = 12, kMostSheets = 200, kMostPaperPixels = 1e8, kBytesPerLandPixel = 16;

// Voids are hatched, so that they are no colour of the palette.
Colour void_colour(int r, int c) { return (r + c) % 10 < 2 ? Colour{0.72, 0.72, 0.74} : Colour{0.95, 0.95, 0.95}; }

// All lengths are those of the page; on paper there are kWordsPerInch of them to an inch, whatever the printer's dots.
class MapPainter {
 public:
  // `fine`: pixels of the land to a length of the page.
  MapPainter(Canvas& canvas, const MapField& field, int fine = 1)
      : canvas_(canvas),
        field_(field),
        fine_(fine),
        overlays_(canvas_, field.frame, {field.margins.left, field.margins.top}, field.lost) {}

  void without_land() { has_land_ = false; }
  void with_colours(const LandColours& colours) { colours_ = colours; }

  // Returns how far down what stands beside the map reaches.
  double draw(const RasterColours& colours) {
    const MapOptions& o = field_.options;
    const RasterPixels rasters(o.overlays, colours, finer(field_.frame, fine_), field_.lost);
    const Bounds box = field_.box();
    std::optional<Graticule> lines;
    if (o.graticule) {
      if (field_.lost)
        throw Error(ErrorCode::Refused, "a graticule needs a CRS of the surface, too", "map", "tell it with --crs");
      lines.emplace(*o.graticule, field_, canvas_, overlays_.numbers());
    }
    canvas_.box(box.west, box.south, box.width(), box.height());
    cairo_clip(canvas_.cr());
    overlays_.draw(o.overlays, rasters, [&](const OverlayLook& look, bool is_lowest) { land(look, is_lowest); });
    if (lines) lines->draw(canvas_);
    cairo_reset_clip(canvas_.cr());
    return MapMargin(canvas_, field_).draw(has_land_ ? &*colours_ : nullptr, colours, overlays_);
  }

 private:
  void land(const OverlayLook& look, bool is_lowest) {
    const Bounds box = field_.box();
    if (!has_land_) {
      canvas_.colour({0.965, 0.968, 0.96});
      canvas_.box(box.west, box.south, box.width(), box.height());
      cairo_fill(canvas_.cr());
      return;
    }
    canvas_.paint(coloured(is_lowest), field_.frame.cols() * fine_,
                  {.corner = {box.west, box.south},
                   .pixel = 1.0 / fine_,
                   .opacity = look.opacity,
                   .multiply = look.multiply,
                   .photo = true});
  }

  // Voids are clear where something lies below.
  Pixels coloured(bool is_lowest) {
    const Frame pixels = finer(field_.frame, fine_);
    const MapOptions& o = field_.options;
    const std::vector<float> values = values_of(at_pixels(field_.grid, pixels), o.run);
    if (!colours_) colours_.emplace(field_.grid.quantity(), values, o.land);
    const bool lit = is_lit(o.land, field_.grid.quantity());
    if (!colours_->is_prepared()) colours_->prepare(lit);
    std::vector<float> light;
    if (lit) light = values_of(light_over(grid_from_values(pixels, values, field_.grid.quantity()), o.land), o.run);
    Pixels out(values.size() * 4);
    const auto cols = static_cast<std::size_t>(pixels.cols());
    parallel_within(static_cast<std::size_t>(pixels.rows()), [&](std::size_t row) {
      for (std::size_t i = row * cols; i < (row + 1) * cols; ++i) {
        const bool is_void = std::isnan(values[i]);
        if (is_void && !is_lowest) continue;
        if (is_void) {
          const Colour k = void_colour(static_cast<int>(row) / fine_, static_cast<int>(i % cols) / fine_);
          auto byte = [](double v) { return static_cast<std::uint8_t>(std::lround(v * 255)); };
          out[4 * i] = byte(k.red);
          out[4 * i + 1] = byte(k.green);
          out[4 * i + 2] = byte(k.blue);
        } else {
          const auto& k = colours_->bytes(values[i], light.empty() ? 0 : light[i]);
          for (std::size_t j = 0; j < 3; ++j) out[4 * i + j] = k[j];
        }
        out[4 * i + 3] = 255;
      }
    });
    return out;
  }

  Canvas& canvas_;
  const MapField& field_;
  int fine_;
  bool has_land_ = true;
  OverlayPainter overlays_;
  std::optional<LandColours> colours_;
};

Picture draw_by_width(const Grid& grid, const MapOptions& options, bool land) {
  const Grid g = somewhere(grid);
  const int width = std::clamp(options.width, 400, 8000);
  const Margins m;
  const MapField field{g, !grid.frame().crs(), options, pixel_frame(g.frame(), width - m.left - m.right), m, {}};
  const RasterColours rasters(options.overlays, options.run);
  int height = std::max(560, static_cast<int>(static_cast<double>(field.frame.rows()) + m.top + m.bottom));
  for (;;) {
    Canvas canvas(options.format, width, height);
    MapPainter painter(canvas, field);
    if (!land) painter.without_land();
    // A legend that is longer than the map takes a higher sheet.
    const int down = static_cast<int>(std::ceil(painter.draw(rasters) + kLeastBelow));
    if (down > height) {
      height = down;
      continue;
    }
    Picture p = canvas.finish();
    if (p.format == PictureFormat::Pdf && !field.lost)
      register_pages(p, {{field.frame, field.box()}}, options.title.empty() ? g.info().name : options.title);
    return p;
  }
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
  const Margins& m = kOnPaper;
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
  LandColours colours(g.quantity(), sample_of(g, options.run), options.land);
  colours.prepare(is_lit(options.land, g.quantity()));
  const RasterColours rasters(options.overlays, options.run);
  std::vector<RegisteredPlace> places;
  for (std::size_t i = 0; i < plan.sheets.size(); ++i) {
    if (i > 0) canvas.next_page();
    cairo_save(canvas.cr());
    cairo_scale(canvas.cr(), scale, scale);
    const auto& [sheet, frame] = plan.sheets[i];
    const MapField field{g, lost, options, frame, kOnPaper, sheet};
    MapPainter painter(canvas, field, fine);
    painter.with_colours(colours);
    if (painter.draw(rasters) > plan.high - kLeastBelow)
      throw Error(ErrorCode::BadArgument, "the page is too small for its legend", "map",
                  "take a larger --page, or draw less on it");
    cairo_restore(canvas.cr());
    const Bounds b = field.box();
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
  if (options.inset && !options.inset->grid.frame().crs() != !grid.frame().crs())
    throw Error(ErrorCode::Refused, "of the map and its inset one has no CRS, so nobody can tell where it lies",
                (grid.frame().crs() ? options.inset->grid : grid).info().name, "tell it, or leave the inset out");
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
