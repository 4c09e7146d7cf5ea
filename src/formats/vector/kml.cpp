#include "kml.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <pugixml.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"
#include "formats/bytes/zip_write.hpp"
#include "geo/turning.hpp"
#include "level_labels.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMostBytes = std::size_t{1} << 30;
constexpr const char* kLabelStyle = "katoptra-label";  // what is styled so belongs to its line and is not read again

// ---- writing

class KmlWriter {
 public:
  explicit KmlWriter(const Layer& layer)
      : layer_(layer),
        metres_(layer.unit ? metres_per(*layer.unit) : 1),
        there_(layer.crs ? layer.crs : Crs::wgs84(), Crs::wgs84()) {
    for (const Feature& f : layer.features)
      for (const auto& [name, value] : f.properties) {
        const auto kind = value.index();
        auto [it, fresh] = kinds_.emplace(name, kind);
        if (fresh) names_.push_back(name);
        if (it->second != kind) it->second = kind == 2 || it->second == 2 ? 2 : 1;
      }
  }

  std::string text() {
    out_ = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<kml xmlns=\"http://www.opengis.net/kml/2.2\">\n<Document>\n";
    out_ += fmt::format("<name>{}</name>\n", xml_text(layer_.name));
    style("line", "ff7a4a1e", 1.2);
    style("index", "ff5a2f0a", 2.4);
    if (has_level_labels(layer_))
      out_ += fmt::format(
          "<Style id=\"{}\"><IconStyle><scale>0</scale></IconStyle>"
          "<LabelStyle><scale>0.8</scale></LabelStyle></Style>\n",
          kLabelStyle);
    if (!names_.empty()) {
      out_ += fmt::format("<Schema name=\"{}\" id=\"properties\">\n", xml_text(layer_.name));
      for (const std::string& name : names_)
        out_ += fmt::format("<SimpleField type=\"{}\" name=\"{}\"/>\n", type_of(kinds_[name]), xml_text(name));
      out_ += "</Schema>\n";
    }
    for (std::size_t i = 0; i < layer_.features.size(); ++i) placemark(layer_.features[i], i);
    if (has_level_labels(layer_)) labels();
    return std::move(out_) + "</Document>\n</kml>\n";
  }

 private:
  static const char* type_of(std::size_t kind) { return kind == 2 ? "string" : kind == 1 ? "double" : "int"; }
  // Colours are opacity, blue, green, red.
  void style(const char* id, const char* colour, double width) {
    out_ += fmt::format(
        "<Style id=\"{}\"><LineStyle><color>{}</color><width>{}</width></LineStyle>"
        "<PolyStyle><color>40{}</color></PolyStyle></Style>\n",
        id, colour, width, colour + 2);
  }

  std::string name_of(const Feature& f, std::size_t i) const {
    if (const Property* name = property_of(f, "name")) return text_of(*name);
    if (const Property* level = property_of(f, "level")) {
      const Property* unit = property_of(f, "unit");
      const double* v = std::get_if<double>(level);
      return (v ? fmt::format("{:g}", *v) : text_of(*level)) + (unit ? " " + text_of(*unit) : "");
    }
    return fmt::format("{} {}", layer_.name, i + 1);
  }

  void placemark(const Feature& f, std::size_t i) {
    out_ += fmt::format("<Placemark><name>{}</name>", xml_text(name_of(f, i)));
    if (!std::holds_alternative<Point>(f.geometry))
      out_ += fmt::format("<styleUrl>#{}</styleUrl>", is_set(f, "index") ? "index" : "line");
    if (!f.properties.empty()) {
      out_ += "<ExtendedData><SchemaData schemaUrl=\"#properties\">";
      for (const auto& [name, value] : f.properties)
        if (const auto* number = std::get_if<double>(&value); !number || std::isfinite(*number))
          out_ += fmt::format("<SimpleData name=\"{}\">{}</SimpleData>", xml_text(name), xml_text(text_of(value)));
      out_ += "</SchemaData></ExtendedData>";
    }
    geometry(f);
    out_ += "</Placemark>\n";
  }

