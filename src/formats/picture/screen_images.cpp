// PNG and JPEG, which cannot say where they lie: that stands in a world file and a .prj beside them.
#include <cstdlib>
#include <fmt/format.h>
#include <optional>
#include <string>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/jpeg_stream.hpp"
#include "base/png_bands.hpp"
#include "base/png_stream.hpp"
#include "formats/vector/prj.hpp"
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
    if (tells_crs(prj, f.crs()))
      files_.emplace_back(prj, nullptr);
    else if (f.crs())
      add(prj, f.crs().with_heights({}).file_wkt() + "\n", overwrite);
  }
  void commit(ImageReport& report) {
    for (auto& [path, sink] : files_) {
      if (sink) sink->commit();
      report.beside.push_back(path);
    }
  }

 private:
  void add(const fs::path& path, const std::string& text, bool overwrite) {
    auto sink = create_file(path, {.overwrite = overwrite});
    sink->write_at(0, std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
    files_.emplace_back(path, std::move(sink));
  }
  std::vector<std::pair<fs::path, std::unique_ptr<ByteSink>>> files_;
};

class PngImage final : public ImageWriter {
 public:
  PngImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(image, path, ".pgw", options.overwrite),
        png_(image.frame.cols(), image.frame.rows(), 4, [this](std::span<const std::uint8_t> bytes) {
          sink_->write_at(at_, bytes);
          at_ += bytes.size();
        }) {}
  Pixels packed(Pixels rows) const override { return png_.packed(rows); }
  void add(const Pixels& band) override { png_.add(band); }
  void finish(ImageReport& report) override {
    png_.finish();
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = "PNG";
  }

 private:
  std::unique_ptr<ByteSink> sink_;
  PlaceBeside beside_;
  std::uint64_t at_ = 0;
  PngBands png_;
};

class JpegImage final : public ImageWriter {
 public:
  JpegImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : cols_(static_cast<std::size_t>(image.frame.cols())),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(image, path, ".jgw", options.overwrite) {
    if (image.frame.cols() > JPEG_MAX_DIMENSION || image.frame.rows() > JPEG_MAX_DIMENSION)
      throw Error(ErrorCode::TooLarge, fmt::format("JPEG has at most {} pixels a side", JPEG_MAX_DIMENSION),
                  path.string(), "give it a --width, or write .tif");
    jpeg_.emplace(JpegForm{.cols = image.frame.cols(), .rows = image.frame.rows(), .quality = options.quality},
                  [this](std::span<const std::uint8_t> bytes) {
                    sink_->write_at(at_, bytes);
                    at_ += bytes.size();
                  });
  }

  void add(const Pixels& rows) override {
    std::vector<std::uint8_t> line(cols_ * 3);
    for (std::size_t at = 0; at < rows.size(); at += cols_ * 4) {
      for (std::size_t c = 0; c < cols_; ++c) {
        const std::uint8_t* p = rows.data() + at + 4 * c;
        for (std::size_t j = 0; j < 3; ++j)
          line[3 * c + j] = static_cast<std::uint8_t>((p[j] * p[3] + 255 * (255 - p[3]) + 127) / 255);
      }
      jpeg_->row(line.data());
    }
  }
  void finish(ImageReport& report) override {
    jpeg_->finish();
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = "JPEG";
  }

 private:
  std::size_t cols_;
  std::unique_ptr<ByteSink> sink_;
  PlaceBeside beside_;
  std::uint64_t at_ = 0;
  std::optional<JpegStream> jpeg_;
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
  PngStream stream(
      {.cols = width,
       .rows = static_cast<std::int64_t>(pixels.size() / 4) / width,
       .colours = opaque ? PNG_COLOR_TYPE_RGB : PNG_COLOR_TYPE_RGB_ALPHA},
      [&](std::span<const std::uint8_t> bytes) { out.insert(out.end(), bytes.begin(), bytes.end()); }, "picture");
  if (opaque) png_set_filler(stream.library(), 0, PNG_FILLER_AFTER);
  for (std::size_t at = 0; at < pixels.size(); at += static_cast<std::size_t>(width) * 4)
    stream.row(pixels.data() + at);
  stream.finish();
  return out;
}

}  // namespace katoptra
