#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/view/charts.hpp"
#include "katoptra/water/basins.hpp"
#include "katoptra/water/inundation.hpp"
#include "katoptra/water/reservoir.hpp"
#include "katoptra/water/water_products.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

// How water is let out, of all verbs that follow it.
struct DrainCommand : Common {
  std::string in, way = "least", longest, deepest, keep_deeper, keep_larger, keep_in, burn, sea, voids = "leave";
  std::optional<Area> kept_area;
  std::optional<Layer> lines;
};

double height_of(const std::string& text, const Grid& in, std::vector<std::string>& notes) {
  return length_from(text, in.quantity().unit, notes).in(in.quantity().unit);
}

DrainOptions drain_options(DrainCommand& o, const Grid& in, std::vector<std::string>& notes) {
  DrainOptions d{.way = parse_take_out(o.way), .run = o.run()};
  if (!o.longest.empty()) d.longest = length_from(o.longest, LengthUnit::Metre, notes);
  if (!o.deepest.empty()) d.deepest = height_of(o.deepest, in, notes);
  if (!o.keep_deeper.empty()) d.keep_depth = height_of(o.keep_deeper, in, notes);
  if (!o.keep_larger.empty()) d.keep_area = parse_square_metres(o.keep_larger);
  if (!o.keep_in.empty()) {
    o.kept_area = area_from(o.keep_in, &notes, {.option = "--keep-in"});
    d.keep = &*o.kept_area;
  }
  if (!o.burn.empty()) {
    o.lines = read_layer(o.burn, in.frame().crs());
    d.burn = &*o.lines;
  }
  d.voids = parse_at_voids(o.voids);
  if (!o.sea.empty()) d.sea = height_of(o.sea, in, notes);
  return d;
}

void add_input(CLI::App& v, DrainCommand& o) {
  v.add_option("IN", o.in, "a surface")->required();
  v.add_option("--sea", o.sea, "cells no higher than this that hang together with the edge are sea, e.g. 0m");
  v.add_option("--voids", o.voids, "what water does at voids within the surface: leave into them, or run around")
      ->check(CLI::IsMember({"leave", "around"}));
  v.add_option("--area", o.area, "only this area");
  v.add_option("--margin", o.margin, "this much around the area, e.g. 50m");
}

void add_limits(CLI::App& v, DrainCommand& o) {
  v.add_option("--burn", o.burn, "a vector file with lines of streams or culverts, under which the ground is lowered");
  v.add_option("--longest", o.longest, "of a channel that is carved, 100 cells unless told, e.g. 50m");
  v.add_option("--deepest", o.deepest, "how far below the ground it may run, e.g. 2m");
  v.add_option("--keep-deeper", o.keep_deeper, "depressions at least this deep are real: water ends there, e.g. 1m");
  v.add_option("--keep-larger", o.keep_larger, "and at least this large, e.g. 500m2");
  v.add_option("--keep-in", o.keep_in, "those with their deepest cell in this area are real");
}

void add_way(CLI::App& v, DrainCommand& o) {
  v.add_option("--depressions", o.way, "how they are taken out: the way that moves less ground, unless told")
      ->check(CLI::IsMember({"least", "fill", "carve"}));
  add_limits(v, o);
}

void refuse_out(const std::string& out, bool vector) {
  const Holds wanted = vector ? Holds::Features : Holds::Grids;
  const Format* f = format_of(out, wanted, Use::Written);
  if (f && !(vector && f->points_only)) return;
  const std::string ending = out.substr(std::min(out.size(), out.rfind('.')));
  throw Error(ErrorCode::Unsupported, fmt::format("this is not written as '{}'", ending), out,
              vector ? "give a name that ends in one of " + endings_of_lines()
                     : "give a name of a grid, for instance one that ends in .tif");
}

std::string volume_text(double cubic_metres) {
  if (cubic_metres >= 1e6) return fmt::format("{:.4g} million m3", cubic_metres / 1e6);
  return cubic_metres >= 1000 ? fmt::format("{:.0f} m3", cubic_metres) : fmt::format("{:.4g} m3", cubic_metres);
}

