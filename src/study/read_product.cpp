#include "read_product.hpp"

#include <fmt/format.h>
#include <map>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/water/water_products.hpp"

#include "table_reader.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// In a study `kind` says which product it is; what a product calls its kind has the product's name there.
std::string key_of(const Product& p, const Setting& o) { return o.name == "kind" ? p.name : o.name; }

// Of whichever table.
const Product* row_named(const std::string& kind) {
  if (const Product* p = product_named(kind)) return p;
  const WaterProduct* w = water_product_named(kind);
  return w ? &w->row : nullptr;
}

// What is no row of a table of products.
struct OwnKind {
  const char* kind;
  std::vector<std::string> keys;
};
const std::vector<OwnKind> kOwnKinds = {
    {"contours", {"interval", "unit", "below", "levels", "depth_levels", "shortest", "smooth", "bands", "zones"}},
    {"spots", {"radius", "relief"}},
    {"section", {"line", "across", "every", "width", "with", "stations", "exaggerate"}},
    {"map",
     {"interval", "exaggerate", "line", "tiles", "area", "layers", "spots", "relief", "style", "ramp", "classes",
      "shore", "light", "page", "scale", "grid_lines", "uncertainty"}},
    {"picture",
     {"interval", "exaggerate", "line", "tiles", "area", "layers", "spots", "relief", "style", "ramp", "classes",
      "shore", "light", "uncertainty"}},
    {"volumes", {"levels"}},
    {"solid", {"bed", "scale", "exaggerate", "base", "error", "water", "water_body"}}};

// The keys of a product besides kind, file and title; nothing when there is no such product.
std::optional<std::vector<std::string>> keys_of_product(const std::string& kind) {
  for (const OwnKind& k : kOwnKinds)
    if (kind == k.kind) return k.keys;
  const Product* p = row_named(kind);
  if (!p) return std::nullopt;
  std::vector<std::string> keys;
  for (const Setting& o : p->options) keys.push_back(key_of(*p, o));
  return keys;
}

std::string product_kinds() {
  std::string names;
  for (const Product& p : products()) names += p.name + ", ";
  for (const WaterProduct& p : water_products()) names += p.row.name + ", ";
  for (const OwnKind& k : kOwnKinds) names += std::string(k.kind) + (&k == &kOwnKinds.back() ? "" : ", ");
  return names;
}

std::vector<std::string> keys_of_all_products() {
  std::vector<std::string> kinds, keys = {"kind", "file", "title"};
  for (const OwnKind& k : kOwnKinds) kinds.push_back(k.kind);
  for (const Product& p : products()) kinds.push_back(p.name);
  for (const WaterProduct& p : water_products()) kinds.push_back(p.row.name);
  for (const std::string& kind : kinds) {
    const std::vector<std::string> own = *keys_of_product(kind);
    keys.insert(keys.end(), own.begin(), own.end());
  }
  return keys;
}

// Each setting by itself, so that what is wrong is told with its line.
Settings product_settings(const Product& row, const StudyProduct& p, const TableReader& t, const fs::path& folder) {
  std::map<std::string, std::string> given;
  for (const Setting& o : row.options) {
    const std::string key = key_of(row, o);
    const bool number = o.kind == SettingKind::Number || o.kind == SettingKind::Window;
    const std::string value = t.value(key.c_str(), number && (o.words.empty() || !t.is_text(key.c_str())));
    if (value.empty()) continue;
    given[o.name] = value;
    try {
      row.settings({{o.name, value}});
    } catch (const Error& e) {
      t.refuse(key.c_str(), fmt::format("the product {} ({}): {}", p.file, p.kind, e.problem()), e.advice());
    }
  }
  Settings settings = row.settings(given);
  for (const Setting& o : row.options) {
    if (o.kind != SettingKind::Features || !settings.given(o.name)) continue;
    const std::string& file = settings.word(o.name);
    try {
      settings.attach(o.name, read_layer(folder / file));
    } catch (const Error& e) {
      t.refuse(key_of(row, o).c_str(), fmt::format("the product {} ({}): {}: {}", p.file, p.kind, file, e.problem()),
               e.advice());
    }
  }
  return settings;
}

void read_contours(const TableReader& t, StudyProduct& p) {
  p.interval = t.length("interval");
  p.unit = t.parsed("unit", [](const std::string& x) { return parse_length_unit(x); });
  p.contour.interval_below = t.length("below");
  p.contour.shortest = t.length("shortest").value_or(Length());
  p.contour.tolerance = t.length("smooth").value_or(Length());
  p.bands = t.flag("bands", false);
  p.zones = t.flag("zones", false);
  if (p.bands && p.zones) t.refuse("zones", "bands fill the ground, zones surround lines", "leave one of them out");
  for (const char* key : {"levels", "depth_levels"})
    for (const std::string& level : t.list(key)) {
      p.depths = key == std::string("depth_levels");
      try {
        p.contour.levels.push_back(Length::parse(level) * (p.depths ? -1.0 : 1.0));
      } catch (const Error& e) {
        t.refuse(key, e.problem(), "give each with its unit: [\"0m\", \"2m\", \"5m\"]");
      }
    }
}

