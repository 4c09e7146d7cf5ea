// What a verb says when it is done: for people, or as JSON.
#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <iterator>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

// What is no row of the table of formats: pictures and solids, by their ending.
constexpr std::pair<const char*, const char*> kOpens[] = {
    {".png", "anything that shows pictures"},   {".jpg", "anything that shows pictures"},
    {".svg", "drawing programs and browsers"},  {".pdf", "anything that shows PDF"},
    {".stl", "slicers for printing"},           {".3mf", "slicers for printing, which learn its unit from it"},
    {".obj", "programs that model and render"}, {".glb", "browsers, game engines, programs that model and render"}};

// Empty where there is nothing to say: grids are for whatever opens grids.
std::string opens_in(const std::string& file) {
  if (const Format* f = format_of(file, Holds::Features, Use::Written); f && !f->opened_by.empty()) return f->opened_by;
  for (const auto& [ending, text] : kOpens)
    if (has_ending(file, ending)) return text;
  return {};
}

}  // namespace

std::string place_text(const Bounds& b, const Crs& crs) {
  if (!crs.is_geographic()) {
    // Numbers that may well be degrees keep their places.
    const int places = !crs && b.west >= -360 && b.east <= 360 && b.south >= -90 && b.north <= 90 ? 6 : 2;
    return fmt::format("x {1:.{0}f} to {2:.{0}f}, y {3:.{0}f} to {4:.{0}f}", places, b.west, b.east, b.south, b.north);
  }
  return fmt::format("{:.6f} to {:.6f} east, {:.6f} to {:.6f} north", b.west, b.east, b.south, b.north);
}

std::string cell_text(const Frame& f) {
  const GroundSpacing s = ground_spacing(f);
  const auto& u = f.crs().unit_name();
  const std::string own = f.crs().is_geographic()
                              ? fmt::format("{:.6g}\" x {:.6g}\"", f.cell().x * 3600, f.cell().y * 3600)
                              : fmt::format("{:.6g} x {:.6g} {}", f.cell().x, f.cell().y, f.crs() ? u : "");
  if (!f.crs()) return own + "(no CRS: ground spacing not known)";
  return fmt::format("{}; true ground spacing {:.4f} x {:.4f} m", own, s.x.metres(), s.y.metres());
}

std::string height_text(const Quantity& q) {
  return fmt::format("{}, {}{}{}", q.heights.known() ? q.heights.name() : "reference not stated", symbol(q.unit),
                     q.unit_known ? "" : " (taken for granted)",
                     q.surface == SurfaceKind::Unknown ? "" : std::string("; of the ") + name_of(q.surface));
}

std::string range_text(double lowest, double highest, const Quantity& q) {
  if (std::isnan(lowest)) return "nothing but voids";
  // Classes by their names.
  const auto classes = classes_of(q.kind);
  const auto known = static_cast<double>(classes.size());
  if (lowest >= 1 && highest <= known)
    return fmt::format("{:g} ({}) to {:g} ({})", lowest, classes[static_cast<std::size_t>(lowest) - 1], highest,
                       classes[static_cast<std::size_t>(highest) - 1]);
  const std::string unit = unit_name(q);
  return fmt::format("{:.6g} to {:.6g}{}", lowest, highest, unit.empty() ? "" : " " + unit);
}

namespace {
ordered_json number_or_null(double v) { return std::isnan(v) ? ordered_json(nullptr) : ordered_json(v); }
}  // namespace

ordered_json info_json(const GridInfo& info) {
  const Frame& f = info.frame;
  const GroundSpacing s = ground_spacing(f);
  ordered_json j;
  j["cols"] = f.cols();
  j["rows"] = f.rows();
  j["crs"] = f.crs() ? ordered_json(f.crs().label()) : ordered_json(nullptr);
  j["crs_name"] = f.crs() ? ordered_json(f.crs().name()) : ordered_json(nullptr);
  j["bounds"] = {f.west(), f.south(), f.east(), f.north()};
  j["cell"] = {f.cell().x, f.cell().y};
  j["ground_spacing_m"] = f.crs() ? ordered_json{s.x.metres(), s.y.metres()} : ordered_json(nullptr);
  j["quantity"] = name_of(info.quantity.kind);
  j["unit"] = unit_name(info.quantity);
  j["unit_known"] = info.quantity.unit_known;
  j["heights"] = info.quantity.heights.name();
  j["surface"] = name_of(info.quantity.surface);
  j["type"] = name_of(info.type);
  return j;
}

