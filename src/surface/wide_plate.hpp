// The thin plate over a void of any size: as Plate, but in a temporary file of some 70 bytes a cell of the void while
// it is solved, and eight afterwards.
#pragma once
#include <cstdint>
#include <limits>
#include <span>
#include <vector>

#include "plate_rounds.hpp"
#include "wide_surface.hpp"

namespace katoptra {

class WidePlate final : public WideSurface {
 public:
  // Of a region of `voids` in a grid, which does not reach its edge. `aspect`: how much wider a cell is than high. What
  // is left is Plate::kTolerance of the range of what is known around it.
  WidePlate(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect);
  void read(std::int64_t col, std::int64_t row, std::span<float> out) const override;

 private:
  struct Known {
    std::vector<PlateRounds::Cell> nobodys;  // cells that are looked at but not known
    double low = 0, high = 0;
  };
  Known set_known(const Grid& grid);
  Window box_;
  PlateRounds plate_;
  double base_ = std::numeric_limits<double>::quiet_NaN();  // about which heights are held
};

}  // namespace katoptra
