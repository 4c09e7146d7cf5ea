#include <cstdio>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

struct MosaicCommand : Common {
  std::vector<std::string> tiles, prefer{"newest", "finest"};
  std::string feather;
};

std::vector<Preference> preferences(const std::vector<std::string>& names) {
  std::vector<Preference> out;
  for (const std::string& n : names) out.push_back(parse_preference(n));
  return out;
}

// The part of a grid inside an area, when one is given.
Grid within(const Grid& grid, const Common& c, std::vector<std::string>& notes) {
  if (c.area.empty()) return grid;
  const Length margin = c.margin.empty() ? Length() : length_from(c.margin, LengthUnit::Metre, notes);
  return clip(grid, area_from(c.area, &notes, {.margin = c.margin}), {.margin = margin});
}

int run_mosaic(const MosaicCommand& o) {
  std::vector<std::string> notes;
  std::vector<Grid> tiles;
  for (const std::string& t : expand_inputs(o.tiles)) tiles.push_back(open_input(t, o));
  MosaicOptions m{.prefer = preferences(o.prefer), .resampling = parse_resampling(o.resample)};
  if (!o.feather.empty()) m.feather = length_from(o.feather, LengthUnit::Metre, notes);
  return write_and_state(within(mosaic(tiles, m), o, notes), o, notes, true);
}

// A grid that came with its lineage keeps it through the next steps.
bool is_traced(const Grid& grid) { return grid.info().sources.size() > 1; }

struct FillCommand : Common {
  std::string in, largest;
  bool edges = false;
};

