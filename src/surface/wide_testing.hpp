// A void closed in a file against the same closed in memory.
#pragma once
#include <gtest/gtest.h>
#include <vector>

#include "void_shape.hpp"
#include "wide_surface.hpp"

namespace katoptra::testing {

// `corner`: the cell (0, 0) of the shape in the grid.
inline void expect_as_in_memory(const WideSurface& wide, const VoidShape& shape, const Window& corner,
                                const std::vector<float>& held, double within) {
  const std::vector<std::uint16_t> depths = depths_of(shape);
  for (std::size_t i = 0; i < held.size(); ++i) {
    const std::int64_t col = corner.col + shape.cells[i].col, row = corner.row + shape.cells[i].row;
    std::uint16_t depth = 0;
    wide.read_depths(col, row, std::span(&depth, 1));
    ASSERT_EQ(depth, depths[i]);
    ASSERT_NEAR(wide.at(col, row), held[i], within) << "cell " << shape.cells[i].col << ", " << shape.cells[i].row;
  }
}

}  // namespace katoptra::testing
