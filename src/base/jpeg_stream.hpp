// A JPEG written row by row into whatever takes bytes.
//
//   JpegStream jpeg({.cols = 400, .rows = 300, .quality = 90}, take);
//   for (...) jpeg.row(red_green_blue);
//   jpeg.finish();
#pragma once
#include <array>
#include <cstdint>
#include <cstdio>
#include <fmt/format.h>
#include <functional>
#include <jpeglib.h>
#include <memory>
#include <span>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {

struct JpegForm {
  std::int64_t cols = 0, rows = 0;
  int quality = 90;
  bool sharp = false;  // colours at every pixel, not at every second
};

// The library's errors become ours; what it wants freed is, also when it cannot begin.
class JpegStream {
 public:
  using Take = std::function<void(std::span<const std::uint8_t>)>;

  JpegStream(const JpegForm& form, Take take) : take_(std::move(take)) {
    jpeg_.err = jpeg_std_error(&errors_);
    errors_.error_exit = [](j_common_ptr c) {
      char why[JMSG_LENGTH_MAX];
      c->err->format_message(c, why);
      throw Error(ErrorCode::Io, fmt::format("the picture cannot be written: {}", why), "picture");
    };
    jpeg_create_compress(&jpeg_);
    open_.reset(&jpeg_);
    jpeg_.client_data = this;
    target_.init_destination = [](j_compress_ptr c) { self(c).restart(); };
    target_.empty_output_buffer = [](j_compress_ptr c) -> boolean {
      self(c).take_(self(c).buffer_);
      self(c).restart();
      return TRUE;
    };
    target_.term_destination = [](j_compress_ptr c) {
      self(c).take_(std::span(self(c).buffer_).first(kChunk - self(c).target_.free_in_buffer));
    };
    jpeg_.dest = &target_;
    jpeg_.image_width = static_cast<JDIMENSION>(form.cols);
    jpeg_.image_height = static_cast<JDIMENSION>(form.rows);
    jpeg_.input_components = 3;
    jpeg_.in_color_space = JCS_RGB;
    jpeg_set_defaults(&jpeg_);
    jpeg_set_quality(&jpeg_, form.quality, TRUE);
    if (form.sharp) jpeg_.comp_info[0].h_samp_factor = jpeg_.comp_info[0].v_samp_factor = 1;
    jpeg_start_compress(&jpeg_, TRUE);
  }
  JpegStream(const JpegStream&) = delete;
  JpegStream& operator=(const JpegStream&) = delete;

  void row(std::uint8_t* rgb) {
    JSAMPROW one = rgb;
    jpeg_write_scanlines(&jpeg_, &one, 1);
  }
  void finish() { jpeg_finish_compress(&jpeg_); }

 private:
  static constexpr std::size_t kChunk = 1 << 16;

  static JpegStream& self(j_compress_ptr c) { return *static_cast<JpegStream*>(c->client_data); }
  void restart() {
    target_.next_output_byte = buffer_.data();
    target_.free_in_buffer = kChunk;
  }
  struct Close {
    void operator()(jpeg_compress_struct* c) const { jpeg_destroy_compress(c); }
  };

  Take take_;
  std::array<std::uint8_t, kChunk> buffer_;
  jpeg_compress_struct jpeg_{};
  jpeg_error_mgr errors_{};
  jpeg_destination_mgr target_{};
  std::unique_ptr<jpeg_compress_struct, Close> open_;
};

}  // namespace katoptra
