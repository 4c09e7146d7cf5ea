#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>
#include <optional>
#include <set>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/fetch.hpp"
#include "katoptra/check/despike.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/leaving.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/water/water_products.hpp"

#include "base/text.hpp"
#include "journal.hpp"
#include "leaving_products.hpp"
#include "points.hpp"
#include "report.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// Tiles of a study's folders. Where a source assigns references, they are part of what is known of its tiles.
struct Candidates {
  Catalogue catalogue;
  std::vector<const StudySource*> source;  // by tile
};

Candidates gather(const Study& s, const Area& reach, const PlanOptions& options, std::vector<std::string>& notes) {
  Candidates c;
  std::map<std::string, Catalogue> read;
  std::set<fs::path> taken;
  for (const StudySource& source : s.sources) {
    auto [at, fresh] = read.try_emplace(source.in);
    if (fresh) {
      at->second = read_catalogue(source.in, {.area = &reach},
                                  {.hosts = options.hosts, .cache = options.cache, .run = options.run});
      notes.insert(notes.end(), at->second.notes.begin(), at->second.notes.end());
    }
    const TileFilter wanted{.kind = TileKind::Grid, .survey = source.survey};
    for (TileRecord t : at->second.tiles) {
      // A tile that two sources name belongs to the first.
      if (!wanted.refuses(t).empty() || !taken.insert(t.path).second) continue;
      if (t.frame && !t.frame->crs() && source.crs) {
        t.frame = t.frame->with_crs(*source.crs);
        t.spacing = ground_spacing(*t.frame);
      }
      if (!t.quantity.heights.known() && source.heights) t.quantity.heights = *source.heights;
      c.catalogue.tiles.push_back(std::move(t));
      c.source.push_back(&source);
    }
  }
  return c;
}

// Remote tiles of the choice are brought to a folder, and read there from then on.
std::uint64_t bring(Candidates& c, Shortlist& s, const PlanOptions& options) {
  std::vector<ShortlistEntry> entries;
  for (const ShortlistTile& t : s.tiles)
    if (t.kept && t.tile.remote())
      entries.push_back({.path = t.tile.path,
                         .survey = t.tile.survey,
                         .date = t.tile.date,
                         .checksum = t.tile.checksum,
                         .licence = t.tile.licence,
                         .custodian = t.tile.custodian,
                         .date_guessed = t.tile.date_guessed,
                         .access = t.tile.access,
                         .bytes = t.tile.bytes,
                         .box = t.tile.globe_box()});
  if (entries.empty()) return 0;
  const FetchReport r = fetch_tiles(entries, {.folder = options.tiles, .progress = options.run.progress, .say = {}});
  if (const auto missing = r.missing(); !missing.empty())
    throw Error(
        ErrorCode::Network,
        fmt::format("{} of {} tiles could not be fetched: {}", missing.size(), r.tiles.size(), missing[0]->problem),
        options.tiles.string(), "run the study again to go on from there");
  for (const FetchedTile& f : r.tiles) {
    for (ShortlistTile& t : s.tiles)
      if (t.tile.path == f.entry.path) t.tile.path = f.path;
    for (TileRecord& t : c.catalogue.tiles)
      if (t.path == f.entry.path) t.path = f.path;
  }
  return r.moved;
}

// Why a tile's heights cannot be brought to the study's reference; empty when they can.
std::string cannot_be_brought(const TileRecord& t, const StudySource& source, const HeightReference& to) {
  if (t.quantity.heights == to || source.shift.given()) return {};
  const std::string from = t.quantity.heights.known() ? t.quantity.heights.name() : "a reference that is not stated";
  try {
    VerticalTransform(t.frame->crs(), t.quantity.heights, to, t.frame->bounds());
    return {};
  } catch (const Error& e) {
    return fmt::format("its heights are above {}, the study's above {}: {}", from, to.name(), e.problem());
  }
}

// Tiles whose heights cannot be brought to the study's reference leave before the choice, with the reason.
void keep_one_reference(const Study& s, Candidates& c, std::vector<std::string>& left_out) {
  if (!s.heights.known()) return;
  Candidates kept;
  for (std::size_t i = 0; i < c.catalogue.tiles.size(); ++i) {
    TileRecord& t = c.catalogue.tiles[i];
    const std::string why = t.openable && t.frame ? cannot_be_brought(t, *c.source[i], s.heights) : std::string();
    if (!why.empty()) {
      left_out.push_back(short_name(t) + ": " + why);
      continue;
    }
    kept.catalogue.tiles.push_back(std::move(t));
    kept.source.push_back(c.source[i]);
  }
  c = std::move(kept);
}

