// The cells of a tile from the triangulation of the points in and around it.
#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <map>
#include <numeric>

#include "cell_order.hpp"
#include "natural.hpp"
#include "predicates.hpp"
#include "tile_grids.hpp"

namespace katoptra {
namespace {

constexpr std::uint32_t kNoSource = 0xFFFFFFFF;  // vertices of breaklines

// The points of a tile and its rim on coordinates near zero, each place once, neighbours near one another.
struct TilePoints {
  std::vector<LatticePoint> places;
  std::vector<float> heights;
  std::vector<std::uint32_t> sources;
  double base_x = 0, base_y = 0;  // whole lattice steps

  TilePoints(const TilePlan& plan, const Bounds& box) {
    auto all = plan.buckets->in_box(box.west, box.south, box.east, box.north);
    base_x = std::floor(box.centre().x);
    base_y = std::floor(box.centre().y);
    const CellOrder cells(all, std::less<StoredPoint>());
    places.reserve(all.size());
    heights.reserve(all.size());
    sources.reserve(all.size());
    for (std::size_t i = 0; i < all.size();) {
      double sum = 0;
      std::size_t n = 0;
      for (; i + n < all.size() && all[i + n].x == all[i].x && all[i + n].y == all[i].y; ++n) sum += all[i + n].z;
      places.push_back({static_cast<std::int32_t>(all[i].x - base_x), static_cast<std::int32_t>(all[i].y - base_y)});
      sources.push_back(all[i].source);
      heights.push_back(n == 1 ? all[i].z : static_cast<float>(sum / static_cast<double>(n)));
      i += n;
    }
  }
};

// Finds points by their place: those of the survey, and those that lines add.
class PointsByPlace {
 public:
  explicit PointsByPlace(TilePoints& points) : points_(points), order_(points.places.size()) {
    std::iota(order_.begin(), order_.end(), 0);
    std::sort(order_.begin(), order_.end(), [&](int a, int b) { return exact::comes_before(place(a), place(b)); });
  }
  // A new one has no height yet, and no source.
  int index_of(const LatticePoint& p) {
    const auto found = std::lower_bound(order_.begin(), order_.end(), p,
                                        [&](int a, const LatticePoint& b) { return exact::comes_before(place(a), b); });
    if (found != order_.end() && place(*found) == p) return *found;
    const auto [it, is_new] = added_.try_emplace({p.x, p.y}, static_cast<int>(points_.places.size()));
    if (is_new) {
      points_.places.push_back(p);
      points_.heights.push_back(0);
      points_.sources.push_back(kNoSource);
    }
    return it->second;
  }

 private:
  const LatticePoint& place(int i) const { return points_.places[static_cast<std::size_t>(i)]; }
  TilePoints& points_;
  std::vector<int> order_;
  std::map<std::pair<std::int32_t, std::int32_t>, int> added_;
};

// The plane through three points, the same bits whatever order they come in and wherever zero lies.
class FacetPlane {
 public:
  FacetPlane(const LatticePoint* p[3], const float* z[3]) {
    int order[3] = {0, 1, 2};
    std::sort(order, order + 3, [&](int a, int b) { return exact::comes_before(*p[a], *p[b]); });
    a_ = *p[order[0]];
    b_ = *p[order[1]];
    c_ = *p[order[2]];
    za_ = *z[order[0]];
    zb_ = *z[order[1]];
    zc_ = *z[order[2]];
    det_ = static_cast<double>(exact::turn(a_, b_, c_));
  }
  float at(double x, double y) const {
    const double dx = x - a_.x, dy = y - a_.y;
    const double bx = static_cast<double>(b_.x) - a_.x, by = static_cast<double>(b_.y) - a_.y,
                 cx = static_cast<double>(c_.x) - a_.x, cy = static_cast<double>(c_.y) - a_.y;
    const double u = (dx * cy - dy * cx) / det_, v = (bx * dy - by * dx) / det_;
    return static_cast<float>(za_ + u * (zb_ - za_) + v * (zc_ - za_));
  }

