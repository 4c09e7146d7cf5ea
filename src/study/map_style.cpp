#include "katoptra/study/map_style.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/terrain/spot_heights.hpp"

#include "leaving_products.hpp"
#include "table_reader.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr const char* kPage = "see docs/view.md, a style of one's own";

struct LayerKind {
  const char* kind;
  OverlayStyle style;
  std::vector<std::string> keys;  // besides kind, label
  bool needs_file;
};
const std::vector<std::string> kLineKeys = {"file", "crs", "colour", "width", "dashed", "words"};
const std::vector<std::string> kAreaKeys = {"file", "crs", "colour", "width", "dashed", "fill", "words"};
const std::vector<LayerKind> kLayerKinds = {
    {"land", OverlayStyle::Land, {"ramp", "classes", "light", "exaggerate", "shore", "opacity", "multiply"}, false},
    {"light", OverlayStyle::Raster, {"light", "exaggerate", "opacity", "multiply"}, false},
    {"grid",
     OverlayStyle::Raster,
     {"file", "crs", "ramp", "classes", "light", "exaggerate", "opacity", "multiply"},
     true},
    {"uncertainty", OverlayStyle::Raster, {"ramp", "classes", "opacity", "multiply"}, false},
    {"picture", OverlayStyle::Raster, {"file", "crs", "opacity", "multiply"}, true},
    {"contours",
     OverlayStyle::Contours,
     {"interval", "levels", "below", "smooth", "shortest", "colour", "width"},
     false},
    {"reference", OverlayStyle::Reference, {"file", "crs", "shift", "interval", "levels", "colour", "width"}, true},
    {"spots", OverlayStyle::Spots, {"radius", "relief"}, false},
    {"streams", OverlayStyle::Streams, kLineKeys, true},
    {"lines", OverlayStyle::Lines, kLineKeys, true},
    {"section", OverlayStyle::Transect, kLineKeys, true},
    {"basins", OverlayStyle::Basins, kAreaKeys, true},
    {"water", OverlayStyle::Water, kAreaKeys, true},
    {"areas", OverlayStyle::Areas, kAreaKeys, true},
    {"area", OverlayStyle::Area, kAreaKeys, true},
    {"points", OverlayStyle::Points, {"file", "crs", "colour", "width"}, true},
    {"waypoints", OverlayStyle::Waypoints, {"file", "crs", "colour", "words", "heights"}, true}};

std::string kinds() {
  std::string all;
  for (const LayerKind& k : kLayerKinds) all += (all.empty() ? "" : ", ") + std::string(k.kind);
  return all;
}

const LayerKind& kind_of(const std::string& kind) {
  for (const LayerKind& k : kLayerKinds)
    if (kind == k.kind) return k;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no layer of a map", kind), "map", "use " + kinds());
}

// From 0 to `most`; nothing when the key is not there.
std::optional<double> within(const TableReader& t, const char* key, double most) {
  if (!t.has(key)) return std::nullopt;
  const double v = t.number(key, 0);
  if (!(v >= 0 && v <= most))
    t.refuse(key, fmt::format("{} = {:g} is out of range", key, v), fmt::format("take 0 to {:g}", most));
  return v;
}

void read_look(const TableReader& t, StyleLayer& l) {
  l.look.colour = t.parsed("colour", [](const std::string& x) {
    const auto c = parse_colour(x);
    if (!c) throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no colour", x), "colour", "write #rrggbb");
    return *c;
  });
  l.look.width = within(t, "width", 40);
  l.look.fill = within(t, "fill", 1);
  l.look.opacity = within(t, "opacity", 1).value_or(1);
  if (t.has("dashed")) l.look.dashed = t.flag("dashed", false);
  l.look.words = t.text("words");
  l.look.multiply = t.flag("multiply", l.kind == "light");
}

std::vector<Length> lengths(const TableReader& t, const char* key) {
  std::vector<Length> out;
  for (const std::string& one : t.list(key)) try {
      out.push_back(Length::parse(one));
    } catch (const Error& e) {
      t.refuse(key, e.problem(), "give each with its unit: [\"0m\", \"2m\", \"5m\"]");
    }
  return out;
}