void say_drained(Statement& s, const DrainReport& d, const std::string& way) {
  if (d.depressions == 0) {
    s.line("depressions", "none");
  } else {
    s.line("depressions", fmt::format("{}: {} filled, {} carved, {} kept{}", d.depressions, d.filled, d.carved, d.kept,
                                      way == "least" ? " (each by the way that moves less ground)" : ""));
    if (d.burnt) s.line("burnt in", fmt::format("{} cells lowered under lines", d.burnt));
    s.line("moved", fmt::format("{} cells raised by {}, {} lowered by {}", d.cells_raised, volume_text(d.volume_raised),
                                d.cells_lowered, volume_text(d.volume_lowered)));
  }
  s.fact("depressions", {{"found", d.depressions},
                         {"filled", d.filled},
                         {"carved", d.carved},
                         {"kept", d.kept},
                         {"burnt_cells", d.burnt},
                         {"cells_raised", d.cells_raised},
                         {"cells_lowered", d.cells_lowered},
                         {"volume_raised_m3", d.volume_raised},
                         {"volume_lowered_m3", d.volume_lowered}});
}

std::string share(double part, double whole) { return fmt::format("{:.3g} %", whole > 0 ? 100 * part / whole : 0); }

void say_flow(Statement& s, const Flow& f, const std::string& way) {
  say_drained(s, f.drained(), way);
  const FlowReport& r = f.report();
  s.line("water", fmt::format("from {} leaves at {} cells{}", format_area(r.area), r.leaving,
                              r.ending ? fmt::format(" and ends in {}", r.ending) : ""));
  if (r.cut_off > 0)
    s.line("cut off", fmt::format("{} of the cells may get more from beyond the edge of the data",
                                  share(static_cast<double>(r.cut_off), static_cast<double>(r.cells))));
  s.fact("cells", r.cells);
  s.fact("area_m2", r.area);
  s.fact("leaving_cells", r.leaving);
  s.fact("ending_cells", r.ending);
  s.fact("level_cells", r.level);
  s.fact("cut_off_cells", r.cut_off);
}

// Below zero lies the sea, mostly: who has not said so is told.
void note_sea(const DrainCommand& o, const Grid& in, std::vector<std::string>& notes) {
  if (!o.sea.empty() || in.quantity().heights.is_ellipsoid()) return;
  std::int64_t low = 0, all = 0;
  // Runs of cells here and there: whole rows would have every tile of the surface unpacked.
  constexpr std::int64_t kPlaces = 16, kRun = 64;
  const Frame& f = in.frame();
  for (std::int64_t i = 0; i < kPlaces * kPlaces; ++i) {
    const auto middle = [](std::int64_t k, std::int64_t n) { return (2 * k + 1) * n / (2 * kPlaces); };
    const std::int64_t row = middle(i / kPlaces, f.rows()), col = middle(i % kPlaces, f.cols());
    const Block b = in.read({col, row, std::min(kRun, f.cols() - col), 1});
    for (std::int64_t c = 0; c < b.window().cols; ++c) {
      all += !std::isnan(b.at(c, 0));
      low += b.at(c, 0) < 0;
    }
  }
  constexpr double kMuch = 0.02;
  if (static_cast<double>(low) > kMuch * static_cast<double>(all))
    notes.push_back(
        fmt::format("some {:.0f} % of the surface lie below 0: water runs on over the sea floor unless --sea 0m ends "
                    "it at the shore",
                    100 * static_cast<double>(low) / static_cast<double>(all)));
}

Flow flow_of(DrainCommand& o, Grid& in, std::vector<std::string>& notes) {
  in = within(open_input(o.in, o), o, notes);
  note_sea(o, in, notes);
  return flow(in, drain_options(o, in, notes));
}

// ---- depressions

struct DepressionsCommand : DrainCommand {
  bool fill = false, carve = false, least = false;
};

