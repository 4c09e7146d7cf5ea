// From tiles to products with the library.
#include <cstdio>

#include "katoptra/check/check.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/derivatives.hpp"

using namespace katoptra;

int main() {
  const std::string demo = DEMO;
  const Grid whole = mosaic({open_grid(demo + "ground-2022/sheet_b2.tif"),
                             open_grid(demo + "ground-2022/sheet_b1.tif"),  // this one is in feet
                             open_grid(demo + "sonar-2019/kessa.tif")},
                            {.feather = 6_m});
  const Grid here = clip(whole, parse_area("circle:-30.9889,-37.5550,150m"), {.margin = 20_m});
  const Grid surface = fill_voids(here, {.largest = 500_m, .edges = false}).grid;
  const WriteReport report = write_grid(surface, "surface.tif", {.lineage = true});
  write_grid(hillshade(surface, {.azimuth = 315_deg, .altitude = 40_deg}), "shade.tif", {});
  const auto lines = contours(surface, {.interval = 2_m});
  write_layer(contour_layer(lines, surface), "contours.gpkg");
  for (const std::string& note : surface.info().notes) std::printf("note: %s\n", note.c_str());
  for (const Finding& f : check(open_grid("surface.tif")).findings)
    std::printf("%s: %s\n", name_of(f.severity), f.code.c_str());
  std::printf("%lld cells, %.1f to %.1f m, %zu contours\n", static_cast<long long>(report.cells), report.lowest,
              report.highest, lines.size());
}