StyleLayer read_layer_of(const toml::table* table, const std::string& file, const fs::path& folder) {
  StyleLayer l;
  const TableReader first(table, "layer", file);
  l.kind = first.text("kind");
  if (l.kind.empty()) refuse_shape(*table, file, "a [[layer]] has no kind", "kind = and one of " + kinds());
  const auto row = std::find_if(kLayerKinds.begin(), kLayerKinds.end(), [&](auto& k) { return l.kind == k.kind; });
  if (row == kLayerKinds.end())
    first.refuse("kind", fmt::format("'{}' is no layer of a map", l.kind), "use " + kinds());
  std::vector<std::string> keys = {"kind", "label"};
  keys.insert(keys.end(), row->keys.begin(), row->keys.end());
  const TableReader t(table, "layer", file, keys, " of kind " + l.kind, kPage);
  l.label = t.text("label");
  if (const std::string f = t.text("file"); !f.empty()) l.file = folder / f;
  if (row->needs_file && l.file.empty())
    first.refuse("kind", fmt::format("a layer of kind {} needs a file", l.kind), "add file = \"...\"");
  read_look(t, l);
  l.crs = t.parsed("crs", [](const std::string& x) { return Crs::parse(x); });
  l.shift = parse_height_shift(t.text("shift"), LengthUnit::Metre,
                               [&](const std::string& name) { return open_grid(folder / name); });
  l.interval = t.length("interval");
  l.levels = lengths(t, "levels");
  l.below = t.length("below");
  l.smooth = t.length("smooth").value_or(Length());
  l.shortest = t.length("shortest").value_or(Length());
  l.radius = t.length("radius").value_or(Length());
  l.relief = t.length("relief").value_or(Length());
  l.heights = t.flag("heights", false);
  if (const std::string f = t.text("ramp"); !f.empty()) l.ramp = folder / f;
  t.parsed("classes", [&](const std::string& x) { return class_breaks_from(x); });
  l.classes = t.text("classes");
  l.light = t.parsed("light", [](const std::string& x) { return parse_map_light(x); });
  if (t.has("exaggerate")) l.exaggeration = t.number("exaggerate", 1);
  l.shore = t.length("shore");
  if ((l.kind == "contours" || l.kind == "reference") && l.interval && !l.levels.empty())
    first.refuse("interval", "a layer has an interval and levels", "leave one of them out");
  if (l.kind == "contours" && !l.interval && l.levels.empty())
    first.refuse("kind", "contours need an interval or levels", "add interval = \"5m\"");
  if (l.kind == "spots" && !(l.radius.metres() > 0))
    first.refuse("kind", "spot heights need a radius", "add radius = \"100m\"");
  return l;
}

// As much of a grid as the surface has under it.
Grid part_under(const Grid& grid, const Grid& surface) {
  const Frame& f = surface.frame();
  if (!grid.frame().crs() || !f.crs()) return grid;
  const Transform t(f.crs(), grid.frame().crs());
  const Bounds b = f.bounds();
  constexpr int kParts = 32;
  Bounds there;
  for (int i = 0; i <= kParts; ++i)
    for (int j = 0; j <= kParts; ++j) {
      const Point p = t.forward({b.west + b.width() * i / kParts, b.south + b.height() * j / kParts});
      if (std::isfinite(p.x) && std::isfinite(p.y))
        there.include(Point{grid.frame().col_at(p.x), grid.frame().row_at(p.y)});
    }
  const Window all = grid.frame().window();
  auto edge = [](double at, std::int64_t most) { return std::clamp<std::int64_t>(std::llround(at), 0, most); };
  const std::int64_t left = edge(there.west - 2, all.cols), top = edge(there.south - 2, all.rows),
                     right = edge(there.east + 2, all.cols), bottom = edge(there.north + 2, all.rows);
  if (there.empty() || left >= right || top >= bottom)
    throw Error(ErrorCode::Refused, "lies nowhere under the surface", grid.info().name, "leave the layer out");
  return cut(grid, {left, top, right - left, bottom - top});
}

// What has a CRS cannot be laid on what has none, nor the other way round: it would lie somewhere else.
void require_one_world(const Crs& layer, const Grid& surface, const fs::path& file) {
  if (!layer == !surface.frame().crs()) return;
  if (!layer)
    throw Error(ErrorCode::Refused, "does not say in which CRS it lies", file.string(), "add its crs to the layer");
  throw Error(ErrorCode::Refused, fmt::format("has no CRS, and {} has one", file.filename().string()),
              surface.info().name, "tell it with --crs");
}

