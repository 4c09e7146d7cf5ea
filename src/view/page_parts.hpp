// What a surface is to the scripts of a page: where its cells lie, its numbers, the colours for them.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "katoptra/grid/frame.hpp"
#include "katoptra/grid/image.hpp"
#include "katoptra/view/map.hpp"
#include "katoptra/view/page.hpp"

#include "html_page.hpp"

namespace katoptra {

// The lattice that ground distances and longitudes are interpolated on by a page: nodes along each side of the frame.
inline constexpr int kPageNodes = 33;

// CRS, corner, cell, columns and rows; metres on the ground of a step of one column and one row, and longitude and
// latitude, at kPageNodes x kPageNodes places from corner to corner of the frame.
nlohmann::ordered_json frame_for_page(const Frame& frame);
// Two ramps of 128 colours that meet at `middle`; or a colour for each class.
nlohmann::ordered_json colours_for_page(const Quantity& quantity, const std::vector<float>& values,
                                        const LandLook& look);
// A ramp alone.
nlohmann::ordered_json ramp_for_page(const Palette& palette, double middle);
// Puts the numbers into the page under `id` and gives what is needed to read them. `steps`: of the range of what is no
// length.
nlohmann::ordered_json plane_for_page(PageData& page, const std::string& id, const Grid& cells,
                                      const std::vector<float>& values, int steps, const RunOptions& run);
// A grid as a picture a map has of it: the box of its frame, and a PNG as an address.
nlohmann::ordered_json picture_for_page(const Grid& grid, const LandLook& look, const RunOptions& run);
// Pixels on a frame as a PNG in an address.
std::string png_address(const Frame& frame, const Pixels& pixels);
// "#rrggbb" without the mark.
std::string hex_of(Colour c);
// The grid by cells so large that there are at most `most`; `times` as wide.
struct Shown {
  Grid grid;
  double times = 1;
  bool overview = false;
};
enum class Cells { AnyTimes, PowersOfTwo };  // as wide as those of the grid
Shown shown_by(const Grid& grid, std::int64_t most, Cells cells = Cells::AnyTimes);

// All that the scripts of a page need of surfaces and what lies on them, put into it under "facts" and "plane0",
// "plane1" and so on. What came out, without the page.
Page put_surfaces(HtmlPage& html, const SurfacePage& page, Cells cells = Cells::AnyTimes);

}  // namespace katoptra
