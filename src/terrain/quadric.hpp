// A quadric fitted to the cells around each cell, and what is computed from its five derivatives.
#pragma once
#include <cstdint>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Derivatives of the ground at the cells of a row, on the ground and without unit or in 1/m: x to the east, y to the
// north. NaN where the cell is a void.
struct Derivatives {
  const float *x, *y, *xx, *xy, *yy;
};
using DerivativeRow = void (*)(const Derivatives& d, std::int64_t n, float* out);

// Refuses (BadArgument) a window that is even, below 3 or above kWidestWindow.
void require_window(int window, const char* where);

// `info`: what the product says of itself. `window`: cells across, odd. `states_error`: where the surface carries its
// uncertainty, the product does.
Grid quadric_product(const Grid& surface, GridInfo info, int window, DerivativeRow row, bool states_error = false);

}  // namespace katoptra
