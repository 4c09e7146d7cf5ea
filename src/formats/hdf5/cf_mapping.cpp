#include "cf_mapping.hpp"

#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "base/text.hpp"

namespace katoptra {
namespace {

// One parameter of a projection: its name for PROJ, and the attributes that may tell it.
struct Parameter {
  const char* proj;
  std::array<const char*, 3> attributes;
};
// One row a mapping. A pair of standard parallels becomes lat_1 and lat_2; one of them `parallel`.
struct Mapping {
  const char* proj;
  const char* parallel;
  std::vector<Parameter> parameters;
};

const Parameter kCentral{"lon_0", {"longitude_of_central_meridian", "longitude_of_projection_origin", nullptr}};
const Parameter kOriginLon{"lon_0", {"longitude_of_projection_origin", "longitude_of_central_meridian", nullptr}};
const Parameter kOriginLat{"lat_0", {"latitude_of_projection_origin", nullptr, nullptr}};
const Parameter kScale{"k_0", {"scale_factor_at_projection_origin", "scale_factor_at_central_meridian", nullptr}};
const Parameter kHeight{"h", {"perspective_point_height", nullptr, nullptr}};

const std::map<std::string, Mapping>& mappings() {
  static const std::map<std::string, Mapping> all = {
      {"albers_conical_equal_area", {"aea", "lat_1", {kCentral, kOriginLat}}},
      {"azimuthal_equidistant", {"aeqd", nullptr, {kOriginLon, kOriginLat}}},
      {"geostationary", {"geos", nullptr, {kOriginLon, kOriginLat, kHeight}}},
      {"lambert_azimuthal_equal_area", {"laea", nullptr, {kOriginLon, kOriginLat}}},
      {"lambert_conformal_conic", {"lcc", "lat_1", {kCentral, kOriginLat, kScale}}},
      {"lambert_cylindrical_equal_area", {"cea", "lat_ts", {kCentral, kScale}}},
      {"latitude_longitude", {"longlat", nullptr, {}}},
      {"mercator", {"merc", "lat_ts", {kOriginLon, kScale}}},
      {"oblique_mercator",
       {"omerc",
        nullptr,
        {{"lonc", {"longitude_of_projection_origin", nullptr, nullptr}},
         {"alpha", {"azimuth_of_central_line", nullptr, nullptr}},
         kOriginLat,
         kScale}}},
      {"orthographic", {"ortho", nullptr, {kOriginLon, kOriginLat}}},
      {"polar_stereographic",
       {"stere",
        "lat_ts",
        {{"lon_0",
          {"straight_vertical_longitude_from_pole", "longitude_of_projection_origin", "longitude_of_central_meridian"}},
         kOriginLat,
         kScale}}},
      {"rotated_latitude_longitude", {"ob_tran", nullptr, {}}},
      {"sinusoidal", {"sinu", nullptr, {kOriginLon}}},
      {"stereographic", {"stere", nullptr, {kOriginLon, kOriginLat, kScale}}},
      {"transverse_mercator", {"tmerc", nullptr, {kCentral, kOriginLat, kScale}}},
      {"vertical_perspective", {"nsper", nullptr, {kOriginLon, kOriginLat, kHeight}}}};
  return all;
}

class Text {
 public:
  Text(const CfAttributes& a, double unit) : a_(a), unit_(unit) {}

