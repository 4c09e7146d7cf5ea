// Pictures that were made elsewhere, as grids of their colours: PNG and JPEG with a world file, GeoTIFF.
#include <cmath>
#include <cstdio>
#include <fmt/format.h>
#include <jpeglib.h>
#include <memory>
#include <optional>
#include <png.h>
#include <string>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/image_file.hpp"

#include "formats/readers.hpp"
#include "formats/vector/prj.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kMostPixels = 64 << 20;

struct Raster {
  std::int64_t cols = 0, rows = 0;
  Pixels rgba;
};

[[noreturn]] void refuse_damaged(const fs::path& path, const std::string& why) {
  throw Error(ErrorCode::BadFile, fmt::format("the picture cannot be read: {}", why), path.string(),
              "fetch it again, or save it anew");
}

void require_size(const fs::path& path, std::int64_t cols, std::int64_t rows) {
  if (cols <= 0 || rows <= 0) refuse_damaged(path, "it has no pixels");
  if (cols > kMostPixels / rows)
    throw Error(ErrorCode::TooLarge, fmt::format("a picture of {} x {} pixels is held in memory", cols, rows),
                path.string(), "save it as a tiled GeoTIFF, which is read in parts");
}

Raster read_png(const fs::path& path) {
  ::png_image image{};
  image.version = PNG_IMAGE_VERSION;
  const std::string bytes = read_text_file(path, std::size_t{1} << 30);
  if (!png_image_begin_read_from_memory(&image, bytes.data(), bytes.size())) refuse_damaged(path, image.message);
  const std::unique_ptr<::png_image, decltype(&png_image_free)> held(&image, png_image_free);
  require_size(path, image.width, image.height);
  image.format = PNG_FORMAT_RGBA;
  Raster out{image.width, image.height, Pixels(PNG_IMAGE_SIZE(image))};
  if (!png_image_finish_read(&image, nullptr, out.rgba.data(), 0, nullptr)) refuse_damaged(path, image.message);
  return out;
}

// The library's errors become ours.
Raster read_jpeg(const fs::path& path) {
  const std::string bytes = read_text_file(path, std::size_t{1} << 30);
  jpeg_decompress_struct jpeg{};
  jpeg_error_mgr errors{};
  jpeg.err = jpeg_std_error(&errors);
  errors.error_exit = [](j_common_ptr c) {
    char why[JMSG_LENGTH_MAX];
    c->err->format_message(c, why);
    throw std::string(why);
  };
  errors.output_message = [](j_common_ptr) {};
  std::unique_ptr<jpeg_decompress_struct, decltype(&jpeg_destroy_decompress)> held(nullptr, jpeg_destroy_decompress);
  try {
    jpeg_create_decompress(&jpeg);
    held.reset(&jpeg);
    jpeg_mem_src(&jpeg, reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size());
    jpeg_read_header(&jpeg, TRUE);
    require_size(path, jpeg.image_width, jpeg.image_height);
    jpeg.out_color_space = JCS_RGB;
    jpeg_start_decompress(&jpeg);
    Raster out{jpeg.output_width, jpeg.output_height, {}};
    out.rgba.resize(static_cast<std::size_t>(out.cols * out.rows * 4), 255);
    std::vector<std::uint8_t> row(static_cast<std::size_t>(out.cols) * 3);
    for (std::size_t at = 0; jpeg.output_scanline < jpeg.output_height;) {
      JSAMPROW one = row.data();
      jpeg_read_scanlines(&jpeg, &one, 1);
      for (std::size_t i = 0; i < row.size(); i += 3, at += 4)
        for (std::size_t j = 0; j < 3; ++j) out.rgba[at + j] = row[i + j];
    }
    return out;
  } catch (const std::string& why) {
    refuse_damaged(path, why);
  }
}