int list_depressions(DepressionsCommand& o, const Grid& in, std::vector<std::string>& notes) {
  const std::vector<Depression> list = depressions(in, drain_options(o, in, notes));
  write_features(depression_layer(list, in), o, notes);
  double area = 0, volume = 0, deepest = 0;
  std::int64_t cells = 0;
  for (const Depression& d : list) {
    area += d.area;
    volume += d.volume;
    cells += d.cells;
    deepest = std::max(deepest, d.depth);
  }
  Statement s(o);
  s.title(o.out);
  s.line("depressions", list.empty()
                            ? "none"
                            : fmt::format("{} with {} cells, {}, {}; the deepest {:.3g} {}", list.size(), cells,
                                          format_area(area), volume_text(volume), deepest, unit_name(in.quantity())));
  std::vector<const Depression*> largest;
  for (const Depression& d : list) largest.push_back(&d);
  const std::size_t shown = std::min<std::size_t>(5, largest.size());
  std::partial_sort(largest.begin(), largest.begin() + static_cast<std::ptrdiff_t>(shown), largest.end(),
                    [](const Depression* a, const Depression* b) { return a->volume > b->volume; });
  for (std::size_t i = 0; i < shown; ++i) {
    const Depression& d = *largest[i];
    s.line(i == 0 ? "largest" : "",
           fmt::format("{:.10g},{:.10g}: {:.3g} {} deep, {}, {}, sill at {:.2f}", d.place.x, d.place.y, d.depth,
                       unit_name(in.quantity()), format_area(d.area), volume_text(d.volume), d.sill));
  }
  s.fact("depressions", list.size());
  s.fact("cells", cells);
  s.fact("area_m2", area);
  s.fact("volume_m3", volume);
  s.fact("deepest", deepest);
  s.fact("unit", unit_name(in.quantity()));
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

int run_depressions(DepressionsCommand& o) {
  std::vector<std::string> notes;
  const Grid in = within(open_input(o.in, o), o, notes);
  note_sea(o, in, notes);
  const int ways = o.fill + o.carve + o.least;
  if (ways > 1)
    throw Error(ErrorCode::BadArgument, "more than one way to take them out", "depressions",
                "give one of --fill, --carve and --least");
  if (ways == 0) {
    for (const std::string* limit : {&o.longest, &o.deepest})
      if (!limit->empty())
        throw Error(ErrorCode::BadArgument, "a limit of channels is for taking depressions out", "depressions",
                    "say how with --carve or --least");
    refuse_out(o.out, true);
    if (o.dry_run || !o.sheets.empty() || !o.part.empty())
      throw Error(ErrorCode::BadArgument, "a list is made in one go", "depressions",
                  "--dry-run and --sheets go with --fill, --carve or --least");
    return list_depressions(o, in, notes);
  } else {
    refuse_out(o.out, false);
  }
  o.way = o.fill ? "fill" : o.carve ? "carve" : "least";
  Statement s(o);
  if (o.dry_run) {
    write_or_plan(in, o, s, false);
  } else {
    const Drained d = drained(in, drain_options(o, in, notes));
    write_or_plan(d.surface, o, s, true);
    say_drained(s, d.report, o.way);
  }
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

void add_depressions(CLI::App& app, int& status) {
  auto o = std::make_shared<DepressionsCommand>();
  CLI::App* v =
      app.add_subcommand("depressions", "what would hold water, as polygons; or the surface with a way out of each");
  add_input(*v, *o);
  v->add_flag("--fill", o->fill, "write the surface with depressions raised to their sills");
  v->add_flag("--carve", o->carve, "write it with channels out of them, filled where none is within the limits");
  v->add_flag("--least", o->least, "write it with each taken out by the way that moves less ground");
  add_limits(*v, *o);
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  say_lines(*v, "a grid, .tif ...; as a list ");
  add_writing(*v, *o);
  add_sheets(*v, *o);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_depressions(*o); });
}

// ---- flow

struct FlowCommand : DrainCommand {
  std::string as = "area", from_area, neighbours = "one", weights;
};

