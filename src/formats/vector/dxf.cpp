// The form is that of the published reference of the format: pairs of a group code and a value, a line each. Release
// 12 is the oldest that is still common, and the one that everything reads; what it lacks and later readers look for
// (the unit of the drawing) is in the header all the same.
#include "dxf.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <set>
#include <sstream>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/text.hpp"
#include "level_labels.hpp"
#include "prj.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr const char* kApplication = "KATOPTRA";
constexpr std::size_t kLongestText = 255;

// Names of layers: letters, digits and a few signs.
std::string drawing_name(const std::string& name) {
  std::string out;
  for (const char c : name) {
    const auto u = static_cast<unsigned char>(c);
    out += std::isalnum(u) ? static_cast<char>(std::toupper(u)) : '_';
  }
  return out.empty() ? "LAYER" : out.substr(0, 31);
}

// Text of one line, in the letters that release 12 has; others are written by their number.
std::string drawing_text(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size();) {
    const auto u = static_cast<unsigned char>(text[i]);
    if (u < 0x80) {
      out += u < 0x20 ? ' ' : text[i];
      ++i;
      continue;
    }
    const int more = u >= 0xF0 ? 3 : u >= 0xE0 ? 2 : 1;
    unsigned long code = u & (0x3F >> more);
    for (int k = 1; k <= more && i + static_cast<std::size_t>(k) < text.size(); ++k)
      code = code << 6 | (static_cast<unsigned char>(text[i + static_cast<std::size_t>(k)]) & 0x3F);
    out += fmt::format("\\U+{:04X}", code & 0xFFFF);
    i += static_cast<std::size_t>(more) + 1;
  }
  return out.substr(0, kLongestText);
}

class DxfWriter {
 public:
  explicit DxfWriter(const Layer& layer) : layer_(layer) {
    const double metres = layer.crs ? layer.crs.unit_factor() : 1;
    to_drawing_ = layer.unit ? metres_per(*layer.unit) / metres : 1;
    // 2 feet, 6 metres, 0 another
    unit_ = !layer.crs || std::abs(metres - 1) < 1e-9 ? 6 : std::abs(metres - 0.3048) < 1e-5 ? 2 : 0;
    for (const Feature& f : layer.features) {
      layers_.insert(layer_of(f));
      extend(f);
    }
    if (has_level_labels(layer)) layers_.insert(labels());
  }

  std::string text() {
    pair(999, "Katoptra: coordinates " + (layer_.crs ? layer_.crs.label() : std::string("without a reference system")) +
                  fmt::format(", heights in the same unit ({})", layer_.crs ? layer_.crs.unit_name() : "m"));
    header();
    tables();
    begin("ENTITIES");
    for (const Feature& f : layer_.features) entity(f);
    const double size = letters_for(box_);
    for_each_level_label(layer_, size, [&](const LevelLabel& l) { label(l, size); });
    end();
    pair(0, "EOF");
    return std::move(out_);
  }

 private:
  void pair(int code, std::string_view value) { out_ += fmt::format("{:>3}\n{}\n", code, value); }
  void pair(int code, int value) { out_ += fmt::format("{:>3}\n{}\n", code, value); }
  void pair(int code, double value) { out_ += fmt::format("{:>3}\n{:.6f}\n", code, value + 0.0); }
  void place(double x, double y, double z) {
    pair(10, x);
    pair(20, y);
    pair(30, z);
  }
  void begin(const char* section) {
    pair(0, "SECTION");
    pair(2, section);
  }
  void end() { pair(0, "ENDSEC"); }

