// Where a page of PDF lies on the earth (ISO 32000-2, 12.10: viewports and geospatial measures).
#pragma once
#include <string>
#include <vector>

#include "katoptra/grid/frame.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

// `on_page`: where the frame lies on its page, in points from the upper left corner, y down (south is the smaller y).
struct RegisteredPlace {
  Frame frame;
  Bounds on_page;
};
// One place for each page of the PDF. The corners and the middles of the sides are told with longitude and latitude of
// the system that the CRS is based on.
void register_pages(Picture& picture, const std::vector<RegisteredPlace>& places, const std::string& name);

}  // namespace katoptra
