// Where output cells come from: fractional cells of the source, exact at the points of a lattice that is made as dense
// as the map between the two frames asks for, and bilinear between them.
#pragma once
#include <algorithm>
#include <cmath>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"
#include "katoptra/surface/reproject.hpp"

namespace katoptra {

inline constexpr std::int64_t kPatch = 128;  // output cells that are checked together
inline constexpr std::int64_t kRun = 64;     // the longest run of evenly spaced places

// Fractional source cells of output cells; a cell i of the source spans [i, i + 1).
class SourceCells {
 public:
  SourceCells(const Frame& from, const Frame& to)
      : from_(from), to_(to), transform_(std::in_place, to.crs(), from.crs()) {}
  // Of cells that lie askew in the CRS of the output.
  SourceCells(const SkewLattice& askew, const Frame& to) : to_(to), askew_(askew) {}

  void exact(std::span<Point> cells) const {
    for (Point& p : cells) p = to_.centre(p.x, p.y);
    if (askew_) {
      for (Point& p : cells) p = askew_->cell_at(p);
      return;
    }
    const Transform& transform = *transform_;
    if (to_.crs().is_geographic() || transform.is_identity()) {
      transform.forward(cells);
    } else {
      // Beyond the rim of a projection some inverses go on and give places that lie elsewhere: what does not come back
      // to where it was asked for is no place.
      std::vector<Point> back(cells.begin(), cells.end()), asked = back;
      transform.forward(back);
      std::copy(back.begin(), back.end(), cells.begin());
      transform.inverse(back);
      for (std::size_t i = 0; i < cells.size(); ++i)
        if (!(std::abs(back[i].x - asked[i].x) <= 0.5 * to_.cell().x &&
              std::abs(back[i].y - asked[i].y) <= 0.5 * to_.cell().y))
          cells[i] = {std::nan(""), std::nan("")};
    }
    for (Point& p : cells) p = {from_.col_at(from_.told_here(p.x)), from_.row_at(p.y)};
  }
  bool is_affine() const { return askew_ || transform_->is_identity(); }

 private:
  Frame from_, to_;
  std::optional<Transform> transform_;
  std::optional<SkewLattice> askew_;
};

// Where a run of output cells in a row comes from, as long as that is evenly spaced: cell k from first + (skip + k) *
// step. `first` belongs to the interval and not to the run, so that a cell has the same bits in every window.
struct Run {
  Point first, step;
  double skip = 0;
  std::int64_t cells = 0;
  Point at(std::int64_t k) const {
    const double n = skip + static_cast<double>(k);
    return {first.x + n * step.x, first.y + n * step.y};
  }
};

// One patch: bilinear between exact points, `parts` intervals a side; or every cell exact, where that is not good
// enough.
struct Patch {
  std::int64_t parts = 1;
  std::vector<Point> nodes;  // (parts + 1) x (parts + 1), or kPatch x kPatch when `exact`
  bool exact = false;

  // The cells from column `c` of row `r` of the patch, to the end of their interval.
  Run run(std::int64_t c, std::int64_t r) const {
    if (exact) return {nodes[static_cast<std::size_t>(r * kPatch + c)], {0, 0}, 0, 1};
    const std::int64_t size = kPatch / parts, i = c / size, j = r / size;
    const double v = static_cast<double>(r - j * size) / static_cast<double>(size);
    const Point *top = &nodes[static_cast<std::size_t>(j * (parts + 1) + i)], *low = top + parts + 1;
    const Point left{(1 - v) * top[0].x + v * low[0].x, (1 - v) * top[0].y + v * low[0].y},
        right{(1 - v) * top[1].x + v * low[1].x, (1 - v) * top[1].y + v * low[1].y};
    const Point step{(right.x - left.x) / static_cast<double>(size), (right.y - left.y) / static_cast<double>(size)};
    return {left, step, static_cast<double>(c - i * size), (i + 1) * size - c};
  }
  Point at(std::int64_t c, std::int64_t r) const { return run(c, r).at(0); }
};

// The patches under a window, on the lattice of multiples of kPatch output cells, so that a cell has the same
// coordinates in every window.
class PatchField {
 public:
  PatchField(const SourceCells& cells, const Window& w)
      : col0_(floor_div(w.col)),
        row0_(floor_div(w.row)),
        across_(floor_div(w.col + w.cols - 1) - col0_ + 1),
        down_(floor_div(w.row + w.rows - 1) - row0_ + 1) {
    // Corners of the patches, and the middles of their edges and of themselves to check them by.
    const std::int64_t across = 2 * across_ + 1;
    const std::vector<Point> points = lattice(cells, col0_ * kPatch, row0_ * kPatch, kPatch / 2, across, 2 * down_ + 1);
    patches_.resize(static_cast<std::size_t>(across_ * down_));
    for (std::int64_t pr = 0; pr < down_; ++pr)
      for (std::int64_t pc = 0; pc < across_; ++pc) {
        std::vector<Point> nine;
        for (std::int64_t j = 0; j < 3; ++j)
          for (std::int64_t i = 0; i < 3; ++i)
            nine.push_back(points[static_cast<std::size_t>((2 * pr + j) * across + 2 * pc + i)]);
        patches_[static_cast<std::size_t>(pr * across_ + pc)] =
            patch_of(cells, col0_ + pc, row0_ + pr, std::move(nine));
      }
  }

