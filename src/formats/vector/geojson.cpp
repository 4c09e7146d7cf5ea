#include "geojson.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <span>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "base/json.hpp"
#include "geo/turning.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

[[noreturn]] void no_geojson(const std::string& what, const std::string& where) {
  throw Error(ErrorCode::BadFile, "is not the GeoJSON it should be: " + what, where, "check the file");
}

const json& list_of(const json& c, const std::string& where) {
  if (!c.is_array()) no_geojson("coordinates are no list", where);
  return c;
}

Polygon polygon_of(const json& c, const std::string& where) {
  Polygon p;
  for (const json& r : list_of(c, where)) {
    Ring ring = line_of(r, where);
    if (!ring.empty() && !(ring.front() == ring.back())) ring.push_back(ring.front());
    if (ring.size() < 4) no_geojson("a ring has fewer than three corners", where);
    (p.outer.empty() ? p.outer : p.holes.emplace_back()) = std::move(ring);
  }
  if (p.outer.empty()) no_geojson("a polygon has no ring", where);
  return p;
}

class GeoJsonReader {
 public:
  explicit GeoJsonReader(std::string file) : file_(std::move(file)) {}

  Layer layer(const json& root) {
    Layer l;
    l.crs = crs_of(root);
    const std::string type = word(root, "type");
    if (type == "FeatureCollection") {
      for (const json& f : at(root, "features")) feature(f, l);
    } else if (type == "Feature") {
      feature(root, l);
    } else {
      geometry(root, {}, l);
    }
    return l;
  }

 private:
  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, "is not the GeoJSON it should be: " + what, file_, "check the file");
  }

  const json& at(const json& j, const char* key) const {
    if (!j.is_object() || !j.contains(key)) damaged(fmt::format("'{}' is missing", key));
    return j[key];
  }

  // RFC 7946 knows one CRS; older files name another.
  Crs crs_of(const json& root) const {
    std::string text = word(member(member(root, "crs"), "properties"), "name");
    if (text.empty() || text.find("CRS84") != text.npos) return Crs::wgs84();
    if (const auto colon = text.rfind(':'); text.starts_with("urn:") && colon != text.npos)
      text = "EPSG:" + text.substr(colon + 1);
    return Crs::parse(text);
  }

  void feature(const json& f, Layer& l) {
    ++count_;
    std::vector<std::pair<std::string, Property>> properties;
    if (f.is_object() && f.contains("properties") && f["properties"].is_object())
      for (const auto& [name, value] : f["properties"].items()) {
        if (value.is_number_integer())
          properties.emplace_back(name, value.get<std::int64_t>());
        else if (value.is_number())
          properties.emplace_back(name, value.get<double>());
        else if (value.is_string())
          properties.emplace_back(name, value.get<std::string>());
        else if (value.is_boolean())
          properties.emplace_back(name, std::int64_t{value.get<bool>()});
      }
    const json& g = at(f, "geometry");
    if (!g.is_null()) geometry(g, properties, l);
  }

  void geometry(const json& g, const std::vector<std::pair<std::string, Property>>& properties, Layer& l,
                int depth = 0) {
    const std::string type = word(g, "type");
    if (type == "GeometryCollection") {
      if (depth > 4) damaged("collections within collections");
      for (const json& part : at(g, "geometries")) geometry(part, properties, l, depth + 1);
      return;
    }
    if (type.empty() || !g.contains("coordinates"))
      damaged(fmt::format("feature {} has no geometry that is understood", count_));
    const json& c = g["coordinates"];
    auto add_point = [&](const json& one) {
      l.features.push_back({position_of(one, where()), properties, heights_of(json::array({one}))});
    };
    if (type == "Point")
      add_point(c);
    else if (type == "MultiPoint")
      for (const json& p : list_of(c, where())) add_point(p);
    else if (type == "LineString" || type == "MultiLineString") {
      auto add_line = [&](const json& one) {
        l.features.push_back({line_of(one, where()), properties, heights_of(one)});
      };
      if (type == "LineString")
        add_line(c);
      else
        for (const json& p : list_of(c, where())) add_line(p);
    } else if (type == "Polygon" || type == "MultiPolygon") {
      l.features.push_back({polygons_of(g, where()), properties, {}});
    } else
      damaged(fmt::format("'{}' is no geometry", type));
  }

  // The third coordinates, when all points of the line have one.
  std::vector<double> heights_of(const json& c) const {
    std::vector<double> z;
    for (const json& p : c)
      if (p.size() > 2 && p[2].is_number()) z.push_back(p[2].get<double>());
    if (z.size() != c.size()) z.clear();
    return z;
  }
  std::string where() const { return fmt::format("{}, feature {}", file_, count_); }

  std::string file_;
  int count_ = 0;
};

