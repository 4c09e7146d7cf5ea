// Numbers on the contours of a layer, for the formats that carry text.
#pragma once
#include <functional>
#include <string>

#include "katoptra/geo/feature.hpp"

namespace katoptra {

struct LevelLabel {
  Point at;           // the middle of the text, in the layer's CRS
  double height = 0;  // of the line, in the layer's unit
  double turn = 0;    // degrees counter-clockwise from x; the top of the letters is uphill where lines run that way
  std::string text;   // the depth where lines have one, else the level
};

// How high letters are for a drawing of that size: one in 250 of its diagonal.
double letters_for(const Bounds& drawing);

// Of index lines, or of all lines where none is one; none of layers whose lines have no level.
bool has_level_labels(const Layer& layer);
void for_each_level_label(const Layer& layer, double letters, const std::function<void(const LevelLabel&)>& each);

}  // namespace katoptra
