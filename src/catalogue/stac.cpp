#include "katoptra/catalogue/stac.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "katoptra/formats/format.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/points/points.hpp"

#include "base/text.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

[[noreturn]] void damaged(const std::string& what, const std::string& where) {
  throw Error(ErrorCode::BadFile, what, where, "it is no STAC 1.0 document; tell who publishes it");
}

MultiPolygon box_of(const json& b) {
  if (!b.is_array() || (b.size() != 4 && b.size() != 6)) return {};
  for (const json& v : b)
    if (!v.is_number()) return {};
  const std::size_t n = b.size() / 2;
  Bounds box{b[0].get<double>(), b[1].get<double>(), b[n].get<double>(), b[n + 1].get<double>()};
  if (box.east < box.west) box.east += 360;
  if (box.empty()) return {};
  return {to_polygon(box)};
}

// ----------------------------------------------------------------------------------------- what the properties say

std::optional<Frame> frame_of(const json& props, const Crs& crs) {
  const json &t = member(props, "proj:transform"), &shape = member(props, "proj:shape");
  if (!t.is_array() || t.size() < 6 || !shape.is_array() || shape.size() != 2) return std::nullopt;
  double v[6];
  for (std::size_t i = 0; i < 6; ++i) {
    if (!t[i].is_number()) return std::nullopt;
    v[i] = t[i].get<double>();
  }
  if (!shape[0].is_number_integer() || !shape[1].is_number_integer() || v[1] != 0 || v[3] != 0 || !(v[0] > 0) ||
      !(v[4] < 0))
    return std::nullopt;
  try {
    return Frame(crs, v[2], v[5], {v[0], -v[4]}, shape[1].get<std::int64_t>(), shape[0].get<std::int64_t>());
  } catch (const Error&) {
    return std::nullopt;
  }
}

// A catalogue of one survey says the same CRS in every item.
Crs parse_crs(const std::string& text) {
  thread_local std::map<std::string, Crs> known;
  if (const auto f = known.find(text); f != known.end()) return f->second;
  Crs crs;
  try {
    crs = Crs::parse(text);
  } catch (const Error&) {
    // What PROJ does not know places no cells; the outline still counts.
  }
  if (known.size() > 64) known.clear();
  return known[text] = crs;
}

Crs crs_of(const json& props) {
  const json& epsg = member(props, "proj:epsg");
  if (epsg.is_number_integer()) return parse_crs(fmt::format("EPSG:{}", epsg.get<std::int64_t>()));
  if (const std::string code = word(props, "proj:code"); !code.empty()) return parse_crs(code);
  if (const std::string wkt = word(props, "proj:wkt2"); !wkt.empty()) return parse_crs(wkt);
  const json& projjson = member(props, "proj:projjson");
  return projjson.is_object() ? parse_crs(projjson.dump()) : Crs();
}

HeightReference heights_of(const json& props, const Crs& crs) {
  const std::string own = word(props, "katoptra:heights");
  if (own.empty()) return crs ? crs.heights() : HeightReference();
  try {
    return HeightReference::parse(own);
  } catch (const Error&) {
    return HeightReference::named(own);
  }
}

std::optional<LengthUnit> unit_from(const std::string& text) {
  const std::string u = lower_case(text);
  if (u == "m" || u == "metre" || u == "meter" || u == "metres" || u == "meters") return LengthUnit::Metre;
  if (u == "ft" || u == "foot" || u == "feet") return LengthUnit::Foot;
  if (u == "ftus" || u == "us survey foot" || u == "us-ft" || u == "ft-us") return LengthUnit::UsFoot;
  return std::nullopt;
}

// By its media type, else by its name; what is packed is told by the name inside ("S38W032.hgt.zip").
const Format* format_from(const std::string& media, const std::string& href) {
  const fs::path name = url_file_name(href);
  const Format* by_name = format_of(name);
  const auto packed = [](const Format* f) { return f && f->holds(Holds::Files, Use::Read); };
  if (packed(by_name))
    if (const Format* inside = format_of(name.stem())) by_name = inside;
  const Format* by_media = format_of_media(media);
  return by_media && !(packed(by_media) && by_name) ? by_media : by_name;
}

