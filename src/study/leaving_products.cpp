#include "leaving_products.hpp"

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/terrain/profiles.hpp"
#include "katoptra/water/water_products.hpp"

namespace katoptra {

double width_to_height(const Frame& f) {
  const GroundSpacing s = ground_spacing(f);
  return s.x.metres() * static_cast<double>(f.cols()) / (s.y.metres() * static_cast<double>(f.rows()));
}

const StudyProduct* product_of(const Study& s, const std::string& file) {
  for (const StudyProduct& p : s.products)
    if (p.file == file) return &p;
  return nullptr;
}

bool is_drawn(const StudyProduct& p) {
  const WaterProduct* water = water_product_named(p.kind);
  return p.kind == "contours" || p.kind == "spots" || (water && water->layer);
}

std::optional<Error> why_not_leaving(const StudyProduct& p, const Frame& surface) {
  try {
    if (!p.line.empty()) read_line(p.line, surface.crs());
    if (!p.across.empty()) cross_lines(surface.crs(), read_line(p.across, surface.crs()), p.every, p.width);
    if (!p.page.empty()) parse_paper(p.page, width_to_height(surface));
    for (const std::filesystem::path& f : files_of(p.style)) {
      std::error_code ec;
      if (!std::filesystem::exists(f, ec))
        return Error(ErrorCode::Io, "is named by the style and is not there", f.string(),
                     "check its name in " + p.style.file.filename().string());
    }
    for (const std::filesystem::path& f : p.with) open_grid(f);
    if (p.kind == "section" && p.stations.metres() > 0 && !p.across.empty())
      return Error(ErrorCode::BadArgument, "has stations, which are for a line", p.file, "leave them out");
    if (!p.style.page.empty()) parse_paper(p.style.page);
    if (p.kind == "map" && p.scale > 0 && p.page.empty() && p.style.page.empty())
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
