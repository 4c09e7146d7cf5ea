#include "outline.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

namespace katoptra {
namespace {

// A side of the region, with the region on its right as one looks at a sheet with rows running down.
struct Side {
  std::int64_t col, row;  // where it begins
  std::int64_t to_col, to_row;
  bool used = false;
  bool begins_before(const Side& o) const { return std::pair(row, col) < std::pair(o.row, o.col); }
};

// Parts of [first, last) that no run of a row covers.
template <class Body>
void uncovered(std::int64_t first, std::int64_t last, std::span<const CellRun> row, const Body& body) {
  auto r = std::partition_point(row.begin(), row.end(), [&](const CellRun& o) { return o.last <= first; });
  for (; r != row.end() && r->first < last; ++r) {
    if (r->first > first) body(first, r->first);
    first = r->last;
  }
  if (first < last) body(first, last);
}

std::vector<Side> sides_of(std::span<const CellRun> runs) {
  std::vector<Side> sides;
  std::span<const CellRun> above;
  for (std::size_t begin = 0; begin < runs.size();) {
    std::size_t end = begin;
    while (end < runs.size() && runs[end].row == runs[begin].row) ++end;
    const auto row = runs.subspan(begin, end - begin);
    const std::int64_t y = row.front().row;
    if (!above.empty() && above.front().row != y - 1) above = {};
    std::size_t next = end;
    while (next < runs.size() && runs[next].row == y + 1) ++next;
    const auto below = runs.subspan(end, next - end);
    for (const CellRun& r : row) {
      uncovered(r.first, r.last, above, [&](std::int64_t a, std::int64_t b) { sides.push_back({a, y, b, y}); });
      uncovered(r.first, r.last, below, [&](std::int64_t a, std::int64_t b) { sides.push_back({b, y + 1, a, y + 1}); });
      sides.push_back({r.last, y, r.last, y + 1});
      sides.push_back({r.first, y + 1, r.first, y});
    }
    above = row;
    begin = end;
  }
  std::sort(sides.begin(), sides.end(), [](const Side& a, const Side& b) { return a.begins_before(b); });
  return sides;
}

int sign(std::int64_t v) { return v > 0 ? 1 : v < 0 ? -1 : 0; }

// Where two sides begin at a corner, the one that turns to the right keeps to its own part of the region.
Side* next_side(std::vector<Side>& sides, const Side& from) {
  const Side corner{from.to_col, from.to_row, 0, 0};
  auto it = std::lower_bound(sides.begin(), sides.end(), corner,
                             [](const Side& a, const Side& b) { return a.begins_before(b); });
  Side* found = nullptr;
  const int dc = sign(from.to_col - from.col), dr = sign(from.to_row - from.row);
  for (; it != sides.end() && it->col == corner.col && it->row == corner.row; ++it) {
    if (it->used) continue;
    const bool right = sign(it->to_col - it->col) == -dr && sign(it->to_row - it->row) == dc;
    if (!found || right) found = &*it;
  }
  return found;
}

struct RingCorner {
  std::int64_t col, row;
};

// Twice the area: above zero for outer rings.
double twice_area(const std::vector<RingCorner>& ring) {
  double sum = 0;
  for (std::size_t i = 0; i < ring.size(); ++i) {
    const RingCorner &a = ring[i], &b = ring[(i + 1) % ring.size()];
    sum += static_cast<double>(a.col) * static_cast<double>(b.row) -
           static_cast<double>(b.col) * static_cast<double>(a.row);
  }
  return sum;
}

std::vector<std::vector<RingCorner>> rings_of(std::vector<Side> sides) {
  std::vector<std::vector<RingCorner>> rings;
  for (Side& first : sides) {
    if (first.used) continue;
    std::vector<RingCorner> ring;
    int dc = 0, dr = 0;
    for (Side* s = &first; s; s = next_side(sides, *s)) {
      s->used = true;
      const int c = sign(s->to_col - s->col), r = sign(s->to_row - s->row);
      if (c != dc || r != dr) ring.push_back({s->col, s->row});
      dc = c;
      dr = r;
      if (s->to_col == first.col && s->to_row == first.row) {
        // Closed, unless the first corner is one at which the ring goes on.
        const Side* more = next_side(sides, *s);
        const bool turns_back = more && sign(more->to_col - more->col) == -dr && sign(more->to_row - more->row) == dc;
        if (!turns_back) break;
      }
    }
    // The first corner was no corner when the last side runs on through it.
    const Side& f = first;
    if (ring.size() > 1 && sign(f.to_col - f.col) == dc && sign(f.to_row - f.row) == dr) ring.erase(ring.begin());
    rings.push_back(std::move(ring));
  }
  return rings;
}

// Whether the middle of the cell lies inside.
bool holds(const std::vector<RingCorner>& ring, double col, double row) {
  bool inside = false;
  for (std::size_t i = 0; i < ring.size(); ++i) {
    const RingCorner &a = ring[i], &b = ring[(i + 1) % ring.size()];
    if (a.col == b.col && (static_cast<double>(a.row) > row) != (static_cast<double>(b.row) > row) &&
        static_cast<double>(a.col) > col)
      inside = !inside;
  }
  return inside;
}

// The middle of a cell of the region beside the first side of a ring.
std::pair<double, double> cell_beside(const std::vector<RingCorner>& ring) {
  const RingCorner &a = ring[0], &b = ring[1];
  const double dc = sign(b.col - a.col), dr = sign(b.row - a.row);
  return {static_cast<double>(a.col) + 0.5 * dc - 0.5 * dr, static_cast<double>(a.row) + 0.5 * dr + 0.5 * dc};
}

Ring ground_ring(const std::vector<RingCorner>& ring, const Frame& f) {
  Ring out;
  for (auto c = ring.rbegin(); c != ring.rend(); ++c)
    out.push_back(
        {f.west() + static_cast<double>(c->col) * f.cell().x, f.north() - static_cast<double>(c->row) * f.cell().y});
  out.push_back(out.front());
  return out;
}

}  // namespace

MultiPolygon outline_of(std::span<const CellRun> runs, const Frame& frame) {
  std::vector<std::vector<RingCorner>> outers, holes;
  for (auto& ring : rings_of(sides_of(runs))) (twice_area(ring) > 0 ? outers : holes).push_back(std::move(ring));
  MultiPolygon shape(outers.size());
  for (std::size_t i = 0; i < outers.size(); ++i) shape[i].outer = ground_ring(outers[i], frame);
  for (const auto& hole : holes) {
    // The smallest part that holds a cell beside the hole.
    std::size_t in = 0;
    if (outers.size() > 1) {
      const auto [col, row] = cell_beside(hole);
      double least = std::numeric_limits<double>::infinity();
      for (std::size_t i = 0; i < outers.size(); ++i)
        if (const double area = twice_area(outers[i]); area < least && holds(outers[i], col, row)) {
          least = area;
          in = i;
        }
    }
    shape[in].holes.push_back(ground_ring(hole, frame));
  }
  return shape;
}

}  // namespace katoptra
