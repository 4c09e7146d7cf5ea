// The yardstick of file work: decode and encode every tile of a file with libtiff, one thread, the same codec,
// predictor and level as the source.
#pragma once
#include <filesystem>
#include <tiffio.h>
#include <vector>

namespace bench {

inline void copy_by_libtiff(const std::filesystem::path& from, const std::filesystem::path& to) {
  TIFF* in = TIFFOpen(from.c_str(), "r");
  TIFF* out = TIFFOpen(to.c_str(), "w8");
  const auto same32 = [&](std::uint32_t tag) {
    std::uint32_t v = 0;
    if (TIFFGetField(in, tag, &v)) TIFFSetField(out, tag, v);
  };
  const auto same16 = [&](std::uint32_t tag) {
    std::uint16_t v = 0;
    if (TIFFGetField(in, tag, &v)) TIFFSetField(out, tag, v);
  };
  for (std::uint32_t tag : {TIFFTAG_IMAGEWIDTH, TIFFTAG_IMAGELENGTH, TIFFTAG_TILEWIDTH, TIFFTAG_TILELENGTH})
    same32(tag);
  for (std::uint32_t tag :
       {TIFFTAG_BITSPERSAMPLE, TIFFTAG_SAMPLEFORMAT, TIFFTAG_SAMPLESPERPIXEL, TIFFTAG_COMPRESSION, TIFFTAG_PREDICTOR})
    same16(tag);
  TIFFSetField(out, TIFFTAG_ZIPQUALITY, 3);
  std::vector<char> tile(static_cast<std::size_t>(TIFFTileSize(in)));
  for (std::uint32_t i = 0; i < TIFFNumberOfTiles(in); ++i) {
    TIFFReadEncodedTile(in, i, tile.data(), -1);
    TIFFWriteEncodedTile(out, i, tile.data(), static_cast<tmsize_t>(tile.size()));
  }
  TIFFClose(in);
  TIFFClose(out);
}

}  // namespace bench
