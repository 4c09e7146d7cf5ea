#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

struct LookOptions : Common {
  std::vector<std::string> files;
};

// What is suspicious about a file, in words.
std::vector<std::string> suspicions(const GridFile& file, const Statistics* stats) {
  std::vector<std::string> out = file.facts.problems;
  const GridInfo& info = file.grid.info();
  const bool height = info.quantity.kind == QuantityKind::Height;
  if (!info.frame.crs())
    out.push_back("no coordinate reference system: nobody can say where it lies; tell it with --crs");
  if (height && !info.quantity.heights.known()) out.push_back("does not say from where heights are counted");
  if (height && !info.quantity.unit_known) out.push_back("does not say in which unit heights are; metres are taken");
  if (info.frame.crs().is_mercator()) out.push_back("a Mercator projection: not for measuring");
  const GroundSpacing s = ground_spacing(info.frame);
  const double ratio = s.x / s.y;
  if (info.frame.crs() && !info.frame.crs().is_geographic() && (ratio > 1.02 || ratio < 0.98))
    out.push_back(fmt::format("cells are not square on the ground ({:.2f} x {:.2f} m)", s.x.metres(), s.y.metres()));
  if (file.facts.date_guessed) out.push_back("no date inside: the file time is taken for it");
  if (stats && height && !info.file_void)
    for (double v : {-32768.0, -9999.0, -32767.0})
      if (stats->lowest == v)
        out.push_back(fmt::format("its lowest value is {:g}: a void value that is not declared?", v));
  return out;
}

ordered_json look_json(const GridFile& file, const Statistics* stats, const std::vector<std::string>& found) {
  ordered_json j;
  j["path"] = file.facts.path.string();
  j["format"] = file.facts.format;
  j["bytes"] = file.facts.bytes;
  j["compression"] = file.facts.compression;
  j["layout"] = file.facts.layout;
  j.update(info_json(file.grid.info()));
  j["pixel_is_point"] = file.facts.pixel_is_point;
  j["void_value"] =
      file.grid.info().file_void
          ? std::isnan(*file.grid.info().file_void) ? ordered_json("nan") : ordered_json(*file.grid.info().file_void)
          : ordered_json(nullptr);
  j["date"] = file.facts.date;
  j["date_guessed"] = file.facts.date_guessed;
  j["survey"] = file.facts.survey;
  if (stats) {
    j["range"] =
        std::isnan(stats->lowest) ? ordered_json{nullptr, nullptr} : ordered_json{stats->lowest, stats->highest};
    j["voids"] = stats->voids;
    j["cells"] = stats->cells;
    j["mean"] = std::isnan(stats->mean) ? ordered_json(nullptr) : ordered_json(stats->mean);
  }
  j["suspicious"] = found;
  return j;
}

void look_text(const GridFile& file, const Statistics* stats, const std::vector<std::string>& found, Statement& s) {
  const GridInfo& info = file.grid.info();
  const Frame& f = info.frame;
  s.title(file.facts.path.string());
  s.line("kind", fmt::format("{}, {}, {}, {}", file.facts.format, format_bytes(static_cast<double>(file.facts.bytes)),
                             file.facts.compression, file.facts.layout));
  s.line("values", fmt::format("{}, {}, void value {}", name_of(info.quantity.kind), name_of(info.type),
                               !info.file_void               ? "not declared"
                               : std::isnan(*info.file_void) ? "nan"
                                                             : fmt::format("{:g}", *info.file_void)));
  s.line("size", fmt::format("{} x {} cells", f.cols(), f.rows()));
  s.line("CRS", f.crs() ? fmt::format("{}{}", f.crs().epsg() ? f.crs().code() + " " : "", f.crs().name()) : "none");
  s.line("lies",
         f.crs().is_geographic()
             ? fmt::format("{:.6f} to {:.6f} east, {:.6f} to {:.6f} north", f.west(), f.east(), f.south(), f.north())
             : fmt::format("x {:.2f} to {:.2f}, y {:.2f} to {:.2f}", f.west(), f.east(), f.south(), f.north()));
  s.line("cell", cell_text(f) + (file.facts.pixel_is_point ? " (samples at nodes)" : ""));
  if (info.quantity.kind == QuantityKind::Height) s.line("heights", height_text(info.quantity));
  if (stats) {
    s.line("range", range_text(stats->lowest, stats->highest, info.quantity) +
                        (std::isnan(stats->mean) ? "" : fmt::format(", mean {:.6g}", stats->mean)));
    s.line("voids", fmt::format("{} of {} cells ({:.3g} %)", stats->voids, stats->cells,
                                100.0 * static_cast<double>(stats->voids) / static_cast<double>(stats->cells)));
  }
  s.line("date", file.facts.date + (file.facts.date_guessed ? " (a guess: the file time)" : ""));
  if (!file.facts.survey.empty()) s.line("survey", file.facts.survey);
  for (const std::string& n : info.notes) s.line("note", n);
  for (const std::string& x : found) s.line("suspicious", x);
}

