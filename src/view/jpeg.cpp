#include "jpeg.hpp"

#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <vector>

#include "base/jpeg_stream.hpp"

namespace katoptra {

void as_jpeg(cairo_surface_t* image) {
  constexpr int kQuality = 92;
  const int width = cairo_image_surface_get_width(image), height = cairo_image_surface_get_height(image);
  cairo_surface_flush(image);
  const unsigned char* data = cairo_image_surface_get_data(image);
  const auto stride = static_cast<std::ptrdiff_t>(cairo_image_surface_get_stride(image));
  std::vector<std::uint8_t> packed;
  // A shore is a sharp edge between two colours.
  JpegStream jpeg(
      {.cols = width, .rows = height, .quality = kQuality, .sharp = true},
      [&](std::span<const std::uint8_t> bytes) { packed.insert(packed.end(), bytes.begin(), bytes.end()); });
  std::vector<std::uint8_t> line(static_cast<std::size_t>(width) * 3);
  for (int r = 0; r < height; ++r) {
    const auto* from = reinterpret_cast<const std::uint32_t*>(data + r * stride);
    for (std::size_t i = 0; i < static_cast<std::size_t>(width); ++i) {
      line[3 * i] = static_cast<std::uint8_t>(from[i] >> 16);
      line[3 * i + 1] = static_cast<std::uint8_t>(from[i] >> 8);
      line[3 * i + 2] = static_cast<std::uint8_t>(from[i]);
    }
    jpeg.row(line.data());
  }
  jpeg.finish();
  // Cairo frees it with the image.
  auto* kept = static_cast<unsigned char*>(std::malloc(packed.size()));
  if (!kept) return;  // then the picture is packed without loss
  std::memcpy(kept, packed.data(), packed.size());
  if (cairo_surface_set_mime_data(image, CAIRO_MIME_TYPE_JPEG, kept, packed.size(), std::free, kept) !=
      CAIRO_STATUS_SUCCESS)
    std::free(kept);
}

}  // namespace katoptra
