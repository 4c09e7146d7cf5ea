// A picture that knows where it lies: pixels with colours, on a frame whose cells are the pixels.
//
//   PlacedImage shade = draw_image(dem);        // view/image.hpp makes one
//   write_image(shade, "shade.png");            // formats/image_file.hpp writes it, and where it lies
//
// Pixels are made in bands of rows, from north to south, when a writer asks for them, so a picture of any size fits
// into memory.
#pragma once
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// Red, green, blue, opacity (not multiplied into the colours), four bytes a pixel, row by row.
using Pixels = std::vector<std::uint8_t>;

struct PlacedImage {
  Frame frame;              // its cells are the pixels; without a CRS: of an unknown place
  std::string name;         // of what is seen
  std::int64_t band = 256;  // rows that are best made at once
  // Rows [first, end) of the picture. May be called once for each band, in order.
  std::function<Pixels(std::int64_t first, std::int64_t end)> rows;
};

}  // namespace katoptra
