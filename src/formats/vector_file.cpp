#include "katoptra/formats/vector_file.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/xyz.hpp"

#include "base/text.hpp"
#include "csv.hpp"
#include "geopackage.hpp"
#include "gpx.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using nlohmann::json;

// ---------------------------------------------------------------------------------------------------------- GeoJSON

class GeoJsonReader {
 public:
  explicit GeoJsonReader(std::string file) : file_(std::move(file)) {}

  Layer layer(const json& root) {
    Layer l;
    l.crs = crs_of(root);
    const std::string type = root.is_object() ? root.value("type", "") : "";
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
    if (root.is_object() && root.contains("crs") && root["crs"].is_object()) {
      const json name = root["crs"].value("properties", json::object()).value("name", json());
      if (name.is_string()) {
        std::string text = name;
        if (text.find("CRS84") != text.npos) return Crs::wgs84();
        if (const auto colon = text.rfind(':'); text.starts_with("urn:") && colon != text.npos)
          text = "EPSG:" + text.substr(colon + 1);
        return Crs::parse(text);
      }
    }
    return Crs::wgs84();
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
    const std::string type = g.is_object() ? g.value("type", "") : "";
    auto add = [&](auto&& shape) { l.features.push_back({std::forward<decltype(shape)>(shape), properties}); };
    if (type == "GeometryCollection") {
      if (depth > 4) damaged("collections within collections");
      for (const json& part : at(g, "geometries")) geometry(part, properties, l, depth + 1);
      return;
    }
    if (type.empty() || !g.contains("coordinates"))
      damaged(fmt::format("feature {} has no geometry that is understood", count_));
    const json& c = g["coordinates"];
    auto add_point = [&](const json& one) {
      l.features.push_back({point(one), properties, heights_of(json::array({one}))});
    };
    if (type == "Point")
      add_point(c);
    else if (type == "MultiPoint")
      for (const json& p : list(c)) add_point(p);
    else if (type == "LineString" || type == "MultiLineString") {
      auto add_line = [&](const json& one) { l.features.push_back({line(one), properties, heights_of(one)}); };
      if (type == "LineString")
        add_line(c);
      else
        for (const json& p : list(c)) add_line(p);
    } else if (type == "Polygon")
      add(MultiPolygon{polygon(c)});
    else if (type == "MultiPolygon") {
      MultiPolygon m;
      for (const json& p : list(c)) m.push_back(polygon(p));
      add(std::move(m));
    } else
      damaged(fmt::format("'{}' is no geometry", type));
  }

  const json& list(const json& c) const {
    if (!c.is_array()) damaged("coordinates are no list");
    return c;
  }
  Point point(const json& c) const {
    if (!c.is_array() || c.size() < 2 || !c[0].is_number() || !c[1].is_number())
      damaged(fmt::format("a coordinate of feature {} is no pair of numbers", count_));
    return {c[0].get<double>(), c[1].get<double>()};
  }
  LineString line(const json& c) const {
    LineString l;
    for (const json& p : list(c)) l.push_back(point(p));
    return l;
  }
  // The third coordinates, when all points of the line have one.
  std::vector<double> heights_of(const json& c) const {
    std::vector<double> z;
    for (const json& p : c)
      if (p.size() > 2 && p[2].is_number()) z.push_back(p[2].get<double>());
    if (z.size() != c.size()) z.clear();
    return z;
  }
  Polygon polygon(const json& c) const {
    Polygon p;
    for (const json& r : list(c)) {
      Ring ring = line(r);
      if (!ring.empty() && !(ring.front() == ring.back())) ring.push_back(ring.front());
      if (ring.size() < 4) damaged(fmt::format("a ring of feature {} has fewer than three corners", count_));
      (p.outer.empty() ? p.outer : p.holes.emplace_back()) = std::move(ring);
    }
    if (p.outer.empty()) damaged(fmt::format("a polygon of feature {} is empty", count_));
    return p;
  }

  std::string file_;
  int count_ = 0;
};

std::string number(double v) {
  std::string s = fmt::format("{:.9f}", v);
  s.erase(s.find_last_not_of('0') + 1);
  if (s.ends_with('.')) s.pop_back();
  return s == "-0" ? "0" : s;
}

std::string coordinates(const LineString& line, bool reversed = false) {
  std::string s = "[";
  for (std::size_t i = 0; i < line.size(); ++i) {
    const Point p = reversed ? line[line.size() - 1 - i] : line[i];
    s += fmt::format("{}[{},{}]", i ? "," : "", number(p.x), number(p.y));
  }
  return s + "]";
}

