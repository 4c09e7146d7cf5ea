// Axes with units around a field of a sheet.
#pragma once
#include <cmath>
#include <string>

#include "canvas.hpp"

namespace katoptra {

// Where values lie on the sheet.
struct Plot {
  double left, top, width, height;
  double x0, x1, y0, y1;
  double x(double v) const { return left + (v - x0) / (x1 - x0) * width; }
  double y(double v) const { return top + (y1 - v) / (y1 - y0) * height; }
};

inline void draw_axes(Canvas& c, const Plot& p, const std::string& x_title, const std::string& y_title) {
  const double xs = axis_step(p.x1 - p.x0, 10), ys = axis_step(p.y1 - p.y0, 7);
  c.line_width(1);
  for (double v = std::ceil(p.y0 / ys - 1e-9) * ys; v <= p.y1 + ys * 1e-9; v += ys) {
    c.colour(kHairline);
    c.line(p.left, p.y(v), p.left + p.width, p.y(v));
    c.colour(kInk);
    c.text(p.left - 10, p.y(v) + 6, axis_label(v, ys), 17, Align::Right);
  }
  for (double v = std::ceil(p.x0 / xs - 1e-9) * xs; v <= p.x1 + xs * 1e-9; v += xs) {
    c.colour(kHairline);
    c.line(p.x(v), p.top, p.x(v), p.top + p.height);
    c.colour(kInk);
    c.text(p.x(v), p.top + p.height + 26, axis_label(v, xs), 17, Align::Centre);
  }
  c.colour(kQuiet);
  c.line_width(1.5);
  c.line(p.left, p.top + p.height, p.left + p.width, p.top + p.height);
  c.line(p.left, p.top, p.left, p.top + p.height);
  c.colour(kInk);
  c.text(p.left + p.width / 2, p.top + p.height + 58, x_title, 18, Align::Centre);
  c.text_upright(28, p.top + p.height / 2, y_title, 18);
}

}  // namespace katoptra
