// Colours of kinds of points.
#pragma once
#include "katoptra/view/palette.hpp"

namespace katoptra {

// Each class has its own hue; numbers without one go around the circle.
Colour class_colour(int c);

}  // namespace katoptra
