#include "katoptra/formats/look.hpp"

#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"

#include "common.hpp"
#include "points_common.hpp"

namespace katoptra::cli {
namespace {

struct LookCommand : Common {
  std::vector<std::string> files;
  bool quick = false;
};

ordered_json range_json(double low, double high) {
  return std::isnan(low) ? ordered_json{nullptr, nullptr} : ordered_json{low, high};
}

ordered_json void_json(const GridInfo& info) {
  if (!info.file_void) return nullptr;
  return std::isnan(*info.file_void) ? ordered_json("nan") : ordered_json(*info.file_void);
}

void grid_json(const GridFile& file, const std::optional<Statistics>& stats, ordered_json& j) {
  const FileFacts& f = file.facts;
  const GridInfo& info = file.grid.info();
  j["format"] = f.format;
  j["bytes"] = f.bytes;
  j["compression"] = f.compression;
  j["layout"] = f.layout;
  j["beside"] = f.beside;
  j.update(info_json(info));
  j["crs_in_file"] = f.crs_name;
  j["pixel_is_point"] = f.pixel_is_point;
  j["bands"] = f.bands;
  j["band"] = f.band;
  j["uncertainty"] = file.grid.carries_uncertainty();
  j["void_value"] = void_json(info);
  j["date"] = f.date;
  j["date_guessed"] = f.date_guessed;
  j["survey"] = f.survey;
  j["description"] = f.description;
  j["sources"] = ordered_json::array();
  for (const SourceRecord& s : info.sources)
    j["sources"].push_back({{"name", s.name}, {"survey", s.survey}, {"date", s.date}, {"treatment", s.treatment}});
  j["notes"] = info.notes;
  if (!stats) return;
  j["range"] = range_json(stats->lowest, stats->highest);
  j["voids"] = stats->voids;
  j["cells"] = stats->cells;
  const bool any = stats->cells > stats->voids;
  j["mean"] = any ? ordered_json(stats->mean) : ordered_json(nullptr);
  j["deviation"] = any ? ordered_json(stats->deviation) : ordered_json(nullptr);
  j["percentiles"] = any ? ordered_json(stats->percentiles) : ordered_json(nullptr);
}

void points_json(const Looked& l, ordered_json& j) {
  const PointFileFacts& f = l.points->facts;
  const PointInfo& info = l.points->cloud.info();
  j["format"] = f.format;
  j["bytes"] = f.bytes;
  j["compression"] = f.compression;
  j["point_format"] = f.record_format;
  j["record_length"] = f.record_length;
  j["declared_points"] = f.declared;
  j["crs_in_file"] = f.crs_name;
  j["system"] = f.system;
  j["software"] = f.software;
  j["date"] = f.date;
  j["date_guessed"] = f.date_guessed;
  j["survey"] = f.survey;
  j["attributes"] = ordered_json::array();
  for (const ExtraAttribute& a : info.extra)
    j["attributes"].push_back({{"name", a.name}, {"description", a.description}});
  j["notes"] = info.notes;
  Common plain;
  Statement s(plain);
  if (l.summary)
    state_summary(*l.summary, info, s);
  else
    state_points(info, f.declared, info.bounds, info.lowest, info.highest, s);
  j.update(s.json());
}

void points_text(const Looked& l, Statement& s) {
  const PointFileFacts& f = l.points->facts;
  const PointInfo& info = l.points->cloud.info();
  s.line("kind", fmt::format("{}, point format {}, {}, {}", f.format, f.record_format,
                             format_bytes(static_cast<double>(f.bytes)), f.compression));
  if (!f.software.empty()) s.line("made by", f.software);
  if (l.summary)
    state_summary(*l.summary, info, s);
  else
    state_points(info, f.declared, info.bounds, info.lowest, info.highest, s);
  std::string names;
  for (const ExtraAttribute& a : info.extra) names += (names.empty() ? "" : ", ") + a.name;
  if (!names.empty()) s.line("attributes", names);
  s.line("date", f.date + (f.date_guessed ? " (a guess: the file time)" : ""));
  if (!f.survey.empty()) s.line("survey", f.survey);
  for (const std::string& n : info.notes) s.line("note", n);
}

ordered_json look_json(const Looked& l) {
  ordered_json j;
  j["path"] = l.path.string();
  if (l.file) {
    j["kind"] = "grid";
    grid_json(*l.file, l.statistics, j);
    if (const auto& u = l.uncertainty)
      j["uncertainties"] = {
          {"lowest", u->lowest},
          {"highest", u->highest},
          {"median", u->percentiles[3]},
          {"cells", u->cells - u->voids},
          {"error_reach_m", l.file->grid.info().error_reach ? ordered_json(l.file->grid.info().error_reach->metres())
                                                            : ordered_json(nullptr)}};
  } else if (l.points) {
    j["kind"] = "points";
    points_json(l, j);
  } else {
    const XyzFacts& x = *l.soundings;
    j["kind"] = "soundings";
    j["points"] = x.points;
    j["crs"] = x.crs ? ordered_json(x.crs.label()) : ordered_json(nullptr);
    j["bounds"] = {x.bounds.west, x.bounds.south, x.bounds.east, x.bounds.north};
    j["columns"] = x.column_names;
    j["depths_turned"] = x.depths;
    j["range"] = range_json(x.lowest, x.highest);
  }
  j["proposed_crs"] = ordered_json::array();
  for (const CrsProposal& p : l.proposals) j["proposed_crs"].push_back({{"crs", p.crs.label()}, {"why", p.why}});
  j["suspicious"] = ordered_json::array();
  j["findings"] = ordered_json::array();
  for (const Suspicion& s : l.suspicious) {
    j["suspicious"].push_back(s.message);
    j["findings"].push_back({{"code", s.code}, {"message", s.message}, {"advice", s.advice}});
  }
  return j;
}

std::string joined(const std::vector<std::string>& words) {
  std::string text;
  for (const std::string& w : words) text += (text.empty() ? "" : ", ") + w;
  return text;
}

void grid_text(const GridFile& file, const std::optional<Statistics>& stats, const std::optional<Statistics>& sure,
               Statement& s) {
  const GridInfo& info = file.grid.info();
  const Frame& f = info.frame;
  s.line("kind", fmt::format("{}, {}, {}, {}", file.facts.format, format_bytes(static_cast<double>(file.facts.bytes)),
                             file.facts.compression, file.facts.layout));
  if (!file.facts.beside.empty()) s.line("beside", joined(file.facts.beside));
  s.line("values", fmt::format("{}, {}, void value {}", name_of(info.quantity.kind), name_of(info.type),
                               !info.file_void               ? "not declared"
                               : std::isnan(*info.file_void) ? "nan"
                                                             : fmt::format("{:g}", *info.file_void)));
  if (!file.facts.bands.empty())
    s.line("bands", joined(file.facts.bands) + (file.facts.bands.size() > 1 ? "; read: " + file.facts.band : ""));
  s.line("size", fmt::format("{} x {} cells", f.cols(), f.rows()));
  s.line("CRS", f.crs() ? fmt::format("{}{}", f.crs().epsg() ? f.crs().code() + " " : "", f.crs().name()) : "none");
  s.line("lies", place_text(f.bounds(), f.crs()));
  s.line("cell", cell_text(f) + (file.facts.pixel_is_point ? " (samples at nodes)" : ""));
  if (info.quantity.kind == QuantityKind::Height) s.line("heights", height_text(info.quantity));
  if (stats) {
    s.line("range", range_text(stats->lowest, stats->highest, info.quantity) +
                        (std::isnan(stats->mean) || is_coded(info.quantity.kind)
                             ? ""
                             : fmt::format(", mean {:.6g}, median {:.6g}", stats->mean, stats->percentiles[3])));
    s.line("voids", part_text(stats->voids, stats->cells, "cells"));
  }
  if (sure && stats)
    s.line("uncertain",
           fmt::format("{:.3g} to {:.3g} {} (standard), median {:.3g}; {} of the cells known{}", sure->lowest,
                       sure->highest, unit_name(info.quantity), sure->percentiles[3],
                       sure->voids == stats->voids
                           ? "all"
                           : part_text(sure->cells - sure->voids, stats->cells - stats->voids, "cells"),
                       info.error_reach ? "; errors go together over " + format_length(*info.error_reach) : ""));
  s.line("date", file.facts.date + (file.facts.date_guessed ? " (a guess: the file time)" : ""));
  if (!file.facts.survey.empty()) s.line("survey", file.facts.survey);
  for (const std::string& n : info.notes) s.line("note", n);
}

void soundings_text(const XyzFacts& x, Statement& s) {
  s.line("kind", fmt::format("soundings in text, {} points", x.points));
  s.line("columns", fmt::format("{}, {}, {}{}", x.column_names[0], x.column_names[1], x.column_names[2],
                                x.depths ? " (depths, turned into heights)" : ""));
  s.line("CRS", x.crs ? x.crs.label() + " " + x.crs.name() : "none");
  s.line("lies", place_text(x.bounds, x.crs));
  s.line("range", fmt::format("{:.6g} to {:.6g}", x.lowest, x.highest));
}

void look_text(const Looked& l, const LookCommand& o) {
  Statement s(o);
  s.title(l.path.string());
  if (l.file)
    grid_text(*l.file, l.statistics, l.uncertainty, s);
  else if (l.points)
    points_text(l, s);
  else
    soundings_text(*l.soundings, s);
  for (const Suspicion& x : l.suspicious) {
    s.line("suspicious", x.message);
    if (!x.advice.empty()) s.line("", "-> " + x.advice);
  }
  s.print();
}

// The file whose sidecar this is; empty when it is none.
std::string belongs_to(const std::string& path) {
  namespace fs = std::filesystem;
  const fs::path p = path;
  const std::string name = p.filename().string();
  if (name == "survey.toml") return "the files of its folder";
  const auto lineage = name.find(".lineage.");
  std::error_code ec;
  for (auto it = fs::directory_iterator(p.has_parent_path() ? p.parent_path() : ".", ec);
       !ec && it != fs::directory_iterator(); it.increment(ec)) {
    const fs::path& other = it->path();
    const std::string owner = other.filename().string();
    if (owner == name || !format_of(other)) continue;
    if (lineage != name.npos && (other.stem().string() == name.substr(0, lineage) || owner == name.substr(0, lineage)))
      return owner;
    for (const fs::path& beside : files_beside(other))
      if (beside.filename() == name) return owner;
    // What other programs leave beside their files.
    if (name == owner + ".xml" || name == other.stem().string() + ".xml") return owner;
  }
  return {};
}

// Each file gets its answer: one that cannot be read hides no other. The status is that of the worst.
int look(const LookCommand& o) {
  std::optional<Area> area;
  if (!o.area.empty()) area = area_from(o.area);
  int status = 0;
  ordered_json list = ordered_json::array();
  const auto refused = [&](const std::string& path, const Error& e) {
    if (e.code() == ErrorCode::Cancelled) throw e;
    if (const std::string owner = o.files.size() > 1 ? belongs_to(path) : ""; !owner.empty()) {
      list.push_back({{"path", path}, {"belongs_to", owner}});
      if (!o.json && !o.quiet) fmt::print("{}\n  goes with {}\n", path, owner);
      return;
    }
    status = std::max(status, exit_status(e.code()));
    list.push_back({{"path", path}, {"error", e.what()}});
    if (!o.json) fmt::print(stderr, "katoptra: {}\n", e.what());
  };
  const LookOptions options{
      .open = o.open_options(), .area = area ? &*area : nullptr, .values = !o.quick, .run = o.run()};
  std::vector<std::string> names;
  for (const std::string& given : o.files) try {
      const auto more = expand_inputs({given}, Inputs::All);
      names.insert(names.end(), more.begin(), more.end());
    } catch (const Error& e) {
      refused(given, e);
    }
  const auto tell = [&](const std::vector<std::string>& some) {
    for (const Looked& l : look_at({some.begin(), some.end()}, options)) {
      if (o.json)
        list.push_back(look_json(l));
      else
        look_text(l, o);
    }
  };
  // All at once, for each is held against the others; where one cannot be read, those that can.
  try {
    tell(names);
  } catch (const Error& e) {
    if (e.code() == ErrorCode::Cancelled) throw;
    LookOptions headers = options;
    headers.values = false;
    std::vector<std::string> good;
    for (const std::string& name : names) try {
        look_at({name}, headers);
        good.push_back(name);
      } catch (const Error& bad) {
        refused(name, bad);
      }
    if (!good.empty()) try {
        tell(good);
      } catch (const Error& again) {
        if (good.size() == 1) {
          refused(good[0], again);
          good.clear();
        }
        for (const std::string& name : good) try {
            tell({name});
          } catch (const Error& bad) {
            refused(name, bad);
          }
      }
  }
  if (o.json) {
    std::fputs((list.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
    if (list.size() == 1 && list[0].contains("error"))
      fmt::print(stderr, "katoptra: {}\n", list[0]["error"].get<std::string>());
  }
  return status;
}

}  // namespace

void add_look(CLI::App& app, int& status) {
  auto look_options = std::make_shared<LookCommand>();
  CLI::App* look_verb = app.add_subcommand("look", "what each file is, and what is suspicious about it");
  look_verb->add_option("FILE", look_options->files, "grids, files of points, folders or shortlists")->required();
  look_verb->add_option("--area", look_options->area,
                        "where the files are thought to lie: helps to guess a missing CRS");
  look_verb->add_flag("--quick", look_options->quick, "headers only: no range, no voids");
  add_reading(*look_verb, *look_options, Reading::Assigns);
  add_running(*look_verb, *look_options);
  look_verb->callback([look_options, &status] { status = look(*look_options); });
}

}  // namespace katoptra::cli