Grid flow_grid(const FlowCommand& o, const Flow& f, const Grid& rain) {
  const UpstreamOptions up{
      .neighbours = parse_neighbours(o.neighbours), .weights = rain ? &rain : nullptr, .run = o.run()};
  return flow_as(f, o.as, up, o.from_area.empty() ? 0 : parse_square_metres(o.from_area));
}

int run_flow(FlowCommand& o) {
  std::vector<std::string> notes;
  const bool of_streams = is_of_streams(o.as);
  if (of_streams == o.from_area.empty())
    throw Error(
        ErrorCode::BadArgument, of_streams ? "from which area on are streams streams?" : "an area is for streams",
        "flow",
        of_streams ? "say so with --from-area, for instance 1ha" : "it goes with --as height-above or distance");
  if (of_streams) parse_square_metres(o.from_area);
  const bool sums = o.as == "area" || o.as == "wetness" || o.as == "power";
  if (!sums && (o.neighbours != "one" || !o.weights.empty()))
    throw Error(ErrorCode::BadArgument, fmt::format("--as {} goes by one neighbour and without weights", o.as), "flow",
                "leave out --neighbours and --weights, or take area, wetness or power");
  refuse_out(o.out, false);
  Statement s(o);
  if (o.dry_run) {
    write_or_plan(within(open_input(o.in, o), o, notes), o, s, false);
  } else {
    Grid in, rain;
    if (!o.weights.empty()) rain = open_grid(o.weights);  // what cannot be read is said before anything is computed
    const Flow f = flow_of(o, in, notes);
    write_or_plan(flow_grid(o, f, rain), o, s, false);
    say_flow(s, f, o.way);
  }
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

void add_flow(CLI::App& app, int& status) {
  auto o = std::make_shared<FlowCommand>();
  CLI::App* v = app.add_subcommand("flow", "which way water runs, how much comes together, where the ground stays wet");
  add_input(*v, *o);
  v->add_option("--as", o->as,
                "upstream area or cells, direction, wetness index, stream power; height above the next stream, or "
                "distance to it")
      ->check(CLI::IsMember(std::vector<std::string>(std::begin(kFlowWords), std::end(kFlowWords))));
  v->add_option("--neighbours", o->neighbours,
                "to how many water runs: one, the two beside any angle, several by their slopes")
      ->check(CLI::IsMember({"one", "any-angle", "several"}));
  v->add_option("--weights", o->weights,
                "a grid on the same cells that says how much each square metre counts, e.g. rain");
  v->add_option("--from-area", o->from_area, "with the last two: streams are where this much drains, e.g. 1ha");
  add_way(*v, *o);
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  add_writing(*v, *o);
  add_sheets(*v, *o);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_flow(*o); });
}

// ---- streams

struct StreamsCommand : DrainCommand {
  std::string from_area;
};

int run_streams(StreamsCommand& o) {
  std::vector<std::string> notes;
  refuse_out(o.out, true);
  const double from_area = parse_square_metres(o.from_area);
  Grid in;
  const Flow f = flow_of(o, in, notes);
  const StreamNet net = streams(f, {.from_area = from_area, .run = o.run()});
  if (net.reaches.empty())
    throw Error(ErrorCode::BadArgument,
                fmt::format("nowhere do {} come together; all of it is {}", format_area(from_area),
                            format_area(f.report().area)),
                in.info().name, "take a smaller --from-area");
  write_features(stream_layer(net, f), o, notes);
  std::map<int, std::pair<std::int64_t, double>> by_order;
  double length = 0;
  std::int64_t ends = 0;
  for (const Reach& r : net.reaches) {
    ++by_order[r.strahler].first;
    by_order[r.strahler].second += r.length;
    length += r.length;
    ends += r.next == 0;
  }
  Statement s(o);
  s.title(o.out);
  s.line("reaches", fmt::format("{} with {} on the ground, from {} on", net.reaches.size(),
                                format_length(Length::metres(length)), format_area(from_area)));
  std::string orders;
  for (const auto& [order, sum] : by_order)
    orders += fmt::format("{}{}: {} ({})", orders.empty() ? "" : ", ", order, sum.first,
                          format_length(Length::metres(sum.second)));
  s.line("orders", orders);
  s.fact("reaches", net.reaches.size());
  s.fact("length_m", length);
  s.fact("from_area_m2", from_area);
  s.fact("mouths", ends);
  say_flow(s, f, o.way);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_streams(CLI::App& app, int& status) {
  auto o = std::make_shared<StreamsCommand>();
  CLI::App* v = app.add_subcommand("streams", "where enough water comes together, as reaches that are joined");
  add_input(*v, *o);
  v->add_option("--from-area", o->from_area, "how much must drain to a place, e.g. 10ha")->required();
  add_way(*v, *o);
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  say_lines(*v);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_streams(*o); });
}