  // Numbers without a pin, in a folder that can be switched off.
  void labels() {
    out_ += "<Folder><name>labels</name>\n";
    Bounds box;
    for (const Feature& f : layer_.features)
      if (const auto* line = std::get_if<LineString>(&f.geometry)) box.include(bounds_of(*line));
    for_each_level_label(layer_, letters_for(box), [&](const LevelLabel& l) {
      out_ += fmt::format("<Placemark><name>{}</name><styleUrl>#{}</styleUrl>", xml_text(l.text), kLabelStyle);
      geometry({l.at, {}, {l.height}});
      out_ += "</Placemark>\n";
    });
    out_ += "</Folder>\n";
  }

  void geometry(const Feature& f) {
    const std::vector<Feature> parts = cut_at_antimeridian(carried(f, there_));
    if (parts.size() > 1) out_ += "<MultiGeometry>";
    for (const Feature& part : parts) geometry_here(part);
    if (parts.size() > 1) out_ += "</MultiGeometry>";
  }
  // In longitude and latitude.
  void geometry_here(const Feature& f) {
    const bool high = !f.heights.empty();
    const char* mode = high ? "<altitudeMode>absolute</altitudeMode>" : "";
    if (const auto* p = std::get_if<Point>(&f.geometry)) {
      out_ += fmt::format("<Point>{}<coordinates>", mode);
      coordinates({*p}, &f);
      out_ += "</coordinates></Point>";
    } else if (const auto* line = std::get_if<LineString>(&f.geometry)) {
      out_ += fmt::format("<LineString>{}{}<coordinates>", high ? "" : "<tessellate>1</tessellate>", mode);
      coordinates(*line, &f);
      out_ += "</coordinates></LineString>";
    } else {
      out_ += "<MultiGeometry>";
      for (const Polygon& part : std::get<MultiPolygon>(f.geometry)) {
        out_ += "<Polygon><tessellate>1</tessellate><outerBoundaryIs>";
        ring(turning(part.outer, Turn::Left));
        out_ += "</outerBoundaryIs>";
        for (const Ring& hole : part.holes) {
          out_ += "<innerBoundaryIs>";
          ring(turning(hole, Turn::Right));
          out_ += "</innerBoundaryIs>";
        }
        out_ += "</Polygon>";
      }
      out_ += "</MultiGeometry>";
    }
  }
  void ring(const Ring& r) {
    out_ += "<LinearRing><coordinates>";
    coordinates(r, nullptr);
    out_ += "</coordinates></LinearRing>";
  }
  void coordinates(const LineString& line, const Feature* heights) {
    for (std::size_t i = 0; i < line.size(); ++i) {
      out_ += fmt::format("{}{:.8f},{:.8f}", i ? " " : "", line[i].x, line[i].y);
      if (heights && !heights->heights.empty())
        if (const double z = height_at(*heights, i); std::isfinite(z)) out_ += fmt::format(",{:.3f}", z * metres_);
    }
  }

  const Layer& layer_;
  double metres_;
  Transform there_;
  std::vector<std::string> names_;
  std::map<std::string, std::size_t> kinds_;
  std::string out_;
};

std::string kml_text(const Layer& layer, const fs::path& path) {
  if (!layer.crs && !layer.features.empty())
    throw Error(ErrorCode::Refused, "KML is in longitude and latitude, and these features have no CRS to come from",
                path.string(), "tell it with --crs, or write .gpkg");
  return KmlWriter(layer).text();
}

// ---- reading

class KmlReader {
 public:
  explicit KmlReader(std::string file) : file_(std::move(file)) {}

