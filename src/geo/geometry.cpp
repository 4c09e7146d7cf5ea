// Shapes in the plane, over GEOS for what is hard (overlay, buffers, faces) and by hand for what is short. GEOS sees
// a session of its own in each call, so that threads do not meet. Shapes come out with outer rings and holes apart;
// slivers that rounding leaves are taken off by area and width. Areas are summed about a corner of the shape: about the
// origin of a projection they would lose the digits that matter.
#include "katoptra/geo/geometry.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <geos_c.h>
#include <memory>

#include "katoptra/base/error.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {
namespace {

// A GEOS session: its handle, and geometries that free themselves.
class Geos {
 public:
  Geos() : handle_(GEOS_init_r()) { GEOSContext_setErrorMessageHandler_r(handle_, &Geos::keep, this); }
  ~Geos() { GEOS_finish_r(handle_); }
  Geos(const Geos&) = delete;
  Geos& operator=(const Geos&) = delete;

  struct Delete {
    GEOSContextHandle_t handle;
    void operator()(GEOSGeometry* g) const { GEOSGeom_destroy_r(handle, g); }
  };
  using Geometry = std::unique_ptr<GEOSGeometry, Delete>;

  GEOSContextHandle_t handle() const { return handle_; }
  Geometry own(GEOSGeometry* g) const {
    if (!g)
      throw Error(ErrorCode::BadArgument, "these polygons cannot be combined: " + message_, "geometry",
                  "mend their rings");
    return Geometry(g, Delete{handle_});
  }

  Geometry from(const MultiPolygon& shape) const {
    std::vector<GEOSGeometry*> parts;
    for (const Polygon& p : shape) {
      if (p.outer.size() < 4) continue;
      std::vector<GEOSGeometry*> holes;
      for (const Ring& hole : p.holes)
        if (hole.size() >= 4) holes.push_back(ring(hole));
      parts.push_back(
          GEOSGeom_createPolygon_r(handle_, ring(p.outer), holes.data(), static_cast<unsigned>(holes.size())));
    }
    Geometry made =
        own(GEOSGeom_createCollection_r(handle_, GEOS_MULTIPOLYGON, parts.data(), static_cast<unsigned>(parts.size())));
    if (GEOSisValid_r(handle_, made.get()) == 1) return made;
    return own(GEOSMakeValid_r(handle_, made.get()));
  }

  MultiPolygon to(const GEOSGeometry* g) const {
    MultiPolygon out;
    collect(g, out);
    return out;
  }

 private:
  static void keep(const char* message, void* self) { static_cast<Geos*>(self)->message_ = message; }

  GEOSGeometry* ring(const Ring& r) const {
    GEOSCoordSequence* seq = GEOSCoordSeq_create_r(handle_, static_cast<unsigned>(r.size()), 2);
    for (unsigned i = 0; i < r.size(); ++i) GEOSCoordSeq_setXY_r(handle_, seq, i, r[i].x, r[i].y);
    return GEOSGeom_createLinearRing_r(handle_, seq);
  }

  Ring ring_of(const GEOSGeometry* g) const {
    const GEOSCoordSequence* seq = GEOSGeom_getCoordSeq_r(handle_, g);
    unsigned n = 0;
    GEOSCoordSeq_getSize_r(handle_, seq, &n);
    Ring r(n);
    for (unsigned i = 0; i < n; ++i) GEOSCoordSeq_getXY_r(handle_, seq, i, &r[i].x, &r[i].y);
    return r;
  }

  void collect(const GEOSGeometry* g, MultiPolygon& out) const {
    const int type = GEOSGeomTypeId_r(handle_, g);
    if (type == GEOS_POLYGON) {
      if (GEOSisEmpty_r(handle_, g)) return;
      Polygon p{ring_of(GEOSGetExteriorRing_r(handle_, g)), {}};
      for (int i = 0; i < GEOSGetNumInteriorRings_r(handle_, g); ++i)
        p.holes.push_back(ring_of(GEOSGetInteriorRingN_r(handle_, g, i)));
      out.push_back(std::move(p));
    } else if (type == GEOS_MULTIPOLYGON || type == GEOS_GEOMETRYCOLLECTION) {
      for (int i = 0; i < GEOSGetNumGeometries_r(handle_, g); ++i) collect(GEOSGetGeometryN_r(handle_, g, i), out);
    }
  }

