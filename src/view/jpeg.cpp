#include "jpeg.hpp"

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <fmt/format.h>
#include <jpeglib.h>
#include <memory>
#include <vector>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

constexpr int kQuality = 92;

struct Jpeg {
  jpeg_compress_struct c{};
  jpeg_error_mgr errors{};
  unsigned char* bytes = nullptr;  // the library's, until they are given away
  unsigned long size = 0;

  Jpeg() {
    c.err = jpeg_std_error(&errors);
    errors.error_exit = [](j_common_ptr j) {
      char why[JMSG_LENGTH_MAX];
      j->err->format_message(j, why);
      throw Error(ErrorCode::Io, fmt::format("the picture cannot be packed: {}", why), "picture");
    };
    jpeg_create_compress(&c);
    jpeg_mem_dest(&c, &bytes, &size);
  }
  Jpeg(const Jpeg&) = delete;
  Jpeg& operator=(const Jpeg&) = delete;
  ~Jpeg() {
    jpeg_destroy_compress(&c);
    std::free(bytes);
  }
};

}  // namespace

void as_jpeg(cairo_surface_t* image) {
  const int width = cairo_image_surface_get_width(image), height = cairo_image_surface_get_height(image);
  cairo_surface_flush(image);
  const unsigned char* data = cairo_image_surface_get_data(image);
  const auto stride = static_cast<std::ptrdiff_t>(cairo_image_surface_get_stride(image));
  Jpeg j;
  j.c.image_width = static_cast<JDIMENSION>(width);
  j.c.image_height = static_cast<JDIMENSION>(height);
  j.c.input_components = 3;
  j.c.in_color_space = JCS_RGB;
  jpeg_set_defaults(&j.c);
  jpeg_set_quality(&j.c, kQuality, TRUE);
  // Colours at every pixel: a shore is a sharp edge between two of them.
  j.c.comp_info[0].h_samp_factor = j.c.comp_info[0].v_samp_factor = 1;
  jpeg_start_compress(&j.c, TRUE);
  std::vector<std::uint8_t> line(static_cast<std::size_t>(width) * 3);
  for (int r = 0; r < height; ++r) {
    const auto* from = reinterpret_cast<const std::uint32_t*>(data + r * stride);
    for (std::size_t i = 0; i < static_cast<std::size_t>(width); ++i) {
      line[3 * i] = static_cast<std::uint8_t>(from[i] >> 16);
      line[3 * i + 1] = static_cast<std::uint8_t>(from[i] >> 8);
      line[3 * i + 2] = static_cast<std::uint8_t>(from[i]);
    }
    JSAMPROW row = line.data();
    jpeg_write_scanlines(&j.c, &row, 1);
  }
  jpeg_finish_compress(&j.c);
  if (cairo_surface_set_mime_data(image, CAIRO_MIME_TYPE_JPEG, j.bytes, j.size, std::free, j.bytes) ==
      CAIRO_STATUS_SUCCESS)
    j.bytes = nullptr;
}

}  // namespace katoptra
