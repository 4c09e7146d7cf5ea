#include "leaving.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/solid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/profiles.hpp"
#include "katoptra/view/image.hpp"

namespace katoptra {
namespace fs = std::filesystem;

void write_picture_of(const StudyProduct& p, const Grid& surface, const std::vector<MapOverlay>& overlays,
                      const fs::path& to, bool overwrite, const RunOptions& run) {
  const ImageOptions options{.exaggeration = p.exaggeration, .overlays = overlays, .run = run};
  if (has_ending(to, ".pdf")) {
    write_file(to, draw_image_page(surface, options).bytes, {.overwrite = overwrite});
    return;
  }
  const bool turned = image_is_lonlat(to) && !surface.frame().crs().same_place(Crs::wgs84());
  const Grid g = turned ? reproject(surface, frame_for(surface.frame(), Crs::wgs84())) : surface;
  write_image(draw_image(g, options), to, {.overwrite = overwrite, .run = run});
}

void write_solid_of(const StudyProduct& p, const Grid& surface, const fs::path& to, bool overwrite,
                    const RunOptions& run) {
  SolidOptions o = p.solid;
  o.run = run;
  const Solid solid = surface_solid(surface, o);
  std::optional<PlacedImage> picture;
  if (has_ending(to, ".glb"))
    picture =
        draw_image(surface, {.width = static_cast<int>(std::clamp<std::int64_t>(surface.frame().cols(), 256, 2048)),
                             .overlays = {},
                             .run = run});
  write_solid(solid, to, {.overwrite = overwrite, .picture = picture ? &*picture : nullptr});
}

Picture write_cross_sections_of(const StudyProduct& p, const Grid& surface, const fs::path& to, bool overwrite,
                                const RunOptions& run) {
  const Crs& crs = surface.frame().crs();
  const std::vector<Profiles> all =
      cross_sections({{"surface", surface}}, read_line(p.across, crs), p.every, p.width, {.run = run});
  if (has_ending(to, ".csv")) {
    write_text_file(to, profiles_csv(all), {.overwrite = overwrite});
    return {};
  }
  if (!picture_named(to.string())) {
    write_layer(profiles_layer(all, "cross sections"), to, {.overwrite = overwrite});
    return {};
  }
  Picture sheets = draw_profile_sheets(
      all, {.format = picture_format_for(to.string()),
            .title = p.title.empty() ? "Cross sections of " + p.across.filename().string() : p.title});
  write_file(to, sheets.bytes, {.overwrite = overwrite});
  return sheets;
}

void add_depths(Layer& contours) {
  for (Feature& f : contours.features)
    if (const Property* level = property_of(f, "level"))
      f.properties.emplace_back("depth", 0.0 - std::get<double>(*level));
}

double width_to_height(const Frame& f) {
  const GroundSpacing s = ground_spacing(f);
  return s.x.metres() * static_cast<double>(f.cols()) / (s.y.metres() * static_cast<double>(f.rows()));
}

std::optional<Error> why_not_leaving(const StudyProduct& p, const Frame& surface) {
  try {
    if (!p.line.empty()) read_line(p.line, surface.crs());
    if (!p.across.empty()) cross_lines(surface.crs(), read_line(p.across, surface.crs()), p.every, p.width);
    if (!p.page.empty()) parse_paper(p.page, width_to_height(surface));
    if (p.kind == "map" && p.scale > 0 && p.page.empty())
      return Error(ErrorCode::BadArgument, "has a scale and no page", p.file, "give page = \"A4\", too");
    // Sizes are judged with a plain in the same place: the centres of its outer cells lie where those of the surface
    // do.
    if (p.kind == "solid") {
      const double x = (surface.bounds().width() - surface.cell().x) / 2,
                   y = (surface.bounds().height() - surface.cell().y) / 2;
      const Point nw = surface.centre(0, 0);
      const Frame plain(surface.crs(), nw.x - x / 2, nw.y + y / 2, {x, y}, 3, 3);
      surface_solid(grid_from_function(plain, [](double, double) { return 1.0; }), p.solid);
    }
  } catch (const Error& e) {
    return e;
  }
  return std::nullopt;
}

}  // namespace katoptra
