#include "gpx.hpp"

#include <cmath>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/clock.hpp"
#include "base/text.hpp"

namespace katoptra {
namespace {

constexpr const char* kProperty = "katoptra:property";

class GpxReader {
 public:
  explicit GpxReader(std::string file) : file_(std::move(file)) {}

  Layer layer(const pugi::xml_node& gpx) {
    Layer l{.name = "gpx", .crs = Crs::wgs84(), .features = {}, .unit = LengthUnit::Metre};
    for (const pugi::xml_node& n : gpx.children()) {
      const std::string kind = n.name();
      if (kind == "wpt") {
        Feature f{point(n), named(n), {}};
        if (const auto z = elevation(n)) f.heights.push_back(*z);
        l.features.push_back(std::move(f));
      } else if (kind == "rte") {
        add_line(n, "rtept", named(n), l);
      } else if (kind == "trk") {
        for (const pugi::xml_node& s : n.children("trkseg")) add_line(s, "trkpt", named(n), l);
      }
    }
    if (l.features.empty()) damaged("holds no waypoint, route or track");
    return l;
  }

 private:
  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, what, file_, "check the file");
  }
  static std::optional<double> elevation(const pugi::xml_node& n) { return parse_number(n.child_value("ele")); }
  static std::vector<std::pair<std::string, Property>> named(const pugi::xml_node& n) {
    std::vector<std::pair<std::string, Property>> p;
    for (const char* key : {"name", "type", "desc"})
      if (const std::string text = n.child_value(key); !text.empty()) p.emplace_back(key, text);
    for (const pugi::xml_node& e : n.child("extensions").children(kProperty)) {
      const std::string type = e.attribute("type").value(), text = e.child_value();
      const auto number = parse_number(type == "string" ? std::string() : text);
      if (number && type == "int")
        p.emplace_back(e.attribute("name").value(), static_cast<std::int64_t>(*number));
      else if (number)
        p.emplace_back(e.attribute("name").value(), *number);
      else
        p.emplace_back(e.attribute("name").value(), text);
    }
    return p;
  }
  Point point(const pugi::xml_node& n) const {
    const auto lon = parse_number(n.attribute("lon").value()), lat = parse_number(n.attribute("lat").value());
    if (!lon || !lat || std::abs(*lon) > 360 || std::abs(*lat) > 90)
      damaged(fmt::format("a place of {} is no longitude and latitude", n.name()));
    return {*lon, *lat};
  }
  void add_line(const pugi::xml_node& from, const char* kind, std::vector<std::pair<std::string, Property>> properties,
                Layer& l) const {
    LineString line;
    std::vector<double> z, times;
    for (const pugi::xml_node& n : from.children(kind)) {
      line.push_back(point(n));
      if (const auto t = seconds_of(trimmed(n.child_value("time")))) times.push_back(*t);
      if (const auto h = elevation(n)) z.push_back(*h);
    }
    if (line.size() < 2) return;
    if (z.size() != line.size()) z.clear();
    if (times.size() != line.size()) times.clear();
    l.features.push_back({std::move(line), std::move(properties), std::move(z), std::move(times)});
  }

  std::string file_;
};

class GpxWriter {
 public:
  explicit GpxWriter(const Layer& layer)
      : layer_(layer),
        metres_(layer.unit ? metres_per(*layer.unit) : 1),
        there_(layer.crs ? layer.crs : Crs::wgs84(), Crs::wgs84()) {}

  // Waypoints come before tracks.
  std::string text() {
    out_ =
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<gpx version=\"1.1\" creator=\"Katoptra\" "
        "xmlns=\"http://www.topografix.com/GPX/1/1\" xmlns:katoptra=\"urn:katoptra:properties\">\n";
    out_ += fmt::format("<metadata><name>{}</name></metadata>\n", xml_text(layer_.name));
    for (const Feature& f : layer_.features)
      if (const auto* p = std::get_if<Point>(&f.geometry)) {
        place("wpt", there_.forward(*p), height_at(f, 0));
        described(f);
        out_ += "</wpt>\n";
      }
    for (const Feature& f : layer_.features)
      if (const auto* line = std::get_if<LineString>(&f.geometry)) track(f, *line);
    return std::move(out_) + "</gpx>\n";
  }

 private:
  void place(const char* kind, Point p, double z) {
    p.x -= 360 * std::floor((p.x + 180) / 360);  // below 180, as GPX asks
    out_ += fmt::format("<{} lat=\"{:.8f}\" lon=\"{:.8f}\">", kind, p.y, p.x);
    if (std::isfinite(z)) out_ += fmt::format("<ele>{:.3f}</ele>", z * metres_);
  }
  static bool is_own(const std::string& name) { return name == "name" || name == "desc" || name == "type"; }
  // In the order that GPX asks for.
  void described(const Feature& f) {
    for (const char* wanted : {"name", "desc", "type"})
      for (const auto& [name, value] : f.properties)
        if (name == wanted) out_ += fmt::format("<{0}>{1}</{0}>", wanted, xml_text(text_of(value)));
    std::string more;
    for (const auto& [name, value] : f.properties)
      if (!is_own(name))
        more += fmt::format("<{0} name=\"{1}\" type=\"{2}\">{3}</{0}>", kProperty, xml_text(name),
                            value.index() == 2   ? "string"
                            : value.index() == 1 ? "double"
                                                 : "int",
                            xml_text(text_of(value)));
    if (!more.empty()) out_ += "<extensions>" + more + "</extensions>";
  }
  void track(const Feature& f, LineString line) {
    out_ += "<trk>";
    described(f);
    out_ += "<trkseg>\n";
    there_.forward(line);
    for (std::size_t i = 0; i < line.size(); ++i) {
      place("trkpt", line[i], height_at(f, i));
      if (f.times.size() == line.size()) out_ += fmt::format("<time>{}</time>", time_text(f.times[i]));
      out_ += "</trkpt>\n";
    }
    out_ += "</trkseg></trk>\n";
  }

  const Layer& layer_;
  double metres_;
  Transform there_;
  std::string out_;
};

}  // namespace

LayerReport write_gpx(const Layer& layer, const std::filesystem::path& path, bool overwrite) {
  for (const Feature& f : layer.features)
    if (std::holds_alternative<MultiPolygon>(f.geometry))
      throw Error(ErrorCode::Unsupported, "GPX holds waypoints and tracks, and these are areas", path.string(),
                  "write .kml, .gpkg or .geojson");
  if (!layer.crs && !layer.features.empty())
    throw Error(ErrorCode::Refused, "GPX is in longitude and latitude, and these features have no CRS to come from",
                path.string(), "tell it with --crs, or write .gpkg");
  write_text_file(path, GpxWriter(layer).text(), {.overwrite = overwrite});
  return {};
}

Layer parse_gpx(std::string_view text, const std::string& name) {
  pugi::xml_document doc;
  const pugi::xml_parse_result r = doc.load_buffer(text.data(), text.size());
  if (!r)
    throw Error(ErrorCode::BadFile, fmt::format("is not XML ({}, at byte {})", r.description(), r.offset), name,
                "check the file");
  return GpxReader(name).layer(doc.child("gpx"));
}

Layer read_gpx(const std::filesystem::path& path) {
  Layer l = parse_gpx(read_text_file(path, std::size_t{1} << 28), path.string());
  l.name = path.stem().string();
  return l;
}

}  // namespace katoptra