  Layer layer(const std::string& text) {
    pugi::xml_document doc;
    const pugi::xml_parse_result r = doc.load_buffer(text.data(), text.size());
    if (!r)
      throw Error(ErrorCode::BadFile, fmt::format("is not XML ({}, at byte {})", r.description(), r.offset), file_,
                  "check the file");
    Layer l{.name = "kml", .crs = Crs::wgs84(), .features = {}, .unit = LengthUnit::Metre};
    read_types(doc);
    // Placemarks may stand at any depth: followed without recursion, as a file may nest as deep as it likes.
    for (pugi::xml_node n = doc.first_child(); n;) {
      if (local(n) == "Placemark") add(n, l);
      if (n.first_child() && local(n) != "Placemark") {
        n = n.first_child();
        continue;
      }
      while (n && !n.next_sibling()) n = n.parent();
      if (n) n = n.next_sibling();
    }
    if (l.features.empty()) damaged("holds no placemark with a place");
    return l;
  }

 private:
  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, what, file_, "check the file");
  }
  // Without the prefix of a name space.
  static std::string_view local(const pugi::xml_node& n) {
    const std::string_view name = n.name();
    const auto colon = name.rfind(':');
    return colon == name.npos ? name : name.substr(colon + 1);
  }
  static pugi::xml_node child(const pugi::xml_node& n, std::string_view name) {
    for (const pugi::xml_node& c : n.children())
      if (local(c) == name) return c;
    return {};
  }

  void read_types(const pugi::xml_node& doc) {
    const pugi::xml_node root = doc.first_child();
    for (const pugi::xml_node& parent : {root, child(root, "Document")})
      for (const pugi::xml_node& s : parent.children())
        if (local(s) == "Schema")
          for (const pugi::xml_node& f : s.children())
            if (local(f) == "SimpleField") types_[f.attribute("name").value()] = f.attribute("type").value();
  }
  Property property(const std::string& name, const std::string& text) const {
    const auto type = types_.find(name);
    const auto number = parse_number(text);
    if (!number || (type != types_.end() && type->second == "string")) return text;
    const bool whole = type != types_.end() && type->second != "double" && type->second != "float";
    if (whole && *number == std::floor(*number) && std::abs(*number) < 9e15) return static_cast<std::int64_t>(*number);
    return *number;
  }
  std::vector<std::pair<std::string, Property>> properties_of(const pugi::xml_node& placemark) const {
    std::vector<std::pair<std::string, Property>> out;
    for (const pugi::xml_node& e : child(placemark, "ExtendedData").children()) {
      if (local(e) == "Data") {
        const std::string name = e.attribute("name").value();
        out.emplace_back(name, property(name, child(e, "value").child_value()));
      }
      for (const pugi::xml_node& s : e.children())
        if (local(s) == "SimpleData") {
          const std::string name = s.attribute("name").value();
          out.emplace_back(name, property(name, s.child_value()));
        }
    }
    for (const char* key : {"name", "description"}) {
      const std::string text = trimmed(child(placemark, key).child_value());
      const bool there = std::any_of(out.begin(), out.end(), [&](const auto& p) { return p.first == key; });
      if (!text.empty() && !there) out.emplace_back(key, text);
    }
    return out;
  }

  void add(const pugi::xml_node& placemark, Layer& l) const {
    if (child(placemark, "styleUrl").child_value() == std::string("#") + kLabelStyle) return;
    const auto properties = properties_of(placemark);
    MultiPolygon shape;
    std::vector<pugi::xml_node> waiting{placemark};
    for (std::size_t i = 0; i < waiting.size(); ++i)
      for (const pugi::xml_node& g : waiting[i].children()) {
        const std::string_view kind = local(g);
        if (kind == "MultiGeometry") {
          waiting.push_back(g);
        } else if (kind == "Point" || kind == "LineString" || kind == "LinearRing") {
          Feature f{LineString{}, properties, {}};
          LineString line = places(g, &f.heights);
          if (kind == "Point") {
            if (line.empty()) damaged("a point has no coordinates");
            f.geometry = line.front();
            if (f.heights.size() > 1) f.heights.erase(f.heights.begin() + 1, f.heights.end());
          } else if (line.size() < 2) {
            continue;
          } else {
            f.geometry = std::move(line);
          }
          l.features.push_back(std::move(f));
        } else if (kind == "Polygon") {
          Polygon p;
          p.outer = ring(child(child(g, "outerBoundaryIs"), "LinearRing"));
          for (const pugi::xml_node& b : g.children())
            if (local(b) == "innerBoundaryIs")
              for (const pugi::xml_node& r : b.children())
                if (local(r) == "LinearRing") p.holes.push_back(ring(r));
          if (p.outer.size() >= 4) shape.push_back(std::move(p));
        }
      }
    if (!shape.empty()) l.features.push_back({std::move(shape), properties, {}});
  }
  Ring ring(const pugi::xml_node& n) const {
    Ring r = places(n, nullptr);
    if (r.size() >= 3 && r.front() != r.back()) r.push_back(r.front());
    return r;
  }

  // "lon,lat[,height] lon,lat ..."
  LineString places(const pugi::xml_node& n, std::vector<double>* heights) const {
    LineString line;
    const std::string text = child(n, "coordinates").child_value();
    const std::string mode = child(n, "altitudeMode").child_value();
    bool all = mode == "absolute";
    for (std::size_t at = text.find_first_not_of(" \t\r\n"); at < text.size();) {
      const std::size_t end = std::min(text.find_first_of(" \t\r\n", at), text.size());
      const std::string one = text.substr(at, end - at);
      const auto comma = one.find(','), second = comma == one.npos ? comma : one.find(',', comma + 1);
      const auto lon = parse_number(one.substr(0, comma)),
                 lat = parse_number(comma == one.npos ? std::string() : one.substr(comma + 1, second - comma - 1));
      if (!lon || !lat || std::abs(*lon) > 360 || std::abs(*lat) > 90)
        damaged(fmt::format("'{}' is no longitude and latitude", one.substr(0, 60)));
      line.push_back({*lon, *lat});
      const auto z = parse_number(second == one.npos ? std::string() : one.substr(second + 1));
      all = all && z;
      if (heights && z) heights->push_back(*z);
      at = text.find_first_not_of(" \t\r\n", end);
    }
    if (heights && !all) heights->clear();
    return line;
  }

  std::string file_;
  std::map<std::string, std::string> types_;
};

}  // namespace

