// PNG and JPEG, which cannot say where they lie: that stands in a world file and a .prj beside them.
#include <cstdio>
#include <fmt/format.h>
#include <jpeglib.h>
#include <optional>
#include <string>

#include "katoptra/base/error.hpp"

#include "base/png_handles.hpp"
#include "image_writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// World file and .prj; written when the picture is.
class PlaceBeside {
 public:
  PlaceBeside(const PlacedImage& image, const fs::path& path, const char* world_ending, bool overwrite) {
    const Frame& f = image.frame;
    add(fs::path(path).replace_extension(world_ending),
        fmt::format("{:.12g}\n0\n0\n{:.12g}\n{:.10f}\n{:.10f}\n", f.cell().x, -f.cell().y, f.west() + f.cell().x / 2,
                    f.north() - f.cell().y / 2),
        overwrite);
    const fs::path prj = fs::path(path).replace_extension(".prj");
    if (f.crs()) add(prj, f.crs().with_heights({}).file_wkt() + "\n", overwrite);
  }
  void commit(ImageReport& report) {
    for (auto& [path, sink] : files_) {
      if (sink) sink->commit();
      report.beside.push_back(path);
    }
  }

 private:
  void add(const fs::path& path, const std::string& text, bool overwrite) {
    std::error_code ec;
    // Another picture of the same place may have its .prj there.
    if (fs::is_regular_file(path, ec) && fs::file_size(path, ec) == text.size() && read_text_file(path) == text) {
      files_.emplace_back(path, nullptr);
      return;
    }
    auto sink = create_file(path, {.overwrite = overwrite});
    sink->write_at(0, std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
    files_.emplace_back(path, std::move(sink));
  }
  std::vector<std::pair<fs::path, std::unique_ptr<ByteSink>>> files_;
};

// PNG into whatever takes bytes.
class PngStream {
 public:
  using Take = std::function<void(std::span<const std::uint8_t>)>;

  PngStream(std::int64_t cols, std::int64_t rows, bool opaque, Take take)
      : cols_(cols), opaque_(opaque), take_(std::move(take)) {
    png_.open(this, [](png_structp, png_const_charp why) {
      throw Error(ErrorCode::Io, fmt::format("the picture cannot be written: {}", why), "picture");
    });
    if (!png_.image) throw Error(ErrorCode::TooLarge, "no memory for a picture", "picture", "take a smaller width");
    png_set_write_fn(
        png_.png, this,
        [](png_structp p, png_bytep data, png_size_t n) {
          static_cast<PngStream*>(png_get_io_ptr(p))->take_(std::span(data, n));
        },
        nullptr);
    png_set_user_limits(png_.png, 0x7fffffff, 0x7fffffff);
    png_set_IHDR(png_.png, png_.image, static_cast<png_uint_32>(cols), static_cast<png_uint_32>(rows), 8,
                 opaque ? PNG_COLOR_TYPE_RGB : PNG_COLOR_TYPE_RGB_ALPHA, PNG_INTERLACE_NONE,
                 PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
    png_set_compression_level(png_.png, 4);
    png_write_info(png_.png, png_.image);
    if (opaque) png_set_filler(png_.png, 0, PNG_FILLER_AFTER);
  }
  void add(const Pixels& rows) {
    for (std::size_t at = 0; at < rows.size(); at += static_cast<std::size_t>(cols_) * 4)
      png_write_row(png_.png, rows.data() + at);
  }
  void finish() { png_write_end(png_.png, png_.image); }

 private:
  std::int64_t cols_;
  bool opaque_;
  Take take_;
  Png png_;
};

class PngImage final : public ImageWriter {
 public:
  PngImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(image, path, ".pgw", options.overwrite),
        stream_(image.frame.cols(), image.frame.rows(), false, [this](std::span<const std::uint8_t> bytes) {
          sink_->write_at(at_, bytes);
          at_ += bytes.size();
        }) {}
  void add(const Pixels& rows) override { stream_.add(rows); }
  void finish(ImageReport& report) override {
    stream_.finish();
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = "PNG";
  }

