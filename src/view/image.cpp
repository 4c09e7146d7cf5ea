// A band of a picture is coloured from its own pixels and the light on them; what is drawn over it
// is drawn anew for each band at the places it has on the whole picture, so no seam shows.
#include "katoptra/view/image.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"

#include "grid/shared_reading.hpp"
#include "land.hpp"
#include "overlays.hpp"
#include "registration.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kWidest = 60'000, kPixelsABand = 1 << 21, kMostPagePixels = 40'000'000;
constexpr double kPixelsAnInch = 150;

class ImagePainter {
 public:
  ImagePainter(const Grid& grid, const ImageOptions& options)
      : grid_(somewhere(grid)),
        lost_(!grid.frame().crs()),
        options_(options),
        frame_(options.width > 0 ? pixel_frame(grid_.frame(), options.width) : grid_.frame()),
        reading_(frame_ == grid_.frame() ? grid_ : at_pixels(grid_, frame_)),
        colours_(grid_.quantity(), sample_of(grid_, options.run), options.land),
        raster_colours_(options_.overlays, options.run),
        rasters_(options_.overlays, raster_colours_, frame_, lost_) {
    if (std::max(frame_.cols(), frame_.rows()) > kWidest)
      throw Error(ErrorCode::TooLarge,
                  fmt::format("a picture of {} x {} pixels is too large", frame_.cols(), frame_.rows()),
                  grid_.info().name, "give it a --width, or an --area");
    const bool lit = is_lit(options.land, grid_.quantity());
    colours_.prepare(lit);
    if (!lit) return;
    const auto make = [look = options.land](const Grid& g) { return light_over(g, look); };
    light_ = make(reading_.grid());
    reading_.learn(make, {0, 0, std::min<std::int64_t>(64, frame_.cols()), std::min<std::int64_t>(64, frame_.rows())});
  }

  const Frame& frame() const { return frame_; }
  Frame placed() const { return lost_ ? frame_.with_crs({}) : frame_; }
  std::int64_t band() const { return std::clamp<std::int64_t>(kPixelsABand / frame_.cols(), 16, 4096); }

  Pixels rows(std::int64_t first, std::int64_t end) const {
    const Window inside{0, first, frame_.cols(), end - first};
    // Read once, with what the light needs around it.
    const auto held = reading_.hold(inside, Planes::Values);
    const Block b = reading_.grid().read(inside);
    std::vector<float> light;
    if (light_) {
      const Block l = light_->read(inside);
      light.assign(l.row(0), l.row(0) + l.window().cells());
    }
    Pixels out(static_cast<std::size_t>(inside.cells()) * 4);
    for (std::size_t i = 0; i < out.size() / 4; ++i) {
      const float v = b.row(0)[i];
      if (std::isnan(v)) continue;  // transparent
      const auto& k = colours_.bytes(v, light.empty() ? 0 : light[i]);
      for (std::size_t j = 0; j < 3; ++j) out[4 * i + j] = k[j];
      out[4 * i + 3] = 255;
    }
    return out;
  }
  Pixels rows_with_overlays(std::int64_t first, std::int64_t end) const {
    if (options_.overlays.empty()) return rows(first, end);
    Canvas sheet(static_cast<int>(frame_.cols()), static_cast<int>(end - first));
    cairo_translate(sheet.cr(), 0, static_cast<double>(-first));
    draw(sheet, first, end);
    return clear_of_opacity(sheet.pixels());
  }
  // The land of these rows, and what of the rest lies on them.
  void draw(Canvas& canvas, std::int64_t first, std::int64_t end) const {
    OverlayPainter painter(canvas, frame_, {0, 0}, lost_);
    painter.draw(options_.overlays, rasters_, [&](const OverlayLook& look, bool) {
      canvas.paint(rows(first, end), frame_.cols(),
                   {.corner = {0, static_cast<double>(first)}, .opacity = look.opacity, .multiply = look.multiply});
    });
  }

 private:
  // Colours of a sheet are multiplied by their opacity.
  static Pixels clear_of_opacity(const std::vector<std::uint32_t>& drawn) {
    Pixels out(drawn.size() * 4);
    for (std::size_t i = 0; i < drawn.size(); ++i) {
      const std::uint32_t alpha = drawn[i] >> 24;
      if (alpha == 0) continue;
      for (std::size_t j = 0; j < 3; ++j)
        out[4 * i + j] =
            static_cast<std::uint8_t>(std::min(255U, ((drawn[i] >> (16 - 8 * j) & 255) * 255 + alpha / 2) / alpha));
      out[4 * i + 3] = static_cast<std::uint8_t>(alpha);
    }
    return out;
  }

  Grid grid_;
  bool lost_;
  ImageOptions options_;
  Frame frame_;
  mutable SharedReading reading_;  // of the pixels
  LandColours colours_;
  RasterColours raster_colours_;
  RasterPixels rasters_;
  std::optional<Grid> light_;
};

}  // namespace

PlacedImage draw_image(const Grid& grid, const ImageOptions& options) {
  auto painter = std::make_shared<const ImagePainter>(grid, options);
  return {.frame = painter->placed(),
          .name = grid.info().name,
          .band = painter->band(),
          .rows = [painter](std::int64_t first, std::int64_t end) { return painter->rows_with_overlays(first, end); }};
}

PlacedPage draw_image_page(const Grid& grid, const ImageOptions& options) {
  const ImagePainter painter(grid, options);
  const Frame& f = painter.frame();
  if (f.cols() * f.rows() > kMostPagePixels)
    throw Error(ErrorCode::TooLarge, fmt::format("a page of {} x {} pixels is too large", f.cols(), f.rows()),
                grid.info().name,
                fmt::format("give it a --width, at most some {:.0f} pixels",
                            std::floor(std::sqrt(static_cast<double>(kMostPagePixels)))));
  const double scale = 72 / kPixelsAnInch;
  const double width = static_cast<double>(f.cols()) * scale, height = static_cast<double>(f.rows()) * scale;
  Canvas canvas(PictureFormat::Pdf, static_cast<int>(std::ceil(width)), static_cast<int>(std::ceil(height)));
  cairo_scale(canvas.cr(), scale, scale);
  painter.draw(canvas, 0, f.rows());
  Picture p = canvas.finish();
  if (grid.frame().crs()) register_pages(p, {{f, {0, 0, width, height}}}, grid.info().name);
  return {std::move(p), painter.placed()};
}

}  // namespace katoptra
