// A picture of a grid for a page: colours, hillshade, coordinates, scale bar, north arrow, legend, overlays.
//
//   MapOverlay contours{contour_layer(lines, dem), OverlayStyle::Contours};
//   Picture p = draw_map(dem, {.title = "Kessa Inlet", .overlays = {contours}});
//   save(p.bytes);                                  // a file is written by the rooms that know files
//
// The map is drawn in the CRS of the grid with the same ground scale in both directions at its middle. PNG, SVG or PDF;
// a PDF is registered (ISO 32000-2, 12.10): readers that know maps tell where a place on it lies.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/terrain/profiles.hpp"
#include "katoptra/terrain/section.hpp"
#include "katoptra/view/classes.hpp"
#include "katoptra/view/palette.hpp"

namespace katoptra {

enum class PictureFormat { Png, Svg, Pdf };
struct Picture {
  PictureFormat format = PictureFormat::Png;
  int width = 0, height = 0;  // pixels (points for SVG and PDF)
  double scale = 0;           // of a map on paper: 5000 for 1:5000
  int sheets = 1;             // pages of a PDF
  std::vector<std::uint8_t> bytes;
};
// From the extension of a file name; Unsupported for others.
PictureFormat picture_format_for(const std::string& file_name);
// Whether there is a format of pictures for it.
bool picture_named(const std::string& file_name);

// Contours have numbers on them and ticks in hollows, Spots (spot_layer) their heights beside them, Waypoints their
// names: none over another. Reference: contours of another surface or chart, in a colour that stands out. Residuals:
// points with the properties residual and outlier, as discs. Places: outlines of findings. A Transect has a letter at
// either end. Raster: a grid, a picture or light. Land: where the land itself comes in the order (else below all).
enum class OverlayStyle {
  Area,
  Contours,
  Transect,
  Footprints,
  Kept,
  Gaps,
  Points,
  Places,
  Residuals,
  Streams,
  Basins,
  Water,
  Spots,
  Reference,
  Waypoints,
  Lines,
  Areas,
  Raster,
  Land
};

// What differs from how its style looks.
struct OverlayLook {
  std::optional<Colour> colour = {};
  std::optional<double> width = {};  // of lines, in pixels, or 150ths of an inch on paper
  std::optional<double> fill = {};   // of areas: how opaque, 0 to 1
  std::optional<bool> dashed = {};
  std::string words = {};  // the property that stands beside points, in areas
  double opacity = 1;      // of Raster and Land
  bool multiply = false;   // of Raster: darkens what lies below instead of hiding it
};

enum class MapLight { None, Hillshade, Sky };

// How values become colours.
struct LandLook {
  std::optional<Palette> ramp = {};         // instead of the colours that the kind of values has
  std::optional<ClassBreaks> classes = {};  // one colour to each class, of that ramp
  std::optional<double> shore = {};         // where land and sea part, in the unit of the heights; zero
  MapLight light = MapLight::Hillshade;     // makes the colours of heights darker and lighter
  double exaggeration = 1.5;                // of that light
};

// Values coloured as a map of them would be; of heights the light alone; or a picture.
struct MapRaster {
  // One of values; or three or four of a picture: red, green, blue, opacity from 0 to 255.
  std::vector<Grid> grids = {};
  LandLook look = {};
  bool light_only = false;  // the grey of `look.light` on the heights
};

struct MapOverlay {
  Layer layer;
  OverlayStyle style = OverlayStyle::Area;
  std::string label = {};  // in the legend; empty: the style's own
  OverlayLook look = {};
  std::optional<MapRaster> raster = {};
};

// A small map in the margin that shows where the map lies.
struct MapInset {
  Grid grid;
  std::string label = {};
};

// A page. Text: A0 to A6, the way round that suits a map of this ratio of width to height, or as -landscape or
// -portrait say; or 297mmx420mm.
struct Paper {
  Length width, height;
};
Paper parse_paper(std::string_view text, double wide_to_high = 1);

struct MapOptions {
  PictureFormat format = PictureFormat::Png;
  int width = 1600;  // 400 to 8000
  // On paper instead of so many pixels: at a scale that is held exactly in the middle of each sheet (5000 for 1:5000),
  // or as large as fits. What does not fit onto one page takes several, each with an index of them; only a PDF has
  // those.
  std::optional<Paper> paper = {};
  double scale = 0;
  int dpi = 150;  // of PNG on paper, 50 to 600
  LandLook land = {};
  bool grid_lines = false;             // at the coordinates that the frame tells
  std::optional<Crs> graticule = {};   // lines of another system, such as degrees, with their numbers
  std::string title, subtitle;         // empty: what the grid says of itself
  std::string sources, licence, date;  // below the map, as they are
  std::optional<MapInset> inset = {};
  std::vector<MapOverlay> overlays;
  RunOptions run;
};
Picture draw_map(const Grid& grid, const MapOptions& options = {});
// A sheet without land: outlines only, over the whole of `frame`. Polygons with a property "label" bear it where it
// fits.
Picture draw_outlines(const Frame& frame, const MapOptions& options);

struct GraphOptions {
  PictureFormat format = PictureFormat::Png;
  int width = 1600, height = 800;  // at least 1280 wide for PNG
  std::string title;
  double exaggeration = 0;  // of heights against lengths, held exactly; 0: as much as fits
  // Below the graph of one line: a table with the heights of each surface at every multiple of this along it.
  Length stations = {};
  bool by_time = false;  // along a track: minutes since its beginning instead of distances
};
// The graph of a section: axes with units, vertical exaggeration stated, voids left open, the sea at zero.
Picture draw_section(const Section& section, const GraphOptions& options = {});
// Several surfaces in one graph with their names, what the second cuts from and fills on the first, marks on the line.
Picture draw_profiles(const Profiles& profiles, const GraphOptions& options = {});
// Cross sections in sheets, all to one scale. PDF: A4 across, six on a page, as many pages as it takes; PNG and SVG:
// one sheet with two beside each other, TooLarge beyond kMostOnSheet.
inline constexpr std::size_t kMostOnSheet = 40;
Picture draw_profile_sheets(const std::vector<Profiles>& all, const GraphOptions& options = {});

// Steps for an axis: 1, 2 or 5 times a power of ten, about `wanted` of them over the range.
double axis_step(double range, int wanted);

}  // namespace katoptra
