#include "canvas.hpp"

#include <algorithm>
#include <atomic>
#include <cairo-pdf.h>
#include <cairo-svg.h>
#include <cmath>
#include <fmt/format.h>
#include <iterator>
#include <numbers>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/png_bands.hpp"
#include "base/text.hpp"
#include "jpeg.hpp"

namespace katoptra {

Canvas::Canvas(PictureFormat format, int width, int height) : format_(format), width_(width), height_(height) {
  switch (format) {
    case PictureFormat::Png:
      surface_.reset(cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height));
      break;
    case PictureFormat::Svg:
      surface_.reset(cairo_svg_surface_create_for_stream(&Canvas::append, this, width, height));
      break;
    case PictureFormat::Pdf:
      surface_.reset(cairo_pdf_surface_create_for_stream(&Canvas::append, this, width, height));
      // The same picture is the same bytes: no time of making.
      cairo_pdf_surface_set_metadata(surface_.get(), CAIRO_PDF_METADATA_CREATE_DATE, "1970-01-01T00:00:00Z");
      break;
  }
  if (cairo_surface_status(surface_.get()) != CAIRO_STATUS_SUCCESS)
    throw Error(ErrorCode::TooLarge, fmt::format("a picture of {} x {} cannot be made", width, height), "picture",
                "take a smaller width");
  cr_.reset(cairo_create(surface_.get()));
  colour(kPaper);
  cairo_paint(cr());
}

Canvas::Canvas(int width, int height) : format_(PictureFormat::Png), width_(width), height_(height) {
  surface_.reset(cairo_image_surface_create(CAIRO_FORMAT_ARGB32, width, height));
  if (cairo_surface_status(surface_.get()) != CAIRO_STATUS_SUCCESS)
    throw Error(ErrorCode::TooLarge, fmt::format("a picture of {} x {} cannot be made", width, height), "picture",
                "take a smaller width");
  cr_.reset(cairo_create(surface_.get()));
}

std::vector<std::uint32_t> Canvas::pixels() {
  cairo_surface_flush(surface_.get());
  const unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const auto stride = static_cast<std::ptrdiff_t>(cairo_image_surface_get_stride(surface_.get()));
  std::vector<std::uint32_t> out;
  for (int r = 0; r < height_; ++r) {
    const auto* row = reinterpret_cast<const std::uint32_t*>(data + r * stride);
    out.insert(out.end(), row, row + width_);
  }
  return out;
}

void Canvas::paint(const std::vector<std::uint8_t>& rgba, std::int64_t width, const Laid& how) {
  const auto cols = static_cast<int>(width), rows = static_cast<int>(std::ssize(rgba) / 4 / width);
  cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_ARGB32, cols, rows);
  unsigned char* data = cairo_image_surface_get_data(image);
  const auto stride = static_cast<std::ptrdiff_t>(cairo_image_surface_get_stride(image));
  std::atomic<bool> opaque{true};
  parallel_within(static_cast<std::size_t>(rows), [&](std::size_t row) {
    const auto r = static_cast<std::ptrdiff_t>(row);
    auto* to = reinterpret_cast<std::uint32_t*>(data + r * stride);
    const std::uint8_t* from = rgba.data() + r * cols * 4;
    bool all = true;
    for (int c = 0; c < cols; ++c, from += 4) {
      const std::uint32_t alpha = from[3];
      all = all && alpha == 255;
      auto part = [&](int i) { return (from[i] * alpha + 127) / 255; };
      to[c] = alpha << 24 | part(0) << 16 | part(1) << 8 | part(2);
    }
    if (!all) opaque = false;
  });
  cairo_surface_mark_dirty(image);
  if (how.photo && opaque && format_ == PictureFormat::Pdf) as_jpeg(image);
  cairo_save(cr());
  cairo_translate(cr(), how.corner.x, how.corner.y);
  cairo_scale(cr(), how.pixel, how.pixel);
  cairo_set_source_surface(cr(), image, 0, 0);
  if (how.pixel == 1) cairo_pattern_set_filter(cairo_get_source(cr()), CAIRO_FILTER_NEAREST);
  if (how.multiply) cairo_set_operator(cr(), CAIRO_OPERATOR_MULTIPLY);
  if (how.opacity < 1)
    cairo_paint_with_alpha(cr(), how.opacity);
  else
    cairo_paint(cr());
  cairo_restore(cr());
  cairo_surface_destroy(image);
}

