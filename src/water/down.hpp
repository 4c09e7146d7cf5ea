// What is passed down, or brought back up, along the directions of a flow, tile by tile.
#pragma once
#include <cstdint>
#include <functional>
#include <vector>

#include "flow_planes.hpp"
#include "grid/cell_areas.hpp"

namespace katoptra {

// Where the water of a cell arrives: at the first cell on its way (itself counted) that is a station, and how far that
// is.
struct Arrival {
  std::int64_t station = -1;  // its number (row x cols + col); -1: it leaves or ends without passing one
  std::int64_t steps = 0;     // lengths of the way in kLengthSteps a metre
};
inline constexpr double kLengthSteps = 65536;

// For every cell. `is_station` is asked for whole tiles: it marks the cells that are. `take` gets the arrivals of a
// tile, tiles in order. The directions and the ways are those of the whole, whatever the tiles.
void find_arrivals(const FlowPlanes& planes, const RunOptions& run,
                   const std::function<void(const Window&, std::vector<std::uint8_t>&)>& is_station,
                   const std::function<void(const Window&, const std::vector<Arrival>&)>& take);

// Areas of the cells of a window in whole steps, each times its weight where there are weights; nothing where an area
// or a weight is not known.
std::vector<std::int64_t> whole_areas(const CellAreas& areas, const Window& w, double step,
                                      const Block* weights = nullptr);

// Lengths of the steps of a row to its eight neighbours, in kLengthSteps a metre.
class StepLengths {
 public:
  StepLengths(const Frame& f, const Window& w);
  std::int64_t at(std::int64_t row, std::uint8_t direction) const {
    return lengths_[static_cast<std::size_t>(row * 3 + (direction % 2 ? (direction % 4 == 1 ? 1 : 0) : 2))];
  }

 private:
  std::vector<std::int64_t> lengths_;  // across, down, slanting, of each row of the window
};

}  // namespace katoptra
