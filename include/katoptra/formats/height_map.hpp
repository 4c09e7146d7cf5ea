// Height maps for building worlds: a grey picture of so many samples, its grey the height.
//
//   HeightMapReport r = write_height_map(dem, "world.png", {.cols = 2049, .rows = 2049});
//
// .png with 8 or 16 bits; .raw with 8, 16 (little endian) or 32 bits (IEEE floats of the heights themselves), rows from
// the north. Samples are square on the ground, so of another shape than the picture's only the middle of the surface is
// seen
// (`cut` says how much is not). Heights from `low` to `high` are spread over all greys; what lies beyond has the grey
// of the end. With a `sea`, what lies at or below zero has that grey, and land the greys above. A void has the lowest
// grey, or the sea's. NAME.json beside it tells the scale. Memory is bounded whatever the size.
#pragma once
#include <filesystem>
#include <optional>

#include "katoptra/base/progress.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

inline constexpr std::int64_t kWidestHeightMap = 60'000;

struct HeightMapOptions {
  std::int64_t cols = 0, rows = 0;            // samples; 0: as many as the grid has cells
  int depth = 16;                             // bits: 8, 16 or 32
  std::optional<double> low = {}, high = {};  // in the unit of the grid; otherwise what there is
  std::optional<double> sea = {};             // a sample: 0 to 255 or 65535; with 32 bits a height
  bool overwrite = false;
  RunOptions run = {};
};

struct HeightMapReport {
  std::filesystem::path scale;  // the file beside it
  Frame frame;                  // whose cells are the samples
  double low = 0, high = 0;     // of the greys, in the unit of the grid
  Length sample;                // a sample's side on the ground
  std::int64_t voids = 0;
  double cut = 0;  // share of the surface that lies outside
  std::uint64_t bytes = 0;
};

// BadArgument for sizes, depths and ranges that make no sense; Unsupported for other endings, and PNG of 32 bits.
HeightMapReport write_height_map(const Grid& surface, const std::filesystem::path& path,
                                 const HeightMapOptions& options = {});

}  // namespace katoptra