std::string format_name(const std::string& media, const std::string& href) {
  if (const Format* f = format_from(media, href)) return f->name;
  const std::string e = lower_extension(url_file_name(href));
  return e.empty() ? lower_case(media) : e.substr(1);
}

bool has_role(const json& asset, const char* role) {
  const json& roles = member(asset, "roles");
  return roles.is_array() && std::find(roles.begin(), roles.end(), role) != roles.end();
}

// The assets that hold the survey itself: those with the role "data"; without any, those of a format that is read here.
std::vector<std::pair<std::string, const json*>> data_assets(const json& item) {
  std::vector<std::pair<std::string, const json*>> data, likely;
  const json& assets = member(item, "assets");
  if (!assets.is_object()) return {};
  for (const auto& [key, asset] : assets.items()) {
    const std::string href = word(asset, "href");
    if (href.empty()) continue;
    if (has_role(asset, "data")) {
      data.emplace_back(key, &asset);
      continue;
    }
    const Format* f = member(asset, "roles").empty() ? format_from(word(asset, "type"), href) : nullptr;
    if (f && f->sure &&
        (f->holds(Holds::Grids, Use::Read) || f->holds(Holds::Points, Use::Read) || f->holds(Holds::Files, Use::Read)))
      likely.emplace_back(key, &asset);
  }
  return data.empty() ? likely : data;
}

// What an asset says overrides what the item says.
const json& said(const json& asset, const json& props, const char* key) {
  const json& own = member(asset, key);
  return own.is_null() ? member(props, key) : own;
}

// Of a stranger's catalogue only what is a statement: it names no file of this machine.
void read_uncertainty(const json& props, StatedUncertainty& out) {
  try {
    const std::string text = word(props, "katoptra:uncertainty");
    if (!text.empty()) parse_uncertainty(text);
    out.text = text;
  } catch (const Error&) {
    // What means nothing says nothing.
  }
  if (number(props, "katoptra:confidence") == 95) out.confidence = 95;
  if (member(props, "katoptra:error_reach_m").is_number())
    if (const double reach = number(props, "katoptra:error_reach_m"); reach >= 0) out.reach = Length::metres(reach);
}

void read_place(const json& item, const json& asset, const json& props, TileRecord& t, const std::string& where) {
  json merged = props;
  for (const char* key :
       {"proj:epsg", "proj:code", "proj:wkt2", "proj:projjson", "proj:transform", "proj:shape", "gsd"})
    if (!member(asset, key).is_null()) merged[key] = member(asset, key);
  const Crs crs = crs_of(merged);
  // Cells without a CRS have a place of their own only where the item has no other, better one.
  if (crs || member(item, "geometry").is_null()) t.frame = frame_of(merged, crs);
  if (!t.frame) t.outline = polygons_of(member(item, "geometry"), where);
  if (!t.frame && t.outline.empty()) t.outline = box_of(member(item, "bbox"));
  t.quantity.heights = heights_of(props, crs);
  const json& bands = member(asset, "raster:bands");
  const json first = bands.is_array() && !bands.empty() ? bands[0] : json();
  const double gsd = number(merged, "gsd", number(first, "spatial_resolution"));
  if (t.frame)
    t.spacing = ground_spacing(*t.frame);
  else if (gsd > 0)
    t.spacing = {Length::metres(gsd), Length::metres(gsd)};
  const auto own = unit_from(word(props, "katoptra:unit")), band = unit_from(word(first, "unit"));
  if (own || band) {
    t.quantity.unit = own ? *own : *band;
    t.quantity.unit_known = true;
  }
  if (const std::string q = word(props, "katoptra:quantity"); !q.empty()) {
    try {
      t.quantity.kind = quantity_kind_from(q);
    } catch (const Error&) {
      t.quantity.kind = QuantityKind::Unknown;
    }
  }
  const std::string type = word(first, "data_type");
  for (SampleType s :
       {SampleType::UInt8, SampleType::Int8, SampleType::UInt16, SampleType::Int16, SampleType::UInt32,
        SampleType::Int32, SampleType::UInt64, SampleType::Int64, SampleType::Float32, SampleType::Float64})
    if (type == name_of(s)) t.type = s;
}

