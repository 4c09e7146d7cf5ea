// What a map has around its field: frame and coordinates, title, legend, scale bar, north, inset, index, sources.
#pragma once
#include <string>
#include <utility>
#include <vector>

#include "katoptra/view/map.hpp"

#include "canvas.hpp"
#include "land.hpp"
#include "overlays.hpp"

namespace katoptra {

inline constexpr double kInch = 0.0254, kWordsPerInch = 150;

// What a page has around the map; a bare picture has nothing.
struct Margins {
  double left = 96, top = 84, right = 230, bottom = 96;
};
inline constexpr Margins kOnPaper{.left = 88, .top = 70, .right = 216, .bottom = 80};

// One of the sheets of a map that does not fit onto one.
struct Sheet {
  int col = 0, row = 0, across = 1, down = 1;
  std::string name() const;
};

// A map on its page, all lengths those of the page.
struct MapField {
  Grid grid;
  bool lost = false;  // the grid's CRS is made up
  const MapOptions& options;
  Frame frame;
  Margins margins;
  Sheet sheet;

  double width() const { return static_cast<double>(frame.cols()); }
  double height() const { return static_cast<double>(frame.rows()); }
  Bounds box() const { return {margins.left, margins.top, margins.left + width(), margins.top + height()}; }
  Point on_sheet(Point p) const { return {margins.left + frame.col_at(p.x), margins.top + frame.row_at(p.y)}; }
  bool heights() const { return grid.quantity().kind == QuantityKind::Height; }
};

class MapMargin {
 public:
  MapMargin(Canvas& canvas, const MapField& field) : canvas_(canvas), field_(field) {}

  // Over the field. `colours`: none of a sheet without land. Returns how far down what stands beside the map reaches.
  double draw(const LandColours* colours, const RasterColours& rasters, OverlayPainter& overlays);

 private:
  double width() const { return field_.width(); }
  double height() const { return field_.height(); }
  Point on_sheet(Point p) const { return field_.on_sheet(p); }
  std::pair<double, double> steps() const;
  std::string coordinate(double v, double step, bool east) const;
  void grid_lines();
  void ticks();
  void title();
  double legend(const LandColours* colours, const RasterColours& rasters, OverlayPainter& overlays);
  void ramp_sign(double x, double y, const LandColours& colours);
  double ramp_legend(double x, double y, const LandColours& colours);
  double class_legend(double x, double y, const LandColours& colours);
  double residual_legend(double x, double y, OverlayPainter& overlays);
  void sign(double x, double y, const MapOverlay& o);
  void scale_bar();
  void index(double bottom);
  double inset(double from, double bottom);
  std::vector<std::string> words() const;
  void north_arrow();

  Canvas& canvas_;
  const MapField& field_;
};

}  // namespace katoptra
