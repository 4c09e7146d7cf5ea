// Heights by natural neighbours (Sibson 1981): each neighbour counts by the area that a new point would take from its
// Voronoi cell.
#pragma once
#include <vector>

#include "katoptra/points/triangulation.hpp"

namespace katoptra {

struct VoronoiCircle {
  double x, y, radius;
};
// Through three points, told from (x0, y0); the same bits whatever order the points come in.
VoronoiCircle circle_through(const LatticePoint& a, const LatticePoint& b, const LatticePoint& c, double x0, double y0);

class NaturalNeighbours {
 public:
  NaturalNeighbours(const Triangulation& t, const std::vector<float>& heights) : t_(t), heights_(heights) {}
  NaturalNeighbours(const NaturalNeighbours&) = delete;
  NaturalNeighbours& operator=(const NaturalNeighbours&) = delete;

  // `e`: a half-edge of the triangle that holds the place. `visit` is told the circles of all triangles that have a say
  // (from the origin of the lattice) and may refuse one; then the result is NaN.
  template <class Visit>
  float at(double x, double y, int e, const Visit& visit) {
    if (!gather(x, y, e)) return linear(x, y, e);
    for (const Piece& p : pieces_)
      if (!visit(VoronoiCircle{p.circle.x + x, p.circle.y + y, p.circle.radius})) return kNothing;
    for (const VoronoiCircle& k : beyond_)
      if (!visit(VoronoiCircle{k.x + x, k.y + y, k.radius})) return kNothing;
    return weighed(x, y, e);
  }

 private:
  static const float kNothing;
  struct Piece {
    int edges[3];
    VoronoiCircle circle;  // from the place
  };
  bool gather(double x, double y, int e);
  // The piece whose edge this is; -1 for none.
  int piece_of(int e) const {
    const Stamp& s = stamps_[static_cast<std::size_t>(e)];
    return s.round == round_ ? s.piece : -1;
  }
  bool is_inside(int e) const { return piece_of(e) >= 0; }
  float weighed(double x, double y, int e) const;
  float linear(double x, double y, int e) const;

  const Triangulation& t_;
  const std::vector<float>& heights_;
  std::vector<Piece> pieces_;
  struct Stamp {
    std::int32_t round = 0, piece = 0;
  };
  std::vector<Stamp> stamps_;  // by half-edge
  std::int32_t round_ = 0;
  std::vector<VoronoiCircle> beyond_;  // where a point beyond the rim would have a say
};

}  // namespace katoptra