void read_points(const json& asset, const json& props, TileRecord& t) {
  const json &count = said(asset, props, "pc:count"), &density = said(asset, props, "pc:density"),
             &type = said(asset, props, "pc:type");
  if (count.is_number() || density.is_number() || type.is_string())
    t.kind = type.is_string() && type.get<std::string>() == "sonar" ? TileKind::Soundings : TileKind::Points;
  if (t.format == "LAS" || t.format == "LAZ") t.kind = TileKind::Points;
  if (const std::string kind = word(props, "katoptra:kind"); !kind.empty()) {
    if (kind == "points") t.kind = TileKind::Points;
    if (kind == "soundings") t.kind = TileKind::Soundings;
    if (kind == "grid") t.kind = TileKind::Grid;
  }
  if (density.is_number()) t.density = density.get<double>();
  if (!(t.density > 0) && count.is_number() && t.placed()) {
    const double ground = t.frame ? Area::box(t.frame->bounds(), t.frame->crs()).ground_area()
                                  : Area(t.outline, Crs::wgs84()).ground_area();
    if (ground > 0) t.density = count.get<double>() / ground;
  }
  const json& classes = said(asset, props, "classification:classes");
  if (classes.is_array())
    for (const json& c : classes)
      if (member(c, "value").is_number_integer()) t.classes.push_back(member(c, "value").get<int>());
}

void trust(TileRecord& t, const std::string& href, const ItemContext& context) {
  const bool from_net = is_url(context.base);
  const std::string target = resolve_url(context.base, href);
  if (is_url(target)) {
    t.path = target;
    const std::string host = host_of(target);
    if (from_net && host != host_of(context.base) && !context.hosts.count(host))
      t.untrusted = fmt::format("lies on {}, a host you did not name: --host {}", host, host);
    return;
  }
  const auto colon = target.find("://");
  if (from_net || colon != target.npos) {
    t.path = target;
    t.untrusted =
        fmt::format("its catalogue names '{}', which is no web address; it is not read", target.substr(0, 80));
    return;
  }
  t.path = target;
}

}  // namespace

json parse_json(std::string_view text, const std::string& where) {
  bool deep = false;
  auto guard = [&](int depth, json::parse_event_t, json&) {
    if (depth > kDeepestJson) deep = true;
    return !deep;
  };
  json j = json::parse(text.begin(), text.end(), guard, false);
  if (j.is_discarded() || deep)
    throw Error(ErrorCode::BadFile, deep ? "is JSON nested too deep" : "is not the JSON it should be", where,
                "check the address or the file");
  return j;
}

