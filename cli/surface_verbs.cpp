#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "common.hpp"
#include "control_options.hpp"

namespace katoptra::cli {
namespace {

struct MosaicCommand : Common, ControlOptions {
  std::vector<std::string> tiles, prefer{"newest", "finest"}, hold;
  std::string feather, level;
  bool each_tile = false;
};

std::vector<Preference> preferences(const std::vector<std::string>& names) {
  std::vector<Preference> out;
  for (const std::string& n : names) out.push_back(parse_preference(n));
  return out;
}

// What --level asks for, measured.
std::optional<Levelling> levelling_of(const std::vector<Grid>& tiles, const MosaicCommand& o,
                                      std::vector<std::string>& notes) {
  if (o.level.empty()) return std::nullopt;
  std::optional<ControlSet> control;
  if (!o.control.empty()) control = control_points(o, tiles[0], notes);
  return level(tiles, {.fit = parse_level_fit(o.level),
                       .hold = o.hold,
                       .control = control ? &*control : nullptr,
                       .each_tile = o.each_tile,
                       .run = o.run()});
}

void state_levelling(const Levelling& l, Statement& s) {
  constexpr std::size_t kMostLines = 20;
  for (std::size_t i = 0; i < l.surveys.size() && i < kMostLines; ++i) s.line("levelled", levelling_text(l.surveys[i]));
  if (l.surveys.size() > kMostLines)
    s.line("levelled", fmt::format("and {} more, which --json tells", l.surveys.size() - kMostLines));
  s.line("overlaps", overlaps_text(l));
  s.fact("levelling", ordered_json::parse(levelling_json(l)));
  for (const std::string& n : l.notes) s.note(n);
}

int run_mosaic(const MosaicCommand& o) {
  std::vector<std::string> notes;
  std::vector<Grid> tiles;
  for (const std::string& t : expand_inputs(o.tiles)) tiles.push_back(open_input(t, o));
  MosaicOptions m{.prefer = preferences(o.prefer), .resampling = parse_resampling(o.resample)};
  if (!o.feather.empty()) m.feather = length_from(o.feather, LengthUnit::Metre, notes);
  const std::optional<Levelling> found = levelling_of(tiles, o, notes);
  if (found) tiles = levelled(tiles, *found);
  Statement s(o);
  write_or_plan(within(mosaic(tiles, m), o, notes), o, s, true);
  if (found) state_levelling(*found, s);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

struct FillCommand : Common {
  std::string in, largest, method = "usual", second, blend, streams;
  bool edges = false;
};

// What hidden cells showed of each way, where ways were tried.
void state_trials(const FillReport& p, const Grid& in, Statement& s) {
  if (p.trials.empty()) return;
  ordered_json list = ordered_json::array();
  for (const FillTrial& t : p.trials) {
    s.line("tried", fmt::format("voids of {} to {} cells, {}: rms {:.3g} {} at {} hidden cells{}", t.from, t.to, t.way,
                                t.rms, unit_name(in.quantity()), t.cells, t.taken ? ", taken" : ""));
    list.push_back({{"from", t.from},
                    {"to", t.to},
                    {"way", t.way},
                    {"voids", t.voids},
                    {"cells", t.cells},
                    {"rms", t.rms},
                    {"taken", t.taken}});
  }
  s.fact("trials", std::move(list));
}

int run_fill(const FillCommand& o) {
  std::vector<std::string> notes;
  const Grid in = open_input(o.in, o);
  FillOptions f{.edges = o.edges, .method = parse_fill_method(o.method), .run = o.run()};
  if (!o.second.empty()) {
    // What is said of the input is not said of the second surface; where heights shall be counted from is.
    Common reading = o;
    for (std::string* said :
         {&reading.uncertainty, &reading.shift, &reading.band, &reading.columns, &reading.delimiter})
      said->clear();
    reading.from_void.reset();
    reading.depths = false;
    f.second = open_input(o.second, reading);
  }
  if (!o.blend.empty()) f.blend = length_from(o.blend, LengthUnit::Metre, notes);
  if (!o.largest.empty()) f.largest = length_from(o.largest, in.quantity().unit, notes);
  std::optional<Layer> streams;
  if (!o.streams.empty()) f.streams = &streams.emplace(read_layer(o.streams, in.frame().crs()));
  const FillResult r = fill_voids(in, f);
  const FillReport& p = r.report;
  Statement s(o);
  write_or_plan(r.grid, o, s, true);
  s.line("closed", fmt::format("{} voids with {} cells{}, the longest {:.1f} m", p.voids_closed, p.cells_closed,
                               ways_of(p), p.largest_closed.metres()));
  s.line("left",
         fmt::format("{} at the edge, {} too large; {} cells{}", p.voids_left_at_edge, p.voids_left_large, p.cells_left,
                     p.largest_left > Length() ? fmt::format(", the longest {:.1f} m", p.largest_left.metres()) : ""));
  if (f.streams)
    s.line("streams", p.stream_crossings == 0 ? "none runs through a void"
                                              : fmt::format("beds through {} void{}, {} cells", p.stream_crossings,
                                                            p.stream_crossings == 1 ? "" : "s", p.stream_cells));
  state_trials(p, in, s);
  s.fact("voids_closed", p.voids_closed);
  s.fact("voids_by_mean", p.voids_by_mean);
  s.fact("voids_by_distance", p.voids_by_distance);
  s.fact("voids_by_membrane", p.voids_by_membrane);
  s.fact("voids_by_smooth", p.voids_by_smooth);
  s.fact("voids_by_tin", p.voids_by_tin);
  s.fact("voids_from_second", p.voids_from_second);
  s.fact("stream_crossings", p.stream_crossings);
  s.fact("stream_cells", p.stream_cells);
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
  // The vertical part of the CRS to move to is where heights go.
  if (!o.crs.empty() && o.crs != "utm")
    if (const HeightReference part = Crs::parse(o.crs).heights(); part.known()) {
      if (!o.heights.empty() && !(HeightReference::parse(o.heights) == part))
        throw Error(ErrorCode::BadArgument,
                    fmt::format("--crs asks for heights above {}, --heights for others", part.name()), "reproject",
                    "give one of them");
      reading.heights = part.text();
    }
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
  const Crs to = o.crs == "utm" ? reach.utm() : o.crs.empty() ? in.frame().crs() : Crs::parse(o.crs).with_heights({});
  FrameOptions f{.area = area ? &*area : nullptr};
  if (!o.cell.empty()) {
    f.cell = parse_cell_edge(o.cell, LengthUnit::Metre);
    // A bare number is said to have been taken for metres.
    if (std::holds_alternative<Length>(*f.cell)) f.cell = length_from(o.cell, LengthUnit::Metre, notes);
  }
  const std::filesystem::path out = o.out;
  std::optional<Frame> frame;
  if (!o.like.empty()) {
    frame = open_grid(o.like).frame();
  } else if (out.extension() == ".hgt") {
    // Cells of one second of arc or of three: a degree of latitude is about 111 km.
    const Length edge = !f.cell ? ground_spacing(in.frame()).y
                        : std::holds_alternative<Length>(*f.cell)
                            ? std::get<Length>(*f.cell)
                            : Length::metres(std::get<Angle>(*f.cell).degrees() * 111'195);
    frame = hgt_tile_frame(out, edge);
  } else if (const std::string ending = out.extension().string();
             ending == ".dt0" || ending == ".dt1" || ending == ".dt2") {
    frame = dted_cell_frame(out, area ? frame_for(in.frame(), to, f) : in.frame());
  } else {
    frame = frame_for(in.frame(), to, f);
  }
  const Resampling method = resolved(parse_resampling(o.resample), in, *frame);
  notes.push_back(fmt::format("resampled by {}", name_of(method)));
  if (method == Resampling::Nearest && in.quantity().kind == QuantityKind::Height)
    notes.push_back("nearest repeats and drops rows: a hillshade of this will show stripes");
  return write_and_state(reproject(in, *frame, method), o, notes, is_traced(in));
}

void add_fill(CLI::App& app, int& status) {
  auto f = std::make_shared<FillCommand>();
  CLI::App* v = app.add_subcommand("fill", "close voids");
  v->add_option("IN", f->in, "a surface")->required();
  v->add_option("--largest", f->largest, "the longest void to close, e.g. 200m (default: 100 cells)");
  v->add_flag("--edges", f->edges, "close voids that reach the edge, too");
  v->add_option(
       "--method", f->method,
       "usual (window mean for small voids, inverse distance), distance, membrane, smooth, tin, or auto: the way that "
       "errs least on hidden cells")
      ->check(CLI::IsMember({"usual", "distance", "membrane", "smooth", "tin", "auto"}));
  v->add_option("--streams", f->streams, "a vector file with lines of streams, whose beds run on through voids");
  auto* second = v->add_option("--second", f->second, "a second surface, bent onto the rim of the voids it covers");
  v->add_option("--blend", f->blend, "bend it within this distance of the rim only, e.g. 30m (default: all over)")
      ->needs(second);
  add_surface_writing(*v, *f);
  v->callback([f, &status] { status = run_fill(*f); });
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
  auto* level = v->add_option("--level", m->level, "bring surveys to one level first, by offsets or planes")
                    ->check(CLI::IsMember({"offsets", "planes"}));
  v->add_option("--hold", m->hold, "surveys or tiles that are right as they are")
      ->allow_extra_args(false)
      ->delimiter(',')
      ->needs(level);
  v->add_flag("--each-tile", m->each_tile, "level tiles of one survey one by one, too")->needs(level);
  add_control(*v, *m, "points whose heights are right, to level by")->needs(level);
  add_area(*v, *m, false);
  add_surface_writing(*v, *m);
  v->callback([m, &status] { status = run_mosaic(*m); });

  add_fill(app, status);

  auto c = std::make_shared<ClipCommand>();
  v = app.add_subcommand("clip", "cut to an area: the cells whose centre is inside; without one, convert as it is");
  v->add_option("IN", c->in, "a grid")->required();
  add_area(*v, *c, false);
  add_surface_writing(*v, *c);
  v->callback([c, &status] { status = run_clip(*c); });

  auto r = std::make_shared<ReprojectCommand>();
  v = app.add_subcommand("reproject", "move to another CRS, cell or height reference");
  v->add_option("IN", r->in, "a grid")->required();
  v->add_option("--crs", r->crs, "where to: a code such as EPSG:32725, or utm for the zone of the area");
  v->add_option("--cell", r->cell,
                "edge of a cell: 1m on the ground, or 1\" in degrees (default: a round number near the source's)");
  v->add_option("--resample", r->resample, "nearest, bilinear, cubic, mean, auto (cubic for surfaces)");
  v->add_option("--onto", r->like, "onto exactly the cells of this grid");
  add_writing(*v, *r);
  add_sheets(*v, *r);
  add_reading(*v, *r, Reading::Moves);
  add_uncertainty(*v, *r);
  add_leaving_out(*v, *r);
  add_area(*v, *r, false);
  add_output(*v, *r);
  add_running(*v, *r);
  v->callback([r, &status] { status = run_reproject(*r); });
}

}  // namespace katoptra::cli