bool clockwise(const Ring& r) {
  double twice = 0;
  for (std::size_t i = 0; i + 1 < r.size(); ++i)
    twice += (r[i].x - r[0].x) * (r[i + 1].y - r[0].y) - (r[i + 1].x - r[0].x) * (r[i].y - r[0].y);
  return twice < 0;
}

std::string geometry_text(const Feature& f) {
  if (const auto* p = std::get_if<Point>(&f.geometry))
    return fmt::format(R"({{"type":"Point","coordinates":[{},{}]}})", number(p->x), number(p->y));
  if (const auto* l = std::get_if<LineString>(&f.geometry))
    return R"({"type":"LineString","coordinates":)" + coordinates(*l) + "}";
  std::string s = R"({"type":"MultiPolygon","coordinates":[)";
  const auto& shape = std::get<MultiPolygon>(f.geometry);
  for (std::size_t i = 0; i < shape.size(); ++i) {
    // RFC 7946: outer rings run counter-clockwise, holes clockwise.
    s += (i ? ",[" : "[") + coordinates(shape[i].outer, clockwise(shape[i].outer));
    for (const Ring& hole : shape[i].holes) s += "," + coordinates(hole, !clockwise(hole));
    s += "]";
  }
  return s + "]}";
}

json property_json(const Property& p) {
  return std::visit([](const auto& v) { return json(v); }, p);
}

Feature carried(const Feature& f, const Transform& t) {
  Feature out = f;
  if (auto* p = std::get_if<Point>(&out.geometry)) *p = t.forward(*p);
  if (auto* l = std::get_if<LineString>(&out.geometry)) t.forward(*l);
  if (auto* m = std::get_if<MultiPolygon>(&out.geometry))
    for (Polygon& poly : *m) {
      t.forward(poly.outer);
      for (Ring& hole : poly.holes) t.forward(hole);
    }
  return out;
}

// ------------------------------------------------------------------------------------------------------ point tables

Layer read_table(const fs::path& path, const Crs& otherwise) {
  const std::string text = read_text_file(path);
  const std::string first = text.substr(0, text.find('\n'));
  const char separator = first.find(';') != first.npos ? ';' : first.find('\t') != first.npos ? '\t' : ',';
  const auto rows = parse_csv(text, separator);
  if (rows.empty()) throw Error(ErrorCode::BadFile, "has no rows", path.string());
  std::size_t x = rows[0].size(), y = x;
  bool degrees = false;
  for (std::size_t i = 0; i < rows[0].size(); ++i) {
    const std::string name = lower_case(rows[0][i]);
    if (name == "x" || name == "easting" || name == "east") x = i;
    if (name == "y" || name == "northing" || name == "north") y = i;
    if (name == "lon" || name == "longitude" || name == "lat" || name == "latitude") {
      (name.starts_with("lon") ? x : y) = i;
      degrees = true;
    }
  }
  if (x == rows[0].size() || y == rows[0].size())
    throw Error(ErrorCode::BadFile, "its first line names no columns x and y (or lon and lat, or easting and northing)",
                path.string(), "name the columns in the first line");
  Layer layer;
  layer.name = path.stem().string();
  layer.crs = degrees ? Crs::wgs84() : otherwise;
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS its x and y are", path.string(),
                "tell it with @CRS or --crs");
  for (std::size_t r = 1; r < rows.size(); ++r) {
    if (rows[r].size() <= std::max(x, y))
      throw Error(ErrorCode::BadFile, "has too few columns", fmt::format("{} line {}", path.string(), r + 1));
    const auto px = parse_number(rows[r][x]), py = parse_number(rows[r][y]);
    if (!px || !py)
      throw Error(ErrorCode::BadFile, fmt::format("'{}', '{}' are no coordinates", rows[r][x], rows[r][y]),
                  fmt::format("{} line {}", path.string(), r + 1));
    Feature f{Point{*px, *py}, {}};
    for (std::size_t i = 0; i < rows[r].size() && i < rows[0].size(); ++i) {
      if (i == x || i == y) continue;
      if (const auto v = parse_number(rows[r][i]))
        f.properties.emplace_back(rows[0][i], *v);
      else
        f.properties.emplace_back(rows[0][i], rows[r][i]);
    }
    layer.features.push_back(std::move(f));
  }
  return layer;
}

