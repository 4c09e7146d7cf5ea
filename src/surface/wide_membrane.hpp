// The membrane over a void of any size: as Membrane, but in a temporary file.
//
// Multigrid (Brandt 1977; Trottenberg, Oosterlee & Schueller 2001) on the raster of the void's box: cells of a level
// are two by two of the one below, what is left of an equation is summed, corrections are bilinear. A coarse cell that
// holds a known one is known to need no correction. Each level is swept row by row, so memory holds bands of rows; the
// file takes 17 bytes a cell of the box while it is solved and eight afterwards.
#pragma once
#include <cstdint>
#include <memory>
#include <span>

#include "wide_surface.hpp"

namespace katoptra {

class WideMembrane final : public WideSurface {
 public:
  // Of a region of `voids` in a grid. `aspect`: how much wider a cell is than high. What is left is
  // Membrane::kTolerance of the range of the rim.
  WideMembrane(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect);
  ~WideMembrane() override;
  void read(std::int64_t col, std::int64_t row, std::span<float> out) const override;

 private:
  class Level;
  void mark(const VoidCells& voids, std::uint32_t region, const Grid& grid, Level& fine);
  Window box_;
  std::unique_ptr<Level> heights_;
};

}  // namespace katoptra
