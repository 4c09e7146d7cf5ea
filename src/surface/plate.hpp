// The thin plate over a void: the least bent surface (z_xx^2 + 2 z_xy^2 + z_yy^2, Terzopoulos 1988) that goes through
// the two rings of known cells around it, so its slope continues at the rim. Where cells are not known bending is not
// asked of them: at the edge of the grid a plate goes on straight.
#pragma once
#include <cstdint>
#include <vector>

#include "membrane.hpp"

namespace katoptra {

class Plate {
 public:
  // `shape` must outlive it.
  explicit Plate(const VoidShape& shape);
  // Known cells beyond the rim that bending looks at, in the order of rows; some may lie outside the grid.
  const std::vector<VoidShape::Cell>& outer() const { return outer_; }
  // Heights of the cells in their order; NaN in `rim` or `outer` where one is not known. Voids that are at most some 17
  // cells across are solved at once (Cholesky, in a band along their shorter side); others in rounds (plate_rounds.hpp)
  // until what is left is kTolerance of the range of what is known.
  std::vector<float> over(const std::vector<float>& rim, const std::vector<float>& outer) const;
  static constexpr double kTolerance = 1e-5;

 private:
  // One bending that is to be small: the sum of up to four cells by the factors of its kind. Cells from zero are
  // unknown; below zero they are known, -1 the first of rim and outer together.
  enum class Kind : std::uint8_t { Across, Down, Twist };
  struct Bend {
    std::int32_t cell[4];
    Kind kind;
  };
  // What one set of known heights asks for: the bendings they tell of, and their side of the equations, about `base`.
  struct System {
    std::vector<Bend> bends;
    std::vector<double> right;
    double base = 0;
  };
  void find_bends(const CellNumbers& cells, const CellNumbers& rim);
  System system_for(const std::vector<float>& rim, const std::vector<float>& outer) const;
  double factor(Kind kind, int i) const;
  bool solve_at_once(const System& s, std::vector<double>& x) const;
  void solve_in_rounds(const std::vector<float>& rim, const std::vector<float>& outer, std::vector<float>& out) const;

  const VoidShape& shape_;
  std::vector<VoidShape::Cell> outer_, nobodys_;  // nobodys_: beside a cell, but neither of the void nor of its rim
  std::vector<Bend> bends_;                       // where the void is narrow enough to be solved at once
  double weight_[3] = {1, 1, 1};
  std::size_t cells_ = 0, rim_cells_ = 0;
  std::vector<std::int32_t> place_;  // of a cell along the band
  std::int64_t band_ = 0;            // the furthest that two cells of a bending lie apart in it
};

}  // namespace katoptra
