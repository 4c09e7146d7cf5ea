// Owner of what libpng needs to write a picture.
#pragma once
#include <png.h>

namespace katoptra {

// Its two structures, gone also when the writer that holds them could not be made.
struct Png {
  png_structp png = nullptr;
  png_infop image = nullptr;
  Png() = default;
  Png(const Png&) = delete;
  Png& operator=(const Png&) = delete;
  ~Png() { png_destroy_write_struct(&png, &image); }
  void open(void* self, png_error_ptr fail) {
    png = png_create_write_struct(PNG_LIBPNG_VER_STRING, self, fail, nullptr);
    if (png) image = png_create_info_struct(png);
  }
};

}  // namespace katoptra
