// Lines of another system over a map: meridians and parallels, or the grid of a chart.
#pragma once
#include <string>
#include <vector>

#include "canvas.hpp"
#include "map_lines.hpp"
#include "margin.hpp"

namespace katoptra {

class Graticule {
 public:
  // Round numbers, some four lines each way. Its numbers stand inside the map's edge, above and on the right; they take
  // their places from `numbers` at once, so that nothing else is written there.
  Graticule(const Crs& crs, const MapField& field, Canvas& canvas, LineLabels& numbers);
  // On the sheet.
  const std::vector<LineString>& lines() const { return lines_; }
  // Within the field, over what is drawn there.
  void draw(Canvas& canvas) const;

 private:
  struct Number {
    Point at;
    std::string text;
    Align align;
  };
  std::vector<LineString> lines_;
  std::vector<Number> numbers_;
};

// The step of whole degrees, minutes or seconds that gives about `wanted` of them over `range` degrees.
double degree_step(double range, int wanted);
// 56° 12′ 30″ N; no finer than the step.
std::string degree_label(double degrees, double step, bool east);

}  // namespace katoptra
