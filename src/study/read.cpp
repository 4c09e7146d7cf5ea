#include <algorithm>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>
#include <toml++/toml.h>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/catalogue/places.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/water/water_products.hpp"

#include "journal.hpp"
#include "read_product.hpp"
#include "table_reader.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// A place that a study file names: an address as it is, anything else counts from the study's folder.
std::string place_in(const Study& s, const std::string& text) {
  return is_url(text) ? text : (s.folder / text).lexically_normal().string();
}

// A number, a model, or a grid beside the study.
StatedUncertainty stated_uncertainty(const TableReader& t, const std::string& file, const Study& s) {
  StatedUncertainty u{
      .text = t.text("uncertainty"), .confidence = t.number("confidence", 68), .reach = t.length("error_reach")};
  std::error_code ec;
  if (!u.text.empty() && std::filesystem::exists(s.folder / u.text, ec))
    u.text = (s.folder / u.text).string();
  else if (!u.text.empty() && !u.text.starts_with("band:"))
    t.parsed("uncertainty", [](const std::string& x) { return parse_uncertainty(x); });
  try {
    u.times();
  } catch (const Error& e) {
    throw Error(ErrorCode::BadFile, e.problem(), file, e.advice());
  }
  return u;
}

void read_sources(const toml::table& root, const std::string& file, const std::string& catalogue, Study& s) {
  const auto* sources = tables_of(root, "source", file);
  if (root.contains("points") && !sources) return;
  if (!sources || sources->empty())
    throw Error(ErrorCode::BadFile, "has no [[source]]", file, "name at least one folder or survey with tiles");
  for (const auto& item : *sources) {
    const TableReader t(item.as_table(), "source", file,
                        {"folder", "in", "survey", "crs", "heights", "unit", "void", "uncertainty", "confidence",
                         "error_reach", "shift", "factor", "correction", "spikes"});
    StudySource source;
    source.survey = t.text("survey");
    const std::string folder = t.text("folder"), in = t.text("in");
    if (!folder.empty() && !in.empty())
      throw Error(ErrorCode::BadFile, "a [[source]] has both folder and in", file, "leave one of them out");
    if (!folder.empty() || !in.empty())
      source.in = place_in(s, folder.empty() ? in : folder);
    else if (!source.survey.empty() && !catalogue.empty())
      source.in = catalogue;
    else
      throw Error(ErrorCode::BadFile, "a [[source]] names no folder, and no survey of a [catalogue]", file,
                  "add folder = \"...\", or survey = \"...\" and a [catalogue]");
    source.crs = t.parsed("crs", [](const std::string& x) { return Crs::parse(x); });
    source.heights = t.parsed("heights", [](const std::string& x) { return HeightReference::parse(x); });
    if (const double hole = t.number("void", std::nan("")); !std::isnan(hole)) source.void_value = hole;
    source.unit = t.parsed("unit", [](const std::string& x) { return parse_length_unit(x); });
    source.uncertainty = stated_uncertainty(t, file, s);
    source.shift = parse_height_shift(t.text("shift"), source.unit.value_or(LengthUnit::Metre),
                                      [&](const std::string& name) { return open_grid(s.folder / name); });
    if (const std::string found = t.text("correction"); !found.empty())
      source.correction = read_correction(read_text_file(s.folder / found, 1 << 24), (s.folder / found).string());
    source.correction.factor = t.number("factor", source.correction.factor);
    source.spikes = t.flag("spikes", false);
    s.sources.push_back(std::move(source));
  }
}

// The files of a [[points]] table: one that is named, or all LAS and LAZ of a folder with what its record says.
void find_points(const TableReader& t, const std::string& file, const Study& s, StudyPoints& p) {
  const std::string folder = t.text("folder"), one = t.text("file");
  if (folder.empty() == one.empty())
    throw Error(ErrorCode::BadFile, "a [[points]] needs a folder or a file", file,
                "add folder = \"...\" or file = \"...\"");
  p.name = folder.empty() ? one : folder;
  if (!one.empty()) {
    p.files = {s.folder / one};
    return;
  }
  for (const TileRecord& tile : open_folder(s.folder / folder).tiles) {
    if (tile.kind != TileKind::Points || !tile.openable) continue;
    p.files.push_back(tile.path);
    p.survey = tile.survey;
    if (tile.date > p.date) p.date = tile.date;
  }
  if (p.files.empty())
    throw Error(ErrorCode::BadFile, fmt::format("the folder {} holds no LAS or LAZ file", folder), file,
                "check its name");
}