  void header() {
    begin("HEADER");
    pair(9, "$ACADVER");
    pair(1, "AC1009");
    pair(9, "$INSUNITS");
    pair(70, unit_);
    pair(9, "$MEASUREMENT");
    pair(70, unit_ == 2 ? 0 : 1);
    if (!box_.empty()) {
      pair(9, "$EXTMIN");
      place(box_.west, box_.south, low_);
      pair(9, "$EXTMAX");
      place(box_.east, box_.north, high_);
    }
    end();
  }
  void tables() {
    begin("TABLES");
    table("LTYPE", 1);
    pair(0, "LTYPE");
    pair(2, "CONTINUOUS");
    pair(70, 0);
    pair(3, "Solid line");
    pair(72, 65);
    pair(73, 0);
    pair(40, 0.0);
    pair(0, "ENDTAB");
    table("LAYER", static_cast<int>(layers_.size()));
    for (const std::string& name : layers_) {
      pair(0, "LAYER");
      pair(2, name);
      pair(70, 0);
      pair(62, name.ends_with("_INDEX") ? 1 : 7);
      pair(6, "CONTINUOUS");
    }
    pair(0, "ENDTAB");
    table("APPID", 1);
    pair(0, "APPID");
    pair(2, kApplication);
    pair(70, 0);
    pair(0, "ENDTAB");
    end();
  }
  void table(const char* name, int entries) {
    pair(0, "TABLE");
    pair(2, name);
    pair(70, entries);
  }

  // Index contours apart from those between.
  std::string layer_of(const Feature& f) const {
    const std::string base = drawing_name(layer_.name);
    if (!property_of(f, "index")) return base;
    return drawing_name(base.substr(0, 18) + (is_set(f, "index") ? "_INDEX" : "_INTERMEDIATE"));
  }
  std::string labels() const { return drawing_name(drawing_name(layer_.name).substr(0, 24) + "_LABELS"); }
  double height(const Feature& f, std::size_t i) const {
    const double z = height_at(f, i);
    return std::isnan(z) ? 0 : z * to_drawing_;
  }
  void extend(const Feature& f) {
    const auto take = [&](Point p, double z) {
      if (box_.empty()) low_ = high_ = z;
      box_.include(p);
      low_ = std::min(low_, z);
      high_ = std::max(high_, z);
    };
    if (const auto* p = std::get_if<Point>(&f.geometry)) take(*p, height(f, 0));
    if (const auto* l = std::get_if<LineString>(&f.geometry))
      for (std::size_t i = 0; i < l->size(); ++i) take((*l)[i], height(f, i));
    if (const auto* m = std::get_if<MultiPolygon>(&f.geometry))
      for (const Polygon& p : *m)
        for (const Point q : p.outer) take(q, 0);
  }

  void entity(const Feature& f) {
    const std::string on = layer_of(f);
    if (const auto* p = std::get_if<Point>(&f.geometry)) {
      pair(0, "POINT");
      pair(8, on);
      place(p->x, p->y, height(f, 0));
      properties(f);
    } else if (const auto* line = std::get_if<LineString>(&f.geometry)) {
      polyline(f, *line, on, false);
    } else {
      for (const Polygon& part : std::get<MultiPolygon>(f.geometry)) {
        polyline(f, part.outer, on, true);
        for (const Ring& hole : part.holes) polyline(f, hole, on, true);
      }
    }
  }
  // In three dimensions, a closed one without its last point, which is its first.
  void polyline(const Feature& f, const LineString& line, const std::string& on, bool ring) {
    std::size_t n = line.size();
    const bool closed = n > 3 && line.front() == line.back();
    if (closed) --n;
    pair(0, "POLYLINE");
    pair(8, on);
    pair(66, 1);
    place(0, 0, 0);
    pair(70, (ring ? 0 : 8) + (closed || ring ? 1 : 0));  // areas lie in the plane
    properties(f);
    for (std::size_t i = 0; i < n; ++i) {
      pair(0, "VERTEX");
      pair(8, on);
      place(line[i].x, line[i].y, ring ? 0 : height(f, i));
      if (!ring) pair(70, 32);
    }
    pair(0, "SEQEND");
    pair(8, on);
  }
  // Centred on its place, along the line.
  void label(const LevelLabel& l, double size) {
    pair(0, "TEXT");
    pair(8, labels());
    const double z = std::isnan(l.height) ? 0 : l.height * to_drawing_;
    place(l.at.x, l.at.y, z);
    pair(40, size);
    pair(1, drawing_text(l.text));
    pair(50, l.turn);
    pair(72, 1);
    pair(11, l.at.x);
    pair(21, l.at.y);
    pair(31, z);
    pair(73, 2);
  }