// Its heights above what those of the surface are above, in their unit: else their contours would say nothing.
Grid as_the_surface(const Grid& grid, const HeightShift& shift, const Grid& surface, std::vector<std::string>* notes) {
  const Quantity &a = grid.quantity(), &b = surface.quantity();
  if (a.kind != QuantityKind::Height || b.kind != QuantityKind::Height) return grid;
  Grid out = grid;
  if (shift.given() || (a.heights.known() && b.heights.known() && !(a.heights == b.heights))) try {
      out = brought_to(out, b.heights, shift);
    } catch (const Error& e) {
      throw Error(e.code(), e.problem(), e.where(), "convert it first, or give its layer a shift in a style file");
    }
  if (!shift.given() && !(a.heights.known() && b.heights.known()) && notes)
    notes->push_back(fmt::format("{} does not say what its heights are above: those of {} are taken as they are",
                                 (a.heights.known() ? surface : grid).info().name, grid.info().name));
  return out.quantity().unit == b.unit ? out : in_unit(out, b.unit);
}

Layer contours_of(const StyleLayer& l, const Grid& grid, const RunOptions& run) {
  if (!l.interval && l.levels.empty())
    throw Error(ErrorCode::BadArgument, "contours of a grid need an interval or levels", l.kind,
                "give for instance an interval of 5m");
  const ContourOptions c{.interval = l.interval.value_or(Length()),
                         .interval_below = l.below,
                         .levels = l.levels,
                         .shortest = l.shortest,
                         .tolerance = l.smooth,
                         .run = run};
  return contour_layer(contours(grid, c), grid);
}

// Names, and the surface's heights behind them where those are wanted.
void name_waypoints(Layer& layer, const StyleLayer& l, const Grid& surface) {
  const std::string words = l.look.words.empty() ? "name" : l.look.words;
  const Transform t(layer.crs ? layer.crs : surface.frame().crs(), surface.frame().crs());
  std::vector<Point> places;
  for (const Feature& f : layer.features)
    if (const auto* p = std::get_if<Point>(&f.geometry)) places.push_back(t.forward(*p));
  const std::vector<double> z = sample(surface, places);
  std::size_t i = 0;
  for (Feature& f : layer.features) {
    if (!std::holds_alternative<Point>(f.geometry)) continue;
    const double height = z[i++];
    const Property* name = property_of(f, words);
    std::string text = name ? text_of(*name) : "";
    if (l.heights && !std::isnan(height))
      text += fmt::format("{}{:.1f} {}", text.empty() ? "" : " ", std::round(height * 10) / 10 + 0.0,
                          symbol(surface.quantity().unit));
    f.properties = {{"on the map", text}};
  }
}

}  // namespace

LandLook look_of(const StyleLayer& l, LandLook look, const Grid& grid) {
  if (!l.ramp.empty()) look.ramp = parse_ramp(read_text_file(l.ramp), l.ramp.string());
  if (!l.classes.empty()) look.classes = class_breaks_from(l.classes, grid.quantity());
  look.light = l.light.value_or(look.light);
  look.exaggeration = l.exaggeration.value_or(look.exaggeration);
  if (l.shore) look.shore = l.shore->in(grid.quantity().unit);
  return look;
}

MapLight parse_map_light(std::string_view text) {
  if (text == "hillshade") return MapLight::Hillshade;
  if (text == "sky") return MapLight::Sky;
  if (text == "none") return MapLight::None;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no light of a map", text), "light",
              "use hillshade, sky or none");
}

ClassBreaks class_breaks_from(const std::string& text, const Quantity& quantity) {
  if (text.find(':') != std::string::npos) return parse_class_breaks(text);
  ClassBreaks by{.how = ClassesBy::Given, .given = {}};
  const std::size_t last = text.rfind(',') + 1;  // 0 where there is none
  // A unit behind the last is that of all.
  const std::size_t unit = text.find_first_not_of("0123456789.+-eE ", last);
  const double factor = unit == std::string::npos
                            ? 1
                            : Length::parse("1" + text.substr(unit)).metres() /
                                  (quantity.kind == QuantityKind::Height ? metres_per(quantity.unit) : 1.0);
  for (std::size_t from = 0; from <= text.size();) {
    const std::size_t to = std::min(text.size(), text.find(',', from));
    const auto n = parse_number(text.substr(from, std::min(to, unit) - from));
    if (!n) return parse_class_breaks(text);  // which says what is wrong
    by.given.push_back(*n * factor);
    from = to + 1;
  }
  class_breaks(by, {});
  return by;
}

