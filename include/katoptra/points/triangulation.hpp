// The Delaunay triangulation of points in the plane, on integer coordinates, exact.
//
//   const std::vector<LatticePoint> corners = {{0, 0}, {1000, 0}, {500, 900}, {480, 300}};
//   Triangulation t(corners);
//   t.for_each_triangle([&](int a, int b, int c) { use(t.point(a), t.point(b), t.point(c)); });   // counter-clockwise
//
// Guarantee: every decision is exact (in 64-bit floats where their error bound allows, else in 128-bit integers). Of
// points on one circle the diagonal is chosen by a rule that knows coordinates only (the circle is thought to rise a
// little at its last point in order of x, then y), so that the triangulation of a set of points is one and the same,
// in whatever order they come, and the triangles that two overlapping sets share look alike in both.
//
// Divide and conquer (Guibas & Stolfi 1985) with cuts in alternating directions (Dwyer 1987): about 10^6 points a
// second and kTriangulationBytes bytes a point. Edges that must be kept (breaklines) are put in afterwards by flips
// (Sloan 1993).
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "katoptra/base/memory.hpp"
#include "katoptra/base/run_options.hpp"

namespace katoptra {

inline constexpr int kTriangulationBytes = 92;
// Coordinates lie within plus and minus this.
inline constexpr std::int32_t kFarthestLattice = 1 << 26;

struct LatticePoint {
  std::int32_t x = 0, y = 0;
  bool operator==(const LatticePoint&) const = default;
};

class Triangulation {
 public:
  // Points that coincide count once: the first of them stands for all. TooLarge beyond kFarthestLattice.
  explicit Triangulation(std::span<const LatticePoint> points);
  // The same on several threads.
  Triangulation(std::span<const LatticePoint> points, const RunOptions& run);

  // Numbers are those of the points given.
  const LatticePoint& point(int i) const { return given_[static_cast<std::size_t>(i)]; }
  void for_each_triangle(const std::function<void(int a, int b, int c)>& body) const;
  std::size_t triangles() const;

  // Makes the straight line between two points an edge, through all points that lie on it. False when it would cross
  // another edge that must be kept; what lies before the crossing is kept all the same.
  bool keep_edge(int a, int b);
  bool is_kept(int a, int b) const;

  // The triangle that holds a place (edges included), as its first half-edge; -1 outside. `near`: where to begin.
  int locate(double x, double y, int near = -1) const;

  // Half-edges: e leads from from(e); e ^ 1 is the other way; next_left(e) runs around the face to the left of e.
  // An edge that is not in use any more comes from -1.
  int from(int e) const {
    const std::int32_t at = edges_[static_cast<std::size_t>(e)].from;
    return at < 0 ? -1 : sorted_[static_cast<std::size_t>(at)].id;
  }
  int to(int e) const { return from(e ^ 1); }
  int next_left(int e) const { return edges_[static_cast<std::size_t>(e ^ 1)].before; }
  int half_edges() const { return static_cast<int>(edges_.size()); }
  // An edge that is in use, with a triangle (not the outside) on its left.
  bool has_triangle(int e) const {
    if (edges_[static_cast<std::size_t>(e)].from < 0) return false;
    const int b = next_left(e), c = next_left(b);
    return is_triangle(e, b, c);
  }
  // The point that a half-edge comes from, and its number.
  struct Vertex {
    std::int32_t x, y, id;
  };
  const Vertex& vertex(int e) const {
    return sorted_[static_cast<std::size_t>(edges_[static_cast<std::size_t>(e)].from)];
  }
  // Each triangle once, by its half-edges (counter-clockwise); ends early when the body gives false.
  template <class Body>
  void for_each_triangle_by_edges(const Body& body) const {
    for (int a = 0; a < half_edges(); ++a) {
      if (edges_[static_cast<std::size_t>(a)].from < 0) continue;
      const int b = next_left(a), c = next_left(b);
      if ((b < a) | (c < a) || !is_triangle(a, b, c)) continue;
      if (!body(a, b, c)) return;
    }
  }

 private:
  friend class TriangulationBuilder;
  // Pieces of keep_edge.
  void begin_keeping();
  struct Way {
    int along = -1;    // an edge that leads straight there
    int between = -1;  // else one with the line on its left, and its neighbour on the right of it
  };
  Way way_towards(int at, int target) const;
  int cross(int at, int target, int between, std::vector<int>& crossed) const;
  bool put_in(int at, int end, const std::vector<int>& crossed);
  void flip(int e);
  void settle(std::vector<int> edges);
  struct Edge {
    std::int32_t from, after, before;  // -1: in no use; the next and the last edge around `from`, counter-clockwise
  };
  void build(const RunOptions* run);
  void build_on(std::size_t threads);
  // Of a half-edge and the next two: the outside has three edges, too, when all points lie in one triangle.
  bool is_triangle(int a, int b, int c) const {
    return next_left(c) == a && b != (a ^ 1) && (!outside_has_three_ || turns_left(a, b, c));
  }
  bool turns_left(int a, int b, int c) const;

  std::vector<LatticePoint> given_;
  std::vector<Vertex> sorted_;
  std::vector<Edge, RecyclingAllocator<Edge>> edges_;  // set where they are first used, by whichever thread
  bool outside_has_three_ = false;                     // else only triangles have three edges
  std::vector<std::uint8_t> kept_;                     // by edge (half-edge / 2); empty until an edge is kept
  std::vector<std::int32_t> place_;                    // of a point, an edge that leaves it; made when first needed
};

}  // namespace katoptra