  // As "name=value", numbers as numbers beside their names.
  void properties(const Feature& f) {
    if (f.properties.empty()) return;
    pair(1001, kApplication);
    for (const auto& [name, value] : f.properties) {
      pair(1000, drawing_text(name));
      if (const auto* text = std::get_if<std::string>(&value)) {
        pair(1000, drawing_text(*text));
      } else if (const auto* whole = std::get_if<std::int64_t>(&value); whole && std::abs(*whole) < (1LL << 31)) {
        out_ += fmt::format("1071\n{}\n", *whole);
      } else {
        out_ += fmt::format("1040\n{}\n", whole ? static_cast<double>(*whole) : std::get<double>(value));
      }
    }
  }

  const Layer& layer_;
  double to_drawing_ = 1;  // of a height in the layer's unit
  int unit_ = 6;
  std::set<std::string> layers_;
  Bounds box_;
  double low_ = 0, high_ = 0;
  std::string out_;
};

// ---- reading

struct Group {
  int code = 0;
  std::string value;
};

class DxfReader {
 public:
  DxfReader(const std::string& text, std::string file) : in_(text), file_(std::move(file)) {}

  std::vector<Feature> features() {
    std::string section;
    if (!next()) damaged("is no DXF file: it has no groups");
    for (bool more = true; more;) {
      if (now_.code == 0 && now_.value == "SECTION") {
        more = next();
        section = more && now_.code == 2 ? now_.value : "";
        more = more && next();
      } else if (now_.code == 0 && now_.value == "EOF") {
        ended_ = true;
        more = false;
      } else if (section == "ENTITIES" && now_.code == 0 && now_.value != "ENDSEC") {
        more = entity();
      } else {
        more = next();
      }
    }
    if (!ended_) damaged("ends before its end");
    return std::move(out_);
  }

