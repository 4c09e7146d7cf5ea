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
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/study/coverage_page.hpp"
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
#include "levels.hpp"
#include "pages.hpp"
#include "points.hpp"
#include "report.hpp"
#include "run_grids.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr const char* kSurface = "surface.tif";

OverlayStyle style_of(const StudyProduct& p) {
  return p.kind == "contours"  ? OverlayStyle::Contours
         : p.kind == "spots"   ? OverlayStyle::Spots
         : p.kind == "streams" ? OverlayStyle::Streams
         : p.kind == "basins"  ? OverlayStyle::Basins
                               : OverlayStyle::Water;
}

class Runner {
 public:
  Runner(const Study& study, const StudyOptions& options)
      : study_(study), options_(options), grids_(study, options.folder) {}

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
    if (!options_.overwrite && !stopped && fs::exists(path(grids_.name(kSurface))))
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
    if (!study_.control.empty()) later("compare with control points", [&] { compare_with_control(); });
    if (!study_.reference.empty()) later("compare with the reference surface", [&] { compare_with_reference(); });
    if (const std::string names = grids_to_make(before); !names.empty())
      later("make " + names + " from one reading", [&] { make_grids(); });
    for (std::size_t i = 0; i < study_.products.size(); ++i)
      later("make " + study_.products[i].file, [&] { make_product(i, before); });
    out_.report = path("report.html");
    out_.record = path("run.json");
    if (study_.pages) later("write the pages", [&] { write_pages(); });
    step("write the report", [&] {
      pictures_.insert(pictures_.begin(), overview());
      SurfacePage shown = page_of_run(study_, out_, surface_, options_.run);
      // A map in a report, not the surface itself: what it is asked for is told as coarsely as it is drawn.
      constexpr std::int64_t kMostInReport = 1'000'000;
      constexpr int kStepsInReport = 1000;
      shown.most_cells = kMostInReport;
      shown.drape_steps = kStepsInReport;
      write_text_file(out_.report, report_html(study_, out_, pictures_, shown), {.overwrite = overwrite_});
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

  // The tiles on a map, and the surface to be turned and asked.
  void write_pages() {
    std::vector<std::string> searched;
    for (const StudySource& source : study_.sources)
      if (std::find(searched.begin(), searched.end(), source.in) == searched.end()) searched.push_back(source.in);
    const CoveragePage tiles{.shortlist = out_.plan.shortlist,
                             .searched = searched,
                             .area = {},
                             .title = "Tiles of " + study_.title,
                             .run = options_.run};
    write_text_file(path("coverage.html"), coverage_page(tiles), {.overwrite = overwrite_});
    out_.coverage = path("coverage.html");
    const Page view = surface_page(page_of_run(study_, out_, surface_, options_.run));
    write_text_file(path("view.html"), view.html, {.overwrite = overwrite_});
    out_.view = path("view.html");
  }

  void surface() {
    Grid g = out_.plan.surface;
    std::vector<std::string> files{grids_.name(kSurface)};
    if (!grids_.in_sheets()) files.insert(files.end(), {"surface.lineage.tif", "surface.lineage.csv"});
    if (study_.water) {
      g = lay_flat(g);
      files.insert(files.end(), {"surface.water.gpkg", "surface.water.before.tif"});
    }
    if (study_.fill) {
      FillOptions f = study_.fill_options;
      f.run = options_.run;
      if (study_.fill_streams) f.streams = &*study_.fill_streams;
      FillResult r = fill_voids(g, f);
      out_.fill = r.report;
      g = r.grid;
    }
    const Area reach = study_.area.grown(study_.margin);
    const auto same = out_.plan.frame.window_of(g.frame());
    g = same ? cut(g, {-same->col, -same->row, out_.plan.frame.cols(), out_.plan.frame.rows()})
             : reproject(g, out_.plan.frame, study_.resampling);
    g = clip(g, reach);
    WriteOptions w = grid_options();
    w.lineage = true;
    out_.surface = grids_.write(g, kSurface, surface_key_, w);
    open_surface();
    journal().add("surface", surface_key_, files, surface_facts());
  }

  void open_surface() {
    surface_ = open_grid(path(grids_.name(kSurface)));
    surface_sum_ = checksum_of(path(grids_.name(kSurface)));
    // The index of sheets says where they are, not all that is in them.
    if (grids_.in_sheets()) surface_sum_ += surface_key_;
  }

  // Lays water flat and leaves its record.
  Grid lay_flat(const Grid& g) {
    const StudyWater& w = *study_.water;
    const LengthUnit unit = g.quantity().unit;
    std::vector<WaterBody> bodies;
    if (!w.file.empty()) bodies = water_bodies_of(read_layer(w.file, g.frame().crs()), g, w.kind);
    if (w.find)
      for (WaterBody& b : find_water(g, {.returns = {}, .run = options_.run})) bodies.push_back(std::move(b));
    FlattenOptions f{.above = w.above, .run = options_.run};
    if (w.sea) f.sea = w.sea->in(unit);
    if (w.smallest_island) f.smallest_island = *w.smallest_island;
    if (bodies.empty() && !f.sea)
      throw Error(ErrorCode::BadArgument, "no water was found", "[water]",
                  "give its shapes with file = \"water.gpkg\"");
    const FlatWater flat = lay_water_flat(g, bodies, f);
    write_layer(water_layer(flat, g), path("surface.water.gpkg"), {.overwrite = overwrite_});
    write_grid(flat.before, path("surface.water.before.tif"),
               {.overwrite = overwrite_, .date = {}, .survey = study_.title, .run = options_.run});
    out_.water = flat.bodies;
    for (LaidBody& b : out_.water) b.shape.clear();
    return flat.grid;
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
    if (!j || !grids_.is_whole(kSurface)) return false;
    open_surface();
    read_surface_facts(nlohmann::json::parse(j->facts("surface")));
    if (j != &before) journal().add("surface", surface_key_, j->files("surface"), j->facts("surface"));
    out_.kept.push_back(grids_.name(kSurface));
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
    j["fill"] = {f.voids_closed,     f.cells_closed, f.voids_by_mean,     f.voids_by_distance, f.voids_left_at_edge,
                 f.voids_left_large, f.cells_left,   f.voids_by_membrane, f.voids_from_second, f.voids_second_misses,
                 f.voids_by_smooth,  f.voids_by_tin, f.stream_crossings,  f.stream_cells};
    if (study_.water) j["water"] = nlohmann::ordered_json::parse(water_json(out_.water));
    j["largest"] = {f.largest_closed.metres(), f.largest_left.metres()};
    return j.dump();
  }
  void read_surface_facts(const nlohmann::json& j) {
    WriteReport& w = out_.surface;
    const auto number = [](const nlohmann::json& v) { return v.is_number() ? v.get<double>() : std::nan(""); };
    w.path = path(grids_.name(kSurface));
    if (!grids_.in_sheets()) w.lineage_path = path("surface.lineage.tif");
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
    if (j.contains("water")) out_.water = water_from_json(j.at("water").dump());
    FillReport& f = out_.fill;
    std::size_t i = 0;
    for (std::int64_t* n :
         {&f.voids_closed, &f.cells_closed, &f.voids_by_mean, &f.voids_by_distance, &f.voids_left_at_edge,
          &f.voids_left_large, &f.cells_left, &f.voids_by_membrane, &f.voids_from_second, &f.voids_second_misses,
          &f.voids_by_smooth, &f.voids_by_tin, &f.stream_crossings, &f.stream_cells})
      *n = j.at("fill").at(i++);
    f.largest_closed = Length::metres(j.at("largest").at(0));
    f.largest_left = Length::metres(j.at("largest").at(1));
  }

  // Grids and lines are taken over where nothing has changed; pictures are drawn, for the report shows them anyway.
  struct Ready {
    std::string key;
    const Journal* from = nullptr;  // the run that made it
    bool is_here = false;           // its file is what it should be already
  };
  static bool is_grid(const StudyProduct& p) {
    const WaterProduct* water = water_product_named(p.kind);
    return product_named(p.kind) || (water && water->grid);
  }
  Ready& ready(std::size_t i, const Journal& before) {
    const auto known = ready_.find(i);
    if (known != ready_.end()) return known->second;
    const StudyProduct& p = study_.products[i];
    Ready r{.key = key_of_product(study_, i, surface_sum_)};
    if (p.kind != "map" && p.kind != "section" && p.kind != "volumes") r.from = found(p.file, r.key, before, earlier_);
    r.is_here = r.from && (!is_grid(p) || grids_.is_whole(p.file));
    if (!r.is_here) r.from = nullptr;
    return ready_[i] = r;
  }

  // The names of grids that are not there and can be made together; empty where they are fewer than two.
  std::string grids_to_make(const Journal& before) {
    std::string names;
    if (grids_.in_sheets()) return names;
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
    product(p, r);
    if (r.from) out_.kept.push_back(p.file);
    if (p.kind != "map" && p.kind != "picture" && p.kind != "section" && p.kind != "volumes" && r.from != &before)
      journal().add(p.file, r.key, {is_grid(p) ? grids_.name(p.file) : p.file});
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

  void compare_with_control() {
    out_.control = check_control(surface_, control_of(study_, surface_.frame().crs()), options_.run);
    if (study_.level && study_.level->by_control)
      out_.control->notes.push_back("the surveys were levelled by these points: they are no independent proof");
    write_text_file(path("control.csv"), control_csv(*out_.control), {.overwrite = overwrite_});
    out_.products.push_back(path("control.csv"));
    pictures_.push_back({"Residuals at control points", "The surface less the known height, by place.", "",
                         draw_map(surface_, {.width = 1200,
                                             .title = "Residuals at control points: surface less known",
                                             .overlays = {{control_layer(*out_.control), OverlayStyle::Residuals, ""}},
                                             .run = options_.run})});
  }

  void compare_with_reference() {
    CompareOptions o{.coregister = false, .run = options_.run};
    // What lies beyond it is where the stated 95 % did not hold.
    if (surface_.carries_uncertainty()) o.uncertainty_first = uncertainty_of(surface_);
    out_.reference = compare(surface_, open_grid(study_.reference), o);
    pictures_.push_back(
        {"Difference from the reference surface", "The surface less the reference; rings: the largest.", "",
         draw_map(out_.reference->difference,
                  {.width = 1200,
                   .title = "Difference from " + study_.reference.filename().string(),
                   .overlays = {{worst_layer(*out_.reference), OverlayStyle::Places, "largest differences"}},
                   .run = options_.run})});
  }

  void save(const Picture& p, const fs::path& to) { write_file(to, p.bytes, {.overwrite = overwrite_}); }

  void product(const StudyProduct& p, const Ready& ready) {
    const bool is_here = ready.is_here;
    const fs::path to = path(p.file);
    if (const Product* row = product_named(p.kind)) raster(row->make(surface_, p.settings), p, ready);
    if (const WaterProduct* row = water_product_named(p.kind)) {
      if (row->grid)
        raster(is_here ? Grid() : row->grid(surface_, p.settings, options_.run), p, ready);
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
    if (p.kind == "volumes") volumes(p, to);
    const Grid shown = p.uncertainty ? uncertainty_of(surface_) : surface_;
    if (p.kind == "picture")
      write_placed_picture(shown, to,
                           {.land = {.exaggeration = p.exaggeration}, .overlays = overlays_of(p), .run = options_.run},
                           overwrite_);
    if (p.kind == "map") {
      const Picture picture = draw_map(shown, map_options(p, to));
      save(picture, to);
      if (picture.format == PictureFormat::Png)
        pictures_.push_back({p.title.empty() ? study_.title : p.title,
                             p.uncertainty ? "How sure the surface is: one standard uncertainty in each cell."
                                           : "The surface with what the study file asks to draw on it.",
                             p.file, picture});
    }
    out_.products.push_back(is_grid(p) ? path(grids_.name(p.file)) : to);
  }

  void volumes(const StudyProduct& p, const fs::path& to) {
    std::vector<double> levels;
    for (const Length& l : p.levels) levels.push_back(l.in(surface_.quantity().unit));
    const std::vector<LevelVolumes> found = volumes_at(surface_, levels, &study_.area, options_.run);
    write_text_file(to, has_ending(p.file, ".json") ? levels_json(found) + "\n" : levels_csv(found),
                    {.overwrite = overwrite_});
    out_.volumes.emplace_back(p.title.empty() ? p.file : p.title, found);
  }

  void raster(const Grid& g, const StudyProduct& p, const Ready& ready) {
    if (!ready.is_here) grids_.write(g, p.file, ready.key, grid_options());
    const fs::path to = path(grids_.name(p.file));
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
    if (p.bands || p.zones) {
      ContourOptions c = p.contour;
      c.run = options_.run;
      c.interval = p.interval.value_or(sensible_interval(out_.surface.lowest, out_.surface.highest, g.quantity().unit));
      return p.zones ? zone_layer(contour_zones(g, c), g) : band_layer(contour_bands(g, c), g);
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
    std::vector<NamedGrid> grids{{"surface", surface_}};
    for (const fs::path& f : p.with) grids.push_back({f.stem().string(), open_grid(f)});
    const std::vector<Profiles> all =
        across ? cross_sections(grids, read_line(p.across, crs), p.every, p.width, {.run = options_.run})
               : std::vector{profiles(grids, read_line(p.line, crs), {.run = options_.run})};
    const GraphOptions graph{.title = title, .exaggeration = p.exaggeration, .stations = p.stations};
    const auto drawn = write_profiles(all, to, graph, overwrite_).picture;
    if (!drawn) return;
    const char* what = across ? "Heights across the line." : "Heights along the transect.";
    // The report shows pixels, whatever the file is; sheets have pages of their own.
    if (drawn->format == PictureFormat::Png)
      pictures_.push_back({title, what, p.file, *drawn});
    else if (!across)
      pictures_.push_back({title, what, p.file, draw_profiles(all[0], graph)});
  }

  MapOptions map_options(const StudyProduct& p, const fs::path& to) {
    MapOptions m{.format = picture_format_for(to.string()),
                 .land = land_of(p),
                 .title = study_.title,
                 .sources = survey_names(),
                 .licence = licences(),
                 .overlays = overlays_of(p),
                 .run = options_.run};
    apply_style(p, m);
    // What the product says itself holds.
    m.land = look_of(p.land, m.land, surface_);
    if (!p.title.empty()) m.title = p.title;
    if (p.scale > 0) m.scale = p.scale;
    m.grid_lines = m.grid_lines || p.grid_lines;
    if (!p.page.empty()) m.paper = parse_paper(p.page, width_to_height(surface_.frame()));
    return m;
  }

  // What there is to say of its layers is said of the surface.
  template <class Options>
  void apply_style(const StudyProduct& p, Options& options) {
    std::vector<std::string> notes;
    apply(p.style, surface_, options, &notes);
    for (const std::string& n : notes) out_.surface.info.notes.push_back(p.file + ": " + n);
  }
  LandLook land_of(const StudyProduct& p) const { return look_of(p.land, {.exaggeration = p.exaggeration}, surface_); }
  // What a map says below of the tiles that it was made from: each survey once, with its dates.
  std::string survey_names() const {
    std::map<std::string, std::pair<std::string, std::string>> years;
    for (const ShortlistTile& t : out_.plan.shortlist.tiles) {
      if (!t.kept || t.tile.survey.empty()) continue;
      const std::string year = t.tile.date_guessed ? "" : t.tile.date.substr(0, 4);
      auto [at, fresh] = years.try_emplace(t.tile.survey, year, year);
      if (!fresh && !year.empty()) at->second = {std::min(at->second.first, year), std::max(at->second.second, year)};
    }
    std::string all;
    for (const auto& [survey, of] : years) {
      all += (all.empty() ? "" : "; ") + survey;
      const auto& [first, last] = of;
      if (survey.find(last) == std::string::npos && !last.empty())
        all += first == last || first.empty() ? " (" + last + ")" : " (" + first + "\u2013" + last + ")";
    }
    return all;
  }
  std::string licences() const {
    std::set<std::string> each;
    for (const ShortlistTile& t : out_.plan.shortlist.tiles)
      if (t.kept && !t.tile.licence.empty()) each.insert(t.tile.licence);
    return fmt::format("{}", fmt::join(each, "; "));
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
  RunGrids grids_;
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

}  // namespace

StudyRun run_study(const Study& study, const StudyOptions& options) { return Runner(study, options).run(); }

}  // namespace katoptra