MapStyle read_map_style(const fs::path& path) {
  MapStyle s;
  s.file = path;
  const std::string file = path.string();
  toml::table root;
  try {
    root = toml::parse(read_text_file(path, 1 << 20), file);
  } catch (const toml::parse_error& e) {
    throw Error(ErrorCode::BadFile, std::string(e.description()),
                fmt::format("{} line {}", file, e.source().begin.line), "mend the style file");
  }
  const fs::path folder = path.parent_path();
  const TableReader top(&root, "style", file,
                        {"title", "subtitle", "sources", "licence", "date", "page", "scale", "dpi", "grid_lines",
                         "graticule", "inset", "inset_label", "layer"},
                        "", kPage);
  s.title = top.text("title");
  s.subtitle = top.text("subtitle");
  s.sources = top.text("sources");
  s.licence = top.text("licence");
  s.date = top.text("date");
  s.page = top.parsed("page",
                      [](const std::string& x) {
                        parse_paper(x);
                        return x;
                      })
               .value_or("");
  s.scale = top.scale("scale");
  if (s.scale > 0 && s.page.empty()) top.refuse("scale", "a scale needs a page", "add page = \"A4\"");
  if (const double dpi = top.number("dpi", 0); top.has("dpi")) {
    if (!(dpi >= 50 && dpi <= 600)) top.refuse("dpi", fmt::format("dpi = {:g} is out of range", dpi), "take 50 to 600");
    s.dpi = static_cast<int>(dpi);
  }
  s.grid_lines = top.flag("grid_lines", false);
  s.graticule =
      top.parsed("graticule", [](const std::string& x) { return x == "degrees" ? Crs::wgs84() : Crs::parse(x); });
  if (const std::string f = top.text("inset"); !f.empty()) s.inset = folder / f;
  s.inset_label = top.text("inset_label");
  if (const auto* layers = tables_of(root, "layer", file))
    for (const auto& item : *layers) s.layers.push_back(read_layer_of(item.as_table(), file, folder));
  if (std::count_if(s.layers.begin(), s.layers.end(), [](const StyleLayer& l) { return l.kind == "land"; }) > 1)
    top.refuse("layer", "the land is drawn twice", "keep one layer of kind land");
  return s;
}

std::vector<fs::path> files_of(const MapStyle& s) {
  std::vector<fs::path> out;
  if (!s.file.empty()) out.push_back(s.file);
  if (!s.inset.empty()) out.push_back(s.inset);
  for (const StyleLayer& l : s.layers) {
    if (!l.file.empty()) out.push_back(l.file);
    if (!l.ramp.empty()) out.push_back(l.ramp);
  }
  return out;
}

void require_uncertainty(const Grid& surface) {
  if (surface.carries_uncertainty()) return;
  throw Error(ErrorCode::Refused, "does not say how sure it is, so that cannot be drawn", surface.info().name,
              "give its surveys an uncertainty, or leave that out");
}

