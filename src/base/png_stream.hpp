// A PNG written row by row into whatever takes bytes.
//
//   PngStream png({.cols = 400, .rows = 300, .depth = 16, .colours = PNG_COLOR_TYPE_GRAY}, take, "a.png");
//   for (...) png.row(samples);
//   png.finish();
#pragma once
#include <bit>
#include <cstdint>
#include <fmt/format.h>
#include <functional>
#include <png.h>
#include <span>
#include <string>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {

struct PngForm {
  std::int64_t cols = 0, rows = 0;
  int depth = 8, colours = PNG_COLOR_TYPE_RGB;
  int level = 4;  // of packing: half the time of the library's own for a twentieth more bytes
};

class PngStream {
 public:
  using Take = std::function<void(std::span<const std::uint8_t>)>;

  // `file`: for messages.
  PngStream(const PngForm& form, Take take, std::string file) : take_(std::move(take)), file_(std::move(file)) {
    png_ = png_create_write_struct(
        PNG_LIBPNG_VER_STRING, this,
        [](png_structp p, png_const_charp why) {
          const auto* self = static_cast<const PngStream*>(png_get_error_ptr(p));
          throw Error(ErrorCode::Io, fmt::format("the picture cannot be written: {}", why), self->file_);
        },
        nullptr);
    if (png_) image_ = png_create_info_struct(png_);
    if (!image_) {
      png_destroy_write_struct(&png_, nullptr);
      throw Error(ErrorCode::TooLarge, "no memory for a picture", file_, "take a smaller one");
    }
    try {
      begin(form);
    } catch (...) {
      png_destroy_write_struct(&png_, &image_);
      throw;
    }
  }
  PngStream(const PngStream&) = delete;
  PngStream& operator=(const PngStream&) = delete;
  ~PngStream() { png_destroy_write_struct(&png_, &image_); }

  // Samples of 16 bits are the machine's own.
  void row(const std::uint8_t* samples) { png_write_row(png_, samples); }
  void finish() { png_write_end(png_, image_); }
  // For rows that are laid out in another way than the file: before the first.
  png_structp library() const { return png_; }

 private:
  void begin(const PngForm& form) {
    png_set_write_fn(
        png_, this,
        [](png_structp p, png_bytep data, png_size_t n) {
          static_cast<PngStream*>(png_get_io_ptr(p))->take_(std::span(data, n));
        },
        nullptr);
    png_set_user_limits(png_, 0x7fffffff, 0x7fffffff);
    png_set_IHDR(png_, image_, static_cast<png_uint_32>(form.cols), static_cast<png_uint_32>(form.rows), form.depth,
                 form.colours, PNG_INTERLACE_NONE, PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
    png_set_compression_level(png_, form.level);
    png_write_info(png_, image_);
    if (form.depth == 16 && std::endian::native == std::endian::little) png_set_swap(png_);
  }

  png_structp png_ = nullptr;
  png_infop image_ = nullptr;
  Take take_;
  std::string file_;
};

}  // namespace katoptra
