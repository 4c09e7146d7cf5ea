#include "conversion.hpp"

#include <cmath>
#include <cstdlib>
#include <numbers>
#include <proj.h>
#include <proj_experimental.h>
#include <sstream>

#include "proj_handles.hpp"

namespace katoptra {
namespace {

// The system itself, without a datum shift around it.
Pj plain_system(PJ_CONTEXT* ctx, const Crs& crs) {
  Pj pj(proj_create(ctx, crs.wkt().c_str()));
  if (pj && proj_get_type(pj.get()) == PJ_TYPE_BOUND_CRS) pj.reset(proj_get_source_crs(ctx, pj.get()));
  return pj;
}

int epsg_code(const char* authority, const char* code) {
  return authority && code && std::string_view(authority) == "EPSG" ? std::atoi(code) : 0;
}

}  // namespace

Conversion conversion_of(const Crs& crs) {
  Conversion out;
  if (!crs) return out;
  Context ctx = make_context();
  const Pj pj = plain_system(ctx.get(), crs);
  const Pj operation(pj ? proj_crs_get_coordoperation(ctx.get(), pj.get()) : nullptr);
  const char *method = nullptr, *authority = nullptr, *code = nullptr;
  if (!operation || !proj_coordoperation_get_method_info(ctx.get(), operation.get(), &method, &authority, &code))
    return out;
  out.method = method ? method : "";
  out.method_code = epsg_code(authority, code);
  for (int i = 0; i < proj_coordoperation_get_param_count(ctx.get(), operation.get()); ++i) {
    const char *name = nullptr, *category = nullptr;
    double value = 0, factor = 1;
    if (!proj_coordoperation_get_param(ctx.get(), operation.get(), i, &name, &authority, &code, &value, nullptr,
                                       &factor, nullptr, nullptr, nullptr, &category))
      continue;
    const std::string kind = category ? category : "";
    const bool angle = kind == "angular";
    out.parameters.push_back({epsg_code(authority, code), name ? name : "",
                              angle ? value * factor * 180 / std::numbers::pi : value * factor, kind == "linear"});
  }
  return out;
}

DatumFacts datum_of(const Crs& crs) {
  DatumFacts out;
  if (!crs) return out;
  Context ctx = make_context();
  const Pj pj = plain_system(ctx.get(), crs);
  if (const Pj e(pj ? proj_get_ellipsoid(ctx.get(), pj.get()) : nullptr); e) {
    out.ellipsoid = proj_get_name(e.get()) ? proj_get_name(e.get()) : "";
    double minor = 0;
    int computed = 0;
    proj_ellipsoid_get_parameters(ctx.get(), e.get(), &out.semi_major, &minor, &computed, &out.inverse_flattening);
  }
  if (const Pj m(pj ? proj_get_prime_meridian(ctx.get(), pj.get()) : nullptr); m) {
    double longitude = 0, factor = 1;
    if (proj_prime_meridian_get_parameters(ctx.get(), m.get(), &longitude, &factor, nullptr))
      out.prime_meridian = longitude * factor * 180 / std::numbers::pi;
  }
  std::istringstream words(crs.proj_string());
  for (std::string w; words >> w;)
    if (w.starts_with("+towgs84=")) {
      std::istringstream numbers(w.substr(9));
      for (std::string n; std::getline(numbers, n, ',');) out.to_wgs84.push_back(parse_number(n).value_or(0));
    }
  return out;
}

Bounds area_of_use(const Crs& crs) {
  Bounds out;
  if (!crs) return out;
  Context ctx = make_context();
  const Pj pj(crs.epsg() ? proj_create(ctx.get(), crs.code().c_str()) : proj_create(ctx.get(), crs.wkt().c_str()));
  Bounds b;
  if (pj && proj_get_area_of_use(ctx.get(), pj.get(), &b.west, &b.south, &b.east, &b.north, nullptr) && b.west > -1000)
    out = b;
  return out;
}

Crs over_geodetic(const Crs& projected, const Crs& geodetic) {
  Context ctx = make_context();
  const Pj p(proj_create(ctx.get(), projected.wkt().c_str())), g(proj_create(ctx.get(), geodetic.wkt().c_str()));
  const Pj both(p && g ? proj_crs_alter_geodetic_crs(ctx.get(), p.get(), g.get()) : nullptr);
  const char* wkt = both ? proj_as_wkt(ctx.get(), both.get(), PJ_WKT2_2019, nullptr) : nullptr;
  return wkt ? Crs::parse(wkt) : Crs();
}

bool means_the_same(const Crs& a, const Crs& b, const Bounds& where) {
  if (!a || !b || a.is_geographic() != b.is_geographic()) return false;
  if (a.same_place(b)) return true;
  if (std::abs(a.unit_factor() / b.unit_factor() - 1) > 1e-9) return false;
  const DatumFacts x = datum_of(a), y = datum_of(b);
  if (std::abs(x.semi_major - y.semi_major) > 1e-4 || std::abs(x.inverse_flattening - y.inverse_flattening) > 1e-7 ||
      std::abs(x.prime_meridian - y.prime_meridian) > 1e-9 || x.to_wgs84 != y.to_wgs84)
    return false;
  const Crs ga = a.geodetic(), gb = b.geodetic();
  if (ga.epsg() != gb.epsg()) return false;
  if (a.is_geographic()) return true;
  // Each through its own geographic system: no shift of datums is in this.
  std::vector<Point> p;
  for (int j = 0; j <= 4; ++j)
    for (int i = 0; i <= 4; ++i)
      p.push_back({where.west + where.width() * i / 4, where.south + where.height() * j / 4});
  std::vector<Point> q = p;
  Transform(a, ga).forward(p);
  Transform(b, gb).forward(q);
  std::size_t compared = 0;
  for (std::size_t i = 0; i < p.size(); ++i) {
    if (std::isnan(p[i].x) != std::isnan(q[i].x)) return false;
    if (std::isnan(p[i].x)) continue;
    ++compared;
    const double east = std::remainder(p[i].x - q[i].x, 360.0) * std::cos(p[i].y * std::numbers::pi / 180);
    if (std::hypot(east, p[i].y - q[i].y) > 1e-8) return false;
  }
  return compared > 0;
}

}  // namespace katoptra