void read_points(const toml::table& root, const std::string& file, Study& s) {
  const auto* list = tables_of(root, "points", file);
  if (!list) return;
  for (const auto& item : *list) {
    const TableReader t(
        item.as_table(), "points", file,
        {"folder", "file", "crs", "heights", "unit", "uncertainty", "confidence", "error_reach", "shift", "depths",
         "columns", "class", "find_ground", "water_level", "method", "cell", "longest_edge", "surface"});
    StudyPoints p;
    find_points(t, file, s, p);
    p.open.crs = t.parsed("crs", [](const std::string& x) { return Crs::parse(x); });
    p.open.heights = t.parsed("heights", [](const std::string& x) { return HeightReference::parse(x); });
    p.open.unit = t.parsed("unit", [](const std::string& x) { return parse_length_unit(x); });
    if (t.text("uncertainty") == "points") {
      p.own_uncertainty = true;
      p.uncertainty.reach = t.length("error_reach");
    } else {
      p.uncertainty = stated_uncertainty(t, file, s);
    }
    p.open.depths = t.flag("depths", false);
    p.open.columns = t.text("columns");
    p.shift = parse_height_shift(t.text("shift"), p.open.unit.value_or(LengthUnit::Metre),
                                 [&](const std::string& name) { return open_grid(s.folder / name); });
    for (const std::string& c : t.list("class")) p.classes.push_back(parse_class(c));
    p.find_ground = t.flag("find_ground", false);
    p.water = t.length("water_level");
    p.gridding.methods = {
        t.parsed("method", [](const std::string& x) { return parse_point_method(x); }).value_or(PointStatistic{})};
    if (p.own_uncertainty && !is_estimate(p.gridding.methods[0].method))
      throw Error(ErrorCode::BadFile,
                  fmt::format("a [[points]] asks how sure its points make it, and '{}' picks or counts them",
                              name_of(p.gridding.methods[0])),
                  file, "take another method, or state its uncertainty as a length");
    p.gridding.cell = t.length("cell").value_or(Length());
    p.gridding.longest_edge = t.length("longest_edge").value_or(Length());
    const std::string surface = t.text("surface", "ground");
    if (surface != "ground" && surface != "sea-floor" && surface != "first")
      throw Error(ErrorCode::BadFile, fmt::format("surface = \"{}\" in [[points]] is not understood", surface), file,
                  "use ground, sea-floor or first");
    p.gridding.surface = surface == "ground"  ? SurfaceKind::Ground
                         : surface == "first" ? SurfaceKind::FirstReturn
                                              : SurfaceKind::SeaFloor;
    s.points.push_back(std::move(p));
  }
}

// [check]: a profile and thresholds by name; [control]: points and what they do not say themselves.
void read_check(const toml::table& root, const std::string& file, Study& s) {
  const toml::table* table = table_of(root, "check", file);
  std::vector<std::string> names{"profile", "streams"};
  for (const ThresholdInfo& i : threshold_table()) names.push_back(i.name);
  const TableReader t(table, "check", file, names);
  s.thresholds = Thresholds::of(
      t.parsed("profile", [](const std::string& x) { return parse_profile(x); }).value_or(Profile::Survey));
  for (const ThresholdInfo& i : threshold_table()) {
    if (!table || !table->contains(i.name)) continue;
    // Lengths are text with a unit, numbers are numbers.
    if (std::string_view(i.unit) == "m")
      t.parsed(i.name, [&](const std::string& x) {
        s.thresholds.set(i.name, x);
        return true;
      });
    else
      s.thresholds.set(i.name, fmt::format("{}", t.number(i.name, 0)));
  }
  if (const std::string lines = t.text("streams"); !lines.empty()) s.streams = s.folder / lines;
  const TableReader control(table_of(root, "control", file), "control", file,
                            {"file", "crs", "heights", "unit", "error"});
  if (!control) return;
  s.control = s.folder / control.text("file");
  s.control_crs = control.parsed("crs", [](const std::string& x) { return Crs::parse(x); });
  s.control_heights = control.parsed("heights", [](const std::string& x) { return HeightReference::parse(x); });
  s.control_unit = control.parsed("unit", [](const std::string& x) { return parse_length_unit(x); });
  s.control_error = control.length("error").value_or(Length());
}

}  // namespace