// ---- basins

struct BasinsCommand : DrainCommand {
  std::vector<std::string> outlets;
  std::string outlets_file, within_text, from_area;
};

std::vector<Point> outlets_of(const BasinsCommand& o, const Crs& crs) {
  std::vector<Point> places;
  for (const std::string& text : o.outlets) places.push_back(point_from(text, crs));
  if (o.outlets_file.empty()) return places;
  const std::vector<Point> read = places_of(read_layer(o.outlets_file, crs), crs);
  places.insert(places.end(), read.begin(), read.end());
  if (read.empty())
    throw Error(ErrorCode::BadFile, "holds no points", o.outlets_file, "give a file with the outlets as points");
  return places;
}

// A place beside its stream has a basin of a few cells: that is seldom what was meant.
void note_missed(const std::vector<Basin>& list, std::vector<std::string>& notes) {
  constexpr double kMuchMore = 20;
  for (const Basin& k : list)
    if (k.most_near > kMuchMore * k.upstream_area)
      notes.push_back(
          fmt::format("only {} drain to {:.10g},{:.10g}, but {} to a place {} from it: --within {:.0f}m moves it there",
                      format_area(k.upstream_area), k.outlet.x, k.outlet.y, format_area(k.most_near),
                      format_length(Length::metres(k.most_at)), std::ceil(k.most_at)));
}

std::string basin_text(const Basin& k) {
  return fmt::format("{} drain to {:.10g},{:.10g}{}, by ways up to {}, mean slope {:.3g} %{}{}",
                     format_area(k.upstream_area), k.outlet.x, k.outlet.y,
                     k.moved > 0 ? fmt::format(" (moved by {})", format_length(Length::metres(k.moved))) : "",
                     format_length(Length::metres(k.longest_path)), 100 * k.mean_slope,
                     k.next ? fmt::format("; on to {}", k.next) : "",
                     k.cut_off ? "; more may come from beyond the edge of the data" : "");
}

ordered_json basin_fact(const Basin& k) {
  return {{"number", k.number},
          {"next", k.next},
          {"area_m2", k.area},
          {"upstream_m2", k.upstream_area},
          {"moved_m", k.moved},
          {"outlet", {k.outlet.x, k.outlet.y}},
          {"longest_path_m", k.longest_path},
          {"mean_slope", k.mean_slope},
          {"cut_off", k.cut_off}};
}

