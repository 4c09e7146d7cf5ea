// The thin plate (plate.hpp) over the unknown cells of a raster of any size, in rounds: conjugate gradients,
// preconditioned by multigrid (Brandt 1977; Trottenberg, Oosterlee & Schueller 2001). Cells of a level are two by two
// of the one below, or two in the direction in which bending weighs more until both weigh alike; a cell is unknown when
// all that it is made of are. Corrections are bilinear; each level is smoothed by a polynomial of its bendings
// (Chebyshev; Adams, Brezina, Hu & Tuminaro 2003), so no order of cells matters. What is summed is summed row by row.
#pragma once
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "scratch_array.hpp"

namespace katoptra {

// The unknown cells of each row.
struct CellRuns {
  struct Run {
    std::int32_t first, last;  // columns [first, last)
  };
  std::vector<Run> runs;
  std::vector<std::size_t> begin{0};  // of the rows, and the end
  void add(std::int32_t first, std::int32_t last) {
    if (runs.size() > begin.back() && runs.back().last == first)
      runs.back().last = last;
    else
      runs.push_back({first, last});
  }
  void end_row() { begin.push_back(runs.size()); }
  std::int64_t rows() const { return static_cast<std::int64_t>(begin.size()) - 1; }
  std::span<const Run> row(std::int64_t r) const {
    if (r < 0 || r >= rows()) return {};
    const auto i = static_cast<std::size_t>(r);
    return std::span(runs).subspan(begin[i], begin[i + 1] - begin[i]);
  }
  std::int64_t cells() const;
};

class PlateRounds {
 public:
  struct Cell {
    std::int64_t col, row;
  };

  // `aspect`: how much wider a cell is on the ground than it is high. Takes some 70 bytes a cell of the rows that have
  // unknown ones, between them.
  PlateRounds(std::int64_t cols, CellRuns unknown, double aspect, HeldIn where);
  ~PlateRounds();
  PlateRounds(const PlateRounds&) = delete;
  PlateRounds& operator=(const PlateRounds&) = delete;

  // The first cell of a row, from -2 to two beyond the last; as much is there on either side of it. Before `solve` the
  // known cells within two of an unknown one are to be written, about a height of zero.
  double* heights(std::int64_t row) const;
  // Until `keep_heights`.
  const CellRuns& unknown() const;
  // Cells within two of an unknown one whose heights nobody knows: bendings that they have a part in are not asked for.
  void leave_out(const std::vector<Cell>& cells);
  // Until a round changes heights by less. Returns how many it took.
  int solve(double enough);

  // Of one in a file, after `solve`: everything but the heights is given back, and they are read from the file.
  void keep_heights();
  void read(std::int64_t col, std::int64_t row, std::span<double> out) const;

 private:
  class Raster;
  class Level;
  class Gradients;
  void precondition(std::size_t level);
  std::vector<std::unique_ptr<Level>> levels_;
  std::unique_ptr<Raster> heights_;
  HeldIn where_;
};

}  // namespace katoptra