void read_solid(const TableReader& t, StudyProduct& p) {
  t.parsed("bed", [&](const std::string& x) {
    const auto at = x.find('x');
    if (at == x.npos) throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no bed", x), "bed", "write 200mmx150mm");
    p.solid.bed_width = Length::parse(x.substr(0, at));
    p.solid.bed_depth = Length::parse(x.substr(at + 1));
    return true;
  });
  if (const double scale = t.scale("scale"); scale > 0) p.solid.scale = scale;
  p.solid.exaggeration = t.number("exaggerate", 1);
  p.solid.base = t.length("base").value_or(p.solid.base);
  p.solid.error = t.length("error").value_or(p.solid.error);
  p.solid.water = t.length("water");
  p.solid.water_body = t.flag("water_body", false);
}

// What is drawn over the surface, and on what.
void read_drawing(const TableReader& t, const fs::path& folder, StudyProduct& p) {
  p.interval = t.length("interval");
  p.exaggeration = t.number("exaggerate", p.exaggeration);
  p.spot.radius = t.length("spots").value_or(Length());
  p.spot.relief = t.length("relief").value_or(p.interval.value_or(Length()));
  p.tiles = t.flag("tiles", false);
  p.area = t.flag("area", false);
  p.uncertainty = t.flag("uncertainty", false);
  p.layers = t.list("layers");
  if (const std::string style = t.text("style"); !style.empty()) p.style = read_map_style(folder / style);
  if (const std::string ramp = t.text("ramp"); !ramp.empty()) p.land.ramp = folder / ramp;
  t.parsed("classes", [&](const std::string& x) { return class_breaks_from(p.land.classes = x); });
  p.land.shore = t.length("shore");
  p.land.light = t.parsed("light", [](const std::string& x) { return parse_map_light(x); });
  if (p.kind != "map") return;
  p.page = t.text("page");
  p.scale = t.scale("scale");
  p.grid_lines = t.flag("grid_lines", false);
}

}  // namespace

StudyProduct read_product(const toml::table* table, const std::string& file, const Study& s) {
  StudyProduct p;
  std::vector<std::string> keys = {"kind", "file", "title"};
  const TableReader first(table, "product", file);
  p.kind = first.text("kind");
  const auto own = keys_of_product(p.kind);
  if (p.kind.empty()) {
    // Perhaps it is there, mistyped: then its name is one that no product knows.
    const TableReader all(table, "product", file, keys_of_all_products());
    refuse_shape(*table, file, "a [[product]] has no kind", "kind = and one of " + product_kinds());
  }
  if (!own) first.refuse("kind", fmt::format("'{}' is not a product", p.kind), "use " + product_kinds());
  keys.insert(keys.end(), own->begin(), own->end());
  const TableReader t(table, "product", file, keys, " of kind " + p.kind);
  p.file = t.text("file");
  if (p.file.empty() || p.file.find('/') != p.file.npos)
    throw Error(ErrorCode::BadFile, fmt::format("the product {} needs a plain file name", p.kind), file,
                "add file = \"name.tif\"");
  p.title = t.text("title");
  if (const Product* row = row_named(p.kind)) {
    p.settings = product_settings(*row, p, t, s.folder);
    return p;
  }
  if (p.kind == "contours") {
    read_contours(t, p);
    return p;
  }
  if (p.kind == "solid") {
    read_solid(t, p);
    return p;
  }
  if (p.kind == "volumes") {
    for (const std::string& level : t.list("levels")) try {
        p.levels.push_back(Length::parse(level));
      } catch (const Error& e) {
        t.refuse("levels", e.problem(), "give each with its unit: [\"0m\", \"2m\"]");
      }
    if (p.levels.empty())
      throw Error(ErrorCode::BadFile, fmt::format("the product {} (volumes) has no levels", p.file), file,
                  "add levels = [\"0m\"]");
    return p;
  }
  if (p.kind == "spots") {
    p.spot.radius = t.length("radius").value_or(Length());
    p.spot.relief = t.length("relief").value_or(Length());
    return p;
  }
  if (p.kind == "map" || p.kind == "picture") read_drawing(t, s.folder, p);
  if (const std::string line = t.text("line"); !line.empty()) p.line = s.folder / line;
  if (p.kind == "section") {
    if (const std::string centre = t.text("across"); !centre.empty()) p.across = s.folder / centre;
    p.every = t.length("every").value_or(Length());
    for (const std::string& other : t.list("with")) p.with.push_back(s.folder / other);
    p.stations = t.length("stations").value_or(Length());
    p.exaggeration = t.number("exaggerate", 0);
    p.width = t.length("width").value_or(Length());
    if (p.line.empty() == p.across.empty())
      throw Error(ErrorCode::BadFile, "a section needs a line, or one that it lies across", file,
                  "add line = \"transect.geojson\", or across = with every = \"50m\" and width = \"80m\"");
  }
  return p;
}

}  // namespace katoptra