int run_basins(BasinsCommand& o) {
  std::vector<std::string> notes;
  refuse_out(o.out, true);
  BasinOptions b{.outlets = {}, .within = {}, .run = o.run()};
  if (!o.from_area.empty()) b.from_area = parse_square_metres(o.from_area);
  if (!o.within_text.empty()) b.within = length_from(o.within_text, LengthUnit::Metre, notes);
  if (o.outlets.empty() && o.outlets_file.empty() && o.from_area.empty())
    throw Error(ErrorCode::BadArgument, "no outlets", "basins",
                "give --outlet X,Y, --outlets FILE, or --from-area for a basin of each reach of the streams");
  Grid in;
  const Flow f = flow_of(o, in, notes);
  b.outlets = outlets_of(o, in.frame().crs());
  const std::vector<Basin> list = basins(f, b);
  note_missed(list, notes);
  write_features(basin_layer(list, f), o, notes);
  Statement s(o);
  s.title(o.out);
  s.line("basins", fmt::format("{}", list.size()));
  constexpr std::size_t kShown = 8;
  for (std::size_t i = 0; i < std::min(kShown, list.size()) && b.from_area == 0; ++i)
    s.line(fmt::format("  {}", list[i].number), basin_text(list[i]));
  ordered_json facts = ordered_json::array();
  for (const Basin& k : list) facts.push_back(basin_fact(k));
  s.fact("basins", std::move(facts));
  say_flow(s, f, o.way);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_basins(CLI::App& app, int& status) {
  auto o = std::make_shared<BasinsCommand>();
  CLI::App* v = app.add_subcommand("basins", "what drains to a place, or to each reach of the streams, as polygons");
  add_input(*v, *o);
  v->add_option("--outlet", o->outlets, "a place: X,Y or X,Y@CRS; may be said again");
  v->add_option("--outlets", o->outlets_file, "a vector file with places");
  v->add_option("--within", o->within_text, "move places onto the most water within this distance, e.g. 10m");
  v->add_option("--from-area", o->from_area,
                "instead: a basin for each reach of the streams from this area, e.g. 50ha");
  add_way(*v, *o);
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  say_lines(*v);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_basins(*o); });
}

// ---- inundation

struct InundationCommand : Common {
  std::string in, level;
  std::vector<std::string> from;
  bool all = false, chance = false;
};

// A grid of how likely, instead of shapes.
int write_chance(const InundationCommand& o) {
  std::vector<std::string> notes;
  if (o.all || !o.from.empty())
    throw Error(ErrorCode::BadArgument, "a chance asks of each cell by itself, not which way water takes", "inundation",
                "leave out --from and --all");
  refuse_out(o.out, false);
  const Grid in = within(open_input(o.in, o), o, notes);
  return write_and_state(chance_below(in, height_of(o.level, in, notes)), o, notes);
}

int run_inundation(const InundationCommand& o) {
  if (o.chance) return write_chance(o);
  std::vector<std::string> notes;
  if (!o.uncertainty.empty())
    throw Error(ErrorCode::BadArgument, "shapes do not tell how sure they are", "inundation",
                "--uncertainty goes with --chance");
  refuse_out(o.out, true);
  const Grid in = within(open_input(o.in, o), o, notes);
  InundationOptions options{.level = height_of(o.level, in, notes), .places = {}, .all = o.all, .run = o.run()};
  for (const std::string& text : o.from) options.places.push_back(point_from(text, in.frame().crs()));
  const Inundation wet = inundation(in, options);
  write_features(inundation_layer(wet, in), o, notes);
  const std::string unit = unit_name(in.quantity());
  Statement s(o);
  s.title(o.out);
  s.line("level", fmt::format("{:g} {}", options.level, unit));
  s.line("wet", wet.parts.empty() ? "nothing"
                                  : fmt::format("{} in {} parts, {}", format_area(wet.area), wet.parts.size(),
                                                volume_text(wet.volume)));
  if (wet.dry_low_cells > 0)
    s.line("stays dry",
           fmt::format("{} that lie as low, but no way leads the water there", format_area(wet.dry_low_area)));
  s.fact("level", options.level);
  s.fact("unit", unit);
  s.fact("parts", wet.parts.size());
  s.fact("area_m2", wet.area);
  s.fact("volume_m3", wet.volume);
  s.fact("dry_low_area_m2", wet.dry_low_area);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_inundation(CLI::App& app, int& status) {
  auto o = std::make_shared<InundationCommand>();
  CLI::App* v = app.add_subcommand("inundation", "what lies under water at a level, as polygons");
  v->add_option("IN", o->in, "a surface")->required();
  v->add_option("--level", o->level, "how high the water stands, e.g. 4m")->required();
  v->add_option("--from", o->from,
                "where the water comes from: X,Y; the edge and voids unless told; may be said again");
  v->add_flag("--all", o->all, "whatever lies as low, whether water can get there or not");
  v->add_flag("--chance", o->chance,
              "instead a grid of how likely each place lies below the level, in percent, by how sure the surface is");
  add_uncertainty(*v, *o);
  v->add_option("--area", o->area, "only this area");
  v->add_option("--margin", o->margin, "this much around the area, e.g. 50m");
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  say_lines(*v);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_inundation(*o); });
}