const StudySource* source_of_tile(const Candidates& c, const fs::path& path) {
  for (std::size_t i = 0; i < c.catalogue.tiles.size(); ++i)
    if (c.catalogue.tiles[i].path == path) return c.source[i];
  return nullptr;
}

Grid open_chosen(const Candidates& c, const ShortlistTile& chosen, const HeightReference& heights,
                 std::vector<std::string>& notes) {
  const StudySource* source = source_of_tile(c, chosen.tile.path);
  OpenOptions o{.crs = {}, .heights = source->heights, .unit = source->unit, .void_value = source->void_value};
  const bool lost = !open_grid(chosen.tile.path).frame().crs();
  if (lost) {
    // The study file knows, or else the catalogue that led here.
    const bool by_study = source->crs.has_value();
    if (by_study)
      o.crs = source->crs;
    else if (chosen.tile.frame && chosen.tile.frame->crs())
      o.crs = chosen.tile.frame->crs();
    else
      throw Error(ErrorCode::Refused, "has no coordinate reference system", short_name(chosen.tile),
                  "give its [[source]] a crs");
    notes.push_back(fmt::format("{}: has no CRS; {} was assigned by {}", short_name(chosen.tile), o.crs->label(),
                                by_study ? "the study file" : "its catalogue"));
  }
  Grid opened = open_grid(chosen.tile.path, o);
  if (source->spikes) opened = without_spikes(opened, spike_rule(opened));
  if (!source->correction.does_nothing()) opened = corrected(opened, source->correction);
  const Grid g = brought_to(opened, heights, source->shift);
  // What the survey's record says of the date counts in the mosaic, too.
  return relabelled(g, [&](GridInfo& info) {
    info.name = short_name(chosen.tile);
    for (SourceRecord& r : info.sources) {
      r.name = short_name(chosen.tile);
      r.survey = chosen.tile.survey;
      r.date = chosen.tile.date;
      r.date_guessed = chosen.tile.date_guessed;
    }
  });
}

// Null when no product of the study has that file.
const StudyProduct* product_of(const Study& s, const std::string& file) {
  for (const StudyProduct& p : s.products)
    if (p.file == file) return &p;
  return nullptr;
}

// Lines or areas, which a map can draw.
bool is_drawn(const StudyProduct& p) {
  const WaterProduct* water = water_product_named(p.kind);
  return p.kind == "contours" || p.kind == "spots" || (water && water->layer);
}

OverlayStyle style_of(const StudyProduct& p) {
  return p.kind == "contours"  ? OverlayStyle::Contours
         : p.kind == "spots"   ? OverlayStyle::Spots
         : p.kind == "streams" ? OverlayStyle::Streams
         : p.kind == "basins"  ? OverlayStyle::Basins
                               : OverlayStyle::Water;
}

class Runner {
 public:
  Runner(const Study& study, const StudyOptions& options) : study_(study), options_(options) {}

  StudyRun run() {
    std::error_code ec;
    fs::create_directories(options_.folder, ec);
    if (ec || !fs::is_directory(options_.folder))
      throw Error(ErrorCode::Io, "cannot be made: " + ec.message(), options_.folder.string(), "choose another folder");
    out_.folder = options_.folder;
    step("find the tiles and plan", [&] {
      out_.plan = plan_study(study_, {.hosts = options_.hosts,
                                      .have_key = options_.have_key,
                                      .cache = options_.cache,
                                      .tiles = options_.folder / "tiles",
                                      .run = options_.run});
    });
    // A run that was stopped goes on where it was; one that came to its end is somebody's result.
    const Journal before(options_.folder);
    const bool stopped = before.begun() && !before.complete();
    if (!options_.overwrite && !stopped && fs::exists(path("surface.tif")))
      throw Error(ErrorCode::Io, "holds an earlier run already", options_.folder.string(),
                  "choose another folder or say --overwrite");
    overwrite_ = options_.overwrite || stopped;
    journal_.emplace(options_.folder);
    journal_->begin();
    step("write the shortlist", [&] {
      // What a study makes is no survey: a search of the folder around it must not find it as the newest one.
      write_text_file(path("survey.toml"), "# Products of a study; not a survey.\nskip = true\n", {.overwrite = true});
      write_text_file(path("shortlist.csv"), shortlist_csv(out_.plan.shortlist), {.overwrite = overwrite_});
      write_layer(shortlist_layer(out_.plan.shortlist), path("shortlist.geojson"), {.overwrite = overwrite_});
    });
    surface_key_ = key_of_surface(study_, out_.plan);
    step("close voids, move, cut and write the surface", [&] {
      if (!take_over_surface(before)) surface();
    });
    step("check", [&] { judge(); });
    if (!study_.control.empty())
      later("compare with control points", [&] {
        ControlSet set = control_from(read_layer(study_.control, study_.control_crs.value_or(surface_.frame().crs())));
        if (study_.control_heights) set.heights = *study_.control_heights;
        if (study_.control_unit) set.unit = study_.control_unit;
        set.error = study_.control_error;
        out_.control = check_control(surface_, set, options_.run);
        write_text_file(path("control.csv"), control_csv(*out_.control), {.overwrite = overwrite_});
        out_.products.push_back(path("control.csv"));
        pictures_.push_back(
            {"Residuals at control points", "The surface less the known height, by place.", "",
             draw_map(surface_, {.width = 1200,
                                 .title = "Residuals at control points: surface less known",
                                 .overlays = {{control_layer(*out_.control), OverlayStyle::Residuals, ""}},
                                 .run = options_.run})});
      });
    if (!study_.reference.empty()) later("compare with the reference surface", [&] { compare_with_reference(); });
    if (const std::string names = grids_to_make(before); !names.empty())
      later("make " + names + " from one reading", [&] { make_grids(); });
    for (std::size_t i = 0; i < study_.products.size(); ++i)
      later("make " + study_.products[i].file, [&] { make_product(i, before); });
    out_.report = path("report.html");
    out_.record = path("run.json");
    step("write the report", [&] {
      pictures_.insert(pictures_.begin(), overview());
      write_text_file(out_.report, report_html(study_, out_, pictures_), {.overwrite = overwrite_});
    });
    write_text_file(out_.record, record_json(study_, out_), {.overwrite = overwrite_});
    journal_->finish();
    if (failure_) std::rethrow_exception(failure_);
    return std::move(out_);
  }

