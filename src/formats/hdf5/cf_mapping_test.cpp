#include "cf_mapping.hpp"

#include <map>

#include "katoptra/geo/crs.hpp"

#include "geo/conversion.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

struct Case {
  std::map<std::string, std::vector<double>> numbers;
  const char* mapping;
  const char* proj;  // what PROJ calls it
  Point at;
};

// All of appendix F; those with two parallels, without a polar or cylindrical name, and rotated poles were not read.
const std::vector<Case>& cases() {
  static const std::vector<Case> all = {
      {{{"standard_parallel", {29, 45}},
        {"longitude_of_central_meridian", {-96}},
        {"latitude_of_projection_origin", {23}}},
       "albers_conical_equal_area",
       "aea +lat_1=29 +lat_2=45 +lat_0=23 +lon_0=-96",
       {-90, 35}},
      {{{"standard_parallel", {40}}, {"longitude_of_central_meridian", {10}}, {"latitude_of_projection_origin", {40}}},
       "albers_conical_equal_area",
       "aea +lat_1=40 +lat_2=40 +lat_0=40 +lon_0=10",
       {12, 42}},
      {{{"longitude_of_projection_origin", {20}}, {"latitude_of_projection_origin", {40}}, {"false_easting", {100000}}},
       "azimuthal_equidistant",
       "aeqd +lat_0=40 +lon_0=20 +x_0=100000",
       {22, 41}},
      {{{"longitude_of_projection_origin", {9}}, {"perspective_point_height", {35785831}}},
       "geostationary",
       "geos +lon_0=9 +h=35785831 +sweep=y",
       {12, 41}},
      {{{"longitude_of_projection_origin", {10}},
        {"latitude_of_projection_origin", {52}},
        {"false_easting", {4321000}},
        {"false_northing", {3210000}}},
       "lambert_azimuthal_equal_area",
       "laea +lat_0=52 +lon_0=10 +x_0=4321000 +y_0=3210000",
       {12, 51}},
      {{{"standard_parallel", {30, 60}},
        {"longitude_of_central_meridian", {10}},
        {"latitude_of_projection_origin", {30}}},
       "lambert_conformal_conic",
       "lcc +lat_1=30 +lat_2=60 +lat_0=30 +lon_0=10",
       {12, 51}},
      {{{"standard_parallel", {46.5}},
        {"longitude_of_central_meridian", {10}},
        {"latitude_of_projection_origin", {46.5}}},
       "lambert_conformal_conic",
       "lcc +lat_1=46.5 +lat_0=46.5 +lon_0=10",
       {12, 51}},
      {{{"standard_parallel", {30}}, {"longitude_of_central_meridian", {10}}},
       "lambert_cylindrical_equal_area",
       "cea +lat_ts=30 +lon_0=10",
       {12, 51}},
      {{{"scale_factor_at_projection_origin", {0.9}}, {"longitude_of_central_meridian", {10}}},
       "lambert_cylindrical_equal_area",
       "cea +k_0=0.9 +lon_0=10",
       {12, 51}},
      {{{"standard_parallel", {30}}, {"longitude_of_projection_origin", {10}}},
       "mercator",
       "merc +lat_ts=30 +lon_0=10",
       {12, 51}},
      {{{"scale_factor_at_projection_origin", {0.99}}, {"longitude_of_projection_origin", {10}}},
       "mercator",
       "merc +k_0=0.99 +lon_0=10",
       {12, 51}},
      {{{"azimuth_of_central_line", {40}},
        {"latitude_of_projection_origin", {45}},
        {"longitude_of_projection_origin", {10}},
        {"scale_factor_at_projection_origin", {0.999}}},
       "oblique_mercator",
       "omerc +alpha=40 +lat_0=45 +lonc=10 +k_0=0.999",
       {12, 47}},
      {{{"longitude_of_projection_origin", {10}}, {"latitude_of_projection_origin", {45}}},
       "orthographic",
       "ortho +lat_0=45 +lon_0=10",
       {12, 51}},
      {{{"straight_vertical_longitude_from_pole", {-45}},
        {"latitude_of_projection_origin", {90}},
        {"standard_parallel", {70}}},
       "polar_stereographic",
       "stere +lat_0=90 +lat_ts=70 +lon_0=-45",
       {-40, 75}},
      {{{"straight_vertical_longitude_from_pole", {0}},
        {"latitude_of_projection_origin", {-90}},
        {"scale_factor_at_projection_origin", {0.994}}},
       "polar_stereographic",
       "stere +lat_0=-90 +k_0=0.994 +lon_0=0",
       {-40, -75}},
      {{{"longitude_of_projection_origin", {10}}}, "sinusoidal", "sinu +lon_0=10", {12, 51}},
      {{{"longitude_of_projection_origin", {10}},
        {"latitude_of_projection_origin", {45}},
        {"scale_factor_at_projection_origin", {0.99}}},
       "stereographic",
       "stere +lat_0=45 +lon_0=10 +k_0=0.99",
       {12, 51}},
      {{{"longitude_of_central_meridian", {9}},
        {"latitude_of_projection_origin", {0}},
        {"scale_factor_at_central_meridian", {0.9996}},
        {"false_easting", {500000}}},
       "transverse_mercator",
       "tmerc +lon_0=9 +k_0=0.9996 +x_0=500000",
       {12, 51}},
      {{{"longitude_of_projection_origin", {10}},
        {"latitude_of_projection_origin", {45}},
        {"perspective_point_height", {5000000}}},
       "vertical_perspective",
       "nsper +lat_0=45 +lon_0=10 +h=5000000",
       {12, 51}}};
  return all;
}

