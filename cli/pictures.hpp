// What verbs share that draw, or that follow a line.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "common.hpp"

namespace katoptra::cli {

// A line: of a file, from one place to another, or along a bearing.
struct LineOptions {
  std::string line, from, to, bearing, length;
  // Rather than nothing, or coordinates where a file belongs.
  bool line_is_file() const {
    return !line.empty() && (line.find(',') == line.npos || !std::filesystem::path(line).extension().empty());
  }
  bool given() const { return !line.empty() || !from.empty() || !to.empty() || !bearing.empty() || !length.empty(); }
};
void add_line_options(CLI::App& v, LineOptions& o);
LineString section_line(const LineOptions& o, const char* verb, const Crs& crs, std::vector<std::string>& notes);

// Whether a product of a surface is a picture by that name, rather than a grid.
bool is_picture(const std::string& out);
// After add_output, of verbs that write a grid or a picture of it.
void say_pictures(CLI::App& verb);
// A picture of the grid, pixel for pixel, that knows where it lies; and what came out.
int picture_and_state(const Grid& grid, const Common& c, const std::vector<std::string>& notes);

}  // namespace katoptra::cli