 private:
  fs::path path(const std::string& name) const { return options_.folder / name; }

  template <class Body>
  void step(const std::string& name, const Body& body) {
    if (options_.run.progress) options_.run.progress->check();
    if (options_.say) options_.say(name);
    const auto start = std::chrono::steady_clock::now();
    try {
      body();
    } catch (const Error& e) {
      throw e.within(name);
    }
    out_.times.push_back({name, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count()});
  }

  // A step after the surface: when it fails the others go on, and what was done is kept with its record and report.
  template <class Body>
  void later(const std::string& name, const Body& body) {
    try {
      step(name, body);
    } catch (const Error& e) {
      if (e.code() == ErrorCode::Cancelled) throw;
      out_.failures.push_back(e.what());
      if (!failure_) failure_ = std::current_exception();
    }
  }

  void surface() {
    Grid g = out_.plan.surface;
    if (study_.fill) {
      FillOptions f = study_.fill_options;
      f.run = options_.run;
      FillResult r = fill_voids(g, f);
      out_.fill = r.report;
      g = r.grid;
    }
    const Area reach = study_.area.grown(study_.margin);
    const auto same = out_.plan.frame.window_of(g.frame());
    g = same ? cut(g, {-same->col, -same->row, out_.plan.frame.cols(), out_.plan.frame.rows()})
             : reproject(g, out_.plan.frame, study_.resampling);
    g = clip(g, reach);
    out_.surface =
        write_grid(g, path("surface.tif"),
                   {.overwrite = overwrite_, .lineage = true, .date = {}, .survey = study_.title, .run = options_.run});
    surface_ = open_grid(path("surface.tif"));
    surface_sum_ = checksum_of(path("surface.tif"));
    journal().add("surface", surface_key_, {"surface.tif", "surface.lineage.tif", "surface.lineage.csv"},
                  surface_facts());
  }

  Journal& journal() { return *journal_; }

  // The journal, here or of an earlier run, that has a step as it would be made now; its files are brought here.
  const Journal* found(const std::string& name, const std::string& key, const Journal& here,
                       std::optional<Journal>& there) {
    if (here.holds(name, key)) return &here;
    if (options_.earlier.empty()) return nullptr;
    if (!there) there.emplace(options_.earlier);
    std::error_code ec;
    if (!there->holds(name, key) || fs::equivalent(options_.earlier, options_.folder, ec)) return nullptr;
    for (const std::string& f : there->files(name)) {
      fs::copy_file(options_.earlier / f, path(f),
                    overwrite_ ? fs::copy_options::overwrite_existing : fs::copy_options::none, ec);
      if (ec) return nullptr;
    }
    return &*there;
  }

  bool take_over_surface(const Journal& before) {
    const Journal* j = found("surface", surface_key_, before, earlier_);
    if (!j) return false;
    surface_ = open_grid(path("surface.tif"));
    read_surface_facts(nlohmann::json::parse(j->facts("surface")));
    surface_sum_ = checksum_of(path("surface.tif"));
    if (j != &before) journal().add("surface", surface_key_, j->files("surface"), j->facts("surface"));
    out_.kept.push_back("surface.tif");
    return true;
  }

