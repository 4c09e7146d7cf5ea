// Where a page of PDF lies on the earth (ISO 32000-2, 12.10: viewports and geospatial measures).
#pragma once
#include "katoptra/grid/frame.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra {

// `on_page`: where the frame lies on the page, in points from its upper left corner, y down (south is the smaller y).
// The picture must be a PDF of one page. The four corners and the middles of the sides are told with longitude and
// latitude of the system that the CRS is based on.
void register_page(Picture& page, const Frame& frame, const Bounds& on_page, const std::string& name);

}  // namespace katoptra
