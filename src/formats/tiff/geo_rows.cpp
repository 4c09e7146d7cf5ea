#include "geo_rows.hpp"

#include <algorithm>
#include <geokeys.h>
#include <geotiff.h>
#include <geovalues.h>

namespace katoptra::tiff {
namespace {

// Keys that different writers take for the same thing.
constexpr std::array<int, 4> kLatitudes{ProjNatOriginLatGeoKey, ProjCenterLatGeoKey, ProjFalseOriginLatGeoKey, 0},
    kLongitudes{ProjNatOriginLongGeoKey, ProjCenterLongGeoKey, ProjFalseOriginLongGeoKey,
                ProjStraightVertPoleLongGeoKey},
    kEastings{ProjFalseEastingGeoKey, ProjFalseOriginEastingGeoKey, ProjCenterEastingGeoKey, 0},
    kNorthings{ProjFalseNorthingGeoKey, ProjFalseOriginNorthingGeoKey, ProjCenterNorthingGeoKey, 0},
    kScales{ProjScaleAtNatOriginGeoKey, ProjScaleAtCenterGeoKey, 0, 0}, kNone{0, 0, 0, 0};

const ProjectionParameter kLat{"lat_0", {8801, 0, 0}, ProjNatOriginLatGeoKey, kLatitudes},
    kLon{"lon_0", {8802, 0, 0}, ProjNatOriginLongGeoKey, kLongitudes},
    kCentreLat{"lat_0", {8801, 0, 0}, ProjCenterLatGeoKey, kLatitudes},
    kCentreLon{"lon_0", {8802, 0, 0}, ProjCenterLongGeoKey, kLongitudes},
    kEast{"x_0", {8806, 0, 0}, ProjFalseEastingGeoKey, kEastings, 0, true},
    kNorth{"y_0", {8807, 0, 0}, ProjFalseNorthingGeoKey, kNorthings, 0, true},
    kScale{"k_0", {8805, 0, 0}, ProjScaleAtNatOriginGeoKey, kScales, 1},
    kFirst{"lat_1", {8823, 0, 0}, ProjStdParallel1GeoKey, kNone},
    kSecond{"lat_2", {8824, 0, 0}, ProjStdParallel2GeoKey, kNone},
    kTrueScale{"lat_ts", {8823, 0, 0}, ProjStdParallel1GeoKey, kNone},
    kObliqueLat{"lat_0", {8811, 0, 0}, ProjCenterLatGeoKey, kLatitudes},
    kObliqueLon{"lonc", {8812, 0, 0}, ProjCenterLongGeoKey, kLongitudes},
    kAzimuth{"alpha", {8813, 0, 0}, ProjAzimuthAngleGeoKey, kNone},
    kRectified{"gamma", {8814, 0, 0}, ProjRectifiedGridAngleGeoKey, {ProjAzimuthAngleGeoKey, 0, 0, 0}},
    kObliqueScale{"k_0", {8815, 0, 0}, ProjScaleAtCenterGeoKey, kScales, 1};

}  // namespace

const std::vector<ProjectionRow>& projection_rows() {
  static const std::vector<ProjectionRow> rows = {
      {CT_TransverseMercator, "tmerc", {9807, 0, 0}, nullptr, {kLat, kLon, kScale, kEast, kNorth}},
      {CT_TransvMercator_SouthOriented, "tmerc +axis=wsu", {9808, 0, 0}, nullptr, {kLat, kLon, kScale, kEast, kNorth}},
      {CT_ObliqueMercator,
       "omerc +no_uoff",
       {9812, 0, 0},
       nullptr,
       {kObliqueLat, kObliqueLon, kAzimuth, kRectified, kObliqueScale, kEast, kNorth}},
      {9815,
       "omerc",
       {9815, 0, 0},
       nullptr,
       {kObliqueLat,
        kObliqueLon,
        kAzimuth,
        kRectified,
        kObliqueScale,
        {"x_0", {8816, 0, 0}, ProjCenterEastingGeoKey, kEastings, 0, true},
        {"y_0", {8817, 0, 0}, ProjCenterNorthingGeoKey, kNorthings, 0, true}}},
      {CT_Mercator, "merc", {9805, 0, 0}, nullptr, {kTrueScale, kLon, kEast, kNorth}, false, 1},
      {CT_Mercator, "merc", {9804, 0, 0}, nullptr, {kLon, kScale, kEast, kNorth}, false, 0},
      {CT_LambertConfConic_2SP,
       "lcc",
       {9802, 0, 0},
       nullptr,
       {{"lat_0", {8821, 0, 0}, ProjFalseOriginLatGeoKey, kLatitudes},
        {"lon_0", {8822, 0, 0}, ProjFalseOriginLongGeoKey, kLongitudes},
        kFirst,
        kSecond,
        {"x_0", {8826, 0, 0}, ProjFalseOriginEastingGeoKey, kEastings, 0, true},
        {"y_0", {8827, 0, 0}, ProjFalseOriginNorthingGeoKey, kNorthings, 0, true}}},
      {CT_LambertConfConic_1SP,
       "lcc",
       {9801, 0, 0},
       nullptr,
       {kLat, {"lat_1", {0, 0, 0}, ProjNatOriginLatGeoKey, kLatitudes}, kLon, kScale, kEast, kNorth}},
      {CT_LambertAzimEqualArea, "laea", {9820, 1027, 0}, nullptr, {kCentreLat, kCentreLon, kEast, kNorth}},
      {CT_AlbersEqualArea,
       "aea",
       {9822, 0, 0},
       nullptr,
       {{"lat_0", {8821, 0, 0}, ProjNatOriginLatGeoKey, kLatitudes},
        {"lon_0", {8822, 0, 0}, ProjNatOriginLongGeoKey, kLongitudes},
        kFirst,
        kSecond,
        {"x_0", {8826, 0, 0}, ProjFalseEastingGeoKey, kEastings, 0, true},
        {"y_0", {8827, 0, 0}, ProjFalseNorthingGeoKey, kNorthings, 0, true}}},
      {CT_AzimuthalEquidistant, "aeqd", {9832, 1125, 0}, nullptr, {kCentreLat, kCentreLon, kEast, kNorth}},
      {CT_EquidistantConic, "eqdc", {1119, 0, 0}, "Equidistant Conic", {kLat, kLon, kFirst, kSecond, kEast, kNorth}},
      {CT_Stereographic, "stere", {0, 0, 0}, "Stereographic", {kCentreLat, kCentreLon, kScale, kEast, kNorth}},
      {CT_PolarStereographic,
       "stere",
       {9810, 9829, 0},
       nullptr,
       {{"lon_0", {8802, 8833, 0}, ProjStraightVertPoleLongGeoKey, kLongitudes}, kScale, kEast, kNorth},
       true},
      {CT_ObliqueStereographic, "sterea", {9809, 0, 0}, nullptr, {kLat, kLon, kScale, kEast, kNorth}},
      {CT_Equirectangular, "eqc", {1028, 1029, 0}, nullptr, {kTrueScale, kCentreLat, kCentreLon, kEast, kNorth}},
      {CT_CassiniSoldner, "cass", {9806, 0, 0}, nullptr, {kLat, kLon, kEast, kNorth}},
      {CT_Gnomonic, "gnom", {0, 0, 0}, "Gnomonic", {kCentreLat, kCentreLon, kEast, kNorth}},
      {CT_MillerCylindrical, "mill", {0, 0, 0}, "Miller Cylindrical", {kCentreLon, kEast, kNorth}},
      {CT_Orthographic, "ortho", {9840, 0, 0}, nullptr, {kCentreLat, kCentreLon, kEast, kNorth}},
      {CT_Polyconic, "poly", {9818, 0, 0}, nullptr, {kLat, kLon, kEast, kNorth}},
      {CT_Robinson, "robin", {0, 0, 0}, "Robinson", {kCentreLon, kEast, kNorth}},
      {CT_Sinusoidal, "sinu", {0, 0, 0}, "Sinusoidal", {kCentreLon, kEast, kNorth}},
      {CT_VanDerGrinten, "vandg", {0, 0, 0}, "Van Der Grinten", {kCentreLon, kEast, kNorth}},
      {CT_CylindricalEqualArea, "cea", {9835, 9834, 0}, nullptr, {kTrueScale, kLon, kEast, kNorth}}};
  return rows;
}

bool ProjectionRow::is_of(const Conversion& c) const {
  if (c.method_code != 0) return std::find(methods.begin(), methods.end(), c.method_code) != methods.end();
  return name && c.method == name;
}

int ProjectionRow::key_of(const ConversionParameter& p) const {
  if (is_polar && (p.code == 8801 || p.code == 8832)) return ProjNatOriginLatGeoKey;
  for (const ProjectionParameter& q : parameters)
    if (p.code != 0 && std::find(q.codes.begin(), q.codes.end(), p.code) != q.codes.end()) return q.key;
  return 0;
}

}  // namespace katoptra::tiff