  std::string surface_facts() const {
    const WriteReport& w = out_.surface;
    const FillReport& f = out_.fill;
    nlohmann::ordered_json j{{"bytes", w.bytes},   {"cells", w.cells},     {"voids", w.voids},
                             {"lowest", w.lowest}, {"highest", w.highest}, {"notes", w.info.notes}};
    j["by_how"] = std::vector<std::int64_t>(std::begin(w.by_how), std::end(w.by_how));
    j["sources"] = nlohmann::ordered_json::array();
    for (const SourceRecord& s : w.info.sources)
      j["sources"].push_back({s.name, s.survey, s.date, s.date_guessed, s.cell.metres(), s.treatment});
    j["fill"] = {f.voids_closed,       f.cells_closed,     f.voids_by_mean, f.voids_by_distance,
                 f.voids_left_at_edge, f.voids_left_large, f.cells_left};
    j["largest"] = {f.largest_closed.metres(), f.largest_left.metres()};
    return j.dump();
  }
  void read_surface_facts(const nlohmann::json& j) {
    WriteReport& w = out_.surface;
    const auto number = [](const nlohmann::json& v) { return v.is_number() ? v.get<double>() : std::nan(""); };
    w.path = path("surface.tif");
    w.lineage_path = path("surface.lineage.tif");
    w.bytes = j.at("bytes");
    w.cells = j.at("cells");
    w.voids = j.at("voids");
    w.lowest = number(j.at("lowest"));
    w.highest = number(j.at("highest"));
    for (std::size_t i = 0; i < 8; ++i) w.by_how[i] = j.at("by_how").at(i);
    w.info = surface_.info();
    w.info.notes = j.at("notes").get<std::vector<std::string>>();
    w.info.sources.clear();
    for (const auto& s : j.at("sources"))
      w.info.sources.push_back({.name = s.at(0),
                                .survey = s.at(1),
                                .date = s.at(2),
                                .date_guessed = s.at(3),
                                .cell = Length::metres(s.at(4)),
                                .treatment = s.at(5)});
    FillReport& f = out_.fill;
    std::size_t i = 0;
    for (std::int64_t* n : {&f.voids_closed, &f.cells_closed, &f.voids_by_mean, &f.voids_by_distance,
                            &f.voids_left_at_edge, &f.voids_left_large, &f.cells_left})
      *n = j.at("fill").at(i++);
    f.largest_closed = Length::metres(j.at("largest").at(0));
    f.largest_left = Length::metres(j.at("largest").at(1));
  }

  // Grids and lines are taken over where nothing has changed; pictures are drawn, for the report shows them anyway.
  struct Ready {
    std::string key;
    const Journal* from = nullptr;  // the run that made it
    bool is_here = false;
  };
  Ready& ready(std::size_t i, const Journal& before) {
    const auto known = ready_.find(i);
    if (known != ready_.end()) return known->second;
    const StudyProduct& p = study_.products[i];
    Ready r{.key = key_of_product(study_, i, surface_sum_)};
    if (p.kind != "map" && p.kind != "section") r.from = found(p.file, r.key, before, earlier_);
    r.is_here = r.from != nullptr;
    return ready_[i] = r;
  }

  // The names of grids that are not there and can be made together; empty where they are fewer than two.
  std::string grids_to_make(const Journal& before) {
    std::string names;
    for (std::size_t i = 0; i < study_.products.size(); ++i) {
      const StudyProduct& p = study_.products[i];
      if (!product_named(p.kind) || !has_ending(p.file, ".tif") || ready(i, before).is_here) continue;
      together_.push_back(i);
      names += (names.empty() ? "" : ", ") + p.file;
    }
    return together_.size() > 1 ? names : "";
  }

  void make_grids() {
    std::vector<GridTarget> targets;
    for (std::size_t i : together_) {
      const StudyProduct& p = study_.products[i];
      targets.push_back({[&p](const Grid& g) { return product_named(p.kind)->make(g, p.settings); }, path(p.file)});
    }
    write_grids(surface_, targets, grid_options());
    for (std::size_t i : together_) ready_.at(i).is_here = true;
  }

  WriteOptions grid_options() const {
    return {.overwrite = overwrite_, .date = {}, .survey = study_.title, .run = options_.run};
  }

  void make_product(std::size_t i, const Journal& before) {
    const StudyProduct& p = study_.products[i];
    const Ready& r = ready(i, before);
    product(p, r.is_here);
    if (r.from) out_.kept.push_back(p.file);
    if (p.kind != "map" && p.kind != "picture" && p.kind != "section" && r.from != &before)
      journal().add(p.file, r.key, {p.file});
  }

