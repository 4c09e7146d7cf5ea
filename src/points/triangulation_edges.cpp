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

bool Triangulation::keep_edge(int a, int b) {
  if (a == b || half_edges() == 0) return true;
  if (kept_.empty()) {
    kept_.assign(edges_.size() / 2, 0);
    place_.assign(given_.size(), -1);
    // An edge out of each point.
    for (int e = 0; e < half_edges(); ++e)
      if (edges_[static_cast<std::size_t>(e)].from >= 0) place_[static_cast<std::size_t>(from(e))] = e;
  }
  const LatticePoint target = point(b);
  int at = a;
  while (at != b) {
    const LatticePoint here = point(at);
    const int first = place_[static_cast<std::size_t>(at)];
    if (first < 0 || place_[static_cast<std::size_t>(b)] < 0) return false;
    // Along an edge that leads straight there, or between two edges.
    int along = -1, between = -1, e = first;
    do {
      const LatticePoint &p = point(to(e)), &q = point(to(edges_[static_cast<std::size_t>(e)].after));
      const std::int64_t side = turn(here, target, p);
      const bool forward =
          (static_cast<std::int64_t>(p.x) - here.x) * (static_cast<std::int64_t>(target.x) - here.x) +
              (static_cast<std::int64_t>(p.y) - here.y) * (static_cast<std::int64_t>(target.y) - here.y) >
          0;
      if (side == 0 && forward) {
        along = e;
        break;
      }
      if (side < 0 && turn(here, target, q) > 0 && has_triangle(e)) between = e;
      e = edges_[static_cast<std::size_t>(e)].after;
    } while (e != first);
    if (along >= 0) {
      kept_[static_cast<std::size_t>(along / 2)] = 1;
      at = to(along);
      continue;
    }
    if (between < 0) return false;
    // All edges that the line crosses on its way to the next point on it.
    std::deque<int> crossed;
    int end = -1;
    for (int edge = next_left(between);;) {
      if (kept_[static_cast<std::size_t>(edge / 2)]) return false;
      crossed.push_back(edge);
      const int other = edge ^ 1;
      if (!has_triangle(other)) return false;
      const int apex_edge = next_left(other);
      const int apex = to(apex_edge);
      const std::int64_t side = turn(here, target, point(apex));
      if (side == 0) {
        end = apex;
        break;
      }
      // Go on across the edge that has the line between its ends.
      edge = side > 0 ? apex_edge : next_left(apex_edge);
    }
    // Flip them away one by one; an edge whose two triangles make no convex figure waits.
    std::vector<int> fresh;
    const LatticePoint goal = point(end);
    for (std::size_t patience = crossed.size() * crossed.size() * 4 + 64; !crossed.empty() && patience > 0;
         --patience) {
      const int edge = crossed.front();
      crossed.pop_front();
      const int u = from(edge), v = to(edge), p = to(next_left(edge)), q = to(next_left(edge ^ 1));
      if (turn(point(p), point(q), point(u)) * 1.0 * static_cast<double>(turn(point(p), point(q), point(v))) >= 0 ||
          turn(point(q), point(v), point(p)) <= 0 || turn(point(p), point(u), point(q)) <= 0) {
        crossed.push_back(edge);
        continue;
      }
      flip(edge);
      const std::int64_t s1 = turn(here, goal, point(from(edge))), s2 = turn(here, goal, point(to(edge)));
      if ((s1 > 0 && s2 < 0) || (s1 < 0 && s2 > 0))
        crossed.push_back(edge);
      else
        fresh.push_back(edge);
    }
    // What was flipped for an edge that cannot be put in becomes Delaunay again.
    const auto give_up = [&] {
      fresh.insert(fresh.end(), crossed.begin(), crossed.end());
      settle(fresh);
      return false;
    };
    if (!crossed.empty()) return give_up();
    int straight = -1;
    for (int edge : fresh) {
      const int u = from(edge), v = to(edge);
      if ((u == at && v == end) || (u == end && v == at)) straight = edge;
    }
    if (straight < 0) return give_up();
    kept_[static_cast<std::size_t>(straight / 2)] = 1;
    settle(fresh);
    at = end;
  }
  return true;
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
