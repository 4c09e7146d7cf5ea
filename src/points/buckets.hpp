// Points sorted into square tiles of a frame, so that each tile is worked on with what lies around it: in memory while
// that lasts, else in a temporary file. One pass over the cloud, in parallel, by all processes that share work.
#pragma once
#include <cstdint>
#include <memory>
#include <vector>

#include "katoptra/grid/frame.hpp"
#include "katoptra/points/points.hpp"
#include "katoptra/points/triangulation.hpp"

#include "base/heaps.hpp"
#include "base/pool.hpp"

namespace katoptra {

// The integers that places are rounded to: those of the file where x and y have the same step and one is as long as the
// other on the ground, else steps that are, fine enough to be out of sight.
struct PlaceLattice {
  double step_x = 1, step_y = 1, origin_x = 0, origin_y = 0;
  double metres = 1;  // ground length of a step

  static PlaceLattice choose(const PointInfo& info, const Frame& frame, std::int64_t tile);
  double at_x(double x) const { return (x - origin_x) / step_x; }
  double at_y(double y) const { return (y - origin_y) / step_y; }
};

struct StoredPoint {
  std::int32_t x = 0, y = 0;
  float z = 0;
  std::uint32_t source = 0;

  // By place, then height: an order that does not depend on that of the files.
  friend bool operator<(const StoredPoint& a, const StoredPoint& b) {
    return a.x != b.x ? a.x < b.x : a.y != b.y ? a.y < b.y : a.z != b.z ? a.z < b.z : a.source < b.source;
  }
};

class PointBuckets {
 public:
  // Tiles of `tile` cells of the frame, and one ring of tiles around it.
  PointBuckets(const PointCloud& cloud, const Frame& frame, std::int64_t tile, const RunOptions& run);

  const PlaceLattice& lattice() const { return lattice_; }
  std::int64_t tile() const { return tile_; }
  // Points whose place (in lattice steps) lies in the box, in the order of the cloud within each tile.
  std::vector<StoredPoint> in_box(double west, double south, double east, double north) const;
  // True when a point may lie inside the circle and outside the box.
  bool may_hold(double x, double y, double radius, const Bounds& except) const;
  // About the side of the widest square in the box that is known to hold no point, from some step on that depends on
  // the tiles; 0 when there is none.
  double widest_gap(const Bounds& box) const;
  // True when the box reaches beyond everything that is kept.
  bool covers_all(const Bounds& box) const;

  // All that are kept; those of them inside the frame, give or take a square.
  std::uint64_t points() const { return points_; }
  std::uint64_t inside() const { return inside_; }
  std::uint64_t outside() const { return outside_; }
  // Beyond the box that the cloud says it has.
  std::uint64_t beyond() const { return beyond_; }
  // Ground distance between neighbours inside the frame: square root of the area that has points by their number.
  Length spacing() const;

 private:
  static constexpr int kMarks = 32;  // squares along a tile that are known to hold points or not
  static constexpr std::size_t kMarkWords = kMarks * kMarks / 64;
  // What is known of a part of the cloud: how many points, and roughly where they lie.
  struct Told {
    std::uint64_t points = 0, inside = 0, outside = 0, beyond = 0;
    Bounds box;
    std::vector<std::uint64_t> buckets, marks;  // of each bucket kMarkWords
    std::vector<std::uint32_t> squares;         // those that hold points
    template <class Fields>
    void fields(Fields& f) {
      f(points, inside, outside, beyond, box, buckets, marks, squares);
    }
  };
  using Seen = std::vector<bool>;  // squares of a part
  void note(const std::vector<StoredPoint>& points, std::uint64_t bucket, Seen& seen, Told& told) const;
  void take(const Told& told);
  bool is_marked(std::int64_t col, std::int64_t row) const;
  double box_area() const;
  std::int64_t col_of(double lattice_x) const;
  std::int64_t row_of(double lattice_y) const;

  PlaceLattice lattice_;
  std::int64_t tile_, cols_, rows_;
  double west_, north_, tile_x_, tile_y_;  // in lattice steps
  Heaps<StoredPoint> buckets_;             // by row * cols_ + col
  std::vector<std::uint64_t> marks_;       // a bit each
  Bounds box_;
  Bounds on_frame_;  // the frame, its borders included, in steps
  double squares_west_ = 0, squares_north_ = 0, square_ = 1;
  std::int64_t square_cols_ = 1, square_rows_ = 1;
  std::vector<std::uint8_t> squares_;
  std::uint64_t points_ = 0, inside_ = 0, outside_ = 0, beyond_ = 0;
};

}  // namespace katoptra