  void judge() {
    std::optional<Layer> streams;
    if (!study_.streams.empty()) streams = read_layer(study_.streams);
    out_.check = check(surface_, {.area = &study_.area,
                                  .streams = streams ? &*streams : nullptr,
                                  .thresholds = study_.thresholds,
                                  .run = options_.run});
    std::vector<Grid> tiles;
    for (const ShortlistTile& t : out_.plan.shortlist.tiles) {
      if (!t.tile.openable || (!t.kept && t.tile.access != Access::Open) || !t.tile.problems.empty() ||
          (t.tile.remote() && !t.kept))
        continue;
      // Tiles are compared as the mosaic has them, brought to its reference, and judged as they are.
      const auto brought = out_.plan.tiles.find(t.tile.path);
      auto named = [&](const Grid& grid) {
        return relabelled(grid, [&](GridInfo& i) {
          i.name = short_name(t.tile);
          if (i.sources.size() == 1) i.sources[0].survey = t.tile.survey;
        });
      };
      const Grid g = named(open_grid(t.tile.path));
      const Grid beside = brought != out_.plan.tiles.end() ? named(brought->second) : g;
      if (beside.frame().crs()) tiles.push_back(beside);
      if (!t.kept) continue;
      CheckReport r = check(g, {.thresholds = study_.thresholds, .run = options_.run});
      for (Finding& f : r.findings)
        if (f.severity == Severity::Failure && f.code != "voids") out_.source_findings.push_back(std::move(f));
    }
    for (Finding& f : check_overlaps(tiles, options_.run, study_.thresholds))
      out_.source_findings.push_back(std::move(f));
    for (const ShortlistTile& t : out_.plan.shortlist.tiles)
      if (!t.tile.openable || !t.tile.problems.empty())
        out_.source_findings.push_back({.code = "damaged",
                                        .severity = Severity::Failure,
                                        .file = short_name(t.tile),
                                        .message = t.tile.problems.empty() ? t.reason : t.tile.problems[0],
                                        .advice = "fetch it again",
                                        .measure = {},
                                        .unit = {},
                                        .place = {},
                                        .crs = {}});
    std::vector<Finding> all = out_.check.findings;
    all.insert(all.end(), out_.source_findings.begin(), out_.source_findings.end());
    write_layer(finding_layer(all), path("findings.geojson"), {.overwrite = overwrite_});
    out_.products.push_back(path("findings.geojson"));
  }

  void compare_with_reference() {
    out_.reference = compare(surface_, open_grid(study_.reference), {.coregister = false, .run = options_.run});
    pictures_.push_back(
        {"Difference from the reference surface", "The surface less the reference; rings: the largest.", "",
         draw_map(out_.reference->difference,
                  {.width = 1200,
                   .title = "Difference from " + study_.reference.filename().string(),
                   .overlays = {{worst_layer(*out_.reference), OverlayStyle::Places, "largest differences"}},
                   .run = options_.run})});
  }

  void save(const Picture& p, const fs::path& to) { write_file(to, p.bytes, {.overwrite = overwrite_}); }

  // `is_here`: its file is what it should be already.
  void product(const StudyProduct& p, bool is_here) {
    const fs::path to = path(p.file);
    if (const Product* row = product_named(p.kind))
      raster(row->make(surface_, p.settings), p, to, grid_options(), is_here);
    if (const WaterProduct* row = water_product_named(p.kind)) {
      if (row->grid)
        raster(is_here ? Grid() : row->grid(surface_, p.settings, options_.run), p, to, grid_options(), is_here);
      else if (!is_here)
        write_layer(row->layer(surface_, p.settings, options_.run), to, {.overwrite = overwrite_});
    }
    if (p.kind == "contours" && !is_here) write_layer(levels_of(p), to, {.overwrite = overwrite_});
    if (p.kind == "spots" && !is_here) write_layer(spot_layer(spots_of(p), surface_), to, {.overwrite = overwrite_});
    if (p.kind == "section") draw_profile(p, to);
    if (p.kind == "solid" && !is_here) {
      SolidOptions o = p.solid;
      o.run = options_.run;
      write_solid_with_map(surface_solid(surface_, o), surface_, to, overwrite_, options_.run);
    }
    if (p.kind == "picture")
      write_placed_picture(
          surface_, to, {.exaggeration = p.exaggeration, .overlays = overlays_of(p), .run = options_.run}, overwrite_);
    if (p.kind == "map") {
      const Picture picture = draw_map(surface_, map_options(p, to));
      save(picture, to);
      if (picture.format == PictureFormat::Png)
        pictures_.push_back({p.title.empty() ? study_.title : p.title,
                             "The surface with what the study file asks to draw on it.", p.file, picture});
    }
    out_.products.push_back(to);
  }

