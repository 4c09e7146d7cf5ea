// The membrane over a void of any size: as Membrane, but in a temporary file.
//
// Multigrid (Brandt 1977; Trottenberg, Oosterlee & Schueller 2001) on the raster of the void's box: cells of a level
// are two by two of the one below, what is left of an equation is summed, corrections are bilinear. A coarse cell that
// holds a known one is known to need no correction. Each level is swept row by row, so memory holds bands of rows; the
// file takes 17 bytes a cell of the box while it is solved and ten afterwards.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <span>

#include "katoptra/grid/grid.hpp"

#include "void_shape.hpp"

namespace katoptra {

class WideMembrane {
 public:
  // Of a region of `voids` in a grid. `aspect`: how much wider a cell is than high. What is left is
  // Membrane::kTolerance of the range of the rim.
  WideMembrane(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect);
  ~WideMembrane();
  WideMembrane(const WideMembrane&) = delete;
  WideMembrane& operator=(const WideMembrane&) = delete;

  // Of cells of a row of the grid that belong to the void. From any thread.
  void read(std::int64_t col, std::int64_t row, std::span<float> out) const;
  float at(std::int64_t col, std::int64_t row) const {
    float z = 0;
    read(col, row, std::span(&z, 1));
    return z;
  }
  // How many steps (over corners, too) they lie from the rim: 1 beside it.
  void read_depths(std::int64_t col, std::int64_t row, std::span<std::uint16_t> out) const;
  // Of the heights of the rim; NaN where none is known.
  double mean() const { return mean_; }
  // How many rounds it took.
  int rounds() const { return rounds_; }

 private:
  class Level;
  void mark(const VoidCells& voids, std::uint32_t region, const Grid& grid, Level& fine);
  Window box_;
  std::unique_ptr<Level> heights_;
  double mean_ = 0;
  int rounds_ = 0;
};

}  // namespace katoptra