  const Patch& patch(std::int64_t col, std::int64_t row) const {
    return patches_[static_cast<std::size_t>((floor_div(row) - row0_) * across_ + floor_div(col) - col0_)];
  }
  const std::vector<Patch>& all() const { return patches_; }
  static std::int64_t floor_div(std::int64_t v) { return v >= 0 ? v / kPatch : -((-v + kPatch - 1) / kPatch); }

 private:
  static std::vector<Point> lattice(const SourceCells& cells, std::int64_t col, std::int64_t row, std::int64_t step,
                                    std::int64_t across, std::int64_t down) {
    std::vector<Point> points;
    points.reserve(static_cast<std::size_t>(across * down));
    for (std::int64_t r = 0; r < down; ++r)
      for (std::int64_t c = 0; c < across; ++c)
        points.push_back({static_cast<double>(col + c * step), static_cast<double>(row + r * step)});
    cells.exact(points);
    return points;
  }

  // True when every second of the points tells where the others lie; then all of them together tell it four times
  // better.
  static bool suffices(const std::vector<Point>& points, std::int64_t parts) {
    const std::int64_t n = 2 * parts + 1;
    const auto at = [&](std::int64_t i, std::int64_t j) { return points[static_cast<std::size_t>(j * n + i)]; };
    for (std::int64_t j = 0; j < n; ++j)
      for (std::int64_t i = 0; i < n; ++i) {
        const std::int64_t i0 = i & ~std::int64_t{1}, i1 = (i + 1) & ~std::int64_t{1}, j0 = j & ~std::int64_t{1},
                           j1 = (j + 1) & ~std::int64_t{1};
        const Point p = at(i, j), a = at(i0, j0), b = at(i1, j0), c = at(i0, j1), d = at(i1, j1);
        const double off =
            std::max(std::abs(p.x - (a.x + b.x + c.x + d.x) / 4), std::abs(p.y - (a.y + b.y + c.y + d.y) / 4));
        if (!(off <= kTransformTolerance)) return false;
      }
    return true;
  }

  static Patch patch_of(const SourceCells& cells, std::int64_t pc, std::int64_t pr, std::vector<Point> points) {
    Patch p;
    constexpr std::int64_t kMostParts = 8;
    for (std::int64_t parts = 1;; parts *= 2) {
      if (suffices(points, parts)) {
        p.parts = 2 * parts;
        p.nodes = std::move(points);
        return p;
      }
      if (parts == kMostParts) break;
      const std::int64_t finer = 4 * parts;  // half-intervals of the next try
      points = lattice(cells, pc * kPatch, pr * kPatch, kPatch / finer, finer + 1, finer + 1);
    }
    p.exact = true;
    p.parts = kPatch;
    p.nodes = lattice(cells, pc * kPatch, pr * kPatch, 1, kPatch, kPatch);
    return p;
  }

  std::int64_t col0_, row0_, across_, down_;
  std::vector<Patch> patches_;
};

}  // namespace katoptra