  void raster(const Grid& g, const StudyProduct& p, const fs::path& to, const WriteOptions& w, bool is_here) {
    if (!is_here) write_grid(g, to, w);
    const std::string title = p.title.empty() ? p.kind : p.title;
    pictures_.push_back(
        {title, fmt::format("{} of the surface", p.kind), p.file,
         draw_map(open_grid(to), {.width = 1200, .title = title, .overlays = {}, .run = options_.run})});
  }

  // The surface in the unit that the levels are in.
  Grid leveled(const StudyProduct& p) const {
    return p.unit && surface_.quantity().kind == QuantityKind::Height ? in_unit(surface_, *p.unit) : surface_;
  }
  std::vector<ContourLine> lines_at(const StudyProduct& p) const {
    ContourOptions c = p.contour;
    c.run = options_.run;
    c.interval =
        p.interval.value_or(sensible_interval(out_.surface.lowest, out_.surface.highest, surface_.quantity().unit));
    return contours(leveled(p), c);
  }
  Layer levels_of(const StudyProduct& p) const {
    const Grid g = leveled(p);
    if (p.bands) {
      ContourOptions c = p.contour;
      c.run = options_.run;
      c.interval = p.interval.value_or(sensible_interval(out_.surface.lowest, out_.surface.highest, g.quantity().unit));
      return band_layer(contour_bands(g, c), g);
    }
    Layer layer = contour_layer(lines_at(p), g);
    if (p.depths) add_depths(layer);
    return layer;
  }
  std::vector<SpotHeight> spots_of(const StudyProduct& p) const {
    SpotOptions s = p.spot;
    s.run = options_.run;
    return spot_heights(surface_, s);
  }

  void draw_profile(const StudyProduct& p, const fs::path& to) {
    const Crs& crs = surface_.frame().crs();
    const bool across = !p.across.empty();
    const std::string line = (across ? p.across : p.line).filename().string(),
                      title = !p.title.empty() ? p.title : (across ? "Cross sections of " : "Section along ") + line;
    const std::vector<NamedGrid> grids{{"surface", surface_}};
    const std::vector<Profiles> all =
        across ? cross_sections(grids, read_line(p.across, crs), p.every, p.width, {.run = options_.run})
               : std::vector{profiles(grids, read_line(p.line, crs), {.run = options_.run})};
    const auto drawn = write_profiles(all, to, {.title = title}, overwrite_).picture;
    if (!drawn) return;
    const char* what = across ? "Heights across the line." : "Heights along the transect.";
    // The report shows pixels, whatever the file is; sheets have pages of their own.
    if (drawn->format == PictureFormat::Png)
      pictures_.push_back({title, what, p.file, *drawn});
    else if (!across)
      pictures_.push_back({title, what, p.file, draw_profiles(all[0], {.title = title})});
  }

  MapOptions map_options(const StudyProduct& p, const fs::path& to) const {
    MapOptions m{.format = picture_format_for(to.string()),
                 .title = p.title.empty() ? study_.title : p.title,
                 .exaggeration = p.exaggeration,
                 .overlays = overlays_of(p),
                 .run = options_.run};
    m.scale = p.scale;
    m.grid_lines = p.grid_lines;
    if (!p.page.empty()) m.paper = parse_paper(p.page, width_to_height(surface_.frame()));
    return m;
  }

  std::vector<MapOverlay> overlays_of(const StudyProduct& p) const {
    std::vector<MapOverlay> out;
    if (p.interval)
      out.push_back({contour_layer(lines_at(p), surface_), OverlayStyle::Contours,
                     fmt::format("contours, {:g} {}", p.interval->in(surface_.quantity().unit),
                                 symbol(surface_.quantity().unit))});
    if (p.spot.radius.metres() > 0) out.push_back({spot_layer(spots_of(p), surface_), OverlayStyle::Spots, ""});
    if (p.tiles) out.push_back(kept_tiles());
    if (p.area) out.push_back(area_overlay());
    for (const std::string& file : p.layers)
      out.push_back({read_layer(path(file)), style_of(*product_of(study_, file)), product_of(study_, file)->title});
    if (!p.line.empty())
      out.push_back({{.name = "line",
                      .crs = surface_.frame().crs(),
                      .features = {{read_line(p.line, surface_.frame().crs()), {}}}},
                     OverlayStyle::Transect,
                     ""});
    return out;
  }

  MapOverlay kept_tiles() const {
    MapOverlay o{{.name = "tiles", .crs = study_.area.crs(), .features = {}}, OverlayStyle::Footprints, "tiles used"};
    for (const ShortlistTile& t : out_.plan.shortlist.tiles)
      if (t.kept) o.layer.features.push_back({t.footprint, {}});
    return o;
  }
  MapOverlay area_overlay() const {
    return {
        {.name = "area", .crs = study_.area.crs(), .features = {{study_.area.shape(), {}}}}, OverlayStyle::Area, ""};
  }

