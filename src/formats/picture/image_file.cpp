#include "katoptra/formats/image_file.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <memory>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/text.hpp"
#include "image_writers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct ImageFormat {
  const char* ending;
  MakeImageWriter make;
  bool lonlat;
};
constexpr ImageFormat kFormats[] = {{".png", png_image, false},   {".jpg", jpeg_image, false},
                                    {".jpeg", jpeg_image, false}, {".tif", tiff_image, false},
                                    {".tiff", tiff_image, false}, {".gpkg", geopackage_image, false},
                                    {".kmz", kmz_image, true}};

const ImageFormat* format_named(const fs::path& name) {
  const std::string ending = lower_extension(name);
  const auto f = std::find_if(std::begin(kFormats), std::end(kFormats), [&](auto& x) { return ending == x.ending; });
  return f == std::end(kFormats) ? nullptr : f;
}

}  // namespace

bool image_named(const fs::path& name) { return format_named(name) != nullptr; }
bool image_is_lonlat(const fs::path& name) {
  const ImageFormat* f = format_named(name);
  return f && f->lonlat;
}

ImageReport write_image(const PlacedImage& image, const fs::path& path, const ImageWriteOptions& options) {
  const ImageFormat* format = format_named(path);
  if (!format)
    throw Error(ErrorCode::Unsupported, fmt::format("pictures are not written as '{}'", lower_extension(path)),
                path.string(), "give a name that ends in .png, .jpg, .tif, .gpkg or .kmz");
  if (options.quality < 1 || options.quality > 100)
    throw Error(ErrorCode::BadArgument, fmt::format("a quality of {} is not possible", options.quality), path.string(),
                "take 1 to 100");
  const auto writer = format->make(image, path, options);
  const std::int64_t rows = image.frame.rows();
  parallel_ordered(
      static_cast<std::size_t>((rows + image.band - 1) / image.band),
      static_cast<std::size_t>(thread_count(options.run) + 1), options.run,
      [&](std::size_t i) -> std::shared_ptr<void> {
        const std::int64_t first = static_cast<std::int64_t>(i) * image.band;
        return std::make_shared<Pixels>(writer->packed(image.rows(first, std::min(rows, first + image.band))));
      },
      [&](std::size_t, const std::shared_ptr<void>& made) { writer->add(*static_cast<Pixels*>(made.get())); });
  ImageReport report;
  writer->finish(report);
  return report;
}

}  // namespace katoptra
