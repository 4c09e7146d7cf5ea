// What is drawn over the land of a map or a picture.
#pragma once
#include <functional>
#include <optional>

#include "katoptra/grid/frame.hpp"
#include "katoptra/view/map.hpp"

#include "canvas.hpp"
#include "map_lines.hpp"

namespace katoptra {

struct Pen {
  Colour colour;
  double width, fill;
  bool dashed;
  const char* label;
};
Pen pen_of(OverlayStyle style);

class OverlayPainter {
 public:
  // The upper left corner of `frame`, whose cells are pixels, lies at this place of the canvas. `lost`: the frame's CRS
  // is made up, so only what has none lies on it.
  OverlayPainter(Canvas& canvas, const Frame& frame, Point corner, bool lost);

  void draw(const MapOverlay& o);
  // A disc as large as a residual is beside the largest of the residuals drawn.
  void disc(Point at, double residual, bool outlier);
  double most_residual() const { return most_residual_; }

 private:
  Point on_sheet(Point p) const { return {corner_.x + frame_.col_at(p.x), corner_.y + frame_.row_at(p.y)}; }
  void path(const LineString& line, bool close);
  void areas(const MultiPolygon& shape, const Pen& p);
  void line(LineString line, const Transform& t, const Pen& p, double width);
  void place(Point at, OverlayStyle style);
  void residuals(const Layer& layer, const Transform& t);
  void label(const Feature& f, const Transform& t, Colour colour);

  Canvas& canvas_;
  const Frame& frame_;
  Point corner_;
  bool lost_;
  Bounds sheet_;
  LineLabels numbers_;
  double most_residual_ = 0;
};

}  // namespace katoptra