// ------------------------------------------------------------------------------------------------- points in text

Layer read_soundings(const fs::path& path, const Crs& otherwise) {
  const auto bytes = open_file(path);
  const XyzFacts facts = look_at_xyz(*bytes);
  Layer layer;
  layer.name = path.stem().string();
  layer.crs = facts.crs ? facts.crs : otherwise;
  if (!layer.crs)
    throw Error(ErrorCode::Refused, "does not say in which CRS its x and y are", path.string(), "tell it with --crs");
  layer.features.reserve(facts.points);
  each_xyz(*bytes, {}, [&](double x, double y, double z) { layer.features.push_back({Point{x, y}, {{"z", z}}}); });
  return layer;
}

// The first line names columns.
bool is_table(const fs::path& path) {
  const std::string text = read_text_file(path);
  const std::string first = lower_case(text.substr(0, text.find('\n')));
  return first.find_first_of("abcdefghijklmnopqrstuvwxyz") != first.npos && !first.starts_with("#");
}

std::string text_of(const Property& p) {
  if (const double* v = std::get_if<double>(&p)) return std::isnan(*v) ? "" : fmt::format("{}", *v);
  return std::visit(
      [](const auto& v) -> std::string {
        if constexpr (std::is_same_v<std::decay_t<decltype(v)>, std::string>)
          return csv_field(v);
        else
          return fmt::format("{}", v);
      },
      p);
}

const Point& only_point(const Feature& f, const fs::path& path) {
  const Point* p = std::get_if<Point>(&f.geometry);
  if (!p)
    throw Error(ErrorCode::Unsupported, "a table holds points, and these are lines or polygons", path.string(),
                "write .geojson or .gpkg");
  return *p;
}

// Coordinates and all properties, one point a line.
std::string table_text(const Layer& layer, const fs::path& path) {
  std::vector<std::string> names;
  for (const Feature& f : layer.features)
    for (const auto& property : f.properties)
      if (std::find(names.begin(), names.end(), property.first) == names.end()) names.push_back(property.first);
  std::string text = layer.crs.is_geographic() ? "lon,lat" : "x,y";
  for (const std::string& n : names) text += "," + csv_field(n);
  text += "\n";
  for (const Feature& f : layer.features) {
    const Point p = only_point(f, path);
    text += fmt::format("{:.12g},{:.12g}", p.x, p.y);
    for (const std::string& n : names) {
      const auto found =
          std::find_if(f.properties.begin(), f.properties.end(), [&](const auto& q) { return q.first == n; });
      text += "," + (found == f.properties.end() ? "" : text_of(found->second));
    }
    text += "\n";
  }
  return text;
}

// x y z, where z is the property of that name, else "value", else the first number; points without one are left out.
std::string xyz_text(const Layer& layer, const fs::path& path) {
  std::string text = layer.crs.is_geographic() ? "lon lat z\n" : "x y z\n";
  for (const Feature& f : layer.features) {
    const Point p = only_point(f, path);
    const double* z = nullptr;
    for (const char* wanted : {"z", "value", ""})
      for (const auto& [name, value] : f.properties)
        if (!z && (name == wanted || !*wanted)) z = std::get_if<double>(&value);
    if (z && !std::isnan(*z)) text += fmt::format("{:.12g} {:.12g} {}\n", p.x, p.y, *z);
  }
  return text;
}

}  // namespace

std::string to_geojson(const Layer& layer) {
  std::string s = R"({"type":"FeatureCollection","features":[)";
  const Transform t(layer.crs ? layer.crs : Crs::wgs84(), Crs::wgs84());
  for (std::size_t i = 0; i < layer.features.size(); ++i) {
    const Feature f = t.is_identity() ? layer.features[i] : carried(layer.features[i], t);
    json properties = json::object();
    for (const auto& [name, value] : f.properties) properties[name] = property_json(value);
    s += fmt::format("{}\n{{\"type\":\"Feature\",\"properties\":{},\"geometry\":{}}}", i ? "," : "",
                     properties.dump(-1, ' ', false, json::error_handler_t::replace), geometry_text(f));
  }
  return s + "\n]}\n";
}

