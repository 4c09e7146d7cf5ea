#include "katoptra/study/leaving.hpp"

#include <algorithm>
#include <cstdint>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/reproject.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

Grid in_its_system(const Grid& grid, const fs::path& path) {
  if (!image_is_lonlat(path)) return grid;
  if (!grid.frame().crs())
    throw Error(ErrorCode::Refused, "KMZ is in longitude and latitude, and this grid has no CRS to come from",
                path.string(), "tell it with --crs");
  if (grid.frame().crs().same_place(Crs::wgs84())) return grid;
  return reproject(grid, frame_for(grid.frame(), Crs::wgs84()));
}

}  // namespace

PlacedReport write_placed_picture(const Grid& grid, const fs::path& path, const ImageOptions& options, bool overwrite) {
  if (has_ending(path, ".pdf")) {
    const PlacedPage page = draw_image_page(grid, options);
    write_file(path, page.picture.bytes, {.overwrite = overwrite});
    return {page.frame, {.bytes = page.picture.bytes.size(), .format = "PDF"}};
  }
  const PlacedImage image = draw_image(in_its_system(grid, path), options);
  return {image.frame, write_image(image, path, {.overwrite = overwrite, .run = options.run})};
}

SolidReport write_solid_with_map(const Solid& solid, const Grid& surface, const fs::path& path, bool overwrite,
                                 const RunOptions& run) {
  if (!has_ending(path, ".glb")) return write_solid(solid, path, {.overwrite = overwrite});
  const auto width = static_cast<int>(std::clamp<std::int64_t>(surface.frame().cols(), 256, 2048));
  const PlacedImage picture = draw_image(surface, {.width = width, .overlays = {}, .run = run});
  return write_solid(solid, path, {.overwrite = overwrite, .picture = &picture});
}

ProfilesReport write_profiles(const std::vector<Profiles>& all, const fs::path& path, const GraphOptions& options,
                              bool overwrite) {
  if (all.empty() || all[0].surfaces.empty()) throw Error(ErrorCode::BadArgument, "no section to write", path.string());
  const bool sheets = all.size() > 1 || all[0].across, one = !sheets && all[0].surfaces.size() == 1;
  const Section& first = all[0].surfaces[0].section;
  ProfilesReport report;
  if (has_ending(path, ".csv")) {
    write_text_file(path, one ? section_csv(first) : profiles_csv(all), {.overwrite = overwrite});
  } else if (picture_named(path.string())) {
    GraphOptions o = options;
    o.format = picture_format_for(path.string());
    report.picture = sheets ? draw_profile_sheets(all, o) : draw_profiles(all[0], o);
    write_file(path, report.picture->bytes, {.overwrite = overwrite});
  } else {
    const Layer lines = one ? section_layer(first) : profiles_layer(all, all[0].across ? "cross sections" : "section");
    report.layer = write_layer(lines, path, {.overwrite = overwrite});
  }
  return report;
}

}  // namespace katoptra
