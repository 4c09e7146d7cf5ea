// Levels along a river that never fall as one goes up.
#pragma once
#include <cstdint>
#include <vector>

#include "katoptra/grid/frame.hpp"

#include "cell_set.hpp"

namespace katoptra {

struct RiverGround {
  const CellSet& cells;
  const std::vector<float>& heights;  // of its cells; NaN where they have none
  const CellSet& rim;
  const std::vector<float>& rim_heights;
  CellSize cell;  // on the ground, in metres
};
// Where it meets water that stands: the number of a cell of the river, and the level there.
struct RiverContact {
  std::size_t cell = 0;
  double level = 0;
};
struct RiverLevels {
  std::vector<float> level;      // of each cell; NaN where nothing around tells it
  double length = 0, width = 0;  // metres, of its longest part
  double lowest = 0, highest = 0;
  double spread = 0;            // of heights about the level
  double rest = 0;              // of stretches about the levels that rise
  double cells_of_stretch = 0;  // that tell of the level of one, in the middle
};
RiverLevels river_levels(const RiverGround& ground, const std::vector<RiverContact>& contacts);

// How long a set of cells is from end to end within itself, and how wide in the mean, in metres.
struct Form {
  double length = 0, width = 0;
};
Form form_of(const CellSet& cells, CellSize cell);

// The nearest heights (by weighted squares) that nowhere fall towards the leaves of a tree; `parent`: of each node one
// before it, its own number of a root (Pardalos & Xue 1999).
std::vector<double> rising_along(const std::vector<std::size_t>& parent, const std::vector<double>& height,
                                 const std::vector<double>& weight);

}  // namespace katoptra
