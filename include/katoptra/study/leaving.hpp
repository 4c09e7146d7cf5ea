// The surface on its way out of the house: what takes pictures and files together, by the ending of a name.
//
//   PlacedReport r = write_placed_picture(dem, "relief.kmz");     // brought to longitude and latitude for it
//   write_solid_with_map(surface_solid(dem, {.scale = 5000}), dem, "inlet.glb");
//   write_profiles({profiles({{"before", old_survey}, {"after", new_survey}}, line)}, "bridge.pdf");
//
// Nothing is left behind by an error.
#pragma once
#include <filesystem>
#include <optional>
#include <vector>

#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/solid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/view/image.hpp"

namespace katoptra {

struct PlacedReport {
  Frame frame;  // whose cells are the pixels
  ImageReport file;
};
// .pdf is a registered page, the others are what write_image knows. Refused for a KMZ of a grid without a CRS.
PlacedReport write_placed_picture(const Grid& grid, const std::filesystem::path& path, const ImageOptions& options = {},
                                  bool overwrite = false);

// A .glb bears the map of the surface on its ground.
SolidReport write_solid_with_map(const Solid& solid, const Grid& surface, const std::filesystem::path& path,
                                 bool overwrite = false, const RunOptions& run = {});

struct ProfilesReport {
  LayerReport layer;               // where lines were written
  std::optional<Picture> picture;  // where one was drawn
};
// Of one line or of cross sections (those with a name): .csv for the table, .png, .svg or .pdf for the graph or the
// sheets, else the lines with their heights.
ProfilesReport write_profiles(const std::vector<Profiles>& all, const std::filesystem::path& path,
                              const GraphOptions& options = {}, bool overwrite = false);

}  // namespace katoptra