cairo_status_t Canvas::append(void* self, const unsigned char* data, unsigned n) {
  auto& bytes = static_cast<Canvas*>(self)->bytes_;
  bytes.insert(bytes.end(), data, data + n);
  return CAIRO_STATUS_SUCCESS;
}

void Canvas::line(double x0, double y0, double x1, double y1) {
  cairo_move_to(cr(), x0, y0);
  cairo_line_to(cr(), x1, y1);
  cairo_stroke(cr());
}

void Canvas::dashes(std::initializer_list<double> pattern) {
  cairo_set_dash(cr(), pattern.begin(), static_cast<int>(pattern.size()), 0);
}

void Canvas::font(double size, bool bold) {
  cairo_select_font_face(cr(), "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                         bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(cr(), size);
  if (has_font_) return;
  // Where there is no font at all the library draws crude letters of its own, and no others than English ones.
  if (cairo_scaled_font_get_type(cairo_get_scaled_font(cr())) == CAIRO_FONT_TYPE_USER)
    throw Error(ErrorCode::MissingResource, "no font is there to write with", "picture",
                "install one, such as Debian's fonts-dejavu-core");
  has_font_ = true;
}

double Canvas::text_width(const std::string& s, double size, bool bold) {
  font(size, bold);
  cairo_text_extents_t e;
  cairo_text_extents(cr(), s.c_str(), &e);
  return e.x_advance;
}

void Canvas::text(double x, double y, const std::string& s, double size, Align align, bool bold) {
  constexpr double kEdge = 8;
  const double right = width_of_words_ - kEdge - x, left = x - kEdge;
  place(x, y, s, size, align, bold,
        align == Align::Left    ? right
        : align == Align::Right ? left
                                : 2 * std::min(left, right));
}

void Canvas::place(double x, double y, std::string s, double size, Align align, bool bold, double room) {
  double w = text_width(s, size, bold);
  // Too long for the sheet: smaller, as far as it can be read, then shorter.
  if (w > room) {
    size *= std::max(0.72, room / w);
    w = text_width(s, size, bold);
    bool cut = false;
    while (w > room && !s.empty()) {
      do s.pop_back();
      while (!s.empty() && (static_cast<unsigned char>(s.back()) & 0xC0) == 0x80);  // a letter may have several bytes
      while (!s.empty() && static_cast<unsigned char>(s.back()) >= 0xC0) s.pop_back();
      cut = true;
      w = text_width(s + "…", size, bold);
    }
    if (cut) s += "…";
  }
  cairo_move_to(cr(), x - (align == Align::Left ? 0 : align == Align::Centre ? w / 2 : w), y);
  cairo_show_text(cr(), s.c_str());
}

void Canvas::text_upright(double x, double y, const std::string& s, double size) {
  cairo_save(cr());
  cairo_translate(cr(), x, y);
  cairo_rotate(cr(), -std::numbers::pi / 2);
  place(0, 0, s, size, Align::Centre, false, height_of_words_ - 16.0);
  cairo_restore(cr());
}

void Canvas::text_along(double x, double y, const std::string& s, double size, double turn, Colour ink) {
  cairo_save(cr());
  cairo_translate(cr(), x, y);
  cairo_rotate(cr(), turn);
  text_clear(0, 0.36 * size, s, size, Align::Centre, ink);
  cairo_restore(cr());
}

void Canvas::text_clear(double x, double y, const std::string& s, double size, Align align, Colour ink) {
  const double w = text_width(s, size);
  cairo_new_path(cr());
  cairo_move_to(cr(), x - (align == Align::Left ? 0 : align == Align::Centre ? w / 2 : w), y);
  cairo_text_path(cr(), s.c_str());
  colour(kPaper, 0.7);
  line_width(size / 4);
  cairo_set_line_join(cr(), CAIRO_LINE_JOIN_ROUND);
  cairo_stroke_preserve(cr());
  cairo_set_line_join(cr(), CAIRO_LINE_JOIN_MITER);
  colour(ink);
  cairo_fill(cr());
}

void Canvas::write_png() {
  constexpr int kBand = 64;
  PngBands png(width_, height_, 3, [this](std::span<const std::uint8_t> bytes) {
    bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
  });
  cairo_surface_flush(surface_.get());
  const unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const auto stride = static_cast<std::ptrdiff_t>(cairo_image_surface_get_stride(surface_.get()));
  const auto bands = static_cast<std::size_t>((height_ + kBand - 1) / kBand);
  std::vector<std::vector<std::uint8_t>> packed(bands);
  parallel_within(bands, [&](std::size_t band) {
    const int first = static_cast<int>(band) * kBand, end = std::min(height_, first + kBand);
    std::vector<std::uint8_t> rows(static_cast<std::size_t>(end - first) * static_cast<std::size_t>(width_) * 3);
    std::uint8_t* to = rows.data();
    for (int r = first; r < end; ++r) {
      // A pixel of Cairo's is a number of 32 bits, red above green above blue.
      const auto* from = reinterpret_cast<const std::uint32_t*>(data + r * stride);
      for (int c = 0; c < width_; ++c)
        for (const int shift : {16, 8, 0}) *to++ = static_cast<std::uint8_t>(from[c] >> shift);
    }
    packed[band] = png.packed(rows);
  });
  for (const auto& band : packed) png.add(band);
  png.finish();
}

Picture Canvas::finish() {
  cr_.reset();
  if (format_ == PictureFormat::Png) write_png();
  cairo_surface_finish(surface_.get());
  return {.format = format_, .width = width_, .height = height_, .bytes = std::move(bytes_)};
}

bool picture_named(const std::string& name) {
  const std::string ext = lower_extension(name);
  return ext == ".png" || ext == ".svg" || ext == ".pdf";
}

PictureFormat picture_format_for(const std::string& name) {
  const std::string ext = lower_extension(name);
  if (!picture_named(name))
    throw Error(ErrorCode::Unsupported, fmt::format("pictures are not written as '{}' here", ext), name,
                "give a name that ends in .png, .svg or .pdf");
  return ext == ".png" ? PictureFormat::Png : ext == ".svg" ? PictureFormat::Svg : PictureFormat::Pdf;
}

double axis_step(double range, int wanted) {
  if (!(range > 0)) return 1;
  const double raw = range / wanted, power = std::pow(10, std::floor(std::log10(raw)));
  for (double n : {1.0, 2.0, 5.0})
    if (n * power >= raw * 0.999) return n * power;
  return 10 * power;
}

std::string axis_label(double value, double step) {
  const int decimals = std::clamp(static_cast<int>(std::ceil(-std::log10(step) - 1e-9)), 0, 9);
  if (std::abs(value) < step * 1e-6) value = 0;
  std::string s = fmt::format("{:.{}f}", value, decimals);
  const auto point = std::min(s.size(), s.find('.'));
  const std::size_t first = s[0] == '-' ? 1 : 0;
  if (point - first > 4)
    for (std::size_t i = point; i > first + 3; i -= 3) s.insert(i - 3, "\u2009");
  if (s[0] == '-') s.replace(0, 1, "\u2212");
  return s;
}

}  // namespace katoptra