// ---- reservoir

struct ReservoirCommand : Common {
  std::string in, dam, from, crest, title;
  int steps = 50;
};

std::string storage_csv(const Reservoir& r) {
  std::string text = "level,area_m2,volume_m3\n";
  for (const ReservoirLevel& v : r.curve) text += fmt::format("{:.4f},{:.3f},{:.3f}\n", v.level, v.area, v.volume);
  return text;
}

void write_reservoir(const ReservoirCommand& o, const Reservoir& r, const Grid& in, std::vector<std::string>& notes) {
  if (has_ending(o.out, ".csv"))
    write_text_file(o.out, storage_csv(r), {.overwrite = o.overwrite});
  else if (picture_named(o.out))
    write_picture(draw_storage(r, in.quantity().unit,
                               {.format = picture_format_for(o.out),
                                .title = o.title.empty() ? "Behind the dam: " + in.info().name : o.title}),
                  o.out, o.overwrite);
  else
    write_features(reservoir_layer(r, in), o, notes);
}

int run_reservoir(const ReservoirCommand& o) {
  std::vector<std::string> notes;
  if (!has_ending(o.out, ".csv") && !picture_named(o.out)) refuse_out(o.out, true);
  const Grid in = within(open_input(o.in, o), o, notes);
  ReservoirOptions r{.dam = read_line(o.dam, in.frame().crs(), &notes),
                     .from = point_from(o.from, in.frame().crs()),
                     .crest = {},
                     .steps = o.steps,
                     .run = o.run()};
  if (!o.crest.empty()) r.crest = height_of(o.crest, in, notes);
  const Reservoir full = reservoir(in, r);
  write_reservoir(o, full, in, notes);
  const std::string unit = unit_name(in.quantity());
  const ReservoirLevel& top = full.curve.back();
  Statement s(o);
  s.title(o.out);
  s.line("crest", fmt::format("{:.2f} {}", full.crest, unit));
  s.line("full",
         fmt::format("at {:.2f} {}: {}, {}{}", full.top, unit, format_area(top.area), volume_text(top.volume),
                     full.runs_over ? fmt::format("; then it runs over at {:.10g},{:.10g}, before it reaches the crest",
                                                  full.over->x, full.over->y)
                                    : ""));
  s.fact("crest", full.crest);
  s.fact("top", full.top);
  s.fact("unit", unit);
  s.fact("runs_over", full.runs_over);
  if (full.over) s.fact("over", {full.over->x, full.over->y});
  s.fact("area_m2", top.area);
  s.fact("volume_m3", top.volume);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_reservoir(CLI::App& app, int& status) {
  auto o = std::make_shared<ReservoirCommand>();
  CLI::App* v = app.add_subcommand(
      "reservoir", "what a dam would hold: area and volume by level, as a table, a graph or the water's edge");
  v->add_option("IN", o->in, "a surface")->required();
  v->add_option("--dam", o->dam, "a vector file with the line of the dam")->required();
  v->add_option("--from", o->from, "a place behind it, where the water stands: X,Y")->required();
  v->add_option("--crest", o->crest, "how high the dam is: the lower of its ends unless told, e.g. 30m");
  v->add_option("--steps", o->steps, "of the curve");
  v->add_option("--title", o->title, "of the graph");
  v->add_option("--area", o->area, "only this area");
  v->add_option("--margin", o->margin, "this much around the area, e.g. 50m");
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_reservoir(*o); });
}

}  // namespace

void add_water_verbs(CLI::App& app, int& status) {
  add_depressions(app, status);
  add_flow(app, status);
  add_streams(app, status);
  add_basins(app, status);
  add_inundation(app, status);
  add_reservoir(app, status);
}

}  // namespace katoptra::cli