 private:
  LatticePoint a_, b_, c_;
  double za_ = 0, zb_ = 0, zc_ = 0, det_ = 1;
};

// The corners of a triangle in an order of their own, to find the nearest one that is a point of a survey.
class Corners {
 public:
  Corners(const LatticePoint* p[3], const int v[3], const std::vector<std::uint32_t>& sources) {
    int order[3] = {0, 1, 2};
    std::sort(order, order + 3, [&](int a, int b) { return exact::comes_before(*p[a], *p[b]); });
    for (int k = 0; k < 3; ++k) {
      place_[k] = *p[order[k]];
      source_[k] = sources[static_cast<std::size_t>(v[order[k]])];
    }
  }
  Origin origin_at(double x, double y) const {
    double nearest = std::numeric_limits<double>::infinity();
    std::uint32_t source = 0;
    for (int k = 0; k < 3; ++k) {
      const double dx = place_[k].x - x, dy = place_[k].y - y, d2 = dx * dx + dy * dy;
      if (source_[k] == kNoSource || d2 >= nearest) continue;
      nearest = d2;
      source = source_[k];
    }
    return interpolated_from(source);
  }

 private:
  LatticePoint place_[3];
  std::uint32_t source_[3];
};

// On which side of the edge from p to q a place lies, as seen with `third` on the inside: above zero inside; zero for a
// place on the edge that belongs to the triangle on its other side. Both triangles at an edge compute the same number.
double inside_of_edge(const LatticePoint& p, const LatticePoint& q, const LatticePoint& third, double x, double y) {
  const bool swap = exact::comes_before(q, p);
  const LatticePoint &lo = swap ? q : p, &hi = swap ? p : q;
  const double s = (static_cast<double>(hi.x) - lo.x) * (y - lo.y) - (static_cast<double>(hi.y) - lo.y) * (x - lo.x);
  const bool left = exact::turn(lo, hi, third) > 0;
  if (s == 0) return left ? 1 : 0;
  return left ? s : -s;
}

class TinTile {
 public:
  TinTile(const TilePlan& plan, const Window& w) : plan_(plan), w_(w), out_(w, plan.options.methods.size()) {
    const double cx = plan.cell_x(), cy = plan.cell_y();
    for (std::int64_t c = 0; c < w.cols; ++c) x_.push_back(plan.x_of(w.col + c));
    for (std::int64_t r = 0; r < w.rows; ++r) y_.push_back(plan.y_of(w.row + r));
    per_x_ = 1 / cx;
    per_y_ = 1 / cy;
    core_ = {x_.front() - cx / 2, y_.back() - cy / 2, x_.back() + cx / 2, y_.front() + cy / 2};
  }

  TileCells make() {
    for (const double rim : narrow_rims())
      if (attempt(core_.grown(rim), false)) return std::move(out_);
    // Wide enough for every triangle that is not too long; wider while a circle reaches out of it to where points are.
    for (double rim = whole_rim();; rim *= 2) {
      const Bounds box = core_.grown(rim);
      if (attempt(box, true) || plan_.buckets->covers_all(box)) return std::move(out_);
    }
  }

 private:
  double whole_rim() const { return 2 * plan_.longest_edge + 2; }
  // Where points lie densely a few of their spacings around the tile are enough, which may be far less than the longest
  // edge there may be: points of the rim are triangulated once more for each tile that they are beside. What cannot be
  // told from so few is seen, and then it was for nothing, so the whole rim must be dear beside it.
  std::vector<double> narrow_rims() const {
    constexpr double kSpacings = 6, kDear = 1.15, kVeryDear = 2;
    if (!plan_.lines.empty()) return {};
    const double spacing = kSpacings * plan_.spacing;
    const double gap = spacing + 2 * plan_.buckets->widest_gap(core_.grown(spacing));
    std::vector<double> out;
    if (times_dearer(spacing) > (gap > spacing ? kVeryDear : kDear)) out.push_back(spacing);
    if (gap > spacing && times_dearer(gap) > kVeryDear) out.push_back(gap);
    return out;
  }
  // The whole rim than this one, by the points that are triangulated.
  double times_dearer(double rim) const { return area(core_.grown(whole_rim())) / area(core_.grown(rim)); }
  static double area(const Bounds& b) { return b.width() * b.height(); }