std::vector<TileRecord> tiles_of_item(std::string_view text, const ItemContext& context) {
  const json item = parse_json(text, shown_url(context.base));
  const std::string where = fmt::format("{} item {}", shown_url(context.base), word(item, "id"));
  if (word(item, "type") != "Feature" || word(item, "id").empty()) damaged("has no 'id' or is no Feature", where);
  const json& props = member(item, "properties");
  std::vector<TileRecord> out;
  const auto assets = data_assets(item);
  for (const auto& [key, asset] : assets) {
    TileRecord t;
    t.id = word(item, "id") + (assets.size() > 1 ? "." + key : "");
    t.document = text;
    t.survey = context.survey && !context.survey->title.empty() ? context.survey->title : word(item, "collection");
    if (t.survey.empty()) t.survey = word(props, "katoptra:survey");
    std::string date = word(props, "datetime");
    if (date.empty()) date = word(props, "start_datetime");
    if (date.size() >= 10) t.date = date.substr(0, 10);
    t.date_guessed = member(props, "katoptra:date_guessed") == true;
    t.format = format_name(word(*asset, "type"), word(*asset, "href"));
    if (const std::string own = word(props, "katoptra:format"); !own.empty()) t.format = own;
    t.bytes = static_cast<std::uint64_t>(std::clamp(number(*asset, "file:size"), 0.0, 9e15));
    t.checksum = lower_case(word(*asset, "file:checksum"));
    t.licence = word(props, "license");
    t.custodian = word(props, "katoptra:custodian");
    if (context.survey) {
      if (t.licence.empty()) t.licence = context.survey->licence;
      if (t.custodian.empty()) t.custodian = context.survey->custodian;
      t.access = context.survey->access;
    }
    const json& refs = member(*asset, "auth:refs");
    if (refs.is_array() && !refs.empty()) t.access = Access::Key;
    const std::string access = word(props, "katoptra:access");
    for (Access a : {Access::Open, Access::Key, Access::Restricted})
      if (access == name_of(a)) t.access = a;
    if (member(props, "deprecated") == true) t.superseded = "its catalogue marks it as replaced";
    if (const json& problems = member(props, "katoptra:problems"); problems.is_array())
      for (const json& p : problems)
        if (p.is_string()) t.problems.push_back(p.get<std::string>());
    t.openable = member(props, "katoptra:openable") != false;
    t.joined = static_cast<int>(std::clamp(number(props, "katoptra:joined"), 0.0, 1e6));
    t.made_from = word(props, "katoptra:made_from");
    read_uncertainty(props, t.uncertainty);
    read_place(item, *asset, props, t, where);
    read_points(*asset, props, t);
    trust(t, word(*asset, "href"), context);
    out.push_back(std::move(t));
  }
  return out;
}

SurveyRecord survey_of_collection(std::string_view text) {
  const json c = parse_json(text, "STAC collection");
  SurveyRecord s;
  s.id = word(c, "id");
  if (s.id.empty() || (word(c, "type") != "Collection" && !c.contains("extent")))
    damaged("a collection has no 'id' or is none", s.id);
  s.title = word(c, "title").empty() ? s.id : word(c, "title");
  s.licence = word(c, "license");
  s.custodian = word(c, "katoptra:custodian");
  if (const json& providers = member(c, "providers"); providers.is_array())
    for (const char* role : {"licensor", "host", "producer"})
      for (const json& p : providers)
        if (s.custodian.empty() && has_role(p, role)) s.custodian = word(p, "name");
  const std::string access = word(c, "katoptra:access");
  for (Access a : {Access::Open, Access::Key, Access::Restricted})
    if (access == name_of(a)) s.access = a;
  s.document = text;
  return s;
}

// ------------------------------------------------------------------------------------------------------------ writing

namespace {

std::string media_type(const TileRecord& t) {
  const Format* f = format_of(t.remote() ? fs::path(url_file_name(t.path.native())) : t.path);
  return f && !f->media_type.empty() ? f->media_type : "application/octet-stream";
}

std::string heights_text(const HeightReference& h) {
  if (h.epsg()) return fmt::format("EPSG:{}", h.epsg());
  return h.wkt().empty() ? h.name() : h.wkt();
}

ordered_json links_json(const ItemLinks& l, const char* self_type) {
  ordered_json links = ordered_json::array();
  auto add = [&](const char* rel, const std::string& href, const char* type) {
    if (!href.empty()) links.push_back({{"rel", rel}, {"href", href}, {"type", type}});
  };
  add("self", l.self, self_type);
  add("root", l.root, "application/json");
  add("parent", l.parent, "application/json");
  add("collection", l.collection, "application/json");
  return links;
}

ordered_json bbox_json(const Bounds& b) {
  // Beyond 180 the box begins again at -180 (RFC 7946, section 5.2).
  auto usual = [](double x) { return x > 180 ? x - 360 : x < -180 ? x + 360 : x; };
  return {usual(b.west), b.south, usual(b.east), b.north};
}

void place_json(const TileRecord& t, ordered_json& props) {
  if (!t.frame) return;
  const Frame& f = *t.frame;
  if (f.crs()) {
    props["proj:epsg"] = f.crs().epsg() ? ordered_json(f.crs().epsg()) : ordered_json(nullptr);
    if (!f.crs().epsg()) props["proj:wkt2"] = f.crs().wkt();
  } else {
    props["proj:epsg"] = nullptr;
  }
  props["proj:shape"] = {f.rows(), f.cols()};
  props["proj:transform"] = {f.cell().x, 0.0, f.west(), 0.0, -f.cell().y, f.north()};
}

}  // namespace

