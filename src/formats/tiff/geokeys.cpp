#include "geokeys.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <geo_normalize.h>
#include <geo_simpletags.h>
#include <geo_tiffp.h>
#include <geotiff.h>
#include <memory>

#include "katoptra/base/error.hpp"

#include "geo/conversion.hpp"
#include "geo_rows.hpp"

namespace katoptra::tiff {
namespace {

constexpr int kDirectory = 34735, kDoubles = 34736, kText = 34737;
constexpr unsigned short kUserDefined = 32767;
// Values of the model type and raster type keys.
constexpr int kProjected = 1, kGeographic = 2, kIsArea = 1, kIsPoint = 2;
constexpr int kToWgs84 = 2062;

struct Free {
  void operator()(GTIF* g) const { GTIFFree(g); }
  void operator()(ST_TIFF* t) const { ST_Destroy(t); }
};

// A library never prints: what libgeotiff complains of shows in what it leaves out.
void keep_quiet(gtiff*, int, const char*, ...) {}

std::unique_ptr<GTIF, Free> open_keys(ST_TIFF* st) {
  TIFFMethod methods;
  GTIFSetSimpleTagsMethods(&methods);
  return std::unique_ptr<GTIF, Free>(GTIFNewWithMethodsEx(st, &methods, &keep_quiet, nullptr));
}

// Codes that old files use for heights above an ellipsoid.
constexpr bool is_ellipsoid_code(int code) { return code >= 5001 && code <= 5033; }

std::optional<LengthUnit> unit_from_code(int code) {
  if (code == 9001) return LengthUnit::Metre;
  if (code == 9002) return LengthUnit::Foot;
  if (code == 9003) return LengthUnit::UsFoot;
  return std::nullopt;
}

int code_of(LengthUnit unit) { return unit == LengthUnit::Foot ? 9002 : unit == LengthUnit::UsFoot ? 9003 : 9001; }

int short_key(GTIF* g, geokey_t key) {
  unsigned short v = 0;
  return GTIFKeyGetSHORT(g, key, &v, 0, 1) == 1 ? v : 0;
}

std::string text_key(GTIF* g, geokey_t key) {
  char text[512] = "";
  if (GTIFKeyGetASCII(g, key, text, sizeof text - 1) <= 0) return {};
  std::string s = text;
  while (!s.empty() && (s.back() == '|' || s.back() == '\0' || s.back() == ' ')) s.pop_back();
  return s;
}

std::vector<double> double_keys(GTIF* g, int key) {
  int size = 0;
  tagtype_t type = TYPE_UNKNOWN;
  const int n = GTIFKeyInfo(g, static_cast<geokey_t>(key), &size, &type);
  if (n <= 0 || n > 16 || type != TYPE_DOUBLE) return {};
  std::vector<double> v(static_cast<std::size_t>(n));
  return GTIFKeyGetDOUBLE(g, static_cast<geokey_t>(key), v.data(), 0, n) == n ? v : std::vector<double>();
}
std::optional<double> double_key(GTIF* g, int key) {
  const auto v = double_keys(g, key);
  return v.empty() || !std::isfinite(v[0]) ? std::nullopt : std::optional(v[0]);
}

// Metres in one unit of the projected coordinates.
double linear_unit(GTIF* g) {
  switch (short_key(g, ProjLinearUnitsGeoKey)) {
    case 0:
    case 9001:
      return 1;
    case 9002:
      return 0.3048;
    case 9003:
      return 1200.0 / 3937.0;
    case 9036:
      return 1000;
    case kUserDefined:
      return double_key(g, ProjLinearUnitSizeGeoKey).value_or(0);
    default:
      return 0;  // for the library to know
  }
}

// Ellipsoid, meridian and shift of a geographic system without a code, in PROJ's words; empty when they are not told.
std::string datum_by_keys(GTIF* g) {
  const auto a = double_key(g, GeogSemiMajorAxisGeoKey), b = double_key(g, GeogSemiMinorAxisGeoKey),
             rf = double_key(g, GeogInvFlatteningGeoKey);
  const int datum = short_key(g, GeogGeodeticDatumGeoKey);
  if (!a || !(*a > 0) || (datum > 0 && datum != kUserDefined)) return {};
  std::string text = fmt::format(" +a={:.17g}", *a);
  text += rf && *rf > 0 ? fmt::format(" +rf={:.17g}", *rf) : fmt::format(" +b={:.17g}", b && *b > 0 ? *b : *a);
  if (const auto pm = double_key(g, GeogPrimeMeridianLongGeoKey); pm && *pm != 0)
    text += fmt::format(" +pm={:.17g}", *pm);
  if (const auto shift = double_keys(g, kToWgs84); shift.size() == 3 || shift.size() == 7) {
    text += " +towgs84=";
    for (std::size_t i = 0; i < shift.size(); ++i) text += fmt::format("{}{:.17g}", i ? "," : "", shift[i]);
  }
  return text;
}

// A system told by its parts, when these are among the rows that are known here and in the usual units; none otherwise.
Crs by_keys(GTIF* g, int model) {
  const int angular = short_key(g, GeogAngularUnitsGeoKey), projection = short_key(g, ProjectionGeoKey);
  if (angular != 0 && angular != 9102) return {};
  const int code = short_key(g, GeographicTypeGeoKey);
  const bool coded = code > 0 && code != kUserDefined;
  const std::string datum = coded ? "" : datum_by_keys(g);
  if (!coded && datum.empty()) return {};
  if (model == kGeographic)
    return Crs::parse(coded ? fmt::format("EPSG:{}", code) : "+proj=longlat" + datum + " +type=crs");
  const double unit = linear_unit(g);
  if (!(unit > 0) || (projection > 0 && projection != kUserDefined)) return {};
  const int method = short_key(g, ProjCoordTransGeoKey);
  for (const ProjectionRow& row : projection_rows()) {
    if (row.transformation != method || !row.takes(double_key(g, ProjStdParallel1GeoKey).has_value())) continue;
    std::string text = std::string("+proj=") + row.proj;
    for (const ProjectionParameter& p : row.parameters) {
      std::optional<double> v = double_key(g, p.key);
      for (std::size_t i = 0; !v && i < p.others.size(); ++i)
        if (p.others[i] != 0) v = double_key(g, p.others[i]);
      const double value = v.value_or(p.otherwise) * (p.is_length ? unit : 1);
      text += fmt::format(" +{}={:.17g}", p.proj, value);
    }
    if (row.is_polar) {
      // The latitude is that of true scale; at the pole itself the scale factor says it.
      const double latitude = double_key(g, ProjNatOriginLatGeoKey).value_or(90);
      text += fmt::format(" +lat_0={}", latitude < 0 ? -90 : 90);
      if (std::abs(std::abs(latitude) - 90) > 1e-9) text += fmt::format(" +lat_ts={:.17g}", latitude);
    }
    text += unit == 1 ? " +units=m" : unit == 1000 ? " +units=km" : fmt::format(" +to_meter={:.17g}", unit);
    if (std::abs(unit - 0.3048) < 1e-12) text += " +units=ft";
    if (std::abs(unit - 1200.0 / 3937.0) < 1e-12) text += " +units=us-ft";
    if (!coded) return Crs::parse(text + datum + " +type=crs");
    return over_geodetic(Crs::parse(text + " +ellps=GRS80 +type=crs"), Crs::parse(fmt::format("EPSG:{}", code)));
  }
  return {};
}

Crs horizontal(GTIF* g, GeoFacts& facts) {
  const int model = short_key(g, GTModelTypeGeoKey);
  const int code = short_key(g, model == kGeographic ? GeographicTypeGeoKey : ProjectedCSTypeGeoKey);
  try {
    if (code > 0 && code != kUserDefined) return Crs::parse(fmt::format("EPSG:{}", code));
    if (model == 0 && facts.crs_name.empty()) return {};
    if (const Crs own = by_keys(g, model); own) return own;
    GTIFDefn defn;
    if (!GTIFGetDefn(g, &defn)) return {};
    char* text = GTIFGetProj4Defn(&defn);
    std::string proj = text ? text : "";
    GTIFFreeMemory(text);
    if (proj.empty() || proj == "unknown" || proj.find("+proj=unknown") != proj.npos) return {};
    return Crs::parse(proj + " +type=crs");
  } catch (const Error&) {
    facts.notes.push_back(code > 0 && code != kUserDefined ? fmt::format("its CRS, EPSG:{}, is not known here", code)
                                                           : "its own definition of a CRS is not understood");
    return {};
  }
}

void vertical(GTIF* g, GeoFacts& facts) {
  const int code = short_key(g, VerticalCSTypeGeoKey);
  facts.height_unit = unit_from_code(short_key(g, VerticalUnitsGeoKey));
  if (is_ellipsoid_code(code)) {
    facts.heights = HeightReference::ellipsoid();
  } else if (code > 0 && code != kUserDefined) {
    try {
      facts.heights = HeightReference::from_epsg(code);
    } catch (const Error&) {
      facts.notes.push_back(fmt::format("its vertical reference, EPSG:{}, is not known here", code));
    }
  } else if (facts.crs && facts.crs.heights().known()) {
    facts.heights = facts.crs.heights();
  } else if (const std::string name = text_key(g, VerticalCitationGeoKey); !name.empty()) {
    try {
      facts.heights = HeightReference::parse(name);
    } catch (const Error&) {
      facts.heights = HeightReference::named(name);
    }
  }
  if (!facts.height_unit && facts.heights.known()) facts.height_unit = facts.heights.unit();
}

void set_tag(ST_TIFF* st, int tag, std::size_t count, int type, const void* data) {
  if (count > 0) ST_SetKey(st, tag, static_cast<int>(count), type, const_cast<void*>(data));
}

}  // namespace

GeoFacts read_geo_tags(const GeoTags& tags) {
  GeoFacts facts;
  if (tags.directory.size() < 4) return facts;
  // The directory declares how many keys follow; one that declares more than there are would be read past its end.
  if (4 + std::size_t{4} * tags.directory[3] > tags.directory.size()) {
    facts.notes.push_back("its table of CRS keys is damaged");
    return facts;
  }
  std::unique_ptr<ST_TIFF, Free> st(ST_Create());
  set_tag(st.get(), kDirectory, tags.directory.size(), STT_SHORT, tags.directory.data());
  set_tag(st.get(), kDoubles, tags.doubles.size(), STT_DOUBLE, tags.doubles.data());
  set_tag(st.get(), kText, tags.text.size(), STT_ASCII, tags.text.data());
  std::unique_ptr<GTIF, Free> g = open_keys(st.get());
  if (!g) {
    facts.notes.push_back("its table of CRS keys is damaged");
    return facts;
  }
  facts.pixel_is_point = short_key(g.get(), GTRasterTypeGeoKey) == kIsPoint;
  for (geokey_t key : {PCSCitationGeoKey, GTCitationGeoKey, GeogCitationGeoKey})
    if (facts.crs_name.empty()) facts.crs_name = text_key(g.get(), key);
  facts.crs = horizontal(g.get(), facts);
  vertical(g.get(), facts);
  return facts;
}

namespace {

// A system without a code by its parts; false when GeoTIFF has no terms for it, and then nothing is said.
bool write_parts(GTIF* g, const Crs& crs) {
  auto set_short = [&](int key, int value) {
    GTIFKeySet(g, static_cast<geokey_t>(key), TYPE_SHORT, 1, static_cast<unsigned short>(value));
  };
  auto set_doubles = [&](int key, std::vector<double> v) {
    if (v.size() == 1)
      GTIFKeySet(g, static_cast<geokey_t>(key), TYPE_DOUBLE, 1, v[0]);
    else
      GTIFKeySet(g, static_cast<geokey_t>(key), TYPE_DOUBLE, static_cast<int>(v.size()), v.data());
  };
  const Conversion c = conversion_of(crs);
  const ProjectionRow* row = nullptr;
  for (const ProjectionRow& r : projection_rows())
    if (r.is_of(c)) row = &r;
  if (!crs.is_geographic() && !row) return false;
  const Crs geodetic = crs.geodetic();
  const DatumFacts d = datum_of(crs);
  set_short(GTModelTypeGeoKey, crs.is_geographic() ? kGeographic : kProjected);
  if (geodetic.epsg() > 0 && geodetic.epsg() < kUserDefined && d.to_wgs84.empty()) {
    set_short(GeographicTypeGeoKey, geodetic.epsg());
  } else {
    set_short(GeographicTypeGeoKey, kUserDefined);
    set_short(GeogGeodeticDatumGeoKey, kUserDefined);
    set_short(GeogEllipsoidGeoKey, kUserDefined);
    set_doubles(GeogSemiMajorAxisGeoKey, {d.semi_major});
    if (d.inverse_flattening > 0)
      set_doubles(GeogInvFlatteningGeoKey, {d.inverse_flattening});
    else
      set_doubles(GeogSemiMinorAxisGeoKey, {d.semi_major});
    if (d.prime_meridian != 0) {
      set_short(GeogPrimeMeridianGeoKey, kUserDefined);
      set_doubles(GeogPrimeMeridianLongGeoKey, {d.prime_meridian});
    }
    if (d.to_wgs84.size() == 3 || d.to_wgs84.size() == 7) set_doubles(kToWgs84, d.to_wgs84);
    const std::string name = geodetic.name();
    GTIFKeySet(g, GeogCitationGeoKey, TYPE_ASCII, static_cast<int>(name.size()), name.c_str());
  }
  set_short(GeogAngularUnitsGeoKey, 9102);
  if (!row) return true;
  set_short(ProjectedCSTypeGeoKey, kUserDefined);
  set_short(ProjectionGeoKey, kUserDefined);
  set_short(ProjCoordTransGeoKey, row->transformation);
  const double unit = crs.unit_factor();
  const int code = unit == 1                                  ? 9001
                   : std::abs(unit - 0.3048) < 1e-12          ? 9002
                   : std::abs(unit - 1200.0 / 3937.0) < 1e-12 ? 9003
                   : unit == 1000                             ? 9036
                                                              : kUserDefined;
  set_short(ProjLinearUnitsGeoKey, code);
  if (code == kUserDefined) set_doubles(ProjLinearUnitSizeGeoKey, {unit});
  for (const ConversionParameter& p : c.parameters)
    if (const int key = row->key_of(p)) set_doubles(key, {p.is_length ? p.value / unit : p.value});
  return true;
}

}  // namespace

static GeoTags tags_of(const Crs& crs, const Quantity& quantity) {
  GeoTags out;
  std::unique_ptr<ST_TIFF, Free> st(ST_Create());
  std::unique_ptr<GTIF, Free> g = open_keys(st.get());
  auto set_short = [&](geokey_t key, int value) {
    GTIFKeySet(g.get(), key, TYPE_SHORT, 1, static_cast<unsigned short>(value));
  };
  auto set_text = [&](geokey_t key, const std::string& value) {
    GTIFKeySet(g.get(), key, TYPE_ASCII, static_cast<int>(value.size()), value.c_str());
  };
  if (crs) {
    if (crs.epsg() > 0 && crs.epsg() < 65535) {
      set_short(GTModelTypeGeoKey, crs.is_geographic() ? kGeographic : kProjected);
      set_short(crs.is_geographic() ? GeographicTypeGeoKey : ProjectedCSTypeGeoKey, crs.epsg());
    } else if (!write_parts(g.get(), crs)) {
      out.complete = false;
    }
    set_text(GTCitationGeoKey, crs.name());
  }
  set_short(GTRasterTypeGeoKey, kIsArea);
  if (quantity.kind == QuantityKind::Height) {
    const HeightReference& h = quantity.heights;
    if (h.is_ellipsoid())
      set_short(VerticalCSTypeGeoKey, 5030);
    else if (h.epsg() > 0 && h.epsg() < 65535)
      set_short(VerticalCSTypeGeoKey, h.epsg());
    if (h.known()) set_text(VerticalCitationGeoKey, h.name());
    if (quantity.unit_known) set_short(VerticalUnitsGeoKey, code_of(quantity.unit));
  }
  GTIFWriteKeys(g.get());
  int count = 0, type = 0;
  void* data = nullptr;
  if (ST_GetKey(st.get(), kDirectory, &count, &type, &data))
    out.directory.assign(static_cast<std::uint16_t*>(data), static_cast<std::uint16_t*>(data) + count);
  if (ST_GetKey(st.get(), kDoubles, &count, &type, &data))
    out.doubles.assign(static_cast<double*>(data), static_cast<double*>(data) + count);
  if (ST_GetKey(st.get(), kText, &count, &type, &data))
    out.text.assign(static_cast<char*>(data), static_cast<std::size_t>(count));
  return out;
}

GeoTags write_geo_tags(const Crs& crs, const Quantity& quantity, const Bounds& where) {
  GeoTags tags = tags_of(crs, quantity);
  if (!crs || (tags.complete && means_the_same(crs, read_geo_tags(tags).crs, where))) return tags;
  tags = tags_of({}, quantity);
  tags.complete = false;
  return tags;
}

}  // namespace katoptra::tiff
