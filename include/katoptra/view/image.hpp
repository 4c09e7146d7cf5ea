// A grid as a picture without a page: coloured as a map is, with what is drawn on it, pixel for pixel on its place.
//
//   const MapOverlay contours_of{contour_layer(lines, dem), OverlayStyle::Contours, ""};
//   PlacedImage relief = draw_image(dem, {.overlays = {contours_of}});
//
// Heights are coloured and shaded, shades are grey, slopes, classes and whatever else has a palette on maps have the
// same here. Voids are transparent. Colours are spread over what a picture of 1200 pixels would show of the grid.
#pragma once
#include "katoptra/grid/image.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

struct ImageOptions {
  int width = 0;  // in pixels; 0: a pixel for each cell
  LandLook land = {};
  std::vector<MapOverlay> overlays;
  RunOptions run;
};
// TooLarge beyond 60,000 pixels a side. What is drawn over the picture is clipped at its edge.
PlacedImage draw_image(const Grid& grid, const ImageOptions& options = {});
struct PlacedPage {
  Picture picture;
  Frame frame;  // whose cells are the pixels
};
// The same as a page of PDF at 150 pixels an inch, registered: readers that know maps tell where a place on it lies.
PlacedPage draw_image_page(const Grid& grid, const ImageOptions& options = {});

}  // namespace katoptra