std::string survey_id(std::string_view title) {
  std::string id;
  for (const char c : title) {
    if (std::isalnum(static_cast<unsigned char>(c)))
      id += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    else if (!id.empty() && id.back() != '-')
      id += '-';
  }
  while (id.ends_with('-')) id.pop_back();
  return id.empty() ? "survey" : id;
}

std::string item_of_tile(const TileRecord& t, const ItemLinks& links) {
  // What another catalogue said beyond what is known here goes on with the tile.
  ordered_json item = t.document.empty() ? ordered_json::object() : ordered_json::parse(t.document, nullptr, false);
  if (!item.is_object()) item = ordered_json::object();
  item["type"] = "Feature";
  item["stac_version"] = kStacVersion;
  std::set<std::string> extensions = {"https://stac-extensions.github.io/projection/v1.1.0/schema.json",
                                      "https://stac-extensions.github.io/raster/v1.1.0/schema.json",
                                      "https://stac-extensions.github.io/file/v2.1.0/schema.json"};
  if (t.kind != TileKind::Grid) extensions.insert("https://stac-extensions.github.io/pointcloud/v1.0.0/schema.json");
  if (!t.classes.empty()) extensions.insert("https://stac-extensions.github.io/classification/v1.1.0/schema.json");
  if (item.contains("stac_extensions") && item["stac_extensions"].is_array())
    for (const auto& e : item["stac_extensions"])
      if (e.is_string()) extensions.insert(e.get<std::string>());
  item["stac_extensions"] = extensions;
  item["id"] = t.id;
  const Bounds box = t.globe_box();
  if (box.empty()) {
    item["geometry"] = nullptr;
    item.erase("bbox");
  } else {
    item["geometry"] = geometry_json(cut_at_antimeridian(t.footprint(Crs::wgs84(), box.centre().x)));
    item["bbox"] = bbox_json(box);
  }
  ordered_json& p = item["properties"];
  if (!p.is_object()) p = ordered_json::object();
  p["datetime"] = t.date.size() == 10 ? ordered_json(t.date + "T00:00:00Z") : ordered_json(nullptr);
  if (t.date.size() != 10) {
    // The specification wants a span where there is no moment.
    p["start_datetime"] = "1900-01-01T00:00:00Z";
    p["end_datetime"] = "2100-01-01T00:00:00Z";
  }
  if (t.date_guessed) p["katoptra:date_guessed"] = true;
  if (t.spacing.y.metres() > 0) p["gsd"] = std::round(t.spacing.y.metres() * 1e6) / 1e6;
  if (!t.licence.empty()) p["license"] = t.licence;
  place_json(t, p);
  if (t.quantity.heights.known()) p["katoptra:heights"] = heights_text(t.quantity.heights);
  if (t.quantity.kind != QuantityKind::Height) p["katoptra:quantity"] = name_of(t.quantity.kind);
  if (t.quantity.unit_known && t.quantity.kind == QuantityKind::Height) p["katoptra:unit"] = symbol(t.quantity.unit);
  p["katoptra:kind"] = name_of(t.kind);
  p["katoptra:format"] = t.format;
  p["katoptra:survey"] = t.survey;
  p["katoptra:access"] = name_of(t.access);
  if (!t.custodian.empty()) p["katoptra:custodian"] = t.custodian;
  if (!t.problems.empty()) p["katoptra:problems"] = t.problems;
  if (!t.openable) p["katoptra:openable"] = false;
  if (t.joined > 0) p["katoptra:joined"] = t.joined;
  if (!t.made_from.empty()) p["katoptra:made_from"] = t.made_from;
  if (!t.uncertainty.text.empty()) p["katoptra:uncertainty"] = t.uncertainty.text;
  if (t.uncertainty.confidence != 68) p["katoptra:confidence"] = t.uncertainty.confidence;
  if (t.uncertainty.reach) p["katoptra:error_reach_m"] = t.uncertainty.reach->metres();
  if (t.density > 0) p["pc:density"] = t.density;
  if (!t.classes.empty()) {
    p["classification:classes"] = ordered_json::array();
    for (int c : t.classes)
      p["classification:classes"].push_back({{"value", c}, {"name", class_name(c)}, {"description", class_name(c)}});
  }
  ordered_json asset = {{"href", links.href}, {"type", media_type(t)}, {"roles", {"data"}}};
  asset["file:size"] = t.bytes;
  if (!t.checksum.empty()) asset["file:checksum"] = t.checksum;
  if (t.kind == TileKind::Grid && t.openable) {
    ordered_json band = {{"data_type", name_of(t.type)}};
    if (t.quantity.unit_known) band["unit"] = symbol(t.quantity.unit);
    if (t.spacing.y.metres() > 0) band["spatial_resolution"] = p["gsd"];
    asset["raster:bands"] = ordered_json::array({band});
  }
  ordered_json& assets = item["assets"];
  if (!assets.is_object() || t.document.empty()) assets = ordered_json::object();
  assets["data"] = asset;
  item["links"] = links_json(links, "application/geo+json");
  if (!links.collection_id.empty()) item["collection"] = links.collection_id;
  return item.dump(-1, ' ', false, ordered_json::error_handler_t::replace);
}

