// Sums of a square of values along all straight lines that cross it from side to side.
//
// The discrete Radon transform by halving (Götz & Druck 1996; Brady 1998): a line of a strip is one of its upper half
// and one of its lower half, so that all lines together cost N log N additions a row, not N^2. Lines run from column x
// in the first row to column x + s in the last, 0 <= s < N; those that lean the other way, or run across, are lines of
// the mirrored or transposed square.
#pragma once
#include <cstddef>
#include <vector>

namespace katoptra {

// How a square is laid before its lines are summed.
struct LineTurn {
  bool transposed = false, mirrored = false;
};
inline constexpr LineTurn kLineTurns[] = {{false, false}, {false, true}, {true, false}, {true, true}};

class LineSums {
 public:
  static constexpr std::size_t kEdge = 128;  // N
  static constexpr std::size_t kWidth = 2 * kEdge;

  // Of kEdge x kEdge values.
  void sum(const float* values, LineTurn turn);
  // Lines of shift s: element x + kEdge is the line that starts in column x, -kEdge <= x < kEdge.
  const float* of_shift(std::size_t s) const { return &done_[s * kWidth]; }

 private:
  std::vector<float> done_, next_;
};

}  // namespace katoptra
