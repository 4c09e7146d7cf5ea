#include "geokeys.hpp"

#include <fmt/format.h>
#include <geo_normalize.h>
#include <geo_simpletags.h>
#include <geo_tiffp.h>
#include <geotiff.h>
#include <memory>

#include "katoptra/base/error.hpp"

namespace katoptra::tiff {
namespace {

constexpr int kDirectory = 34735, kDoubles = 34736, kText = 34737;
constexpr unsigned short kUserDefined = 32767;
// Values of the model type and raster type keys.
constexpr int kProjected = 1, kGeographic = 2, kIsArea = 1, kIsPoint = 2;

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

Crs horizontal(GTIF* g, GeoFacts& facts) {
  const int model = short_key(g, GTModelTypeGeoKey);
  const int code = short_key(g, model == kGeographic ? GeographicTypeGeoKey : ProjectedCSTypeGeoKey);
  try {
    if (code > 0 && code != kUserDefined) return Crs::parse(fmt::format("EPSG:{}", code));
    if (model == 0 && facts.crs_name.empty()) return {};
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

GeoTags write_geo_tags(const Crs& crs, const Quantity& quantity) {
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
    } else {
      GTIFSetFromProj4(g.get(), crs.proj_string().c_str());
    }
    set_text(GTCitationGeoKey, crs.name());
  }
  set_short(GTRasterTypeGeoKey, kIsArea);
  if (quantity.kind == QuantityKind::Height) {
    const HeightReference& h = quantity.heights;
    if (h.is_ellipsoid())
      set_short(VerticalCSTypeGeoKey, 5030);
    else if (h.epsg() > 0)
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

}  // namespace katoptra::tiff