std::string collection_of_survey(const std::string& id, const std::vector<const TileRecord*>& tiles,
                                 const ItemLinks& links) {
  Bounds box;
  std::string first, last;
  const TileRecord& t = *tiles.front();
  for (const TileRecord* x : tiles) {
    Bounds b = x->globe_box();
    if (!b.empty() && !box.empty()) {
      const double turn = 360 * std::round((box.centre().x - b.centre().x) / 360);
      b.west += turn;
      b.east += turn;
    }
    box.include(b);
    if (x->date.size() == 10 && (first.empty() || x->date < first)) first = x->date;
    if (x->date > last) last = x->date;
  }
  if (box.empty()) box = {-180, -90, 180, 90};
  auto moment = [](const std::string& date) {
    return date.size() == 10 ? ordered_json(date + "T00:00:00Z") : ordered_json(nullptr);
  };
  ordered_json c;
  c["type"] = "Collection";
  c["stac_version"] = kStacVersion;
  c["id"] = id;
  c["title"] = t.survey;
  c["description"] = fmt::format("{}: {} tile{}", t.survey, tiles.size(), tiles.size() == 1 ? "" : "s");
  // An SPDX name, or "proprietary" where nothing is known.
  c["license"] = t.licence.empty() ? "proprietary" : t.licence;
  if (!t.custodian.empty())
    c["providers"] = ordered_json::array({{{"name", t.custodian}, {"roles", {"licensor", "host"}}}});
  c["extent"] = {
      {"spatial", {{"bbox", ordered_json::array({bbox_json(box)})}}},
      {"temporal", {{"interval", ordered_json::array({ordered_json::array({moment(first), moment(last)})})}}}};
  c["links"] = links_json(links, "application/json");
  return c.dump(-1, ' ', false, ordered_json::error_handler_t::replace);
}

}  // namespace katoptra