void Statement::title(const std::string& text) {
  text_ += text + "\n";
  json_["path"] = text;
}

void Statement::line(const std::string& key, const std::string& text) {
  text_ += fmt::format("  {:<10} {}\n", key, text);
}

void Statement::note(const std::string& text) {
  line("note", text);
  json_["notes"].push_back(text);
}

std::string part_text(std::int64_t part, std::int64_t whole, const std::string& things) {
  if (part == 0) return "none";
  const double percent = 100.0 * static_cast<double>(part) / static_cast<double>(whole);
  const std::string share = percent < 0.001 ? "below 0.001" : fmt::format("{:.{}f}", percent, percent < 1 ? 3 : 1);
  return fmt::format("{} of {} {} ({} %)", part, whole, things, share);
}

void Statement::notes(const GridInfo& input, const std::vector<std::string>& own) {
  for (const std::string& n : input.notes) note(n);
  for (const std::string& n : own) note(n);
}

namespace {

std::string uncertainty_text(const WriteReport& r) {
  const auto& u = r.uncertainty;
  const std::int64_t values = r.cells - r.voids;
  std::string text = fmt::format("{:.3g} to {:.3g} {} (standard), rms {:.3g}; ", u.lowest, u.highest,
                                 unit_name(r.info.quantity), u.rms);
  text += u.cells == values
              ? "all "
              : fmt::format("{:.1f} % ", 100.0 * static_cast<double>(u.cells) / static_cast<double>(values));
  text += "of the cells known";
  if (r.info.error_reach) text += "; errors go together over " + format_length(*r.info.error_reach);
  return text;
}

}  // namespace

void Statement::written(const WriteReport& r) {
  const Frame& f = r.info.frame;
  title(r.path.string());
  const std::string hole = !r.void_value               ? "none"
                           : std::isnan(*r.void_value) ? "nan"
                                                       : fmt::format("{:g}", *r.void_value);
  line("size", fmt::format("{} x {} cells, {}, {} ({}), {}, void value {}", f.cols(), f.rows(),
                           format_bytes(static_cast<double>(r.bytes)), r.format, r.compression, name_of(r.type), hole));
  if (!r.beside.empty()) {
    std::string names;
    for (const auto& b : r.beside) names += (names.empty() ? "" : ", ") + b.filename().string();
    line("beside", names);
  }
  line("CRS", f.crs() ? fmt::format("{}{}", f.crs().epsg() ? f.crs().code() + " " : "", f.crs().name()) : "none");
  line("cell", cell_text(f));
  if (r.info.quantity.kind == QuantityKind::Height) line("heights", height_text(r.info.quantity));
  line("range", range_text(r.lowest, r.highest, r.info.quantity));
  line("voids", part_text(r.voids, r.cells, "cells"));
  if (const auto& u = r.uncertainty; u.cells > 0) {
    line("uncertain", uncertainty_text(r));
    json_["uncertainty"] = {{"cells", u.cells}, {"lowest", u.lowest}, {"highest", u.highest}, {"rms", u.rms}};
  }
  if (!r.info.sources.empty()) {
    std::string names;
    for (std::size_t i = 0; i < r.info.sources.size() && i < 4; ++i) names += (i ? ", " : "") + r.info.sources[i].name;
    if (r.info.sources.size() > 4) names += fmt::format(" and {} more", r.info.sources.size() - 4);
    line("sources", names);
  }
  if (!r.lineage_path.empty()) {
    std::string how;
    for (How h : kHows)
      if (const auto n = r.by_how[static_cast<int>(h)])
        how += fmt::format("{}{} {}", how.empty() ? "" : ", ", n, name_of(h));
    line("lineage", fmt::format("{} ({})", r.lineage_path.string(), how));
  }
  json_.update(info_json(r.info));
  json_["format"] = r.format;
  json_["compression"] = r.compression;
  json_["beside"] = ordered_json::array();
  for (const auto& b : r.beside) json_["beside"].push_back(b.string());
  json_["type"] = name_of(r.type);
  json_["bytes"] = r.bytes;
  json_["void_value"] = r.void_value && !std::isnan(*r.void_value) ? ordered_json(*r.void_value) : ordered_json(hole);
  json_["range"] = {number_or_null(r.lowest), number_or_null(r.highest)};
  json_["cells"] = r.cells;
  json_["voids"] = r.voids;
  json_["sources"] = ordered_json::array();
  for (const SourceRecord& s : r.info.sources) json_["sources"].push_back(s.name);
  if (!r.lineage_path.empty()) json_["lineage"] = r.lineage_path.string();
  json_["seconds"] = std::round(r.seconds * 1000) / 1000;
  json_["notes"] = ordered_json::array();
  for (const std::string& n : r.info.notes) note(n);
}

