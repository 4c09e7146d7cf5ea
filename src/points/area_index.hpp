// Whether points lie in an area, many of them: cells of a raster over it are inside, outside, or crossed by an edge,
// and only in the last the edges are asked.
#pragma once
#include <cmath>
#include <cstdint>
#include <vector>

#include "katoptra/geo/geometry.hpp"

namespace katoptra {

class AreaIndex {
 public:
  explicit AreaIndex(MultiPolygon shape);
  bool contains(Point p) const;
  // True when the whole box lies inside; false when some of it does not, or that is not sure.
  bool contains(const Bounds& box) const;
  // False when no point of the box lies inside.
  bool may_touch(const Bounds& box) const { return box_.intersects(box); }

 private:
  enum State : std::uint8_t { Outside, Inside, Crossed };
  static constexpr int kCells = 256;
  int cell_of(double v, double from, double size) const;
  MultiPolygon shape_;
  Bounds box_;
  double cell_x_ = 1, cell_y_ = 1;
  std::vector<std::uint8_t> states_;
};

}  // namespace katoptra
