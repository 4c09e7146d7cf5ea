#include "gpx.hpp"

#include <cmath>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {
namespace {

class GpxReader {
 public:
  explicit GpxReader(std::string file) : file_(std::move(file)) {}

  Layer layer(const pugi::xml_node& gpx) {
    Layer l{.name = "gpx", .crs = Crs::wgs84(), .features = {}};
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
    std::vector<double> z;
    for (const pugi::xml_node& n : from.children(kind)) {
      line.push_back(point(n));
      if (const auto h = elevation(n)) z.push_back(*h);
    }
    if (line.size() < 2) return;
    if (z.size() != line.size()) z.clear();
    l.features.push_back({std::move(line), std::move(properties), std::move(z)});
  }

  std::string file_;
};

}  // namespace

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
