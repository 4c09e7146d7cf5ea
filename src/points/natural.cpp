#include "natural.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "predicates.hpp"

namespace katoptra {

const float NaturalNeighbours::kNothing = std::numeric_limits<float>::quiet_NaN();

namespace {

struct Place {
  double x, y;
};

Place centre_of(Place a, Place b, Place c) {
  const double bx = b.x - a.x, by = b.y - a.y, cx = c.x - a.x, cy = c.y - a.y;
  const double d = 2 * (bx * cy - by * cx), bl = bx * bx + by * by, cl = cx * cx + cy * cy;
  return {a.x + (cy * bl - by * cl) / d, a.y + (bx * cl - cx * bl) / d};
}

}  // namespace

VoronoiCircle circle_through(const LatticePoint& a, const LatticePoint& b, const LatticePoint& c, double x0,
                             double y0) {
  const LatticePoint* p[3] = {&a, &b, &c};
  std::sort(p, p + 3, [](const LatticePoint* i, const LatticePoint* k) { return exact::comes_before(*i, *k); });
  const Place q[3] = {{p[0]->x - x0, p[0]->y - y0}, {p[1]->x - x0, p[1]->y - y0}, {p[2]->x - x0, p[2]->y - y0}};
  const Place m = centre_of(q[0], q[1], q[2]);
  return {m.x, m.y, std::hypot(m.x - q[0].x, m.y - q[0].y)};
}

// The triangles whose circle holds the place, from the one it lies in outwards.
bool NaturalNeighbours::gather(double x, double y, int e) {
  pieces_.clear();
  stamps_.resize(static_cast<std::size_t>(t_.half_edges()));
  ++round_;
  beyond_.clear();
  auto add = [&](int edge) {
    const int b = t_.next_left(edge), c = t_.next_left(b);
    const VoronoiCircle k = circle_through(t_.point(t_.from(edge)), t_.point(t_.from(b)), t_.point(t_.from(c)), x, y);
    if (!pieces_.empty() && !(std::hypot(k.x, k.y) < k.radius * (1 - 1e-12))) return false;
    for (int i : {edge, b, c})
      stamps_[static_cast<std::size_t>(i)] = {round_, static_cast<std::int32_t>(pieces_.size())};
    pieces_.push_back({{edge, b, c}, k});
    return true;
  };
  add(e);
  for (std::size_t i = 0; i < pieces_.size(); ++i)
    for (int k = 0; k < 3; ++k) {
      const int other = pieces_[i].edges[k] ^ 1;
      if (is_inside(other)) continue;
      if (!t_.has_triangle(other)) continue;
      add(other);
    }
  // A point beyond an edge of the rim would have a say if it lay in the circle through that edge and the place.
  for (const Piece& p : pieces_)
    for (int edge : p.edges) {
      if (is_inside(edge ^ 1)) continue;
      const LatticePoint &a = t_.point(t_.from(edge)), &b = t_.point(t_.to(edge));
      const Place m = centre_of({0, 0}, {a.x - x, a.y - y}, {b.x - x, b.y - y});
      if (std::isfinite(m.x) && std::isfinite(m.y)) beyond_.push_back({m.x, m.y, std::hypot(m.x, m.y)});
    }
  return true;
}

float NaturalNeighbours::weighed(double x, double y, int e) const {
  // The rim of the triangles, counter-clockwise, from its first point in order of x and y.
  int first = -1;
  for (const Piece& p : pieces_)
    for (int edge : p.edges)
      if (!is_inside(edge ^ 1) && (first < 0 || exact::comes_before(t_.point(t_.from(edge)), t_.point(t_.from(first)))))
        first = edge;
  auto place = [&](int edge) {
    const LatticePoint& p = t_.point(t_.from(edge));
    return Place{p.x - x, p.y - y};
  };
  auto circle_at = [&](int edge) -> Place {
    if (const int k = piece_of(edge); k >= 0)
      return {pieces_[static_cast<std::size_t>(k)].circle.x, pieces_[static_cast<std::size_t>(k)].circle.y};
    return {0, 0};
  };
  auto corner = [&](int edge) { return centre_of(Place{0, 0}, place(edge), place(edge ^ 1)); };
  double sum = 0, all = 0;
  int edge = first;
  std::vector<Place> ring;
  do {
    // What the end of this edge loses: from the corner on this edge, over the circles around that end, to the corner on
    // the next edge of the rim.
    ring.assign(1, corner(edge));
    int out = edge;
    do {
      ring.push_back(circle_at(out));
      out = t_.next_left(out);
      if (is_inside(out ^ 1))
        out = out ^ 1;
      else
        break;
    } while (true);
    ring.push_back(corner(out));
    double area = 0;
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Place &a = ring[i], &b = ring[(i + 1) % ring.size()];
      area += a.x * b.y - b.x * a.y;
    }
    area = std::abs(area);
    if (!std::isfinite(area)) return linear(x, y, e);
    const double z = heights_[static_cast<std::size_t>(t_.from(out))];
    sum += area * z;
    all += area;
    edge = out;
  } while (edge != first);
  return all > 0 ? static_cast<float>(sum / all) : linear(x, y, e);
}

float NaturalNeighbours::linear(double x, double y, int e) const {
  int order[3] = {t_.from(e), t_.from(t_.next_left(e)), t_.from(t_.next_left(t_.next_left(e)))};
  std::sort(order, order + 3, [&](int a, int b) { return exact::comes_before(t_.point(a), t_.point(b)); });
  const LatticePoint &a = t_.point(order[0]), &b = t_.point(order[1]), &c = t_.point(order[2]);
  const double det = static_cast<double>(exact::turn(a, b, c)), dx = x - a.x, dy = y - a.y;
  const double u = (dx * (static_cast<double>(c.y) - a.y) - dy * (static_cast<double>(c.x) - a.x)) / det,
               v = ((static_cast<double>(b.x) - a.x) * dy - (static_cast<double>(b.y) - a.y) * dx) / det;
  auto z = [&](int i) { return static_cast<double>(heights_[static_cast<std::size_t>(order[i])]); };
  return static_cast<float>(z(0) + u * (z(1) - z(0)) + v * (z(2) - z(0)));
}

}  // namespace katoptra
