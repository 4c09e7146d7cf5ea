// The style of a map as a file: what lies on it, in which order, in which colours, and what stands around it.
//
//   MapStyle style = read_map_style("harbour.toml");
//   MapOptions map;
//   apply(style, dem, map);
//   draw_map(dem, map);
//
// docs/view.md has all of its keys. Files that a style names count from its own folder.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "katoptra/surface/heights.hpp"
#include "katoptra/view/image.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

// A layer of a kind that docs/view.md lists, with what it may have.
struct StyleLayer {
  std::string kind;
  std::filesystem::path file = {};
  std::string label = {};
  OverlayLook look = {};
  std::optional<Crs> crs = {};          // of a file that does not say
  HeightShift shift = {};               // reference: added to its heights, which are above those of the surface then
  std::optional<Length> interval = {};  // contours, reference
  std::vector<Length> levels = {};      // instead
  std::optional<Length> below = {};     // contours: another interval below zero
  Length smooth = {}, shortest = {};    // contours
  Length radius = {}, relief = {};      // spots
  bool heights = false;                 // waypoints: the height of the surface beside the name
  std::filesystem::path ramp = {};      // land, grid
  std::string classes = {};             // likewise
  std::optional<MapLight> light = {};   // land, grid, light
  std::optional<double> exaggeration = {};
  std::optional<Length> shore = {};  // land
};

struct MapStyle {
  std::filesystem::path file;
  std::string title, subtitle, sources, licence, date;
  std::string page;  // as parse_paper reads it
  double scale = 0;
  int dpi = 0;
  bool grid_lines = false;
  std::optional<Crs> graticule;
  std::filesystem::path inset;
  std::string inset_label;
  std::vector<StyleLayer> layers;
};

// BadFile with the line for what is not known or makes no sense.
MapStyle read_map_style(const std::filesystem::path& path);
// The style itself, and what it names; nothing of a style that was not read.
std::vector<std::filesystem::path> files_of(const MapStyle& style);
// Refused where a surface does not say how sure it is.
void require_uncertainty(const Grid& surface);
// What a style says takes the place of what options had; its layers come after those that are there.
void apply(const MapStyle& style, const Grid& surface, MapOptions& options, std::vector<std::string>* notes = nullptr);
// Land and layers alone.
void apply(const MapStyle& style, const Grid& surface, ImageOptions& options,
           std::vector<std::string>* notes = nullptr);
// How land is coloured by a layer of that kind, where it differs from `look`.
LandLook look_of(const StyleLayer& layer, LandLook look, const Grid& grid);
// One layer as it is drawn; not of land.
MapOverlay overlay_of(const StyleLayer& layer, const Grid& surface, const RunOptions& run,
                      std::vector<std::string>* notes = nullptr);
// "0,10,25,50", in the unit of the values, or "0,10,25,50m" in that of the last; or as parse_class_breaks.
ClassBreaks class_breaks_from(const std::string& text, const Quantity& quantity = {});
// "hillshade", "sky", "none".
MapLight parse_map_light(std::string_view text);

}  // namespace katoptra