  ReportPicture overview() {
    MapOptions m{.width = 1200, .title = study_.title, .overlays = {kept_tiles(), area_overlay()}, .run = options_.run};
    return {"The surface and the tiles it was made from",
            "Colours are heights with a hillshade over them; voids are hatched.", "", draw_map(surface_, m)};
  }

  const Study& study_;
  const StudyOptions& options_;
  StudyRun out_;
  Grid surface_;
  std::exception_ptr failure_;
  std::string surface_key_, surface_sum_;
  bool overwrite_ = false;
  std::optional<Journal> journal_, earlier_;
  std::map<std::size_t, Ready> ready_;
  std::vector<std::size_t> together_;
  std::vector<ReportPicture> pictures_;
};

// What is wrong with a product is said before anything is made, not after the surface.
void judge_product(const StudyProduct& p, const Study& s, const StudyPlan& plan) {
  const auto refuse = [&](const std::string& what, const std::string& advice) {
    throw Error(ErrorCode::BadFile, fmt::format("the product {} ({}) {}", p.file, p.kind, what), s.file.string(),
                advice);
  };
  const auto ends_in = [&](const std::string& list) {
    const std::string ext = lower_extension(p.file);
    if (ext.empty() || (", " + list + ",").find(", " + ext + ",") == std::string::npos)
      refuse(fmt::format("cannot be written as '{}'", ext), "end its name in one of " + list);
  };
  // Endings of what is written, without formats that hold less.
  const auto written = [](Holds holds, bool Format::*but) {
    std::string list;
    for (const Format& f : formats())
      if (f.holds(holds, Use::Written) && !(f.*but))
        for (const std::string& e : f.endings) list += (list.empty() ? "" : ", ") + e;
    return list;
  };
  const WaterProduct* water = water_product_named(p.kind);
  if (is_drawn(p))
    ends_in(written(Holds::Features, &Format::points_only));
  else if (p.kind == "section")
    ends_in(".csv, .png, .svg, .pdf, " + written(Holds::Features, &Format::points_only));
  else if (p.kind == "map")
    ends_in(".png, .svg, .pdf");
  else if (p.kind == "picture")
    ends_in(".png, .jpg, .tif, .gpkg, .kmz, .pdf");
  else if (p.kind == "solid")
    ends_in(".stl, .3mf, .obj, .glb");
  else
    ends_in(written(Holds::Grids, &Format::heights_only));
  if (p.interval && !(p.interval->metres() > 0))
    refuse("has an interval that is not above zero", "write for instance \"1 m\"");
  if (!(p.exaggeration > 0)) refuse("has an exaggeration that is not above zero", "take 1 or more");
  // A product refuses what it cannot do when it is asked for, before a cell is computed.
  if (const Product* row = product_named(p.kind)) try {
      row->make(plan.surface, p.settings);
    } catch (const Error& e) {
      refuse("cannot be made: " + e.problem(), e.advice());
    }
  // Water looks at the whole surface: only what must be told is asked for here.
  if (water) try {
      water->judge(p.settings);
    } catch (const Error& e) {
      refuse(e.problem(), e.advice());
    }
  for (const std::string& file : p.layers) {
    const StudyProduct* drawn = product_of(s, file);
    if (!drawn || drawn >= &p || !is_drawn(*drawn))
      refuse(fmt::format("draws {}, which no product before it makes as lines or areas", file),
             "name the file of contours, streams, basins, depressions or inundation above it");
  }
  if (const auto wrong = why_not_leaving(p, plan.frame))
    refuse("cannot be made: " + (wrong->where().empty() ? "" : wrong->where() + ": ") + wrong->problem(),
           wrong->advice());
}

void judge_products(const Study& s, const StudyPlan& plan) {
  std::set<std::string> taken = {"surface.tif",   "surface.lineage.tif", "surface.lineage.csv",
                                 "shortlist.csv", "shortlist.geojson",   "findings.geojson",
                                 "control.csv",   "report.html",         "survey.toml",
                                 "run.json",      "steps.json"};
  for (const StudyProduct& p : s.products) {
    judge_product(p, s, plan);
    if (!taken.insert(p.file).second)
      throw Error(ErrorCode::BadFile, fmt::format("two results of the study are named {}", p.file), s.file.string(),
                  "give every product a name of its own");
  }
}