MapOverlay overlay_of(const StyleLayer& l, const Grid& surface, const RunOptions& run,
                      std::vector<std::string>* notes) {
  const LayerKind& kind = kind_of(l.kind);
  MapOverlay o{.layer = {}, .style = kind.style, .label = l.label, .look = l.look};
  const Crs crs = l.crs ? *l.crs : surface.frame().crs();
  auto features = [&] {
    Layer layer = read_layer(l.file, crs);
    require_one_world(layer.crs, surface, l.file);
    return layer;
  };
  auto open = [&] {
    OpenOptions as;
    Grid g = open_grid(l.file, as);
    if (!g.frame().crs() && l.crs) {
      as.crs = l.crs;
      g = open_grid(l.file, as);
    }
    require_one_world(g.frame().crs(), surface, l.file);
    return g;
  };
  if (l.kind == "light") {
    LandLook look = look_of(l, {}, surface);
    if (surface.quantity().kind != QuantityKind::Height)
      throw Error(ErrorCode::Refused, "light falls on heights, and this surface has none", surface.info().name,
                  "leave the layer out");
    if (look.light == MapLight::None)
      throw Error(ErrorCode::BadArgument, "a layer of light has none", "map", "use hillshade or sky");
    o.raster = MapRaster{.grids = {surface}, .look = look, .light_only = true};
  } else if (l.kind == "uncertainty") {
    require_uncertainty(surface);
    const Grid plane = uncertainty_of(surface);
    o.raster = MapRaster{.grids = {plane}, .look = look_of(l, {}, plane)};
  } else if (l.kind == "grid") {
    const Grid g = open();
    o.raster = MapRaster{.grids = {g}, .look = look_of(l, {}, g)};
  } else if (l.kind == "picture") {
    o.raster = MapRaster{.grids = open_picture(l.file, l.crs.value_or(Crs()))};
    require_one_world(o.raster->grids[0].frame().crs(), surface, l.file);
  } else if (l.kind == "contours") {
    o.layer = contours_of(l, surface, run);
    if (o.label.empty() && l.interval)
      o.label =
          fmt::format("contours, {:g} {}", l.interval->in(surface.quantity().unit), symbol(surface.quantity().unit));
  } else if (l.kind == "reference") {
    o.layer = format_of(l.file, Holds::Features)
                  ? features()
                  : contours_of(l, as_the_surface(part_under(open(), surface), l.shift, surface, notes), run);
    if (o.layer.features.empty() && notes)
      notes->push_back(fmt::format("none of the contours asked for meets {}", l.file.filename().string()));
    if (o.label.empty()) o.label = "contours of " + l.file.stem().string();
  } else if (l.kind == "spots") {
    o.layer = spot_layer(spot_heights(surface, {.radius = l.radius, .relief = l.relief, .run = run}), surface);
  } else {
    o.layer = features();
    if (o.layer.features.empty() && notes) notes->push_back(fmt::format("{} holds nothing to draw", l.file.string()));
  }
  if (l.kind == "waypoints") {
    name_waypoints(o.layer, l, surface);
    o.look.words = "on the map";
  }
  return o;
}

namespace {

// What was to be drawn already lies over what covers the ground, and below the rest.
void add_layers(const MapStyle& s, const Grid& surface, LandLook& land, std::vector<MapOverlay>& overlays,
                const RunOptions& run, std::vector<std::string>* notes) {
  std::vector<MapOverlay> all;
  std::size_t ground = 0;
  for (const StyleLayer& l : s.layers) {
    if (l.kind == "land") {
      land = look_of(l, land, surface);
      all.push_back({.layer = {}, .style = OverlayStyle::Land, .look = l.look});
    } else {
      all.push_back(overlay_of(l, surface, run, notes));
    }
    if (l.kind == "land" || all.back().raster) ground = all.size();
  }
  all.insert(all.begin() + static_cast<std::ptrdiff_t>(ground), overlays.begin(), overlays.end());
  // There is one land.
  const auto is_land = [](const MapOverlay& o) { return o.style == OverlayStyle::Land; };
  const auto first = std::find_if(all.begin(), all.end(), is_land);
  if (first != all.end()) all.erase(std::remove_if(first + 1, all.end(), is_land), all.end());
  overlays = std::move(all);
}

}  // namespace

void apply(const MapStyle& s, const Grid& surface, ImageOptions& o, std::vector<std::string>* notes) {
  add_layers(s, surface, o.land, o.overlays, o.run, notes);
}

void apply(const MapStyle& s, const Grid& surface, MapOptions& o, std::vector<std::string>* notes) {
  add_layers(s, surface, o.land, o.overlays, o.run, notes);
  for (const auto& [to, from] : {std::pair{&o.title, &s.title},
                                 {&o.subtitle, &s.subtitle},
                                 {&o.sources, &s.sources},
                                 {&o.licence, &s.licence},
                                 {&o.date, &s.date}})
    if (!from->empty()) *to = *from;
  if (!s.page.empty()) o.paper = parse_paper(s.page, width_to_height(surface.frame()));
  if (s.scale > 0) o.scale = s.scale;
  if (s.dpi > 0) o.dpi = s.dpi;
  o.grid_lines = o.grid_lines || s.grid_lines;
  if (s.graticule) o.graticule = s.graticule;
  if (!s.inset.empty()) o.inset = MapInset{open_grid(s.inset), s.inset_label};
}

}  // namespace katoptra