 private:
  std::unique_ptr<ByteSink> sink_;
  PlaceBeside beside_;
  std::uint64_t at_ = 0;
  PngStream stream_;
};

constexpr std::size_t kChunk = 1 << 16;

// The library writes into a buffer of ours, and its errors become ours.
class JpegImage final : public ImageWriter {
 public:
  JpegImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : cols_(image.frame.cols()),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(image, path, ".jgw", options.overwrite),
        buffer_(kChunk) {
    if (image.frame.cols() > JPEG_MAX_DIMENSION || image.frame.rows() > JPEG_MAX_DIMENSION)
      throw Error(ErrorCode::TooLarge, fmt::format("JPEG has at most {} pixels a side", JPEG_MAX_DIMENSION),
                  path.string(), "give it a --width, or write .tif");
    jpeg_.err = jpeg_std_error(&errors_);
    errors_.error_exit = [](j_common_ptr c) {
      char why[JMSG_LENGTH_MAX];
      c->err->format_message(c, why);
      throw Error(ErrorCode::Io, fmt::format("the picture cannot be written: {}", why), "picture");
    };
    jpeg_create_compress(&jpeg_);
    jpeg_.client_data = this;
    target_.init_destination = [](j_compress_ptr c) { self(c).restart(); };
    target_.empty_output_buffer = [](j_compress_ptr c) -> boolean {
      self(c).put(kChunk);
      self(c).restart();
      return TRUE;
    };
    target_.term_destination = [](j_compress_ptr c) { self(c).put(kChunk - self(c).target_.free_in_buffer); };
    jpeg_.dest = &target_;
    jpeg_.image_width = static_cast<JDIMENSION>(image.frame.cols());
    jpeg_.image_height = static_cast<JDIMENSION>(image.frame.rows());
    jpeg_.input_components = 3;
    jpeg_.in_color_space = JCS_RGB;
    jpeg_set_defaults(&jpeg_);
    jpeg_set_quality(&jpeg_, options.quality, TRUE);
    jpeg_start_compress(&jpeg_, TRUE);
  }
  JpegImage(const JpegImage&) = delete;
  JpegImage& operator=(const JpegImage&) = delete;
  ~JpegImage() override { jpeg_destroy_compress(&jpeg_); }

  void add(const Pixels& rows) override {
    std::vector<std::uint8_t> line(static_cast<std::size_t>(cols_) * 3);
    for (std::size_t at = 0; at < rows.size(); at += static_cast<std::size_t>(cols_) * 4) {
      for (std::size_t c = 0; c < static_cast<std::size_t>(cols_); ++c) {
        const std::uint8_t* p = rows.data() + at + 4 * c;
        for (std::size_t j = 0; j < 3; ++j)
          line[3 * c + j] = static_cast<std::uint8_t>((p[j] * p[3] + 255 * (255 - p[3]) + 127) / 255);
      }
      JSAMPROW row = line.data();
      jpeg_write_scanlines(&jpeg_, &row, 1);
    }
  }
  void finish(ImageReport& report) override {
    jpeg_finish_compress(&jpeg_);
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = "JPEG";
  }

 private:
  static JpegImage& self(j_compress_ptr c) { return *static_cast<JpegImage*>(c->client_data); }
  void restart() {
    target_.next_output_byte = buffer_.data();
    target_.free_in_buffer = kChunk;
  }
  void put(std::size_t n) {
    sink_->write_at(at_, std::span(buffer_.data(), n));
    at_ += n;
  }

  std::int64_t cols_;
  std::unique_ptr<ByteSink> sink_;
  PlaceBeside beside_;
  std::vector<std::uint8_t> buffer_;
  std::uint64_t at_ = 0;
  jpeg_compress_struct jpeg_{};
  jpeg_error_mgr errors_{};
  jpeg_destination_mgr target_{};
};

}  // namespace

std::unique_ptr<ImageWriter> png_image(const PlacedImage& i, const fs::path& p, const ImageWriteOptions& o) {
  return std::make_unique<PngImage>(i, p, o);
}
std::unique_ptr<ImageWriter> jpeg_image(const PlacedImage& i, const fs::path& p, const ImageWriteOptions& o) {
  return std::make_unique<JpegImage>(i, p, o);
}

std::vector<std::uint8_t> png_bytes(const Pixels& pixels, int width) {
  bool opaque = true;
  for (std::size_t i = 3; i < pixels.size() && opaque; i += 4) opaque = pixels[i] == 255;
  std::vector<std::uint8_t> out;
  PngStream stream(width, static_cast<std::int64_t>(pixels.size() / 4) / width, opaque,
                   [&](std::span<const std::uint8_t> bytes) { out.insert(out.end(), bytes.begin(), bytes.end()); });
  stream.add(pixels);
  stream.finish();
  return out;
}

}  // namespace katoptra