  GEOSContextHandle_t handle_;
  std::string message_;
};

}  // namespace

void Bounds::include(Point p) {
  west = std::min(west, p.x);
  east = std::max(east, p.x);
  south = std::min(south, p.y);
  north = std::max(north, p.y);
}

void Bounds::include(const Bounds& o) {
  if (o.empty()) return;
  include(Point{o.west, o.south});
  include(Point{o.east, o.north});
}

Bounds bounds_of(const LineString& line) {
  Bounds b;
  for (Point p : line) b.include(p);
  return b;
}

Bounds bounds_of(const MultiPolygon& shape) {
  Bounds b;
  for (const Polygon& p : shape) b.include(bounds_of(p.outer));
  return b;
}

Polygon to_polygon(const Bounds& box, int steps) {
  const Point corners[] = {{box.west, box.south},
                           {box.east, box.south},
                           {box.east, box.north},
                           {box.west, box.north},
                           {box.west, box.south}};
  Polygon p;
  for (int side = 0; side < 4; ++side)
    for (int i = 0; i < steps; ++i) {
      const double t = static_cast<double>(i) / steps;
      const Point a = corners[side], b = corners[side + 1];
      p.outer.push_back(i == 0 ? a : Point{a.x + t * (b.x - a.x), a.y + t * (b.y - a.y)});
    }
  p.outer.push_back(p.outer.front());
  return p;
}

bool contains(const MultiPolygon& shape, Point p) {
  bool inside = false;
  auto cross = [&](const Ring& r) {
    for (std::size_t i = 0; i + 1 < r.size(); ++i) {
      const Point a = r[i], b = r[i + 1];
      if ((a.y > p.y) != (b.y > p.y) && p.x < a.x + (p.y - a.y) / (b.y - a.y) * (b.x - a.x)) inside = !inside;
    }
  };
  for (const Polygon& poly : shape) {
    cross(poly.outer);
    for (const Ring& hole : poly.holes) cross(hole);
  }
  return inside;
}

MultiPolygon overlay(const MultiPolygon& a, const MultiPolygon& b, Overlay op) {
  Geos geos;
  auto ga = geos.from(a), gb = geos.from(b);
  switch (op) {
    case Overlay::Union:
      return geos.to(geos.own(GEOSUnion_r(geos.handle(), ga.get(), gb.get())).get());
    case Overlay::Intersection:
      return geos.to(geos.own(GEOSIntersection_r(geos.handle(), ga.get(), gb.get())).get());
    case Overlay::Difference:
      break;
  }
  return geos.to(geos.own(GEOSDifference_r(geos.handle(), ga.get(), gb.get())).get());
}

MultiPolygon union_of(const std::vector<MultiPolygon>& shapes) {
  MultiPolygon all;
  for (const MultiPolygon& s : shapes) all.insert(all.end(), s.begin(), s.end());
  Geos geos;
  std::vector<GEOSGeometry*> parts;
  for (const Polygon& p : all) parts.push_back(geos.from({p}).release());
  auto collection = geos.own(GEOSGeom_createCollection_r(geos.handle(), GEOS_GEOMETRYCOLLECTION, parts.data(),
                                                         static_cast<unsigned>(parts.size())));
  return geos.to(geos.own(GEOSUnaryUnion_r(geos.handle(), collection.get())).get());
}