std::string decimals(double v) {
  std::string s = fmt::format("{:.9f}", v);
  s.erase(s.find_last_not_of('0') + 1);
  if (s.ends_with('.')) s.pop_back();
  return s == "-0" ? "0" : s;
}

// `heights`: of each point, or none.
std::string coordinates(const LineString& line, std::span<const double> heights = {}) {
  std::string s = "[";
  for (std::size_t i = 0; i < line.size(); ++i) {
    s += fmt::format("{}[{},{}", i ? "," : "", decimals(line[i].x), decimals(line[i].y));
    if (!heights.empty() && !std::isnan(heights[i])) s += "," + decimals(heights[i]);
    s += "]";
  }
  return s + "]";
}

std::string line_text(const Feature& f) {
  return coordinates(std::get<LineString>(f.geometry),
                     has_heights(f) ? std::span<const double>(f.heights) : std::span<const double>());
}

// Of one thing: more than one part where the antimeridian cuts a line.
std::string geometry_text(const std::vector<Feature>& parts) {
  const Feature& f = parts.front();
  if (const auto* p = std::get_if<Point>(&f.geometry))
    return fmt::format(R"({{"type":"Point","coordinates":[{},{}{}]}})", decimals(p->x), decimals(p->y),
                       has_heights(f) && !std::isnan(f.heights[0]) ? "," + decimals(f.heights[0]) : "");
  if (std::holds_alternative<LineString>(f.geometry)) {
    if (parts.size() == 1) return R"({"type":"LineString","coordinates":)" + line_text(f) + "}";
    std::string s = R"({"type":"MultiLineString","coordinates":[)";
    for (const Feature& part : parts) s += (&part == &f ? "" : ",") + line_text(part);
    return s + "]}";
  }
  std::string s = R"({"type":"MultiPolygon","coordinates":[)";
  const auto& shape = std::get<MultiPolygon>(f.geometry);
  for (std::size_t i = 0; i < shape.size(); ++i) {
    s += (i ? ",[" : "[") + coordinates(turning(shape[i].outer, Turn::Left));
    for (const Ring& hole : shape[i].holes) s += "," + coordinates(turning(hole, Turn::Right));
    s += "]";
  }
  return s + "]}";
}

json property_json(const Property& p) {
  return std::visit([](const auto& v) { return json(v); }, p);
}

}  // namespace

Point position_of(const json& c, const std::string& where) {
  if (!c.is_array() || c.size() < 2 || !c[0].is_number() || !c[1].is_number())
    no_geojson("a coordinate is no pair of numbers", where);
  return {c[0].get<double>(), c[1].get<double>()};
}

LineString line_of(const json& c, const std::string& where) {
  LineString l;
  for (const json& p : list_of(c, where)) l.push_back(position_of(p, where));
  return l;
}

MultiPolygon polygons_of(const json& geometry, const std::string& where) {
  const std::string type = word(geometry, "type");
  if (type != "Polygon" && type != "MultiPolygon") return {};
  if (!geometry.contains("coordinates")) no_geojson("a geometry has no coordinates", where);
  const json& c = geometry["coordinates"];
  if (type == "Polygon") return {polygon_of(c, where)};
  MultiPolygon out;
  for (const json& p : list_of(c, where)) out.push_back(polygon_of(p, where));
  return out;
}