  std::optional<double> one(const char* key) const {
    const auto v = a_.numbers(key);
    return v.empty() || !std::isfinite(v[0]) ? std::nullopt : std::optional(v[0]);
  }
  void add(const char* name, double value) { text_ += fmt::format(" +{}={:.17g}", name, value); }
  void add(const Parameter& p) {
    for (const char* key : p.attributes)
      if (key)
        if (const auto v = one(key)) return add(p.proj, *v);
  }
  void add_parallels(const char* single) {
    const auto v = a_.numbers("standard_parallel");
    if (v.empty() || !single) return;
    add(v.size() > 1 ? "lat_1" : single, v[0]);
    if (v.size() > 1) add("lat_2", v[1]);
    // PROJ's cone of equal areas wants both.
    if (v.size() == 1 && std::string_view(single) == "lat_1") add("lat_2", v[0]);
  }
  void add_false_origin() {
    for (const auto& [name, key] : {std::pair{"x_0", "false_easting"}, {"y_0", "false_northing"}})
      if (const auto v = one(key)) add(name, *v * unit_);
  }
  void add_pole() {
    // The pole of the rotated system in the usual one, and the meridian that becomes its zero.
    add("o_lat_p", one("grid_north_pole_latitude").value_or(90));
    add("o_lon_p", one("north_pole_grid_longitude").value_or(0));
    add("lon_0", 180 + one("grid_north_pole_longitude").value_or(0));
  }
  void add_ellipsoid() {
    const auto a = one("semi_major_axis"), b = one("semi_minor_axis"), rf = one("inverse_flattening"),
               r = one("earth_radius");
    const std::string datum = lower_case(a_.text("horizontal_datum_name")),
                      name = lower_case(a_.text("reference_ellipsoid_name"));
    const bool wgs84 = a && std::abs(*a - 6378137) < 1e-3 &&
                       ((rf && std::abs(*rf - 298.257223563) < 1e-7) || (b && std::abs(*b - 6356752.314245) < 1e-4));
    const bool said = datum.find("wgs") != datum.npos || name.find("wgs") != name.npos;
    if (wgs84 || said || (!a && !r && name.empty()))
      text_ += " +datum=WGS84";
    else if (r && !a)
      add("R", *r);
    else if (!a)
      text_ += name.find("bessel") != name.npos ? " +ellps=bessel"
               : name.find("grs") != name.npos  ? " +ellps=GRS80"
                                                : " +datum=WGS84";
    else if (rf && *rf > 0) {
      add("a", *a);
      add("rf", *rf);
    } else {
      add("a", *a);
      add("b", b.value_or(*a));
    }
    if (const auto pm = one("longitude_of_prime_meridian"); pm && *pm != 0) add("pm", *pm);
  }
  std::string& text() { return text_; }

 private:
  const CfAttributes& a_;
  double unit_;
  std::string text_;
};

}  // namespace

CfMapping cf_mapping(const CfAttributes& attributes, double unit) {
  CfMapping out;
  const std::string name = attributes.text("grid_mapping_name");
  if (name.empty()) return out;
  const auto found = mappings().find(name);
  if (found == mappings().end()) {
    out.problem = fmt::format("its grid mapping '{}' is none of the CF conventions", name);
    return out;
  }
  const Mapping& m = found->second;
  Text t(attributes, unit);
  t.text() = std::string("+proj=") + m.proj;
  if (name == "rotated_latitude_longitude") {
    t.text() += " +o_proj=longlat";
    t.add_pole();
  }
  t.add_parallels(m.parallel);
  for (const Parameter& p : m.parameters) t.add(p);
  // A polar projection whose origin is told by its parallel alone.
  if (name == "polar_stereographic" && !t.one("latitude_of_projection_origin"))
    t.add("lat_0", t.one("standard_parallel").value_or(90) < 0 ? -90 : 90);
  if (name == "geostationary") {
    const std::string sweep = attributes.text("sweep_angle_axis"), fixed = attributes.text("fixed_angle_axis");
    t.text() += " +sweep=" + (!sweep.empty() ? sweep : fixed == "x" ? "y" : fixed == "y" ? "x" : "y");
    out.perspective = t.one("perspective_point_height").value_or(0);
  }
  if (std::string_view(m.proj) != "longlat" && std::string_view(m.proj) != "ob_tran") t.add_false_origin();
  t.add_ellipsoid();
  out.proj = t.text() + " +type=crs";
  return out;
}

}  // namespace katoptra