std::vector<Face> faces_of(const std::vector<MultiPolygon>& shapes) {
  Geos geos;
  const GEOSContextHandle_t h = geos.handle();
  std::vector<Geos::Geometry> whole;
  std::vector<Bounds> boxes;
  std::vector<GEOSGeometry*> lines;
  for (const MultiPolygon& s : shapes) {
    whole.push_back(geos.from(s));
    boxes.push_back(bounds_of(s));
    lines.push_back(GEOSBoundary_r(h, whole.back().get()));
  }
  auto all = geos.own(
      GEOSGeom_createCollection_r(h, GEOS_GEOMETRYCOLLECTION, lines.data(), static_cast<unsigned>(lines.size())));
  auto noded = geos.own(GEOSUnaryUnion_r(h, all.get()));
  const GEOSGeometry* one = noded.get();
  auto pieces = geos.own(GEOSPolygonize_r(h, &one, 1));
  std::vector<const GEOSPreparedGeometry*> ready;
  for (const auto& w : whole) ready.push_back(GEOSPrepare_r(h, w.get()));
  std::vector<Face> out;
  for (int i = 0; i < GEOSGetNumGeometries_r(h, pieces.get()); ++i) {
    const GEOSGeometry* piece = GEOSGetGeometryN_r(h, pieces.get(), i);
    auto inside = geos.own(GEOSPointOnSurface_r(h, piece));
    Point p;
    if (GEOSGeomGetX_r(h, inside.get(), &p.x) != 1 || GEOSGeomGetY_r(h, inside.get(), &p.y) != 1) continue;
    Face f;
    for (std::size_t k = 0; k < shapes.size(); ++k)
      if (boxes[k].contains(p) && GEOSPreparedIntersects_r(h, ready[k], inside.get()) == 1) f.in.push_back(k);
    if (f.in.empty()) continue;
    f.shape = geos.to(piece);
    out.push_back(std::move(f));
  }
  for (const GEOSPreparedGeometry* r : ready) GEOSPreparedGeom_destroy_r(h, r);
  return out;
}

MultiPolygon buffered(const MultiPolygon& shape, double distance) {
  Geos geos;
  auto g = geos.from(shape);
  return geos.to(geos.own(GEOSBuffer_r(geos.handle(), g.get(), distance, 16)).get());
}

double planar_area(const MultiPolygon& shape) {
  // Relative to a corner of the shape, so that large eastings and northings cost no digits.
  if (shape.empty() || shape.front().outer.empty()) return 0;
  const Point o = shape.front().outer.front();
  auto twice = [&](const Ring& r) {
    double sum = 0;
    for (std::size_t i = 0; i + 1 < r.size(); ++i)
      sum += (r[i].x - o.x) * (r[i + 1].y - o.y) - (r[i + 1].x - o.x) * (r[i].y - o.y);
    return std::abs(sum);
  };
  double area = 0;
  for (const Polygon& p : shape) {
    area += twice(p.outer);
    for (const Ring& hole : p.holes) area -= twice(hole);
  }
  return area / 2;
}

MultiPolygon without_slivers(const MultiPolygon& shape, double tolerance) {
  if (shape.empty()) return shape;
  Geos geos;
  auto g = geos.from(shape);
  const GEOSContextHandle_t h = geos.handle();
  auto shrunk = geos.own(GEOSBufferWithStyle_r(h, g.get(), -tolerance, 4, GEOSBUF_CAP_FLAT, GEOSBUF_JOIN_MITRE, 5));
  MultiPolygon kept;
  for (const Polygon& p : shape) {
    auto one = geos.from({p});
    if (GEOSIntersects_r(h, one.get(), shrunk.get()) == 1) kept.push_back(p);
  }
  return kept;
}

std::string text_of(const Property& value) {
  return std::visit(
      [](const auto& v) -> std::string {
        if constexpr (std::is_same_v<std::decay_t<decltype(v)>, std::string>)
          return v;
        else
          return fmt::format("{}", v);
      },
      value);
}

bool is_set(const Feature& f, std::string_view name) {
  const Property* p = property_of(f, name);
  const auto* whole = p ? std::get_if<std::int64_t>(p) : nullptr;
  return whole && *whole != 0;
}

const Property* property_of(const Feature& f, std::string_view name) {
  for (const auto& [key, value] : f.properties)
    if (key == name) return &value;
  return nullptr;
}

Feature carried(Feature f, const Transform& t) {
  if (auto* p = std::get_if<Point>(&f.geometry)) *p = t.forward(*p);
  if (auto* l = std::get_if<LineString>(&f.geometry)) t.forward(*l);
  if (auto* m = std::get_if<MultiPolygon>(&f.geometry))
    for (Polygon& poly : *m) {
      t.forward(poly.outer);
      for (Ring& hole : poly.holes) t.forward(hole);
    }
  return f;
}

double height_at(const Feature& f, std::size_t i) {
  if (f.heights.empty()) return std::nan("");
  return f.heights.size() == 1 ? f.heights[0] : i < f.heights.size() ? f.heights[i] : std::nan("");
}

bool has_heights(const Feature& f) {
  if (f.heights.empty()) return false;
  const auto* line = std::get_if<LineString>(&f.geometry);
  return line ? f.heights.size() == line->size() : std::holds_alternative<Point>(f.geometry);
}

}  // namespace katoptra