LayerReport write_kml(const Layer& layer, const fs::path& path, bool overwrite) {
  write_text_file(path, kml_text(layer, path), {.overwrite = overwrite});
  return {};
}

LayerReport write_kmz(const Layer& layer, const fs::path& path, bool overwrite) {
  const std::string text = kml_text(layer, path);
  const auto sink = create_file(path, {.overwrite = overwrite});
  ZipWriter zip(*sink, path.string());
  zip.add("doc.kml", text);
  zip.finish();
  sink->commit();
  return {};
}

Layer read_kml(const fs::path& path) {
  Layer l = KmlReader(path.string()).layer(read_text_file(path, kMostBytes));
  l.name = path.stem().string();
  return l;
}

Layer read_kmz(const fs::path& path) {
  const auto packed = Archive::open(open_file(path));
  for (const ArchiveEntry& e : packed->entries()) {
    if (lower_extension(e.name) != ".kml") continue;
    const auto bytes = packed->open_entry(e.name);
    if (bytes->size() > kMostBytes) throw Error(ErrorCode::TooLarge, "unpacks to more than a gibibyte", path.string());
    std::string text(static_cast<std::size_t>(bytes->size()), '\0');
    bytes->read_exactly(0, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()});
    Layer l = KmlReader(path.string()).layer(text);
    l.name = path.stem().string();
    return l;
  }
  throw Error(ErrorCode::BadFile, "holds no KML document", path.string(), "check the file");
}

}  // namespace katoptra