ordered_json geometry_json(const MultiPolygon& shape) {
  ordered_json polygons = ordered_json::array();
  for (const Polygon& p : shape) {
    ordered_json rings = ordered_json::array();
    auto add = [&](const Ring& ring, Turn way) {
      ordered_json points = ordered_json::array();
      for (Point q : turning(ring, way)) points.push_back({q.x, q.y});
      rings.push_back(std::move(points));
    };
    add(p.outer, Turn::Left);
    for (const Ring& hole : p.holes) add(hole, Turn::Right);
    polygons.push_back(std::move(rings));
  }
  if (polygons.size() == 1) return {{"type", "Polygon"}, {"coordinates", polygons[0]}};
  return {{"type", "MultiPolygon"}, {"coordinates", polygons}};
}

namespace {

constexpr const char* kBegin = R"({"type":"FeatureCollection","features":[)";
constexpr const char* kEnd = "\n]}\n";

// On a line of its own; `first`: of the collection.
std::string feature_text(const Feature& given, const Transform& t, bool first) {
  const Feature f = t.is_identity() ? given : carried(given, t);
  json properties = json::object();
  for (const auto& [name, value] : f.properties) properties[name] = property_json(value);
  return fmt::format("{}\n{{\"type\":\"Feature\",\"properties\":{},\"geometry\":{}}}", first ? "" : ",",
                     properties.dump(-1, ' ', false, json::error_handler_t::replace),
                     geometry_text(cut_at_antimeridian(f)));
}

void require_crs(const Layer& layer, const fs::path& path) {
  if (!layer.crs && !layer.features.empty())
    throw Error(ErrorCode::Refused, "GeoJSON is in longitude and latitude, and these features have no CRS to come from",
                path.string(), "tell it with --crs, or write .gpkg");
}

class GeoJsonWriter final : public LayerWriter {
 public:
  GeoJsonWriter(const Layer& like, const fs::path& path, bool overwrite)
      : sink_(create_file(path, {.overwrite = overwrite})), there_(like.crs ? like.crs : Crs::wgs84(), Crs::wgs84()) {
    put(kBegin);
  }
  void add(const Feature& f) override {
    put(feature_text(f, there_, first_));
    first_ = false;
  }
  LayerReport finish() override {
    put(kEnd);
    flush();
    sink_->commit();
    return {};
  }

 private:
  static constexpr std::size_t kPart = std::size_t{1} << 20;

  void put(std::string_view text) {
    waiting_ += text;
    if (waiting_.size() >= kPart) flush();
  }
  void flush() {
    sink_->write_at(at_, std::span(reinterpret_cast<const std::uint8_t*>(waiting_.data()), waiting_.size()));
    at_ += waiting_.size();
    waiting_.clear();
  }
  std::unique_ptr<ByteSink> sink_;
  Transform there_;
  std::string waiting_;
  std::uint64_t at_ = 0;
  bool first_ = true;
};

}  // namespace

std::unique_ptr<LayerWriter> open_geojson_writer(const Layer& like, const fs::path& path, bool overwrite) {
  require_crs(like, path);
  return std::make_unique<GeoJsonWriter>(like, path, overwrite);
}

std::string to_geojson(const Layer& layer) {
  std::string s = kBegin;
  const Transform t(layer.crs ? layer.crs : Crs::wgs84(), Crs::wgs84());
  for (std::size_t i = 0; i < layer.features.size(); ++i) s += feature_text(layer.features[i], t, i == 0);
  return s + kEnd;
}

Layer parse_geojson(std::string_view text, const std::string& name) {
  json root;
  try {
    root = json::parse(text);
  } catch (const json::exception& e) {
    throw Error(ErrorCode::BadFile, fmt::format("is not JSON: {}", e.what()), name, "check the file");
  }
  return GeoJsonReader(name).layer(root);
}

Layer read_geojson(const fs::path& path) {
  Layer layer = parse_geojson(read_text_file(path, std::size_t{1} << 30), path.string());
  layer.name = path.stem().string();
  return layer;
}

LayerReport write_geojson(const Layer& layer, const fs::path& path, bool overwrite) {
  require_crs(layer, path);
  GeoJsonWriter writer(layer, path, overwrite);
  for (const Feature& f : layer.features) writer.add(f);
  return writer.finish();
}

}  // namespace katoptra