Study read_study(const fs::path& path, const std::string& other_catalogue) {
  return read_study_text(read_text_file(path, 1 << 20), path, other_catalogue);
}

std::string with_setting(const std::string& text, const std::string& setting) {
  const auto equals = setting.find('=');
  const auto bad = [&](const std::string& why) {
    return Error(ErrorCode::BadArgument, fmt::format("'{}' {}", setting, why), "--set",
                 "write table.key=value, such as frame.cell=2m or product.0.interval=5m");
  };
  if (equals == setting.npos || equals == 0) throw bad("is no setting");
  toml::table root = toml::parse(text);
  // A value as TOML has it, else a text.
  toml::table value;
  const std::string told = setting.substr(equals + 1);
  try {
    value = toml::parse("v = " + told);
  } catch (const toml::parse_error&) {
    value.insert_or_assign("v", told);
  }
  toml::node* at = &root;
  std::string rest = setting.substr(0, equals);
  for (auto dot = rest.find('.'); dot != rest.npos; dot = rest.find('.')) {
    const std::string name = rest.substr(0, dot);
    rest.erase(0, dot + 1);
    toml::node* next = nullptr;
    if (auto* list = at->as_array()) {
      const auto n = parse_number(name);
      if (!n || *n < 0 || *n >= static_cast<double>(list->size()))
        throw bad(fmt::format("counts beyond the {} there are", list->size()));
      next = list->get(static_cast<std::size_t>(*n));
    } else if (auto* table = at->as_table()) {
      if (!table->contains(name)) table->insert(name, toml::table{});
      next = table->get(name);
    }
    if (!next || !(next->is_table() || next->is_array()))
      throw bad(fmt::format("names no place: '{}' is a value", name));
    at = next;
  }
  auto* table = at->as_table();
  if (!table) throw bad("names no key");
  table->insert_or_assign(rest, *value.get("v"));
  std::ostringstream out;
  out << toml::default_formatter(root) << "\n";
  return out.str();
}

StudyRecord read_record_of_run(const fs::path& path) {
  const auto j = nlohmann::json::parse(read_text_file(path, 1 << 28), nullptr, false);
  const auto word = [](const nlohmann::json& o, const char* key) {
    return o.is_object() && o.contains(key) && o[key].is_string() ? o[key].get<std::string>() : std::string();
  };
  StudyRecord r{.folder = path.parent_path(),
                .study_file = word(j, "study_path"),
                .study_text = word(j, "study_text"),
                .inputs = {}};
  if (r.study_text.empty() || r.study_file.empty())
    throw Error(ErrorCode::BadFile, "is no record of a run", path.string(),
                "name the run.json that a study left in its folder");
  if (j.contains("inputs") && j["inputs"].is_array())
    for (const auto& i : j["inputs"]) r.inputs.push_back({word(i, "path"), word(i, "sha256")});
  return r;
}

std::vector<std::string> changed_inputs(const StudyRecord& record) {
  std::vector<std::string> out;
  std::error_code ec;
  for (const auto& i : record.inputs) {
    if (is_url(i.path.native())) continue;
    if (!fs::is_regular_file(i.path, ec))
      out.push_back(i.path.filename().string() + ": gone");
    else if (fs::file_size(i.path, ec) == 0 || checksum_of(i.path) != i.sha256)
      out.push_back(i.path.filename().string() + ": changed");
  }
  return out;
}

