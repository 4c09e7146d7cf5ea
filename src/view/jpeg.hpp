// The land of a page, packed as photographs are.
#pragma once
#include <cairo.h>

namespace katoptra {

// Gives an opaque image of Cairo its JPEG, which a PDF takes as it is: a tenth of the bytes, and no step that an eye
// sees.
void as_jpeg(cairo_surface_t* image);

}  // namespace katoptra