void look(const LookOptions& o) {
  ordered_json list = ordered_json::array();
  const auto files = expand_inputs(o.files);
  for (const std::string& path : files) {
    // A tile that belongs to no grid format stops the command; a damaged one is told about and the rest follows.
    GridFile file = open_grid_file(path, o.open_options());
    std::optional<Statistics> stats;
    std::vector<std::string> damage;
    try {
      stats = statistics(file.grid, o.run());
    } catch (const Error& e) {
      if (e.code() == ErrorCode::Cancelled) throw;
      damage.push_back(e.problem());
    }
    auto found = suspicions(file, stats ? &*stats : nullptr);
    if (file.facts.problems.empty()) found.insert(found.begin(), damage.begin(), damage.end());
    if (o.json) {
      list.push_back(look_json(file, stats ? &*stats : nullptr, found));
      continue;
    }
    Statement s(o);
    look_text(file, stats ? &*stats : nullptr, found, s);
    s.print();
  }
  if (o.json) std::fputs((list.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
}

struct FindCommand : Common {
  std::vector<std::string> in;
  bool complete = false, all = false;
};

std::string short_path(const std::filesystem::path& p) {
  const auto parent = p.parent_path().filename().string();
  return parent.empty() ? p.filename().string() : parent + "/" + p.filename().string();
}

ordered_json find_json(const Shortlist& s) {
  ordered_json j;
  j["covered_fraction"] = s.covered_fraction;
  j["bytes"] = s.bytes;
  j["gap_area_m2"] = s.gap_area;
  j["tiles"] = ordered_json::array();
  for (const ShortlistTile& t : s.tiles) {
    ordered_json k;
    k["path"] = t.tile.path.string();
    k["survey"] = t.tile.survey;
    k["date"] = t.tile.date;
    k["date_guessed"] = t.tile.date_guessed;
    k["kept"] = t.kept;
    k["reason"] = t.reason;
    k["covered_fraction"] = t.covered_fraction;
    k["cell_m"] = t.tile.spacing.y.metres();
    k["crs"] = t.tile.frame && t.tile.frame->crs() ? ordered_json(t.tile.frame->crs().label()) : ordered_json(nullptr);
    k["heights"] = t.tile.quantity.heights.name();
    k["unit"] = symbol(t.tile.quantity.unit);
    k["bytes"] = t.tile.bytes;
    j["tiles"].push_back(std::move(k));
  }
  Layer gaps{.name = "gaps", .crs = s.area.crs(), .features = {}};
  for (const Polygon& p : s.gaps) gaps.features.push_back({MultiPolygon{p}, {}});
  j["gaps"] = ordered_json::parse(to_geojson(gaps));
  return j;
}

std::string find_text(const Shortlist& s) {
  std::size_t kept = 0, path_width = 4, survey_width = 6;
  for (const ShortlistTile& t : s.tiles) {
    kept += t.kept;
    path_width = std::max(path_width, short_path(t.tile.path).size());
    survey_width = std::max(survey_width, t.tile.survey.size());
  }
  std::string text = fmt::format("   {:<{}}  {:<{}}  {:<11} {:>8}  {:>9}  {:>7}  {}\n", "tile", path_width, "survey",
                                 survey_width, "date", "cell", "size", "covers", "why");
  for (const ShortlistTile& t : s.tiles)
    text += fmt::format(" {} {:<{}}  {:<{}}  {:<11} {:>6.3g} m  {:>9}  {:>5.1f} %  {}\n", t.kept ? '+' : '-',
                        short_path(t.tile.path), path_width, t.tile.survey, survey_width,
                        t.tile.date + (t.tile.date_guessed ? "?" : ""), t.tile.spacing.y.metres(),
                        format_bytes(static_cast<double>(t.tile.bytes)), 100 * t.covered_fraction, t.reason);
  text += fmt::format("{} of {} tiles kept, {}; {:.3f} % of the area is covered", kept, s.tiles.size(),
                      format_bytes(static_cast<double>(s.bytes)), 100 * s.covered_fraction);
  text += s.gaps.empty() ? ", no gap\n" : "\n";
  if (std::any_of(s.tiles.begin(), s.tiles.end(),
                  [](const ShortlistTile& t) { return t.reason.starts_with("newer or finer"); }))
    text += "(headers tell where tiles lie, not where they have voids: --all keeps the covered ones, too)\n";
  if (s.gaps.empty()) return text;
  text += fmt::format("{} gap{} of {:.4g} m2 together:\n", s.gaps.size(), s.gaps.size() == 1 ? "" : "s", s.gap_area);
  for (const Polygon& gap : s.gaps) {
    const Bounds b = bounds_of(gap.outer);
    text += fmt::format("   box:{:.6f},{:.6f},{:.6f},{:.6f}{}\n", b.west, b.south, b.east, b.north,
                        s.area.crs().epsg() == 4326 ? "" : "@" + s.area.crs().label());
  }
  return text;
}

void find(const FindCommand& o, int& status) {
  Catalogue catalogue;
  for (const std::string& folder : o.in) {
    Catalogue part = open_folder(folder, {.run = o.run()});
    catalogue.tiles.insert(catalogue.tiles.end(), std::make_move_iterator(part.tiles.begin()),
                           std::make_move_iterator(part.tiles.end()));
  }
  Area area = area_from(o.area);
  if (!o.margin.empty()) area = area.grown(Length::parse(o.margin, LengthUnit::Metre));
  const Shortlist s = find_tiles(catalogue, area, {.all = o.all});
  if (!o.out.empty()) {
    if (std::filesystem::path(o.out).extension() == ".csv")
      write_text_file(o.out, shortlist_csv(s), {.overwrite = o.overwrite});
    else
      write_layer(shortlist_layer(s), o.out, {.overwrite = o.overwrite});
  }
  if (o.json)
    std::fputs((find_json(s).dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
  else if (!o.quiet)
    std::fputs((find_text(s) + (o.out.empty() ? "" : "shortlist written to " + o.out + "\n")).c_str(), stdout);
  if (o.complete && !s.gaps.empty()) status = 1;
}

}  // namespace

void add_look_and_find(CLI::App& app, int& status) {
  auto look_options = std::make_shared<LookOptions>();
  CLI::App* look_verb = app.add_subcommand("look", "what each file is, and what is suspicious about it");
  look_verb->add_option("FILE", look_options->files, "grids, folders or shortlists")->required();
  add_reading(*look_verb, *look_options);
  add_running(*look_verb, *look_options);
  look_verb->callback([look_options] { look(*look_options); });

  auto find_options = std::make_shared<FindCommand>();
  CLI::App* find_verb =
      app.add_subcommand("find", "tiles that cover an area: shortlist, coverage, gaps, size, and why");
  find_verb->add_option("--in", find_options->in, "folders to search, with all below them")->required();
  find_verb->add_option("--area", find_options->area, "box:W,S,E,N, circle:LON,LAT,RADIUS, a vector file or like:FILE")
      ->required();
  find_verb->add_option("--margin", find_options->margin, "this much around the area, e.g. 50m");
  find_verb->add_flag("--all", find_options->all, "keep every tile that touches the area");
  find_verb->add_flag("--complete", find_options->complete, "exit with 1 when a gap is left");
  add_output(*find_verb, *find_options, false);
  add_running(*find_verb, *find_options);
  find_verb->callback([find_options, &status] { find(*find_options, status); });
}

}  // namespace katoptra::cli
