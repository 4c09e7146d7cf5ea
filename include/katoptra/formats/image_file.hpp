// Pictures with what says where they lie, by the ending of the name:
//
//   ImageReport r = write_image(draw_image(dem), "relief.kmz");
//
// .png, .jpg: a world file (.pgw, .jgw) and a .prj beside it. .tif: RGB and opacity with the tags of GeoTIFF, tiled,
// header first, overviews. .gpkg: tiles of 256 pixels, each level half as fine, in the CRS of the picture. .kmz: ground
// overlays in tiles by level, shown as far as one is near; the picture must be in longitude and latitude
// (Crs::wgs84()). JPEG has no opacity: what is clear becomes white. Made in bands, so memory is bounded whatever the
// size.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "katoptra/base/progress.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/image.hpp"

namespace katoptra {

struct ImageWriteOptions {
  bool overwrite = false;
  int quality = 90;  // of JPEG, 1 to 100
  RunOptions run;
};
struct ImageReport {
  std::uint64_t bytes = 0;
  std::vector<std::filesystem::path> beside;  // what belongs to it
  std::string format;
};

// Whether write_image knows the ending.
bool image_named(const std::filesystem::path& name);
// Whether that format is in longitude and latitude only.
bool image_is_lonlat(const std::filesystem::path& name);
// Unsupported for other endings; Refused for a KMZ of another CRS, or of none; TooLarge beyond what a format holds.
// Nothing is left behind by an error.
ImageReport write_image(const PlacedImage& image, const std::filesystem::path& path,
                        const ImageWriteOptions& options = {});

// A picture that knows where it lies, as grids of 0 to 255: red, green, blue and, where it has it, opacity. PNG and
// JPEG with a world file beside them and a .prj (else `otherwise`), held in memory (TooLarge beyond 64 million pixels);
// a GeoTIFF of bytes, read in parts. Refused when nothing says where it lies.
std::vector<Grid> open_picture(const std::filesystem::path& path, const Crs& otherwise = {});

}  // namespace katoptra
