#include "area_index.hpp"

#include <algorithm>

namespace katoptra {

int AreaIndex::cell_of(double v, double from, double size) const {
  return std::clamp(static_cast<int>((v - from) / size), 0, kCells - 1);
}

AreaIndex::AreaIndex(MultiPolygon shape) : shape_(std::move(shape)), box_(bounds_of(shape_)) {
  states_.assign(kCells * kCells, Outside);
  if (box_.empty()) return;
  cell_x_ = std::max(box_.width() / kCells, 1e-300);
  cell_y_ = std::max(box_.height() / kCells, 1e-300);
  // Cells in the box of each short piece of an edge count as crossed; a little wider than the piece, for rounding.
  auto cross = [&](const Ring& ring) {
    for (std::size_t i = 0; i + 1 < ring.size(); ++i) {
      const Point a = ring[i], b = ring[i + 1];
      const double longest = std::max(std::abs(b.x - a.x) / cell_x_, std::abs(b.y - a.y) / cell_y_);
      const int steps = std::clamp(static_cast<int>(std::ceil(longest)), 1, 2 * kCells);
      for (int s = 0; s < steps; ++s) {
        const double t = static_cast<double>(s) / steps, u = static_cast<double>(s + 1) / steps;
        const double x0 = a.x + t * (b.x - a.x), x1 = a.x + u * (b.x - a.x), y0 = a.y + t * (b.y - a.y),
                     y1 = a.y + u * (b.y - a.y);
        const double ex = 0.01 * cell_x_, ey = 0.01 * cell_y_;
        for (int r = cell_of(std::min(y0, y1) - ey, box_.south, cell_y_);
             r <= cell_of(std::max(y0, y1) + ey, box_.south, cell_y_); ++r)
          for (int c = cell_of(std::min(x0, x1) - ex, box_.west, cell_x_);
               c <= cell_of(std::max(x0, x1) + ex, box_.west, cell_x_); ++c)
            states_[static_cast<std::size_t>(r * kCells + c)] = Crossed;
      }
    }
  };
  for (const Polygon& p : shape_) {
    cross(p.outer);
    for (const Ring& h : p.holes) cross(h);
  }
  for (int r = 0; r < kCells; ++r)
    for (int c = 0; c < kCells; ++c) {
      std::uint8_t& s = states_[static_cast<std::size_t>(r * kCells + c)];
      if (s == Crossed) continue;
      // The neighbour to the west is of the same kind unless an edge runs between.
      if (c > 0 && states_[static_cast<std::size_t>(r * kCells + c - 1)] != Crossed)
        s = states_[static_cast<std::size_t>(r * kCells + c - 1)];
      else
        s = katoptra::contains(shape_, {box_.west + (c + 0.5) * cell_x_, box_.south + (r + 0.5) * cell_y_}) ? Inside
                                                                                                            : Outside;
    }
}

bool AreaIndex::contains(Point p) const {
  if (!box_.contains(p)) return false;
  const int c = cell_of(p.x, box_.west, cell_x_), r = cell_of(p.y, box_.south, cell_y_);
  const std::uint8_t s = states_[static_cast<std::size_t>(r * kCells + c)];
  return s == Crossed ? katoptra::contains(shape_, p) : s == Inside;
}

bool AreaIndex::contains(const Bounds& b) const {
  if (box_.empty() || b.west < box_.west || b.east > box_.east || b.south < box_.south || b.north > box_.north)
    return false;
  for (int r = cell_of(b.south, box_.south, cell_y_); r <= cell_of(b.north, box_.south, cell_y_); ++r)
    for (int c = cell_of(b.west, box_.west, cell_x_); c <= cell_of(b.east, box_.west, cell_x_); ++c)
      if (states_[static_cast<std::size_t>(r * kCells + c)] != Inside) return false;
  return true;
}

}  // namespace katoptra