  // False when more must be known. `whole`: the rim holds every corner of a triangle that is not too long.
  bool attempt(const Bounds& box, bool whole) {
    out_ = TileCells(w_, plan_.options.methods.size());
    settled_.assign(whole ? 0 : out_.origin.size(), 0);
    TilePoints points(plan_, box);
    x0_ = x_.front() - points.base_x;
    y0_ = y_.front() - points.base_y;
    mark_measured(points);
    if (points.places.size() < 3) return whole || open_cells_are_void(box);
    const std::vector<std::pair<int, int>> edges = add_lines(points, box);
    Triangulation t(points.places);
    std::uint64_t lost = 0;
    for (const auto& [a, b] : edges) lost += !t.keep_edge(a, b);
    *plan_.lost += lost;
    NaturalNeighbours natural(t, points.heights);
    bool certain = true;
    late_.clear();
    const double longest2 = plan_.longest_edge * plan_.longest_edge;
    t.for_each_triangle_by_edges([&](int e, int e2, int e3) {
      const Triangulation::Vertex *a = &t.vertex(e), *b = &t.vertex(e2), *c = &t.vertex(e3);
      const Window cells = cells_around(*a, *b, *c);
      if (cells.empty()) return true;
      const int v[3] = {a->id, b->id, c->id};
      if (length2(*a, *b) > longest2 || length2(*b, *c) > longest2 || length2(*c, *a) > longest2) {
        if (!whole) settle(cells, v, points, box);
        return true;
      }
      return certain = draw(cells, e, v, points, box, natural);
    });
    take_late();
    return certain && (whole || open_cells_are_void(box));
  }

  // Places on an edge that no triangle on its other side has taken.
  void take_late() {
    std::map<std::size_t, Origin> taken;
    for (const Late& l : late_) {
      float& cell = out_.planes[l.plane][l.at];
      if (std::isnan(cell)) {
        cell = l.value;
        taken.try_emplace(l.at, l.origin);
      }
      if (const auto it = taken.find(l.at); it != taken.end()) it->second = std::min(it->second, l.origin);
    }
    for (const auto& [at, origin] : taken)
      if (how_of(out_.origin[at]) != How::Measured) out_.origin[at] = origin;
  }

  // Of a narrow rim. A cell in a triangle that is one of the whole cloud and too long stays void, whatever else there
  // is.
  void settle(const Window& cells, const int v[3], const TilePoints& points, const Bounds& box) {
    const LatticePoint* p[3];
    corners_of(v, points, p);
    if (!is_certain(p, points, box)) return;
    for_each_inside(cells, p, points, [&](std::size_t at, double, double, bool border) {
      if (!border) settled_[at] = 1;
      return true;
    });
  }
  // Of a narrow rim. A triangle that is not too long and holds the centre of a cell has its corners no farther from it
  // than the longest edge; if no point beyond the rim is so near, and none was found within, there is none. Cells are
  // asked in groups.
  bool open_cells_are_void(const Bounds& box) const {
    constexpr std::int64_t kGroup = 8;
    const double reach = plan_.longest_edge + 1 + kGroup * std::hypot(1 / per_x_, 1 / per_y_);
    for (std::int64_t r0 = 0; r0 < w_.rows; r0 += kGroup)
      for (std::int64_t c0 = 0; c0 < w_.cols; c0 += kGroup) {
        bool open = false;
        for (std::int64_t r = r0; r < std::min(r0 + kGroup, w_.rows); ++r)
          for (std::int64_t c = c0; c < std::min(c0 + kGroup, w_.cols); ++c)
            open |= !settled_[static_cast<std::size_t>(r * w_.cols + c)];
        if (open &&
            plan_.buckets->may_hold(x_[static_cast<std::size_t>(c0)], y_[static_cast<std::size_t>(r0)], reach, box))
          return false;
      }
    return true;
  }

