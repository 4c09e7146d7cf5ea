// The formats of pictures with a place. Each takes the bands of a picture in order and writes a file.
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <span>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/image_file.hpp"

namespace katoptra {

class ImageWriter {
 public:
  virtual ~ImageWriter() = default;
  // What can be done with a band by itself: on any thread.
  virtual Pixels packed(Pixels rows) const { return rows; }
  // The next rows, from the north, as packed() gave them.
  virtual void add(const Pixels& rows) = 0;
  // The file under its name.
  virtual void finish(ImageReport& report) = 0;
};

using MakeImageWriter = std::unique_ptr<ImageWriter> (*)(const PlacedImage&, const std::filesystem::path&,
                                                         const ImageWriteOptions&);
std::unique_ptr<ImageWriter> png_image(const PlacedImage&, const std::filesystem::path&, const ImageWriteOptions&);
std::unique_ptr<ImageWriter> jpeg_image(const PlacedImage&, const std::filesystem::path&, const ImageWriteOptions&);
std::unique_ptr<ImageWriter> tiff_image(const PlacedImage&, const std::filesystem::path&, const ImageWriteOptions&);
std::unique_ptr<ImageWriter> geopackage_image(const PlacedImage&, const std::filesystem::path&,
                                              const ImageWriteOptions&);
std::unique_ptr<ImageWriter> kmz_image(const PlacedImage&, const std::filesystem::path&, const ImageWriteOptions&);

// A small picture as PNG in memory: without an opacity where all is opaque.
std::vector<std::uint8_t> png_bytes(const Pixels& pixels, int width);

}  // namespace katoptra