void Statement::print() {
  if (const std::string who = opens_in(common_.out); !who.empty() && !common_.dry_run) {
    line("opens in", who);
    json_["opens_in"] = who;
  }
  if (const Traffic t = traffic(); t.requests > 0) {
    const std::string of = t.files ? fmt::format(" of {} in {} file{}", format_bytes(static_cast<double>(t.file_bytes)),
                                                 t.files, t.files == 1 ? "" : "s")
                                   : "";
    line("network", fmt::format("{}{} moved, in {} request{}", format_bytes(static_cast<double>(t.bytes)), of,
                                t.requests, t.requests == 1 ? "" : "s"));
    json_["network"] = {{"bytes", t.bytes}, {"requests", t.requests}, {"file_bytes", t.file_bytes}};
  }
  if (common_.json)
    std::fputs((json_.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
  else if (!common_.quiet)
    std::fputs(text_.c_str(), stdout);
}

void write_or_plan(const Grid& grid, const Common& c, Statement& s, bool lineage) {
  WriteOptions o = c.write_options();
  o.lineage = lineage;
  if (!c.sheets.empty() || !c.part.empty()) {
    write_as_sheets(grid, c, o, s);
  } else if (c.dry_run) {
    const Frame& f = grid.frame();
    s.title(c.out);
    s.line("plan", fmt::format("{} x {} cells, up to {} before compression; nothing was written", f.cols(), f.rows(),
                               format_bytes(static_cast<double>(f.cols()) * static_cast<double>(f.rows()) *
                                            bytes_per_sample(grid.info().type))));
    s.json().update(info_json(grid.info()));
    s.json()["dry_run"] = true;
    s.line("CRS", f.crs().label());
    s.line("cell", cell_text(f));
    for (const std::string& n : grid.info().notes) s.note(n);
  } else {
    s.written(write_grid(grid, c.out, o));
  }
}

int write_and_state(const Grid& grid, const Common& c, const std::vector<std::string>& notes, bool lineage) {
  Statement s(c);
  write_or_plan(grid, c, s, lineage);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

void say_layer(const LayerReport& r, std::vector<std::string>& notes) {
  std::string names;
  for (const auto& b : r.beside) names += (names.empty() ? "" : ", ") + b.filename().string();
  if (!names.empty()) notes.push_back(fmt::format("{} belong{} to it", names, r.beside.size() == 1 ? "s" : ""));
  notes.insert(notes.end(), r.notes.begin(), r.notes.end());
}

Layer as_drawn(const Layer& layer, const std::string& out, const Crs& crs) {
  if (!has_ending(out, ".dxf") || !layer.crs || !layer.crs.is_geographic() || !crs || crs.is_geographic()) return layer;
  const Transform t(layer.crs, crs);
  Layer drawn = layer;
  drawn.crs = crs.with_heights({});
  for (Feature& f : drawn.features) f = carried(std::move(f), t);
  return drawn;
}

void write_features(const Layer& layer, const Common& c, std::vector<std::string>& notes) {
  const LayerReport r = write_layer(layer, c.out, {.overwrite = c.overwrite});
  say_place(layer, c.out, notes);
  say_layer(r, notes);
}

void say_place(const Layer& layer, const std::string& out, std::vector<std::string>& notes) {
  const Format* format = format_of(out, Holds::Features, Use::Written);
  const bool lonlat = format && format->lonlat, high = std::any_of(layer.features.begin(), layer.features.end(),
                                                                   [](const Feature&f) { return !f.heights.empty(); });
  std::string text = lonlat      ? "it is in longitude and latitude (EPSG:4326)"
                     : layer.crs ? "it is in " + layer.crs.label()
                                 : "it has no CRS: nobody can tell where it lies";
  if (high) text += fmt::format(", heights in {}", lonlat || !layer.unit ? "m" : symbol(*layer.unit));
  notes.push_back(text);
}

void write_picture(const Picture& p, const std::string& path, bool overwrite) {
  write_file(path, p.bytes, {.overwrite = overwrite});
}

}  // namespace katoptra::cli
