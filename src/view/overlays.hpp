// What is drawn over the land of a map or a picture.
#pragma once
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"
#include "katoptra/view/map.hpp"

#include "canvas.hpp"
#include "land.hpp"
#include "map_lines.hpp"

namespace katoptra {

struct Pen {
  Colour colour;
  double width, fill;
  bool dashed;
  const char* label;
};
Pen pen_of(OverlayStyle style);
// With what differs from it.
Pen pen_of(const MapOverlay& o);

class OverlayPainter {
 public:
  // The upper left corner of `frame`, whose cells are pixels, lies at this place of the canvas. `lost`: the frame's CRS
  // is made up, so only what has none lies on it.
  OverlayPainter(Canvas& canvas, const Frame& frame, Point corner, bool lost);

  // In their order; `land` is called where the land comes.
  using DrawLand = std::function<void(const OverlayLook& look, bool is_lowest)>;
  // `rasters`: on pixels that are the cells of the frame, or finer ones.
  void draw(const std::vector<MapOverlay>& overlays, const RasterPixels& rasters, const DrawLand& land);
  // Keeps words apart.
  LineLabels& numbers() { return numbers_; }
  // A disc as large as a residual is beside the largest of the residuals drawn.
  void disc(Point at, double residual, bool outlier);
  double most_residual() const { return most_residual_; }

 private:
  void draw(const MapOverlay& o, const RasterPixels& rasters);
  void raster(const MapOverlay& o, const RasterPixels& rasters);
  // From the layer's CRS to that of the frame.
  Transform to_frame(const Layer& layer) const { return {layer.crs ? layer.crs : frame_.crs(), frame_.crs()}; }
  void place_names(const std::vector<MapOverlay>& overlays);
  void waypoints(const MapOverlay& o, const Pen& p);
  void place_letters(const Feature& f, const LineString& line);
  Point on_sheet(Point p) const { return {corner_.x + frame_.col_at(p.x), corner_.y + frame_.row_at(p.y)}; }
  void path(const LineString& line, bool close);
  void areas(const MultiPolygon& shape, const Pen& p);
  void line(LineString line, const Transform& t, const Pen& p, double width);
  void place(Point at, OverlayStyle style);
  void residuals(const Layer& layer, const Transform& t);
  void label(const Feature& f, const Transform& t, Colour colour, const OverlayLook& look);
  void name_along(const Feature& f, LineString line, Colour ink, const std::string& words);

  Canvas& canvas_;
  const Frame& frame_;
  Point corner_;
  bool lost_;
  Bounds sheet_;
  LineLabels numbers_;
  // Where waypoints stand, and where their names do, if there is room.
  struct Named {
    Point at;
    std::string text;
    std::optional<Point> middle = {};
  };
  std::map<const MapOverlay*, std::vector<Named>> names_;
  std::map<const Feature*, std::vector<std::pair<Point, std::string>>> letters_;
  double most_residual_ = 0;
  int lines_ = 0;  // that have their letters
};

}  // namespace katoptra