int run_fill(const FillCommand& o) {
  std::vector<std::string> notes;
  const Grid in = open_input(o.in, o);
  FillOptions f{.edges = o.edges, .run = o.run()};
  if (!o.largest.empty()) f.largest = length_from(o.largest, in.quantity().unit, notes);
  const FillResult r = fill_voids(in, f);
  const FillReport& p = r.report;
  Statement s(o);
  WriteOptions w = o.write_options();
  w.lineage = true;
  s.written(write_grid(r.grid, o.out, w));
  s.line("closed",
         fmt::format("{} voids with {} cells ({} by window mean, {} by inverse distance), the longest {:.1f} m",
                     p.voids_closed, p.cells_closed, p.voids_by_mean, p.voids_by_distance, p.largest_closed.metres()));
  s.line("left",
         fmt::format("{} at the edge, {} too large; {} cells{}", p.voids_left_at_edge, p.voids_left_large, p.cells_left,
                     p.largest_left > Length() ? fmt::format(", the longest {:.1f} m", p.largest_left.metres()) : ""));
  s.fact("voids_closed", p.voids_closed);
  s.fact("cells_closed", p.cells_closed);
  s.fact("voids_left_at_edge", p.voids_left_at_edge);
  s.fact("voids_left_large", p.voids_left_large);
  s.fact("cells_left", p.cells_left);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

struct ClipCommand : Common {
  std::string in;
};

int run_clip(const ClipCommand& o) {
  std::vector<std::string> notes;
  const Grid part = within(open_input(o.in, o), o, notes);
  return write_and_state(part, o, notes, is_traced(part));
}

struct ReprojectCommand : Common {
  std::string in, like;
};

int run_reproject(const ReprojectCommand& o) {
  std::vector<std::string> notes;
  Common reading = o;
  reading.crs.clear();
  const Grid in = open_input(o.in, reading);
  if (!in.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be moved from it", o.in,
                "say which it has with --from-crs");
  std::optional<Area> area;
  if (!o.area.empty()) {
    area = area_from(o.area);
    if (!o.margin.empty()) area = area->grown(length_from(o.margin, LengthUnit::Metre, notes));
  }
  const Area reach = area ? *area : Area::box(in.frame().bounds(), in.frame().crs());
  const Crs to = o.crs == "utm" ? reach.utm() : o.crs.empty() ? in.frame().crs() : Crs::parse(o.crs);
  FrameOptions f{.area = area ? &*area : nullptr};
  if (!o.cell.empty()) f.cell = length_from(o.cell, LengthUnit::Metre, notes);
  const std::filesystem::path out = o.out;
  std::optional<Frame> frame;
  if (!o.like.empty()) {
    frame = open_grid(o.like).frame();
  } else if (out.extension() == ".hgt") {
    const Length edge = o.cell.empty() ? ground_spacing(in.frame()).y : length_from(o.cell, LengthUnit::Metre, notes);
    frame = hgt_tile_frame(out, edge);
  } else {
    frame = frame_for(in.frame(), to, f);
  }
  const Resampling method = resolved(parse_resampling(o.resample), in, *frame);
  notes.push_back(fmt::format("resampled by {}", name_of(method)));
  if (method == Resampling::Nearest && in.quantity().kind == QuantityKind::Height)
    notes.push_back("nearest repeats and drops rows: a hillshade of this will show stripes");
  return write_and_state(reproject(in, *frame, method), o, notes, is_traced(in));
}

struct CheckCommand : Common {
  std::vector<std::string> in;
};

std::string place_text(Point p, const Crs& crs) {
  return crs.is_geographic() ? fmt::format("{:.6f}, {:.6f}", p.x, p.y) : fmt::format("{:.2f}, {:.2f}", p.x, p.y);
}

int run_check(const CheckCommand& o) {
  std::optional<Area> area;
  if (!o.area.empty()) area = area_from(o.area);
  std::vector<Finding> findings;
  std::vector<Grid> grids;
  ordered_json stats = ordered_json::array();
  std::string text;
  for (const std::string& path : expand_inputs(o.in)) {
    GridFile file = open_grid_file(path, o.open_options());
    try {
      CheckReport r = check(file.grid, {.area = area ? &*area : nullptr, .run = o.run()});
      findings.insert(findings.end(), std::make_move_iterator(r.findings.begin()),
                      std::make_move_iterator(r.findings.end()));
      grids.push_back(file.grid);
      const Statistics& s = r.statistics;
      text += fmt::format("{}: {} cells, {} voids, {}\n", path, s.cells, s.voids,
                          range_text(s.lowest, s.highest, file.grid.quantity()));
      if (s.cells > s.voids)
        text += fmt::format(
            "  percentiles 1/25/50/75/99: {:.2f} / {:.2f} / {:.2f} / {:.2f} / {:.2f}; lowest at {}, highest at {}\n",
            s.percentiles[0], s.percentiles[2], s.percentiles[3], s.percentiles[4], s.percentiles[6],
            place_text(s.lowest_at, file.grid.frame().crs()), place_text(s.highest_at, file.grid.frame().crs()));
      if (s.cells > s.voids)
        stats.push_back({{"file", path},
                         {"cells", s.cells},
                         {"voids", s.voids},
                         {"lowest", s.lowest},
                         {"highest", s.highest},
                         {"lowest_at", {s.lowest_at.x, s.lowest_at.y}},
                         {"highest_at", {s.highest_at.x, s.highest_at.y}},
                         {"mean", s.mean},
                         {"deviation", s.deviation},
                         {"percentiles", s.percentiles}});
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      findings.push_back({.code = "damaged",
                          .severity = Severity::Failure,
                          .file = file.facts.path.filename().string(),
                          .message = e.problem(),
                          .advice = "fetch it again",
                          .measure = {},
                          .unit = {},
                          .place = {},
                          .crs = {}});
    }
  }
  for (Finding& f : check_overlaps(grids, o.run())) findings.push_back(std::move(f));
  std::stable_sort(findings.begin(), findings.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  const auto failures =
      std::count_if(findings.begin(), findings.end(), [](const Finding& f) { return f.severity == Severity::Failure; });
  for (const Finding& f : findings) {
    text += fmt::format("{:<8} {:<9} {}: {}\n", name_of(f.severity), f.code, f.file, f.message);
    if (!f.advice.empty()) text += fmt::format("{:18} -> {}\n", "", f.advice);
  }
  text += fmt::format("{} failure{}, {} finding{} in all\n", failures, failures == 1 ? "" : "s", findings.size(),
                      findings.size() == 1 ? "" : "s");
  if (!o.out.empty()) {
    if (o.out.ends_with(".json")) {
      write_text_file(o.out, findings_json(findings) + "\n", {.overwrite = o.overwrite});
    } else {
      write_layer(finding_layer(findings), o.out, {.overwrite = o.overwrite});
    }
  }
  if (o.json) {
    ordered_json j;
    j["failures"] = failures;
    j["findings"] = ordered_json::parse(findings_json(findings));
    j["statistics"] = stats;
    std::fputs((j.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
  } else if (!o.quiet) {
    std::fputs(text.c_str(), stdout);
  }
  return failures > 0 ? 1 : 0;
}

void add_area(CLI::App& verb, Common& c, bool required) {
  auto* o = verb.add_option("--area", c.area,
                            "box:W,S,E,N, circle:LON,LAT,RADIUS (@CRS behind it), a vector file or like:FILE");
  if (required) o->required();
  verb.add_option("--margin", c.margin, "this much around the area, e.g. 50m");
}

}  // namespace

void add_surface_verbs(CLI::App& app, int& status) {
  auto m = std::make_shared<MosaicCommand>();
  CLI::App* v = app.add_subcommand("mosaic", "one surface from many tiles");
  v->add_option("TILE", m->tiles, "grids, folders or shortlists")->required();
  v->add_option("--prefer", m->prefer, "what decides where tiles overlap: newest, finest, given (in order)")
      ->allow_extra_args(false)
      ->delimiter(',');
  v->add_option("--feather", m->feather, "width of a seam over which tiles fade into each other, e.g. 20m");
  v->add_option("--resample", m->resample, "for tiles on another lattice: nearest, bilinear, cubic, mean, auto");
  add_writing(*v, *m);
  add_area(*v, *m, false);
  add_reading(*v, *m, Reading::Converts);
  add_output(*v, *m);
  add_running(*v, *m);
  v->callback([m, &status] { status = run_mosaic(*m); });

  auto f = std::make_shared<FillCommand>();
  v = app.add_subcommand("fill", "close voids");
  v->add_option("IN", f->in, "a surface")->required();
  v->add_option("--largest", f->largest, "the longest void to close, e.g. 200m (default: 100 cells)");
  v->add_flag("--edges", f->edges, "close voids that reach the edge, too");
  add_writing(*v, *f);
  add_reading(*v, *f, Reading::Converts);
  add_output(*v, *f);
  add_running(*v, *f);
  v->callback([f, &status] { status = run_fill(*f); });

  auto c = std::make_shared<ClipCommand>();
  v = app.add_subcommand("clip", "cut to an area: the cells whose centre is inside; without one, convert as it is");
  v->add_option("IN", c->in, "a grid")->required();
  add_writing(*v, *c);
  add_area(*v, *c, false);
  add_reading(*v, *c, Reading::Converts);
  add_output(*v, *c);
  add_running(*v, *c);
  v->callback([c, &status] { status = run_clip(*c); });

  auto r = std::make_shared<ReprojectCommand>();
  v = app.add_subcommand("reproject", "move to another CRS, cell or height reference");
  v->add_option("IN", r->in, "a grid")->required();
  v->add_option("--crs", r->crs, "where to: a code such as EPSG:32725, or utm for the zone of the area");
  v->add_option("--cell", r->cell, "edge of a cell on the ground, e.g. 1m (default: a round number near the source's)");
  v->add_option("--resample", r->resample, "nearest, bilinear, cubic, mean, auto (cubic for surfaces)");
  v->add_option("--like", r->like, "onto exactly the cells of this grid");
  add_writing(*v, *r);
  add_reading(*v, *r, Reading::Moves);
  add_area(*v, *r, false);
  add_output(*v, *r);
  add_running(*v, *r);
  v->callback([r, &status] { status = run_reproject(*r); });

  auto k = std::make_shared<CheckCommand>();
  v = app.add_subcommand("check", "what is wrong with a surface; exit status 1 when a finding fails");
  v->add_option("IN", k->in, "surfaces, folders or shortlists")->required();
  v->add_option("--area", k->area, "the area that should be covered");
  add_reading(*v, *k, Reading::Assigns);
  add_output(*v, *k, false);
  add_running(*v, *k);
  v->callback([k, &status] { status = run_check(*k); });
}

}  // namespace katoptra::cli