CfMapping mapped(const Case& k, double unit = 1, const std::map<std::string, std::vector<double>>& more = {}) {
  CfAttributes a;
  a.text = [&](const char* key) { return std::string(key) == "grid_mapping_name" ? k.mapping : ""; };
  a.numbers = [&](const char* key) {
    if (const auto i = more.find(key); i != more.end()) return i->second;
    const auto i = k.numbers.find(key);
    return i == k.numbers.end() ? std::vector<double>() : i->second;
  };
  return cf_mapping(a, unit);
}

TEST(CfMapping, EveryMappingIsWhatProjCallsIt) {
  for (const Case& k : cases()) {
    SCOPED_TRACE(k.mapping);
    const Crs ours = Crs::parse(mapped(k).proj),
              theirs = Crs::parse(std::string("+proj=") + k.proj + " +datum=WGS84 +type=crs");
    const Point p = Transform(Crs::wgs84(), theirs).forward(k.at), q = Transform(Crs::wgs84(), ours).forward(k.at);
    ASSERT_FALSE(std::isnan(p.x));
    EXPECT_NEAR(p.x, q.x, 1e-6);
    EXPECT_NEAR(p.y, q.y, 1e-6);
  }
}

// The corners of a rotated grid, against the formula of a rotated pole on a sphere.
TEST(CfMapping, RotatedPoles) {
  const Case k{{{"grid_north_pole_latitude", {39.25}}, {"grid_north_pole_longitude", {-162}}},
               "rotated_latitude_longitude",
               "",
               {}};
  const Crs rotated = Crs::parse(mapped(k, 1, {{"earth_radius", {6371229}}}).proj);
  ASSERT_TRUE(rotated.is_geographic());
  const Transform there(
      rotated, rotated.geodetic().is_geographic() ? Crs::parse("+proj=longlat +R=6371229 +type=crs") : Crs::wgs84());
  for (const Point r : {Point{0, 0}, Point{-20, 10}, Point{15, -20}}) {
    const double d = M_PI / 180, pole = 39.25 * d, lon = r.x * d, lat = r.y * d;
    const double z = std::sin(lat) * std::sin(pole) + std::cos(lat) * std::cos(lon) * std::cos(pole);
    const double y = std::cos(lat) * std::sin(lon),
                 x = -std::sin(lat) * std::cos(pole) + std::cos(lat) * std::cos(lon) * std::sin(pole);
    const Point expected{-162 + 180 + std::atan2(y, x) / d, std::asin(z) / d}, got = there.forward(r);
    EXPECT_NEAR(std::remainder(got.x - expected.x, 360.0), 0, 1e-7);
    EXPECT_NEAR(got.y, expected.y, 1e-7);
  }
}

TEST(CfMapping, EllipsoidsUnitsAndWhatIsNoMapping) {
  const Case& k = cases()[4];
  EXPECT_NEAR(
      datum_of(
          Crs::parse(mapped(k, 1, {{"semi_major_axis", {6377397.155}}, {"inverse_flattening", {299.1528128}}}).proj))
          .semi_major,
      6377397.155, 1e-6);
  EXPECT_EQ(datum_of(Crs::parse(mapped(k, 1, {{"earth_radius", {6371229}}}).proj)).inverse_flattening, 0);
  EXPECT_NEAR(
      datum_of(Crs::parse(mapped(k, 1, {{"semi_major_axis", {6378388}}, {"semi_minor_axis", {6356911.946}}}).proj))
          .inverse_flattening,
      297, 1e-5);
  // False eastings are told in the unit of the coordinates.
  const Crs km = Crs::parse(mapped(k, 1000, {{"false_easting", {4321}}, {"false_northing", {3210}}}).proj);
  EXPECT_NEAR(Transform(Crs::wgs84(), km).forward({10, 52}).x, 4321000, 1e-6);
  const Case odd{{}, "no_such_mapping", "", {}};
  EXPECT_TRUE(mapped(odd).proj.empty());
  EXPECT_NE(mapped(odd).problem.find("no_such_mapping"), std::string::npos);
}

}  // namespace
}  // namespace katoptra