// NAME.pgw, NAME.pngw or NAME.wld.
FileLattice placed(const Raster& picture, const fs::path& path, const Crs& otherwise) {
  const std::string ending = path.extension().string();
  const std::string last = ending.substr(ending.size() - 1), first = ending.substr(0, 2);
  std::error_code ec;
  for (const std::string& beside : {first + last + "w", ending + "w", std::string(".wld")}) {
    const fs::path world = fs::path(path).replace_extension(beside);
    if (!fs::is_regular_file(world, ec)) continue;
    auto lattice = lattice_of_world_file(read_text_file(world, 1 << 16), path.string());
    if (!lattice || lattice->dx == 0 || lattice->dy == 0 ||
        !std::isfinite(lattice->x + lattice->y + lattice->dx + lattice->dy))
      throw Error(ErrorCode::BadFile, "is no world file", world.string(),
                  "it needs six numbers: pixel, two zeros, pixel below zero, centre of the first pixel");
    lattice->cols = picture.cols;
    lattice->rows = picture.rows;
    lattice->crs = read_prj(path, otherwise);
    if (!lattice->crs)
      throw Error(ErrorCode::Refused, "the picture does not say in which CRS it lies", path.string(),
                  "put its .prj beside it, or tell its crs");
    return *lattice;
  }
  throw Error(ErrorCode::Refused, "nothing says where the picture lies", path.string(),
              fmt::format("put its world file beside it ({}w), and its .prj", first + last));
}

class PictureBand final : public GridSource {
 public:
  PictureBand(std::shared_ptr<const Pixels> rgba, std::size_t part, GridInfo info)
      : rgba_(std::move(rgba)), part_(part), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const auto at = static_cast<std::size_t>((w.row + r) * info_.frame.cols() + w.col + c) * 4;
        // What is clear has no colour.
        out.row(r)[c] = part_ < 3 && (*rgba_)[at + 3] == 0 ? kVoid : static_cast<float>((*rgba_)[at + part_]);
      }
  }

 private:
  std::shared_ptr<const Pixels> rgba_;
  std::size_t part_;
  GridInfo info_;
};

// Of a GeoTIFF; one of greys has them for each colour.
std::vector<Grid> bands_of(const fs::path& path, const Crs& otherwise) {
  OpenOptions open;
  open.band = "1";
  GridFile first = open_grid_file(path, open);
  if (!first.grid.frame().crs() && otherwise) {
    open.crs = otherwise;
    first = open_grid_file(path, open);
  }
  if (!first.grid.frame().crs())
    throw Error(ErrorCode::Refused, "the picture does not say in which CRS it lies", path.string(), "tell its crs");
  if (first.grid.info().type != SampleType::UInt8)
    throw Error(ErrorCode::Refused, "is no picture: its samples are not greys or colours from 0 to 255", path.string(),
                "draw it as a grid");
  std::vector<Grid> out{first.grid};
  if (first.facts.bands.size() < 3) return {out[0], out[0], out[0]};
  for (const char* band : {"2", "3", "4"}) {
    if (out.size() == first.facts.bands.size()) break;
    open.band = band;
    out.push_back(open_grid(path, open));
  }
  return out;
}

}  // namespace

std::vector<Grid> open_picture(const fs::path& path, const Crs& otherwise) {
  const bool png = has_ending(path, ".png");
  if (!png && !has_ending(path, ".jpg") && !has_ending(path, ".jpeg")) return bands_of(path, otherwise);
  Raster r = png ? read_png(path) : read_jpeg(path);
  GridInfo info;
  const FileLattice lattice = placed(r, path, otherwise);
  info.frame = lattice.frame();
  info.name = path.filename().string();
  info.quantity.kind = QuantityKind::Unknown;
  const auto rgba = std::make_shared<const Pixels>(std::move(r.rgba));
  std::vector<Grid> out;
  for (std::size_t i = 0; i < 4; ++i)
    out.push_back(turned(Grid(std::make_shared<PictureBand>(rgba, i, info)), lattice));
  return out;
}

}  // namespace katoptra