  static double length2(const Triangulation::Vertex& a, const Triangulation::Vertex& b) {
    const double dx = static_cast<double>(a.x) - b.x, dy = static_cast<double>(a.y) - b.y;
    return dx * dx + dy * dy;
  }

  // The cells of the tile whose centre lies in the box around a triangle, or next to it. Most triangles lie between
  // the centres of cells and have none.
  Window cells_around(const Triangulation::Vertex& a, const Triangulation::Vertex& b,
                      const Triangulation::Vertex& c) const {
    const auto c0 = std::max<std::int64_t>(0, up((std::min({a.x, b.x, c.x}) - x0_) * per_x_ - 1e-6)),
               c1 = std::min(w_.cols - 1, down((std::max({a.x, b.x, c.x}) - x0_) * per_x_ + 1e-6));
    if (c0 > c1) return {};
    const auto r0 = std::max<std::int64_t>(0, up((y0_ - std::max({a.y, b.y, c.y})) * per_y_ - 1e-6)),
               r1 = std::min(w_.rows - 1, down((y0_ - std::min({a.y, b.y, c.y})) * per_y_ + 1e-6));
    return r0 > r1 ? Window{} : Window{c0, r0, c1 - c0 + 1, r1 - r0 + 1};
  }

  // Those of the cells whose centre lies in a triangle, by their place in the tile; ends early when the body gives
  // false. `border`: on an edge that belongs to the triangle on its other side.
  template <class Body>
  bool for_each_inside(const Window& cells, const LatticePoint* const p[3], const TilePoints& points,
                       const Body& body) const {
    for (std::int64_t r = cells.row; r < cells.row + cells.rows; ++r)
      for (std::int64_t c = cells.col; c < cells.col + cells.cols; ++c) {
        const double x = x_[static_cast<std::size_t>(c)] - points.base_x,
                     y = y_[static_cast<std::size_t>(r)] - points.base_y;
        const double a = inside_of_edge(*p[0], *p[1], *p[2], x, y), b = inside_of_edge(*p[1], *p[2], *p[0], x, y),
                     d = inside_of_edge(*p[2], *p[0], *p[1], x, y);
        if (a < 0 || b < 0 || d < 0) continue;
        if (!body(static_cast<std::size_t>(r * w_.cols + c), x, y, a == 0 || b == 0 || d == 0)) return false;
      }
    return true;
  }
  static void corners_of(const int v[3], const TilePoints& points, const LatticePoint* p[3]) {
    for (int k = 0; k < 3; ++k) p[k] = &points.places[static_cast<std::size_t>(v[k])];
  }

  // Fills those of the cells whose centre lies in a triangle; false when it may not be one of the whole cloud.
  bool draw(const Window& cells, int edge, const int v[3], const TilePoints& points, const Bounds& box,
            NaturalNeighbours& natural) {
    const LatticePoint* p[3];
    corners_of(v, points, p);
    const float* z[3] = {&points.heights[static_cast<std::size_t>(v[0])],
                         &points.heights[static_cast<std::size_t>(v[1])],
                         &points.heights[static_cast<std::size_t>(v[2])]};
    const FacetPlane plane(p, z);
    const Corners corners(p, v, points.sources);
    bool checked = false;
    return for_each_inside(cells, p, points, [&](std::size_t at, double x, double y, bool border) {
      if (!checked && !is_certain(p, points, box)) return false;
      checked = true;
      const bool measured = how_of(out_.origin[at]) == How::Measured;
      const Origin origin = measured ? out_.origin[at] : corners.origin_at(x, y);
      if (!border) {
        out_.origin[at] = origin;
        if (!settled_.empty()) settled_[at] = 1;
      }
      for (std::size_t m = 0; m < out_.planes.size(); ++m) {
        bool sure = true;
        const float value =
            plan_.options.methods[m].method == PointMethod::Natural
                ? natural.at(x, y, edge, [&](const VoronoiCircle& k) { return sure = is_certain(k, points, box); })
                : plane.at(x, y);
        if (!sure) return false;
        if (border)
          late_.push_back({m, at, value, origin});
        else
          out_.planes[m][at] = value;
      }
      return true;
    });
  }

