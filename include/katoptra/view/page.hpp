// A page for a browser: a surface to turn, to look at in other colours, and to ask for heights, sections and volumes.
//
//   SurfacePage p{.title = "Kessa Inlet", .surfaces = {{"ground of 2022", dem}}};
//   Page page = surface_page(p);                  // page.html is a whole file: no network, no other file
//
// The heights lie in the page as they are, to a step of a millimetre (whole numbers: exactly), so what the page says
// under the pointer is what `sample` and `section` say, to half a step. A surface of more than `most_cells` is shown
// by larger cells, from an overview of its file where there is one, and the page says so. Texts may be anything: they
// are never taken for a part of the page, and the page runs no script but its own (Content Security Policy, level 3).
//
// Memory: 4 bytes for each cell shown of each surface and each colouring, 40 for each point shown, and the page itself.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/points/points.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

// Something with a value for each cell; brought to the cells of the first surface.
struct PagePlane {
  std::string label;  // empty: its name
  Grid grid;
  LandLook look = {};
};

// A picture that knows where it lies, laid over the surface: three or four grids from 0 to 255, red, green, blue and
// opacity (open_picture).
struct PagePicture {
  std::string label;
  std::vector<Grid> grids;
};

// A place with something to read.
struct PagePin {
  Point place;  // in the CRS of the first surface
  std::string name, text;
  std::string tone = "note";  // "note", "warning", "failure", "control"
  MultiPolygon shape = {};    // what it is about, in the same CRS; may be empty
};

struct PageLine {
  LineString line;  // in the CRS of the first surface
  std::string name;
};

inline constexpr std::int64_t kMostPageCells = 4'000'000, kMostPagePoints = 5'000'000;

struct SurfacePage {
  std::string title;
  std::vector<PagePlane> surfaces;  // heights; the first is the one that measures are taken from
  std::vector<PagePlane> drapes;    // what it can be coloured by, besides what the page finds itself
  std::vector<PagePicture> pictures = {};
  std::vector<PagePin> pins;
  std::vector<PageLine> lines;
  // Drawn over the surface where they lie on its frame: in its CRS, in its unit and above its reference
  // (points/select.hpp brings them there). Of more than `most_points` so many are taken evenly, and the page says so.
  std::optional<PointCloud> points = {};
  // The same by fewer and fewer points, for a viewer that shows them from far away (kept_levels of the catalogue).
  std::vector<PointCloud> fewer_points = {};
  std::int64_t most_points = kMostPagePoints;  // 1 to 5,000,000
  std::int64_t most_cells = kMostPageCells;    // 1,000 to 16,000,000
  int drape_steps = 20'000;                    // drapes that are no lengths are told in so many steps of their range
  bool lineage = true;                         // where cells came from, when the first surface knows
  RunOptions run = {};
};

struct Page {
  std::string html;
  Frame frame;                                // of the cells shown
  double times = 1;                           // they are so many times as wide as the surface's
  double step = 0;                            // heights are told in such steps, in the unit of the surface
  std::int64_t points = 0, points_there = 0;  // shown, and on the frame
};

// BadArgument without a surface; Refused for one that is not heights, or without a known cell.
Page surface_page(const SurfacePage& page);

}  // namespace katoptra
