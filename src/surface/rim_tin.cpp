#include "rim_tin.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "katoptra/points/triangulation.hpp"

#include "rim_field.hpp"

namespace katoptra {
namespace {

RimField field_over(const VoidShape& shape, const std::vector<float>& rim) {
  std::vector<std::array<float, 3>> known;
  for (std::size_t i = 0; i < rim.size(); ++i)
    if (!std::isnan(rim[i]))
      known.push_back({static_cast<float>(shape.rim[i].col), static_cast<float>(shape.rim[i].row), rim[i]});
  return RimField(std::move(known), static_cast<float>(shape.aspect));
}

}  // namespace

std::vector<float> tin_over(const VoidShape& shape, const std::vector<float>& rim) {
  std::int32_t wide = 1;
  for (const VoidShape::Cell& c : shape.rim) wide = std::max({wide, c.col + 1, c.row + 1});
  const double down =
                   std::min(1024.0, static_cast<double>(kFarthestLattice / 2) / (wide * std::max(1.0, shape.aspect))),
               across = down * shape.aspect;
  std::vector<LatticePoint> corners;
  std::vector<double> z;
  for (std::size_t i = 0; i < rim.size(); ++i) {
    if (std::isnan(rim[i])) continue;
    corners.push_back({static_cast<std::int32_t>(std::lround(shape.rim[i].col * across)),
                       static_cast<std::int32_t>(std::lround(shape.rim[i].row * down))});
    z.push_back(static_cast<double>(rim[i]));
  }
  std::vector<float> out(shape.cells.size(), std::nanf(""));
  std::optional<RimField> field;
  std::optional<Triangulation> t;
  if (corners.size() >= 3) t.emplace(corners);
  int near = -1;
  for (std::size_t i = 0; i < out.size(); ++i) {
    const double x = shape.cells[i].col * across, y = shape.cells[i].row * down;
    const int e = t ? t->locate(x, y, near) : -1;
    if (e < 0) {
      if (!field) field.emplace(field_over(shape, rim));
      out[i] = field->at(static_cast<float>(shape.cells[i].col), static_cast<float>(shape.cells[i].row));
      continue;
    }
    near = e;
    const int a = t->from(e), b = t->to(e), c = t->to(t->next_left(e));
    const LatticePoint &p = t->point(a), &q = t->point(b), &r = t->point(c);
    const double ux = q.x - p.x, uy = q.y - p.y, vx = r.x - p.x, vy = r.y - p.y, area = ux * vy - uy * vx;
    const double s = ((x - p.x) * vy - (y - p.y) * vx) / area, w = (ux * (y - p.y) - uy * (x - p.x)) / area;
    const auto at = [&](int k) { return z[static_cast<std::size_t>(k)]; };
    out[i] = static_cast<float>(at(a) + s * (at(b) - at(a)) + w * (at(c) - at(a)));
  }
  return out;
}

}  // namespace katoptra