  // The next whole number at or above, and at or below.
  static std::int64_t up(double v) { return -down(-v); }
  static std::int64_t down(double v) {
    const auto whole = static_cast<std::int64_t>(v);
    return whole - (static_cast<double>(whole) > v);
  }

  bool is_certain(const LatticePoint* p[3], const TilePoints& points, const Bounds& box) const {
    return is_certain(circle_through(*p[0], *p[1], *p[2], 0, 0), points, box);
  }
  bool is_certain(const VoronoiCircle& k, const TilePoints& points, const Bounds& box) const {
    const double x = k.x + points.base_x, y = k.y + points.base_y, r = k.radius * (1 + 1e-9) + 1;
    if (x - r >= box.west && x + r <= box.east && y - r >= box.south && y + r <= box.north) return true;
    return !plan_.buckets->may_hold(x, y, r, box);
  }

  void mark_measured(const TilePoints& points) {
    struct PointNearby {
      double d2 = std::numeric_limits<double>::infinity();
      std::size_t point = 0;
    };
    std::vector<PointNearby> nearest(out_.origin.size());
    const CellFinder find(plan_);
    for (std::size_t i = 0; i < points.places.size(); ++i) {
      const double x = points.places[i].x + points.base_x, y = points.places[i].y + points.base_y;
      const std::int64_t c = find.col(x) - w_.col, r = find.row(y) - w_.row;
      if (c < 0 || c >= w_.cols || r < 0 || r >= w_.rows) continue;
      const auto at = static_cast<std::size_t>(r * w_.cols + c);
      const double dx = x - x_[static_cast<std::size_t>(c)], dy = y - y_[static_cast<std::size_t>(r)],
                   d2 = dx * dx + dy * dy;
      PointNearby& best = nearest[at];
      // Of two as near the one that comes first in order of place, whatever tile asks.
      if (d2 > best.d2 || (d2 == best.d2 && exact::comes_before(points.places[best.point], points.places[i]))) continue;
      best = {d2, i};
      out_.origin[at] = measured_from(points.sources[i]);
    }
  }

  // Vertices of breaklines become points; their own height counts where a point of the survey lies at the same place.
  std::vector<std::pair<int, int>> add_lines(TilePoints& points, const Bounds& box) const {
    std::vector<std::pair<int, int>> edges;
    if (plan_.lines.empty()) return edges;
    PointsByPlace by_place(points);
    const Bounds reach = box.grown(2 * plan_.longest_edge);
    for (const auto& line : plan_.lines) {
      int last = -1;
      for (const TilePlan::Vertex& v : line) {
        if (!reach.contains({v.x, v.y})) {
          last = -1;
          continue;
        }
        const LatticePoint p{static_cast<std::int32_t>(std::round(v.x - points.base_x)),
                             static_cast<std::int32_t>(std::round(v.y - points.base_y))};
        const int here = by_place.index_of(p);
        points.heights[static_cast<std::size_t>(here)] = static_cast<float>(v.z);
        if (last >= 0 && last != here) edges.push_back({last, here});
        last = here;
      }
    }
    return edges;
  }

  struct Late {
    std::size_t plane, at;
    float value;
    Origin origin;
  };
  const TilePlan& plan_;
  Window w_;
  TileCells out_;
  Bounds core_;
  std::vector<double> x_, y_;     // centres of its columns and rows, in lattice steps
  double x0_ = 0, y0_ = 0;        // centre of the first cell, as the points are told
  double per_x_ = 0, per_y_ = 0;  // cells a lattice step
  // By cell, of a narrow rim: its value stands, or it is void, whatever lies beyond.
  std::vector<std::uint8_t> settled_;
  std::vector<Late> late_;
};

}  // namespace

TileCells triangulated_tile(const TilePlan& plan, const Window& window) { return TinTile(plan, window).make(); }

}  // namespace katoptra
