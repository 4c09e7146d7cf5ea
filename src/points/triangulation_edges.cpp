// Finding places in a triangulation, and edges that must be kept.
#include <algorithm>
#include <cmath>
#include <deque>

#include "katoptra/points/triangulation.hpp"

#include "predicates.hpp"

namespace katoptra {

using exact::turn;

int Triangulation::locate(double x, double y, int near) const {
  const int n = half_edges();
  if (n == 0) return -1;
  auto usable = [&](int e) {
    return e >= 0 && e < n && edges_[static_cast<std::size_t>(e)].from >= 0 && has_triangle(e);
  };
  int e = near;
  for (int k = 0; !usable(e) && k < n; ++k) e = k;
  if (!usable(e)) return -1;
  auto right_of = [&](int edge) {
    const LatticePoint &a = point(from(edge)), &b = point(to(edge));
    return (static_cast<double>(b.x) - a.x) * (y - a.y) - (static_cast<double>(b.y) - a.y) * (x - a.x) < 0;
  };
  // From triangle to triangle across an edge that has the place on its other side.
  for (int steps = 0; steps < n; ++steps) {
    const int b = next_left(e), c = next_left(b);
    int across = -1;
    for (int edge : {e, b, c})
      if (right_of(edge)) {
        across = edge ^ 1;
        break;
      }
    if (across < 0) return e;
    if (!has_triangle(across)) return -1;
    // The edge that was crossed comes last, so that the walk turns.
    e = next_left(across);
  }
  return -1;
}

bool Triangulation::is_kept(int a, int b) const {
  if (kept_.empty() || place_.empty() || a == b) return false;
  for (int e = 0; e < half_edges(); ++e)
    if (edges_[static_cast<std::size_t>(e)].from >= 0 && from(e) == a && to(e) == b)
      return kept_[static_cast<std::size_t>(e / 2)];
  return false;
}

// A line is put in piece by piece, from each point that lies on it to the next: along an edge where there is one, else
// by flipping away the edges that it crosses (Sloan 1993). What had to be flipped is made Delaunay again afterwards, as
// far as kept edges allow.
bool Triangulation::keep_edge(int a, int b) {
  if (a == b || half_edges() == 0) return true;
  begin_keeping();
  for (int at = a; at != b;) {
    if (place_[static_cast<std::size_t>(at)] < 0 || place_[static_cast<std::size_t>(b)] < 0) return false;
    const Way way = way_towards(at, b);
    if (way.along >= 0) {
      kept_[static_cast<std::size_t>(way.along / 2)] = 1;
      at = to(way.along);
      continue;
    }
    std::vector<int> crossed;
    const int end = way.between < 0 ? -1 : cross(at, b, way.between, crossed);
    if (end < 0 || !put_in(at, end, crossed)) return false;
    at = end;
  }
  return true;
}

void Triangulation::begin_keeping() {
  if (!kept_.empty()) return;
  kept_.assign(edges_.size() / 2, 0);
  place_.assign(given_.size(), -1);
  // An edge out of each point.
  for (int e = 0; e < half_edges(); ++e)
    if (edges_[static_cast<std::size_t>(e)].from >= 0) place_[static_cast<std::size_t>(from(e))] = e;
}

Triangulation::Way Triangulation::way_towards(int at, int target) const {
  const LatticePoint &here = point(at), &there = point(target);
  const int first = place_[static_cast<std::size_t>(at)];
  Way way;
  int e = first;
  do {
    const LatticePoint &p = point(to(e)), &q = point(to(edges_[static_cast<std::size_t>(e)].after));
    const std::int64_t side = turn(here, there, p);
    const bool forward = (static_cast<std::int64_t>(p.x) - here.x) * (static_cast<std::int64_t>(there.x) - here.x) +
                             (static_cast<std::int64_t>(p.y) - here.y) * (static_cast<std::int64_t>(there.y) - here.y) >
                         0;
    if (side == 0 && forward) {
      way.along = e;
      return way;
    }
    if (side < 0 && turn(here, there, q) > 0 && has_triangle(e)) way.between = e;
    e = edges_[static_cast<std::size_t>(e)].after;
  } while (e != first);
  return way;
}

// All edges that the line crosses on its way to the next point on it, which is given back; -1 when one of them must be
// kept, or the line leaves the triangles.
int Triangulation::cross(int at, int target, int between, std::vector<int>& crossed) const {
  const LatticePoint &here = point(at), &there = point(target);
  for (int edge = next_left(between);;) {
    const int other = edge ^ 1;
    if (kept_[static_cast<std::size_t>(edge / 2)] || !has_triangle(other)) return -1;
    crossed.push_back(edge);
    const int apex_edge = next_left(other), apex = to(apex_edge);
    const std::int64_t side = turn(here, there, point(apex));
    if (side == 0) return apex;
    // Go on across the edge that has the line between its ends.
    edge = side > 0 ? apex_edge : next_left(apex_edge);
  }
}

// Flips the edges away that cross the line from `at` to `end`, one by one; an edge whose two triangles make no convex
// figure waits for its neighbours.
bool Triangulation::put_in(int at, int end, const std::vector<int>& edges) {
  const LatticePoint here = point(at), goal = point(end);
  std::deque<int> crossed(edges.begin(), edges.end());
  std::vector<int> fresh;
  for (std::size_t patience = edges.size() * edges.size() * 4 + 64; !crossed.empty() && patience > 0; --patience) {
    const int edge = crossed.front();
    crossed.pop_front();
    const int u = from(edge), v = to(edge), p = to(next_left(edge)), q = to(next_left(edge ^ 1));
    const auto s1 = static_cast<double>(turn(point(p), point(q), point(u))),
               s2 = static_cast<double>(turn(point(p), point(q), point(v)));
    if (s1 * s2 >= 0 || turn(point(q), point(v), point(p)) <= 0 || turn(point(p), point(u), point(q)) <= 0) {
      crossed.push_back(edge);
      continue;
    }
    flip(edge);
    const std::int64_t a = turn(here, goal, point(from(edge))), b = turn(here, goal, point(to(edge)));
    if ((a > 0 && b < 0) || (a < 0 && b > 0))
      crossed.push_back(edge);
    else
      fresh.push_back(edge);
  }
  const auto straight = std::find_if(fresh.begin(), fresh.end(), [&](int edge) {
    return (from(edge) == at && to(edge) == end) || (from(edge) == end && to(edge) == at);
  });
  const bool in = crossed.empty() && straight != fresh.end();
  if (in) kept_[static_cast<std::size_t>(*straight / 2)] = 1;
  // What was flipped for an edge that cannot be put in becomes Delaunay again, too.
  fresh.insert(fresh.end(), crossed.begin(), crossed.end());
  settle(fresh);
  return in;
}

// Turns an edge inside the four-sided figure of its two triangles.
void Triangulation::flip(int e) {
  auto& E = edges_;
  auto at = [](int i) { return static_cast<std::size_t>(i); };
  const int a = E[at(e)].before, b = E[at(e ^ 1)].before;
  // A point whose only known edge was this one is given another.
  place_[static_cast<std::size_t>(from(e))] = a;
  place_[static_cast<std::size_t>(to(e))] = b;
  auto splice = [&](int x, int y) {
    std::swap(E[at(x)].after, E[at(y)].after);
    E[at(E[at(x)].after)].before = x;
    E[at(E[at(y)].after)].before = y;
  };
  splice(e, a);
  splice(e ^ 1, b);
  splice(e, next_left(a));
  splice(e ^ 1, next_left(b));
  E[at(e)].from = E[at(a ^ 1)].from;
  E[at(e ^ 1)].from = E[at(b ^ 1)].from;
}

// Flips until every edge that need not be kept is Delaunay again.
void Triangulation::settle(std::vector<int> edges) {
  for (std::size_t patience = 64 * (edges.size() + 16) * (edges.size() + 16); !edges.empty() && patience > 0;
       --patience) {
    const int e = edges.back();
    edges.pop_back();
    if (kept_[static_cast<std::size_t>(e / 2)] || !has_triangle(e) || !has_triangle(e ^ 1)) continue;
    const int u = from(e), v = to(e), p = to(next_left(e)), q = to(next_left(e ^ 1));
    if (!exact::in_circle(point(u), point(v), point(p), point(q))) continue;
    if (turn(point(q), point(v), point(p)) <= 0 || turn(point(p), point(u), point(q)) <= 0) continue;
    const int around[4] = {next_left(e), next_left(next_left(e)), next_left(e ^ 1), next_left(next_left(e ^ 1))};
    flip(e);
    edges.insert(edges.end(), around, around + 4);
  }
}

}  // namespace katoptra
