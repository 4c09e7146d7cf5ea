// PNG and JPEG, which cannot say where they lie: that stands in a world file and a .prj beside them.
#include <cstdlib>
#include <fmt/format.h>
#include <optional>
#include <string>
#include <utility>
#include <zlib.h>

#include "katoptra/base/error.hpp"

#include "base/jpeg_stream.hpp"
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

// Bands are filtered and deflated by themselves, on any thread, and are one stream behind one another: deflate ends at
// whole bytes where it is flushed. The first row of a band is filtered without the one above.
class PngImage final : public ImageWriter {
 public:
  PngImage(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options)
      : cols_(static_cast<std::size_t>(image.frame.cols())),
        rows_(static_cast<std::size_t>(image.frame.rows())),
        sink_(create_file(path, {.overwrite = options.overwrite})),
        beside_(image, path, ".pgw", options.overwrite) {
    put({0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'});
    std::vector<std::uint8_t> head;
    for (const std::size_t n : {cols_, rows_})
      for (int shift = 24; shift >= 0; shift -= 8) head.push_back(static_cast<std::uint8_t>(n >> shift));
    head.insert(head.end(), {8, 6, 0, 0, 0});  // bits, colours with opacity
    chunk("IHDR", head);
    chunk("IDAT", {0x78, 0x5E});  // how a stream of deflate begins
  }
  // The deflated band, behind it the sum of what it is and how long that was.
  Pixels packed(Pixels rows) const override {
    const std::vector<std::uint8_t> plain = filtered(rows);
    z_stream z{};
    if (deflateInit2(&z, kLevel, Z_DEFLATED, -15, 9, Z_FILTERED) != Z_OK)
      throw Error(ErrorCode::TooLarge, "no memory for a picture", "picture", "take a smaller width");
    std::vector<std::uint8_t> out(deflateBound(&z, plain.size()) + 64);
    z.next_in = const_cast<Bytef*>(plain.data());
    z.avail_in = static_cast<uInt>(plain.size());
    z.next_out = out.data();
    z.avail_out = static_cast<uInt>(out.size());
    const int code = deflate(&z, Z_SYNC_FLUSH);
    out.resize(out.size() - z.avail_out);
    deflateEnd(&z);
    if (code != Z_OK) throw Error(ErrorCode::Io, "a band of the picture cannot be packed", "picture");
    const std::uint64_t sum = adler32(1, plain.data(), static_cast<uInt>(plain.size()));
    for (const std::uint64_t v : {sum, static_cast<std::uint64_t>(plain.size())})
      for (int i = 0; i < 8; ++i) out.push_back(static_cast<std::uint8_t>(v >> (8 * i)));
    return out;
  }
  void add(const Pixels& band) override {
    std::uint64_t told[2] = {};
    for (int k = 0; k < 16; ++k)
      told[k / 8] |= static_cast<std::uint64_t>(band[band.size() - 16 + static_cast<std::size_t>(k)]) << (8 * (k % 8));
    sum_ = adler32_combine(sum_, static_cast<uLong>(told[0]), static_cast<z_off_t>(told[1]));
    chunk("IDAT", std::span(band.data(), band.size() - 16));
  }
  void finish(ImageReport& report) override {
    std::vector<std::uint8_t> end{3, 0};  // an empty last block
    for (int shift = 24; shift >= 0; shift -= 8) end.push_back(static_cast<std::uint8_t>(sum_ >> shift));
    chunk("IDAT", end);
    chunk("IEND", std::span<const std::uint8_t>());
    beside_.commit(report);
    sink_->commit();
    report.bytes = at_;
    report.format = "PNG";
  }

 private:
  static constexpr int kLevel = 2;  // of filtered relief: smaller than 4, and in half the time

  // Each byte less what the pixels to the left and above foretell (Paeth); of the first row, less that to the left.
  std::vector<std::uint8_t> filtered(const Pixels& rows) const {
    const std::size_t stride = cols_ * 4, n = rows.size() / stride;
    std::vector<std::uint8_t> out(n * (stride + 1));
    for (std::size_t r = 0; r < n; ++r) {
      const std::uint8_t* row = rows.data() + r * stride;
      std::uint8_t* to = out.data() + r * (stride + 1);
      *to++ = r > 0 ? 4 : 1;
      if (r == 0) {
        for (std::size_t i = 0; i < stride; ++i) to[i] = static_cast<std::uint8_t>(row[i] - (i >= 4 ? row[i - 4] : 0));
        continue;
      }
      const std::uint8_t* above = row - stride;
      for (std::size_t i = 0; i < 4; ++i) to[i] = static_cast<std::uint8_t>(row[i] - above[i]);
      for (std::size_t i = 4; i < stride; ++i) {
        const int left = row[i - 4], up = above[i], corner = above[i - 4];
        const int a = std::abs(up - corner), b = std::abs(left - corner), c = std::abs(left + up - 2 * corner);
        const int other = b <= c ? up : corner;
        to[i] = static_cast<std::uint8_t>(row[i] - (a <= b && a <= c ? left : other));
      }
    }
    return out;
  }
  void put(std::span<const std::uint8_t> bytes) {
    sink_->write_at(at_, bytes);
    at_ += bytes.size();
  }
  void put(std::initializer_list<std::uint8_t> bytes) { put(std::span(bytes.begin(), bytes.size())); }
  void chunk(const char* name, std::initializer_list<std::uint8_t> bytes) {
    chunk(name, std::span(bytes.begin(), bytes.size()));
  }
  void chunk(const char* name, std::span<const std::uint8_t> bytes) {
    std::vector<std::uint8_t> out;
    auto number = [&](std::uint64_t v) {
      for (int shift = 24; shift >= 0; shift -= 8) out.push_back(static_cast<std::uint8_t>(v >> shift));
    };
    number(bytes.size());
    out.insert(out.end(), name, name + 4);
    out.insert(out.end(), bytes.begin(), bytes.end());
    number(crc32(0, out.data() + 4, static_cast<uInt>(out.size() - 4)));
    put(out);
  }

  std::size_t cols_, rows_;
  std::unique_ptr<ByteSink> sink_;
  PlaceBeside beside_;
  std::uint64_t at_ = 0;
  uLong sum_ = 1;
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