// The steps in words.
void list_steps(const Study& s, std::size_t tiles, bool remote, const std::vector<std::string>& of_points,
                StudyPlan& plan) {
  if (remote)
    plan.steps.push_back(
        fmt::format("fetch what is remote ({})",
                    format_bytes(static_cast<double>(plan.fetched ? plan.fetched : plan.shortlist.bytes))));
  plan.steps.insert(plan.steps.end(), of_points.begin(), of_points.end());
  plan.steps.push_back(fmt::format("mosaic {} tile{} ({}), {:.2f} % of the area", tiles, tiles == 1 ? "" : "s",
                                   format_bytes(static_cast<double>(plan.shortlist.bytes)),
                                   100 * plan.shortlist.covered_fraction));
  if (s.fill)
    plan.steps.push_back(fmt::format(
        "fill voids{}", s.fill_options.largest ? fmt::format(" up to {:g} m", s.fill_options.largest->metres()) : ""));
  const auto same = plan.frame.window_of(plan.surface.frame());
  plan.steps.push_back(same ? "keep the lattice of the mosaic: no resampling"
                            : fmt::format("reproject to {} ({})", plan.frame.crs().label(),
                                          name_of(resolved(s.resampling, plan.surface, plan.frame))));
  plan.steps.push_back(fmt::format("clip to the area: {} x {} cells", plan.frame.cols(), plan.frame.rows()));
  plan.steps.push_back("check");
  for (const StudyProduct& p : s.products) plan.steps.push_back(fmt::format("{} -> {}", p.kind, p.file));
}

}  // namespace

StudyPlan plan_study(const Study& s, const PlanOptions& options) {
  StudyPlan plan;
  std::vector<std::string> notes;
  const Area reach = s.area.grown(s.margin);
  Candidates c = gather(s, reach, options, notes);
  keep_one_reference(s, c, plan.left_out);
  plan.shortlist =
      find_tiles(c.catalogue, reach, {.prefer = s.mosaic.prefer, .all = s.all_tiles, .have_key = options.have_key});
  const bool remote = std::any_of(plan.shortlist.tiles.begin(), plan.shortlist.tiles.end(),
                                  [](const ShortlistTile& t) { return t.kept && t.tile.remote(); });
  if (remote && !options.tiles.empty()) plan.fetched = bring(c, plan.shortlist, options);
  std::vector<Grid> tiles;
  for (const ShortlistTile& t : plan.shortlist.tiles) {
    if (t.kept) {
      tiles.push_back(open_chosen(c, t, s.heights, notes));
      plan.tiles[t.tile.path] = tiles.back();
    } else {
      plan.left_out.push_back(short_name(t.tile) + ": " + t.reason);
    }
  }
  std::vector<std::string> of_points;
  for (const StudyPoints& p : s.points) {
    const Grid g = surface_of(p, s.heights, options.run);
    const Bounds wanted = reach.in(g.frame().crs()).bounds();
    if (!g.frame().bounds().intersects(wanted)) {
      plan.left_out.push_back(p.name + ": its points lie outside the area");
      continue;
    }
    tiles.push_back(g);
    of_points.push_back(fmt::format("make a surface of the points of {} ({} file{}), by {}", p.name, p.files.size(),
                                    p.files.size() == 1 ? "" : "s", name_of(p.gridding.methods.front())));
  }
  if (tiles.empty())
    throw Error(ErrorCode::BadArgument, "no tile covers any part of the area", s.file.string(),
                "check the area, the folders and the references");
  MosaicOptions m = s.mosaic;
  m.unit = s.unit;
  m.prefer.push_back(Preference::Given);
  plan.surface = mosaic(tiles, m);
  plan.surface =
      relabelled(plan.surface, [&](GridInfo& i) { i.notes.insert(i.notes.begin(), notes.begin(), notes.end()); });
  // Voids are closed with what lies around them, so a rim of the neighbourhood stays until the final cut.
  plan.surface =
      clip(plan.surface, Area::box(reach.in(plan.surface.frame().crs()).bounds(), plan.surface.frame().crs()),
           {.margin = Length::metres(20 * ground_spacing(plan.surface.frame()).y.metres())});
  const Crs crs = s.crs == "utm" ? s.area.utm() : s.crs.empty() ? plan.surface.frame().crs() : Crs::parse(s.crs);
  // Nobody asked for other cells: those of the finest tile stay.
  const Frame& lattice = plan.surface.frame();
  plan.frame = crs.same_place(lattice.crs()) && !s.cell ? lattice.sub(lattice.window_of_centres(reach.in(crs).bounds()))
                                                        : frame_for(lattice, crs, {.cell = s.cell, .area = &reach});
  // What will be left when the area itself is cut out: plan and run are one.
  plan.frame = clip(grid_from_function(plan.frame, [](double, double) { return 0.0; }), reach).frame();
  judge_products(s, plan);
  plan.cells = plan.frame.cols() * plan.frame.rows();
  plan.bytes = static_cast<double>(plan.cells) * 4;
  list_steps(s, tiles.size(), remote, of_points, plan);
  return plan;
}

StudyRun run_study(const Study& study, const StudyOptions& options) { return Runner(study, options).run(); }

}  // namespace katoptra
