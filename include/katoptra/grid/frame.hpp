// Where cells lie. A frame covers area with square or oblong cells in rows that run from north to south; cell (0, 0) is
// the north-west one and its *corner* is (west, north). Values belong to cell centres.
//
//   Frame f(Crs::parse("EPSG:32725"), 500000, 5844000, {1, 1}, 400, 300);
//   f.centre(0, 0);           // {500000.5, 5843999.5}
//
// Files that give the place of samples at nodes instead of cells (HGT, "pixel is point") describe a NodeFrame; its
// `cells()` is the frame whose cell centres are those nodes, half a cell larger on every side.
#pragma once
#include <cstdint>
#include <optional>
#include <string>

#include "katoptra/geo/crs.hpp"

namespace katoptra {

// A rectangle of cells: columns [col, col + cols), rows [row, row + rows). May reach beyond its frame.
struct Window {
  std::int64_t col = 0, row = 0, cols = 0, rows = 0;
  bool empty() const { return cols <= 0 || rows <= 0; }
  std::int64_t cells() const { return empty() ? 0 : cols * rows; }
  Window grown(std::int64_t by) const { return {col - by, row - by, cols + 2 * by, rows + 2 * by}; }
  Window intersected(const Window& o) const;
  bool contains(const Window& o) const;
  bool operator==(const Window&) const = default;
};

// Edges of a cell in the unit of the CRS, both above zero.
struct CellSize {
  double x = 1, y = 1;
  bool operator==(const CellSize&) const = default;
};

// A cell centre this close to the edge of a box (in cells) counts as inside it.
inline constexpr double kLatticeTolerance = 1e-6;
// Two frames share a lattice when their cells coincide this well everywhere (in cells). Origins in degrees are written
// with few digits, so a thousandth of a cell is the same lattice; half a cell, or any shift that could be seen, is not.
inline constexpr double kSameLattice = 1e-3;

class Frame {
 public:
  Frame() = default;
  // BadArgument unless cols, rows > 0 and all numbers are finite; TooLarge beyond 2^31-1 columns or rows.
  Frame(Crs crs, double west, double north, CellSize cell, std::int64_t cols, std::int64_t rows);
  // The smallest frame of the cell size whose lines are whole multiples of it and that holds `box`.
  static Frame snapped(const Crs& crs, const Bounds& box, CellSize cell);

  const Crs& crs() const { return crs_; }
  double west() const { return west_; }
  double north() const { return north_; }
  double east() const { return west_ + static_cast<double>(cols_) * cell_.x; }
  double south() const { return north_ - static_cast<double>(rows_) * cell_.y; }
  CellSize cell() const { return cell_; }
  std::int64_t cols() const { return cols_; }
  std::int64_t rows() const { return rows_; }
  Bounds bounds() const { return {west(), south(), east(), north()}; }
  Window window() const { return {0, 0, cols_, rows_}; }

  Point centre(double col, double row) const { return {west_ + (col + 0.5) * cell_.x, north_ - (row + 0.5) * cell_.y}; }
  // Fractional column and row: cell i spans [i, i + 1), its centre is at i + 0.5.
  double col_at(double x) const { return (x - west_) / cell_.x; }
  double row_at(double y) const { return (north_ - y) / cell_.y; }
  // x as it is told here: a longitude is turned to within half a turn of the frame's middle (-179 becomes 181).
  double told_here(double x) const;
  // A box, by its middle.
  Bounds told_here(Bounds box) const;

  // The frame of a part (or a larger rectangle) of this lattice.
  Frame sub(const Window& w) const;
  // The window of this lattice that has the same cells as `other`; nullopt when CRS, cell or lattice differ.
  std::optional<Window> window_of(const Frame& other) const;
  // The smallest window of this lattice that holds every cell whose centre is in `box`.
  Window window_of_centres(const Bounds& box) const;
  Frame with_crs(const Crs& crs) const;
  bool operator==(const Frame& o) const;

 private:
  Crs crs_;
  double west_ = 0, north_ = 0;
  CellSize cell_;
  std::int64_t cols_ = 0, rows_ = 0;
};

// Samples at nodes: the first node is at (west, north) exactly.
struct NodeFrame {
  Crs crs;
  double west = 0, north = 0;
  CellSize step;
  std::int64_t cols = 0, rows = 0;
  Frame cells() const { return {crs, west - step.x / 2, north + step.y / 2, step, cols, rows}; }
};

// True ground size of a cell at the middle of a frame.
struct GroundSpacing {
  Length x, y;
};
GroundSpacing ground_spacing(const Frame& frame);

// The largest power of two up to 256 cells over which ground scales and areas of a projected frame may be interpolated
// with an error below kScaleError; 1 where the projection bends too much for any, or has a rim inside the frame.
inline constexpr double kScaleError = 1e-6;
std::int64_t scale_step(const Frame& frame);

// A cell edge in the frame's CRS that is `length` on the ground at `at`; square in the unit of the CRS for projected
// systems.
CellSize cell_for(const Crs& crs, Length length, Point at);

}  // namespace katoptra