Layer read_layer(const fs::path& path, const Crs& otherwise) {
  const std::string ext = lower_extension(path);
  if (ext == ".gpkg") return read_geopackage(path);
  if (ext == ".gpx") return read_gpx(path);
  if (ext == ".xyz" || (ext == ".txt" && !is_table(path))) return read_soundings(path, otherwise);
  if (ext == ".csv" || ext == ".txt") return read_table(path, otherwise);
  if (ext != ".geojson" && ext != ".json")
    throw Error(ErrorCode::Unsupported, fmt::format("vector files of the kind '{}' are not read here", ext),
                path.string(), "give GeoJSON, GeoPackage, GPX, CSV or XYZ text");
  const std::string text = read_text_file(path, std::size_t{1} << 30);
  json root;
  try {
    root = json::parse(text);
  } catch (const json::exception& e) {
    throw Error(ErrorCode::BadFile, fmt::format("is not JSON: {}", e.what()), path.string(), "check the file");
  }
  Layer layer = GeoJsonReader(path.string()).layer(root);
  layer.name = path.stem().string();
  return layer;
}

void write_layer(const Layer& layer, const fs::path& path, const WriteLayerOptions& options) {
  const std::string ext = lower_extension(path);
  if (ext == ".gpkg") return write_geopackage(layer, path, options.overwrite);
  if (ext == ".csv") return write_text_file(path, table_text(layer, path), {.overwrite = options.overwrite});
  if (ext == ".xyz") return write_text_file(path, xyz_text(layer, path), {.overwrite = options.overwrite});
  if (ext != ".geojson" && ext != ".json") {
    const bool points = layer.features.empty() || std::holds_alternative<Point>(layer.features[0].geometry);
    throw Error(ErrorCode::Unsupported, fmt::format("features are not written as '{}' here", ext), path.string(),
                points ? "give a name that ends in .geojson, .gpkg, .csv or .xyz"
                       : "give a name that ends in .geojson or .gpkg");
  }
  if (!layer.crs && !layer.features.empty())
    throw Error(ErrorCode::Refused, "GeoJSON is in longitude and latitude, and these features have no CRS to come from",
                path.string(), "tell it with --crs, or write .gpkg");
  write_text_file(path, to_geojson(layer), {.overwrite = options.overwrite});
}

Area read_area(const fs::path& path) {
  const Layer layer = read_layer(path);
  MultiPolygon all;
  for (const Feature& f : layer.features)
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry)) all.insert(all.end(), m->begin(), m->end());
  if (all.empty()) throw Error(ErrorCode::BadFile, "has no polygon in it", path.string(), "give the area as a polygon");
  if (layer.crs.is_geographic()) all = joined_across_antimeridian(all);
  // Overlapping parts count once.
  return {all.size() > 1 ? union_of({all}) : all, layer.crs};
}

namespace {

// Lines that begin where another ends become one, in the order of the file.
std::vector<LineString> joined_lines(const Layer& layer) {
  std::vector<LineString> lines;
  for (const Feature& f : layer.features)
    if (const auto* l = std::get_if<LineString>(&f.geometry)) {
      if (!lines.empty() && !l->empty() && !lines.back().empty() && lines.back().back() == l->front())
        lines.back().insert(lines.back().end(), l->begin() + 1, l->end());
      else
        lines.push_back(*l);
    }
  return lines;
}

}  // namespace

LineString read_line(const fs::path& path, const Crs& crs, std::vector<std::string>* notes) {
  // A table that does not say where its points lie, such as that of a section, is in the grid's CRS.
  const Layer layer = read_layer(path, crs);
  std::vector<LineString> lines = joined_lines(layer);
  if (lines.empty()) {
    LineString through;
    for (const Feature& f : layer.features)
      if (const Point* p = std::get_if<Point>(&f.geometry)) through.push_back(*p);
    if (through.size() > 1) {
      lines.push_back(std::move(through));
      if (notes)
        notes->push_back(fmt::format("{}: has points and no line; the line goes through them in their order",
                                     path.filename().string()));
    }
  }
  if (lines.empty()) throw Error(ErrorCode::BadFile, "has no line in it", path.string(), "give the transect as a line");
  if (lines.size() > 1 && notes)
    notes->push_back(
        fmt::format("{}: has {} lines that do not meet; the first is taken", path.filename().string(), lines.size()));
  LineString line = std::move(lines.front());
  if (layer.crs && crs) Transform(layer.crs, crs).forward(line);
  for (Point p : line)
    if (std::isnan(p.x)) throw Error(ErrorCode::BadFile, "its line leaves the range of the grid's CRS", path.string());
  return line;
}

}  // namespace katoptra
