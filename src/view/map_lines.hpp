// What a map draws of lines and points that carry numbers.
#pragma once
#include <functional>

#include "katoptra/geo/feature.hpp"
#include "katoptra/terrain/line_labels.hpp"

#include "canvas.hpp"

namespace katoptra {

// From the layer's CRS to the sheet, y down.
using OnSheet = std::function<Point(Point)>;

// Keeps numbers apart: of contours and of spot heights, over the whole map. Lengths as on the sheet.
LineLabels numbers_within(const Bounds& sheet);

// Contours: index lines bolder, numbers on them that read uphill and break the line, ticks on the lower side of closed
// hollows. Where no line is an index line, all have numbers.
struct ContourPen {
  Colour ink;
  double width;  // index lines are twice as wide
};
void draw_contours(Canvas& canvas, const Layer& layer, const OnSheet& on_sheet, const Bounds& sheet,
                   const ContourPen& pen, LineLabels& numbers);
// Spot heights: a mark by kind, and the height beside it where there is room.
void draw_spots(Canvas& canvas, const Layer& layer, const OnSheet& on_sheet, const Bounds& sheet, LineLabels& numbers);

}  // namespace katoptra