namespace {

void read_area_of(const toml::table& root, const std::string& file, Study& s) {
  const TableReader area(table_of(root, "area", file), "area", file,
                         {"file", "box", "circle", "place", "gazetteer", "margin"});
  if (!area) throw Error(ErrorCode::BadFile, "has no [area]", file, "add [area] with file, box or circle");
  if (const std::string f = area.text("file"); !f.empty())
    s.area = read_area(s.folder / f);
  else if (const auto a = area.parsed("box", [](const std::string& t) { return parse_area("box:" + t); }))
    s.area = *a;
  else if (const auto c = area.parsed("circle", [](const std::string& t) { return parse_area("circle:" + t); }))
    s.area = *c;
  else if (const std::string place = area.text("place"); !place.empty())
    s.area = read_gazetteer(s.folder / area.text("gazetteer", "gazetteer.geojson")).area_of(place);
  else
    throw Error(ErrorCode::BadFile, "[area] names neither file, box, circle nor place", file, "add one of them");
  s.margin = area.length("margin").value_or(Length());
}

void read_frame(const toml::table& root, const std::string& file, Study& s) {
  const TableReader frame(table_of(root, "frame", file), "frame", file, {"crs", "cell", "sheets", "heights", "unit"});
  s.crs = frame.text("crs");
  s.cell = frame.parsed("cell", [](const std::string& x) { return parse_cell_edge(x); });
  s.sheets = frame.parsed("sheets", [](const std::string& x) { return parse_cell_edge(x); });
  s.heights = frame.parsed("heights", [](const std::string& x) { return HeightReference::parse(x); })
                  .value_or(HeightReference());
  if (!s.crs.empty() && s.crs != "utm")
    if (const auto crs = frame.parsed("crs", [](const std::string& x) { return Crs::parse(x); });
        crs->heights().known()) {
      if (s.heights.known() && !(s.heights == crs->heights()))
        throw Error(ErrorCode::BadFile,
                    fmt::format("[frame] has heights above {} and a crs with heights above {}", s.heights.name(),
                                crs->heights().name()),
                    file, "give one of them");
      s.heights = crs->heights();
    }
  s.heights = s.heights.as_heights();
  s.unit = frame.parsed("unit", [](const std::string& x) { return parse_length_unit(x); });
}

void read_level(const toml::table& root, const std::string& file, Study& s) {
  const TableReader t(table_of(root, "level", file), "level", file, {"fit", "hold", "control", "each_tile"});
  if (!t) return;
  StudyLevel l{.hold = t.list("hold"), .by_control = t.flag("control", false), .each_tile = t.flag("each_tile", false)};
  l.fit = t.parsed("fit", [](const std::string& x) { return parse_level_fit(x); }).value_or(LevelFit::Offsets);
  if (l.by_control && !root.contains("control"))
    t.refuse("control", "[level] is held by control points, and there is no [control]", "add [control] with a file");
  if (l.hold.empty() && !l.by_control)
    throw Error(ErrorCode::BadFile, "[level] holds nothing: nothing says which level is right", file,
                "add hold = [\"a survey\"], or control = true");
  s.level = std::move(l);
}

void read_mosaic(const toml::table& root, const std::string& file, Study& s) {
  const TableReader m(table_of(root, "mosaic", file), "mosaic", file, {"prefer", "feather", "tiles"});
  s.mosaic.feather = m.length("feather").value_or(Length());
  const std::string tiles = m.text("tiles", "all");
  if (tiles != "all" && tiles != "needed")
    throw Error(ErrorCode::BadFile, fmt::format("tiles = \"{}\" in [mosaic] is not understood", tiles), file,
                "use all (older tiles show through voids) or needed");
  s.all_tiles = tiles == "all";
  if (const auto words = m.list("prefer"); !words.empty()) {
    s.mosaic.prefer.clear();
    try {
      for (const std::string& w : words) s.mosaic.prefer.push_back(parse_preference(w));
    } catch (const Error& e) {
      throw Error(ErrorCode::BadFile, e.problem(), file + ", prefer", e.advice());
    }
  }
}

void read_water(const toml::table& root, const std::string& file, Study& s) {
  const TableReader water(table_of(root, "water", file), "water", file,
                          {"file", "kind", "find", "sea", "above", "island"});
  if (!water) return;
  StudyWater& w = s.water.emplace();
  if (const std::string shapes = water.text("file"); !shapes.empty()) {
    w.file = s.folder / shapes;
    read_layer(w.file);  // what cannot be read is said before anything is made
  }
  w.kind = water.parsed("kind", [](const std::string& x) { return parse_water_kind(x); }).value_or(WaterKind::Unknown);
  w.find = water.flag("find", false);
  w.sea = water.length("sea");
  w.above = water.length("above");
  w.smallest_island = water.parsed("island", [](const std::string& x) { return parse_square_metres(x); });
  if (w.file.empty() && !w.find && !w.sea)
    throw Error(ErrorCode::BadFile, "[water] does not say where water is", file,
                "add file = \"water.gpkg\", find = true or sea = \"0m\"");
}

void read_fill_and_move(const toml::table& root, const std::string& file, Study& s) {
  const TableReader fill(table_of(root, "fill", file), "fill", file,
                         {"largest", "edges", "method", "second", "blend", "streams", "skip"});
  s.fill = !fill.flag("skip", false);
  s.fill_options.largest = fill.length("largest");
  s.fill_options.edges = fill.flag("edges", false);
  s.fill_options.method =
      fill.parsed("method", [](const std::string& x) { return parse_fill_method(x); }).value_or(FillMethod::Usual);
  s.fill_options.blend = fill.length("blend").value_or(Length());
  if (const std::string second = fill.text("second"); !second.empty()) {
    s.fill_second = s.folder / second;
    const Grid surface = open_grid(s.fill_second);
    s.fill_options.second = s.heights.known() ? to_heights(surface, s.heights) : surface;
  }
  if (const std::string streams = fill.text("streams"); !streams.empty())
    s.fill_streams = read_layer(s.folder / streams);
  const TableReader move(table_of(root, "reproject", file), "reproject", file, {"resample"});
  s.resampling =
      move.parsed("resample", [](const std::string& x) { return parse_resampling(x); }).value_or(Resampling::Automatic);
}

}  // namespace

