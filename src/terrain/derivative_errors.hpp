// What errors of heights make of derivatives, and of what is computed from those.
//
// The weights of a derivative are a product of one for columns and one for rows, and so is the correlation of errors
// (grid/error_kernel.hpp), so a variance is one form along each axis. Where nobody says how far errors go together, the
// reach that would do most harm is taken. Errors are taken to be as large all over a window as they are there in the
// mean of squares. What is computed of derivatives is moved by one deviation of each in turn, to either side, and the
// larger change counts: also where it is not a straight function of them, as slope is not on level ground.
#pragma once
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Weights of a derivative along the columns and the rows of a window.
struct AxisWeights {
  std::vector<double> across, down;
};

// The covariance of two derivatives, of that of a cell, by errors that go so far together (in cells), or by those that
// make `a`'s variance largest where that is not known.
class WindowCovariance {
 public:
  explicit WindowCovariance(const GridInfo& info);
  double of(const AxisWeights& a) const;
  double of(const AxisWeights& a, const AxisWeights& b) const;

 private:
  double with_reach(const AxisWeights& a, const AxisWeights& b, double reach_x, double reach_y) const;
  double harmful_reach(const AxisWeights& a) const;
  bool known_;
  double reach_x_ = 0, reach_y_ = 0;
};

// How far errors of a product go together that is made of windows of `cells` cells; not known where those of the
// heights are not.
std::optional<Length> reach_over_window(const GridInfo& heights, double cells);

// The mean of squares of the uncertainties in the window of each cell of a row, `m` cells to every side; not known
// where that of the cell itself is not. `r`: row of the cells, in a block that reaches m cells further on every side.
void mean_squares(const Block& in, std::int64_t r, std::int64_t m, std::span<double> out);

// Adds the squares of what moving by a deviation changes: the larger of two moves.
void add_change(const float* value, const float* up, const float* down, std::span<double> squares);
// The root of it, beside values that are there.
void state_error(const float* value, std::span<const double> squares, float* uncertainty);

}  // namespace katoptra