 private:
  struct Entity {
    std::string kind, layer;
    std::map<int, std::vector<double>> numbers;
    std::vector<std::pair<std::string, Property>> properties;
    double number(int code, double otherwise = 0) const {
      const auto it = numbers.find(code);
      return it == numbers.end() || it->second.empty() ? otherwise : it->second[0];
    }
    int flags() const { return static_cast<int>(std::clamp(number(70), 0.0, 65535.0)); }
  };

  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, what, fmt::format("{} line {}", file_, line_), "check the file");
  }
  bool next() {
    std::string code;
    if (!std::getline(in_, code)) return false;
    ++line_;
    const auto n = parse_number(trimmed(code));
    if (!n || *n != std::floor(*n) || std::abs(*n) > 9999) damaged(fmt::format("'{}' is no group code", trimmed(code)));
    if (!std::getline(in_, now_.value)) damaged("ends in the middle of a group");
    ++line_;
    now_.code = static_cast<int>(*n);
    now_.value = trimmed(now_.value);
    return true;
  }

  // The groups up to the next entity.
  bool collect(Entity& e) {
    e.kind = now_.value;
    bool own = false, more = true;
    std::string name;
    while ((more = next()) && now_.code != 0) {
      if (now_.code == 8) e.layer = now_.value;
      if ((now_.code >= 10 && now_.code < 60) || now_.code == 70) {
        const auto v = parse_number(now_.value);
        if (!v) damaged(fmt::format("'{}' is no number", now_.value));
        e.numbers[now_.code].push_back(*v);
      }
      if (now_.code == 1001) own = now_.value == kApplication;
      if (!own || now_.code < 1000 || now_.code == 1001) continue;
      if (name.empty()) {
        name = now_.value;
      } else {
        e.properties.emplace_back(name, property());
        name.clear();
      }
    }
    return more;
  }
  Property property() const {
    const auto v = parse_number(now_.value);
    if (now_.code == 1071 && v) return static_cast<std::int64_t>(*v);
    if (now_.code == 1040 && v) return *v;
    return plain(now_.value);
  }
  // Letters that are written by their number.
  static std::string plain(const std::string& text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
      if (text.compare(i, 3, "\\U+") != 0 || i + 7 > text.size()) {
        out += text[i];
        continue;
      }
      const auto code = static_cast<unsigned>(std::strtoul(text.substr(i + 3, 4).c_str(), nullptr, 16));
      if (code >= 0x800) {
        out += static_cast<char>(0xE0 | code >> 12);
        out += static_cast<char>(0x80 | (code >> 6 & 0x3F));
        out += static_cast<char>(0x80 | (code & 0x3F));
      } else if (code >= 0x80) {
        out += static_cast<char>(0xC0 | code >> 6);
        out += static_cast<char>(0x80 | (code & 0x3F));
      } else {
        out += static_cast<char>(code);
      }
      i += 6;
    }
    return out;
  }

  bool entity() {
    Entity e;
    bool more = collect(e);
    LineString line;
    std::vector<double> z;
    const auto add = [&](double x, double y, double height) {
      if (!std::isfinite(x) || !std::isfinite(y)) damaged("a coordinate is no number");
      line.push_back({x, y});
      z.push_back(height);
    };
    if (e.kind == "POINT") {
      add(e.number(10), e.number(20), e.number(30));
      finish({line[0], std::move(e.properties), std::move(z)}, e.layer);
    } else if (e.kind == "LINE") {
      add(e.number(10), e.number(20), e.number(30));
      add(e.number(11), e.number(21), e.number(31));
      finish({std::move(line), std::move(e.properties), std::move(z)}, e.layer);
    } else if (e.kind == "LWPOLYLINE") {
      const auto &x = e.numbers[10], &y = e.numbers[20];
      if (x.size() != y.size()) damaged("a polyline has another number of x than of y");
      for (std::size_t i = 0; i < x.size(); ++i) add(x[i], y[i], e.number(38));
      path(e, std::move(line), std::move(z));
    } else if (e.kind == "POLYLINE") {
      while (more && now_.value == "VERTEX") {
        Entity vertex;
        more = collect(vertex);
        // Of splines the frame does not count.
        if (!(vertex.flags() & 16)) add(vertex.number(10), vertex.number(20), vertex.number(30, e.number(30)));
      }
      // Meshes are no lines.
      if (!(e.flags() & (16 | 64))) path(e, std::move(line), std::move(z));
    }
    return more;
  }
  void path(Entity& e, LineString line, std::vector<double> z) {
    if (line.size() < 2) return;
    if (!(e.flags() & 1)) return finish({std::move(line), std::move(e.properties), std::move(z)}, e.layer);
    line.push_back(line.front());
    z.push_back(z.front());
    if (line.size() > 3 && !(e.flags() & 8))
      finish({MultiPolygon{{line, {}}}, std::move(e.properties), {}}, e.layer);
    else  // a contour that closes is a line that closes
      finish({std::move(line), std::move(e.properties), std::move(z)}, e.layer);
  }
  void finish(Feature f, const std::string& on) {
    if (f.properties.empty() && !on.empty()) f.properties.emplace_back("layer", on);
    out_.push_back(std::move(f));
  }

  std::istringstream in_;
  std::string file_;
  std::size_t line_ = 0;
  Group now_;
  bool ended_ = false;
  std::vector<Feature> out_;
};

}  // namespace

LayerReport write_dxf(const Layer& layer, const fs::path& path, bool overwrite) {
  if (layer.crs.is_geographic())
    throw Error(ErrorCode::Refused, "a drawing is in metres or feet, and these are longitudes and latitudes",
                path.string(), "bring the surface to a projected CRS first: reproject --crs utm");
  require_prj(path, layer.crs, overwrite);
  write_text_file(path, DxfWriter(layer).text(), {.overwrite = overwrite});
  return write_prj(path, layer.crs);
}

Layer read_dxf(const fs::path& path, const Crs& otherwise) {
  const std::string text = read_text_file(path, std::size_t{1} << 30);
  if (text.substr(0, 24).find(" Binary DXF\r\n\x1a") != text.npos)
    throw Error(ErrorCode::Unsupported, "is a binary DXF file", path.string(), "save it as text");
  Layer layer{.name = path.stem().string(), .crs = read_prj(path, otherwise), .features = {}};
  layer.features = DxfReader(text, path.string()).features();
  return layer;
}

}  // namespace katoptra