Study read_study_text(std::string text, const fs::path& path, const std::string& other_catalogue) {
  Study s;
  s.file = path;
  s.folder = path.parent_path();
  s.text = std::move(text);
  const std::string file = path.string();
  toml::table root;
  try {
    root = toml::parse(s.text, file);
  } catch (const toml::parse_error& e) {
    throw Error(ErrorCode::BadFile, std::string(e.description()),
                fmt::format("{} line {}", file, e.source().begin.line), "mend the study file");
  }
  const TableReader top(&root, "study", file,
                        {"title", "pages", "area", "catalogue", "source", "points", "frame", "level", "mosaic", "water",
                         "fill", "reproject", "check", "control", "reference", "product"});
  s.title = top.text("title", path.stem().string());
  s.pages = top.flag("pages", true);
  read_area_of(root, file, s);
  const TableReader catalogue(table_of(root, "catalogue", file), "catalogue", file, {"in"});
  const std::string in = catalogue.text("in");
  read_sources(root, file, !other_catalogue.empty() ? other_catalogue : in.empty() ? in : place_in(s, in), s);

  read_points(root, file, s);

  read_frame(root, file, s);
  read_level(root, file, s);
  read_mosaic(root, file, s);
  read_water(root, file, s);
  read_fill_and_move(root, file, s);
  read_check(root, file, s);
  const TableReader reference(table_of(root, "reference", file), "reference", file, {"file"});
  if (reference) s.reference = s.folder / reference.text("file");
  if (const auto* products = tables_of(root, "product", file))
    for (const auto& item : *products) s.products.push_back(read_product(item.as_table(), file, s));
  return s;
}

}  // namespace katoptra
