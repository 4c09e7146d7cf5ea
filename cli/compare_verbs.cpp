#include <cmath>
#include <cstdio>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/check/despike.hpp"
#include "katoptra/check/zones.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/correct.hpp"
#include "katoptra/view/charts.hpp"

#include "judging.hpp"

namespace katoptra::cli {
namespace {

void print_json(const ordered_json& j) {
  std::fputs((j.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
}

// ---------------------------------------------------------------------------------------------------------- compare

struct CompareCommand : Common {
  std::vector<std::string> in;
  std::string sea_level, uncertainty_first, uncertainty_second, corrected, map, histogram, worst;
  std::vector<double> slopes;
  bool no_shift = false, rotation = false;
};

std::string volume_text(double v, double uncertainty) {
  return fmt::format("{:.6g} m3, give or take {:.3g}", v, uncertainty);
}

// The spread in the unit of the table above it, so that the two can be held against each other.
void state_coregistration(const Coregistration& c, LengthUnit unit, std::string& text) {
  if (!c.found) {
    text += "  shift     not found: " + c.why + "\n";
    return;
  }
  text += fmt::format(
      "  shift     the second fits when it is moved by {:+.3f} m east and {:+.3f} m north ({:+.3f}, {:+.3f} "
      "cells; known to {:.3f} m)\n",
      c.east.metres(), c.north.metres(), c.cells_x, c.cells_y, c.shift_error.metres());
  text += fmt::format(
      "            and raised by {:+.3f} m in the middle, tilted by {:+.2e} to the east and {:+.2e} to the "
      "north\n",
      c.offset.metres(), c.tilt_x, c.tilt_y);
  if (c.rotation != Angle())
    text += fmt::format("            and turned by {:+.6f} degrees (counter-clockwise; {:.2f} cells at the far edge)\n",
                        c.rotation.degrees(), c.cells_at_edge);
  text += fmt::format("            NMAD {:.3f} {} before, {:.3f} after, of the {} cells that it rests on\n",
                      c.nmad_before.in(unit), symbol(unit), c.nmad_after.in(unit), c.cells);
}

std::string detection_text(const Detection& d, const std::string& unit) {
  const std::string level =
      d.lowest < d.highest ? fmt::format("{:.3f} to {:.3f}", d.lowest, d.highest) : fmt::format("{:.3f}", d.level);
  return fmt::format("  change    beyond {} {} (95 %): {} cell{}, {:.2f} %; +{:.6g} m3 and -{:.6g} m3, net {}\n", level,
                     unit, d.cells, d.cells == 1 ? "" : "s", 100 * d.share, d.volume.above, d.volume.below,
                     volume_text(d.volume.net(), d.volume.uncertainty));
}

std::string comparison_text(const Comparison& c) {
  const std::string unit = unit_name(c.difference.quantity());
  std::string t = fmt::format("{} less {}\n", c.first, c.second);
  t += fmt::format("  cells     {} x {}, {} of them in both; {}\n", c.frame.cols(), c.frame.rows(), c.overall.count,
                   cell_text(c.frame));
  t += errors_header("difference in " + unit) + errors_row("all", c.overall);
  std::string of = "";
  for (const DifferenceClass& k : c.classes) {
    if (k.of != of) t += fmt::format("  by {}\n", k.of);
    of = k.of;
    t += errors_row("  " + k.name, k.statistics);
  }
  t += fmt::format("  range     {:+.3f} to {:+.3f} {}; the largest:\n", c.overall.lowest, c.overall.highest, unit);
  // A metre is the fifth decimal of a degree.
  const int digits = c.frame.crs().is_geographic() ? 6 : 2;
  for (std::size_t i = 0; i < std::min<std::size_t>(3, c.worst.size()); ++i)
    t += fmt::format("            {:+.3f} at {:.{}f}, {:.{}f} (its surroundings {:+.3f} in the mean)\n",
                     c.worst[i].difference, c.worst[i].place.x, digits, c.worst[i].place.y, digits,
                     c.worst[i].patch_mean);
  t += fmt::format(
      "  volume    the first lies above the second by {:.6g} m3 on {:.6g} m2, below it by {:.6g} m3 on {:.6g} "
      "m2\n",
      c.volume.above, c.volume.area_above, c.volume.below, c.volume.area_below);
  t += fmt::format("            net {} (95 %)\n", volume_text(c.volume.net(), c.volume.uncertainty));
  if (c.detection) t += detection_text(*c.detection, unit);
  if (c.coregistration) state_coregistration(*c.coregistration, c.difference.quantity().unit, t);
  return t;
}

void write_histogram(const Comparison& c, const CompareCommand& o) {
  const auto [low, high] = c.robust_range();
  const std::string unit = unit_name(c.difference.quantity());
  write_picture(draw_histogram(
                    {.counts = c.sketch.histogram(81, {low, high}),
                     .from = low,
                     .to = high,
                     .value_title = fmt::format("first less second ({})", unit),
                     .facts = fmt::format("{} cells; mean {:+.3f}, RMSE {:.3f}, median {:+.3f}, NMAD {:.3f} {}; 1 % "
                                          "lies beyond the ends",
                                          c.overall.count, c.overall.mean, c.overall.rmse, c.overall.median,
                                          c.overall.nmad, unit),
                     .around_zero = true,
                     .marks = {{c.sketch.quantile(0.025), "2.5 %"},
                               {c.overall.median, "median"},
                               {c.sketch.quantile(0.975), "97.5 %"}}},
                    {.format = picture_format_for(o.histogram), .title = fmt::format("{} less {}", c.first, c.second)}),
                o.histogram, o.overwrite);
}

std::vector<Grid> open_all(const CompareCommand& o) {
  std::vector<Grid> grids;
  for (const std::string& path : expand_inputs(o.in)) grids.push_back(open_input(path, o));
  return grids;
}

int compare_many(const std::vector<Grid>& grids, const CompareCommand& o) {
  for (const std::string* s : {&o.out, &o.corrected, &o.map, &o.histogram, &o.worst})
    if (!s->empty())
      throw Error(ErrorCode::BadArgument, "is made of two surfaces, and more are given", *s, "compare them two by two");
  const std::vector<Standing> list = odd_one_out(grids, o.run());
  if (o.json) {
    print_json(ordered_json::parse(standings_json(list)));
    return 0;
  }
  if (o.quiet) return 0;
  fmt::print("  {:<32}{:>10}{:>12}{:>12}\n", "surface", "cells", "offset (m)", "spread (m)");
  bool any = false;
  for (const Standing& s : list) {
    fmt::print("  {:<32}{:>10}{:>+12.3f}{:>12.3f}{}\n", s.name, s.cells, s.offset.metres(), s.spread.metres(),
               s.odd ? "  <- the odd one out" : "");
    any = any || s.odd;
  }
  fmt::print("  offset: this less the others, the median of medians; {}\n",
             any ? "the one marked stands off where the others agree" : "none stands off where the others agree");
  return 0;
}

// The files that were asked for; their names.
std::vector<std::string> write_comparison(const Comparison& c, const Grid& second, const CompareCommand& o,
                                          std::vector<std::string>& notes) {
  std::vector<std::string> written;
  auto wanted = [&](const std::string& path) {
    if (path.empty()) return false;
    if (o.dry_run) {
      notes.push_back(path + " would be written; nothing was");
      return false;
    }
    written.push_back(path);
    return true;
  };
  WriteOptions w = o.write_options();
  if (wanted(o.out)) write_grid(within(c.difference, o, notes), o.out, w);
  w.lineage = true;
  if (wanted(o.corrected)) write_grid(corrected_second(c, second), o.corrected, w);
  if (wanted(o.map))
    write_picture(draw_map(c.difference, {.format = picture_format_for(o.map),
                                          .title = fmt::format("{} less {}", c.first, c.second),
                                          .overlays = {{worst_layer(c), OverlayStyle::Places, "largest differences"}},
                                          .run = o.run()}),
                  o.map, o.overwrite);
  if (wanted(o.histogram)) write_histogram(c, o);
  if (wanted(o.worst)) write_layer(worst_layer(c), o.worst, {.overwrite = o.overwrite});
  return written;
}

// A length, or the file of one for each place; without either, what the surface carries. One standard uncertainty,
// whatever confidence it is told with.
Uncertainty uncertainty_from(const std::string& text, const Grid& surface, const CompareCommand& o, LengthUnit unit,
                             std::vector<std::string>& notes) {
  const double times = o.open_options().uncertainty.times();
  std::optional<Grid> grid;
  if (text.empty()) {
    if (!surface.carries_uncertainty()) return {};
    grid = uncertainty_of(surface);
    notes.push_back(fmt::format("{}: its own uncertainties ({:g} %) were taken", surface.info().name, o.confidence));
    return *grid;
  } else if (std::filesystem::exists(text) || !parse_number(text.substr(0, text.find_first_not_of("+-.0123456789")))) {
    grid = open_grid(text);
  } else {
    const Length u = length_from(text, unit, notes);
    return u * times;
  }
  return times == 1 ? *grid : scaled(*grid, times, 0, [](GridInfo&) {});
}

int run_compare(const CompareCommand& o) {
  const std::vector<Grid> grids = open_all(o);
  if (grids.size() > 2) return compare_many(grids, o);
  if (grids.size() < 2) throw Error(ErrorCode::BadArgument, "takes two surfaces or more", "compare", "name another");
  std::vector<std::string> notes;
  std::optional<Area> area;
  if (!o.area.empty()) area = area_from(o.area, &notes);
  CompareOptions options{
      .area = area ? &*area : nullptr, .coregister = !o.no_shift, .rotation = o.rotation, .run = o.run_in_bands()};
  if (!o.slopes.empty()) {
    options.slope_bounds.clear();
    for (const double degrees : o.slopes) options.slope_bounds.push_back(Angle::degrees(degrees));
  }
  const LengthUnit unit = grids[0].quantity().unit;
  if (!o.sea_level.empty()) options.sea_level = length_from(o.sea_level, unit, notes);
  options.uncertainty_first = uncertainty_from(o.uncertainty_first, grids[0], o, unit, notes);
  options.uncertainty_second = uncertainty_from(o.uncertainty_second, grids[1], o, unit, notes);
  const Comparison c = compare(grids[0], grids[1], options);
  const std::vector<std::string> written = write_comparison(c, grids[1], o, notes);
  notes.insert(notes.begin(), c.notes.begin(), c.notes.end());
  for (const Grid& g : grids) notes.insert(notes.begin(), g.info().notes.begin(), g.info().notes.end());
  if (o.json) {
    ordered_json j = ordered_json::parse(comparison_json(c));
    j["notes"] = notes;
    j["written"] = written;
    print_json(j);
    return 0;
  }
  if (o.quiet) return 0;
  std::string text = comparison_text(c);
  for (const std::string& w : written) text += "  wrote     " + w + "\n";
  for (const std::string& n : notes) text += "  note      " + n + "\n";
  std::fputs(text.c_str(), stdout);
  return 0;
}

void add_compare(CLI::App& app, int& status) {
  auto o = std::make_shared<CompareCommand>();
  CLI::App* v = app.add_subcommand("compare", "how two surfaces differ (first less second); of more, the odd one out");
  v->add_option("SURFACE", o->in, "two surfaces or more; they are brought to one reference, unit and frame")
      ->required();
  v->add_option("--area", o->area, "only this area");
  v->add_option("--sea-level", o->sea_level, "below it is sea (default: 0)");
  v->add_option("--slopes", o->slopes, "bounds of the classes of slope in degrees, e.g. 5,15,30")->delimiter(',');
  v->add_option("--uncertainty-first", o->uncertainty_first,
                "uncertainty of the first: 0.05m, or a grid of it (default: its file's own)");
  v->add_option("--uncertainty-second", o->uncertainty_second, "and of the second: change beyond both is told apart");
  v->add_flag("--no-shift", o->no_shift, "do not look for a shift and a tilt");
  v->add_flag("--rotation", o->rotation, "look for a rotation, too");
  v->add_option("--corrected", o->corrected, "write the second with shift, offset and tilt taken out");
  v->add_option("--map", o->map, "draw the difference: .png, .svg, .pdf");
  v->add_option("--histogram", o->histogram, "draw its histogram");
  v->add_option("--worst", o->worst, "write the places with the largest differences: .geojson, .gpkg");
  add_writing(*v, *o);
  add_reading(*v, *o, Reading::Converts);
  add_confidence(*v, *o);
  add_output(*v, *o, false);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_compare(*o); });
}

// ---------------------------------------------------------------------------------------------------------- correct

struct CorrectCommand : Common {
  std::string in, by, offset, move, tilt, turn, pivot, spike;
  double factor = 1;
  bool spikes = false;
};

std::pair<double, double> pair_from(const std::string& text, const char* option) {
  const auto comma = text.find(',');
  const auto a = parse_number(text.substr(0, comma)),
             b = comma == text.npos ? std::nullopt : parse_number(text.substr(comma + 1));
  if (!a || !b)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no pair of numbers", text), option, "write EAST,NORTH");
  return {*a, *b};
}

int run_correct(const CorrectCommand& o) {
  std::vector<std::string> notes;
  Grid g = open_input(o.in, o);
  Correction c;
  c.pivot = g.frame().bounds().centre();
  if (!o.by.empty()) c = read_correction(read_text_file(o.by, 1 << 24), o.by);
  if (o.factor != 1) c.factor = o.factor;
  if (!o.offset.empty()) c.offset = length_from(o.offset, g.quantity().unit, notes);
  if (!o.move.empty()) {
    const auto [x, y] = pair_from(o.move, "--move");
    c.shift = {x, y};
    c.crs = g.frame().crs();
  }
  if (!o.tilt.empty()) std::tie(c.tilt_x, c.tilt_y) = pair_from(o.tilt, "--tilt");
  if (!o.turn.empty()) c.rotation = angle_from(o.turn, notes);
  if (!o.pivot.empty()) c.pivot = point_from(o.pivot, g.frame().crs());
  if (o.spikes) {
    Thresholds t;
    if (!o.spike.empty()) t.set("spike", o.spike);
    g = without_spikes(g, spike_rule(g, t, o.run()));
  }
  if (!c.does_nothing() || !o.spikes) g = corrected(g, c);
  return write_and_state(g, o, notes, true);
}

void add_correct(CLI::App& app, int& status) {
  auto o = std::make_shared<CorrectCommand>();
  CLI::App* v =
      app.add_subcommand("correct", "take a mistake out that was found: offset, shift, rotation, tilt, unit, spikes");
  v->add_option("IN", o->in, "a surface")->required();
  v->add_option("--by", o->by, "what compare --json found: shift, offset, tilt and rotation");
  v->add_option("--offset", o->offset, "added to every height, e.g. -0.18m");
  v->add_option("--factor", o->factor, "heights times this: 0.3048 where feet were called metres");
  v->add_option("--move", o->move, "EAST,NORTH added to its coordinates, in the unit of its CRS");
  v->add_option("--tilt", o->tilt, "EAST,NORTH: metres of height a metre, e.g. 1e-4,0");
  v->add_option("--turn", o->turn, "turned counter-clockwise about the pivot, e.g. 0.02deg");
  v->add_option("--pivot", o->pivot,
                "X,Y where the tilt adds nothing and about which it is turned (default: the middle)");
  v->add_flag("--spikes", o->spikes, "make spikes and pits voids, for fill to close");
  v->add_option("--spike", o->spike, "the least height of a spike (default: 0.5 m)");
  add_surface_writing(*v, *o);
  v->callback([o, &status] { status = run_correct(*o); });
}

// ------------------------------------------------------------------------------------------------------- statistics

struct StatisticsCommand : Common {
  std::string in, polygons, classes, histogram, rose, curve;
  std::vector<std::string> levels;
  int bins = 50;
  bool full = false, aspect = false, hypsometric = false;
};

std::string zones_text(const std::vector<ZoneStatistics>& zones, const std::string& unit) {
  std::string t = fmt::format("  {:<22}{:>10}{:>14}{:>10}{:>10}{:>10}{:>10}{:>10}  ({})\n", "zone", "cells",
                              "area (m2)", "lowest", "mean", "median", "95 %", "highest", unit);
  for (const ZoneStatistics& z : zones)
    t += fmt::format("  {:<22}{:>10}{:>14.1f}{:>10.2f}{:>10.2f}{:>10.2f}{:>10.2f}{:>10.2f}\n", z.name, z.cells, z.area,
                     z.lowest, z.mean, z.median, z.p95, z.highest);
  return t;
}

// What was measured beside the statistics of the whole: one table of zones, and levels and flanks of the whole or of
// each polygon.
struct Measured {
  std::vector<ZoneStatistics> zones;
  std::vector<LevelVolumes> levels;
  struct OfPolygon {
    std::string name;
    std::vector<LevelVolumes> levels;
    std::vector<ZoneStatistics> flanks;
  };
  std::vector<OfPolygon> polygons;
};

// All tables that are printed, one after the other with an empty line between them; the histogram where there is none.
std::string tables_csv(const StatisticsCommand& o, const Grid& g, const Statistics& s, const Measured& m) {
  std::string text;
  const auto add = [&](const std::string& table) { text += (text.empty() ? "" : "\n") + table; };
  if (!m.zones.empty()) add(zones_csv(m.zones));
  if (!m.levels.empty()) add(levels_csv(m.levels));
  for (const auto& p : m.polygons)
    if (!p.levels.empty()) add(levels_csv(p.levels, p.name));
  for (const auto& p : m.polygons) {
    if (p.flanks.empty()) continue;
    std::vector<ZoneStatistics> named = p.flanks;
    for (ZoneStatistics& z : named) z.name = p.name + ", " + z.name;
    add(zones_csv(named));
  }
  if (text.empty()) add(histogram_csv(s, o.bins, !o.full));
  add(statistics_csv(s, g.quantity()));
  return text;
}

void write_table(const StatisticsCommand& o, const std::string& csv, const ordered_json& j) {
  if (has_ending(o.out, ".json"))
    write_text_file(o.out, j.dump(2) + "\n", {.overwrite = o.overwrite});
  else if (has_ending(o.out, ".csv"))
    write_text_file(o.out, csv, {.overwrite = o.overwrite});
  else
    throw Error(ErrorCode::Unsupported, "statistics are written as .csv or .json", o.out, "give such a name");
}

std::string levels_text(const std::vector<LevelVolumes>& levels, const std::string& unit) {
  std::string text = fmt::format("  {:>12}{:>16}{:>16}{:>18}{:>18}\n", "level (" + unit + ")", "area above m2",
                                 "area below m2", "volume above m3", "volume below m3");
  for (const LevelVolumes& v : levels) {
    text += fmt::format("  {:>12.3f}{:>16.1f}{:>16.1f}{:>18.1f}{:>18.1f}\n", v.level, v.area_above, v.area_below,
                        v.volume_above, v.volume_below);
    const auto or_none = [](double d) { return std::isfinite(d) ? fmt::format("{:.1f}", d) : std::string("-"); };
    if (std::isfinite(v.give_or_take_above) || std::isfinite(v.give_or_take_below))
      text += fmt::format("  {:>44}{:>18}{:>18}\n", "give or take (95 %)", or_none(v.give_or_take_above),
                          or_none(v.give_or_take_below));
  }
  return text;
}

Measured measured(const StatisticsCommand& o, const Grid& g, std::vector<std::string>& notes) {
  const RunOptions run = o.run_in_bands();
  std::vector<double> at;
  for (const std::string& l : o.levels) at.push_back(length_from(l, g.quantity().unit, notes).in(g.quantity().unit));
  const auto levels_in = [&](const Area* area) -> std::vector<LevelVolumes> {
    if (!at.empty()) return volumes_at(g, at, area, run);
    return o.hypsometric ? hypsometric_curve(g, o.bins, area, run) : std::vector<LevelVolumes>();
  };
  Measured m;
  if (o.polygons.empty()) {
    if (!o.classes.empty()) m.zones = statistics_by_class(g, open_grid(o.classes), run);
    if (o.aspect) m.zones = slope_by_aspect(g, run);
    m.levels = levels_in(nullptr);
    return m;
  }
  const Layer layer = read_layer(o.polygons, g.frame().crs());
  m.zones = statistics_by_polygon(g, layer, run);
  if (at.empty() && !o.hypsometric && !o.aspect) return m;
  std::size_t i = 0;
  for (const Feature& f : layer.features) {
    const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
    if (!shape || i >= m.zones.size()) continue;
    const ZoneStatistics& zone = m.zones[i++];
    if (zone.cells == 0) continue;
    const Area area(*shape, layer.crs);
    m.polygons.push_back({zone.name, levels_in(&area), {}});
    if (o.aspect) m.polygons.back().flanks = slope_by_aspect(clip(g, area), run);
  }
  return m;
}

void draw_statistics(const StatisticsCommand& o, const Grid& g, const Statistics& s) {
  const std::string unit = unit_name(g.quantity()), name = g.info().name;
  if (!o.histogram.empty()) {
    const auto [low, high] = o.full ? std::pair{s.lowest, s.highest} : s.robust();
    write_picture(draw_histogram(
                      {.counts = s.sketch.histogram(o.bins, {low, high}),
                       .from = low,
                       .to = high,
                       .value_title = fmt::format("{} ({})", name_of(g.quantity().kind), unit),
                       .facts = fmt::format("{} cells; {:.2f} to {:.2f} {}, mean {:.2f}, standard deviation {:.2f}; {}",
                                            s.cells - s.voids, s.lowest, s.highest, unit, s.mean, s.deviation,
                                            o.full ? "full range" : "robust range: 1 to 99 % and a tenth more"),
                       .around_zero = false,
                       .marks = {{s.percentiles[1], "5 %"}, {s.percentiles[3], "median"}, {s.percentiles[5], "95 %"}}},
                      {.format = picture_format_for(o.histogram), .title = "Histogram of " + name}),
                  o.histogram, o.overwrite);
  }
  if (!o.rose.empty())
    write_picture(draw_rose(slope_by_aspect(g, o.run_in_bands()),
                            {.format = picture_format_for(o.rose), .title = "Slope by aspect: " + name}),
                  o.rose, o.overwrite);
  if (!o.curve.empty())
    write_picture(draw_hypsometry(hypsometric_curve(g, 200, nullptr, o.run_in_bands()), g.quantity().unit,
                                  {.format = picture_format_for(o.curve), .title = "Hypsometric curve: " + name}),
                  o.curve, o.overwrite);
}

int run_statistics(const StatisticsCommand& o) {
  std::vector<std::string> notes;
  const Grid g = within(open_input(o.in, o), o, notes);
  const std::string unit = unit_name(g.quantity());
  const Statistics s = statistics(g, o.run_in_bands());
  const Measured m = measured(o, g, notes);
  notes.insert(notes.begin(), g.info().notes.begin(), g.info().notes.end());
  ordered_json j{{"file", o.in}};
  j.update(ordered_json::parse(statistics_json(s, g.quantity(), o.bins)));
  if (!m.zones.empty()) j["zones"] = ordered_json::parse(zones_json(m.zones));
  if (!m.levels.empty()) j["levels"] = ordered_json::parse(levels_json(m.levels));
  for (const auto& p : m.polygons) {
    ordered_json one{{"zone", p.name}};
    if (!p.levels.empty()) one["levels"] = ordered_json::parse(levels_json(p.levels));
    if (!p.flanks.empty()) one["flanks"] = ordered_json::parse(zones_json(p.flanks));
    j["polygons"].push_back(one);
  }
  j["notes"] = notes;
  if (!o.out.empty()) write_table(o, tables_csv(o, g, s, m), j);
  draw_statistics(o, g, s);
  if (o.json) {
    print_json(j);
    return 0;
  }
  if (o.quiet) return 0;
  std::string text = fmt::format("{}\n  cells     {}, {} of them void\n", o.in, s.cells, s.voids);
  text += fmt::format("  range     {}; mean {:.6g}, standard deviation {:.6g}\n",
                      range_text(s.lowest, s.highest, g.quantity()), s.mean, s.deviation);
  text += "  share    ";
  for (int i = 0; i < 7; ++i)
    text += fmt::format(" {:g} %: {:.6g}{}", kPercents[i], s.percentiles[i], i < 6 ? "," : "\n");
  if (!m.zones.empty()) text += zones_text(m.zones, o.polygons.empty() && o.aspect ? "slope in degrees" : unit);
  if (!m.levels.empty()) text += levels_text(m.levels, unit);
  for (const auto& p : m.polygons) {
    text += "  " + p.name + "\n";
    if (!p.levels.empty()) text += levels_text(p.levels, unit);
    if (!p.flanks.empty()) text += zones_text(p.flanks, "slope in degrees");
  }
  for (const std::string* w : {&o.out, &o.histogram, &o.rose, &o.curve})
    if (!w->empty()) text += "  wrote     " + *w + "\n";
  for (const std::string& n : notes) text += "  note      " + n + "\n";
  std::fputs(text.c_str(), stdout);
  return 0;
}

void add_statistics(CLI::App& app, int& status) {
  auto o = std::make_shared<StatisticsCommand>();
  CLI::App* v = app.add_subcommand("statistics", "range, percentiles, areas and volumes, by polygon, class or aspect");
  v->add_option("IN", o->in, "a grid")->required();
  add_area(*v, *o);
  auto* polygons = v->add_option("--polygons", o->polygons, "statistics for each polygon of a file");
  auto* classes = v->add_option("--classes", o->classes, "statistics for each whole number of another grid");
  auto* aspect = v->add_flag("--by-aspect", o->aspect, "statistics of slope for each side of the compass");
  polygons->excludes(classes);
  classes->excludes(aspect);
  v->add_option("--level", o->levels, "area and volume above and below it, e.g. 2.5m; may be given more than once")
      ->allow_extra_args(false);
  v->add_flag("--hypsometric", o->hypsometric, "the same at even levels from the lowest to the highest");
  v->add_option("--bins", o->bins, "of the histogram, or steps of the curve")->check(CLI::Range(1, 10000));
  v->add_flag("--full", o->full, "histogram over the full range, not the robust one");
  v->add_option("--histogram", o->histogram, "draw it: .png, .svg, .pdf");
  v->add_option("--rose", o->rose, "draw slope by aspect");
  v->add_option("--curve", o->curve, "draw the hypsometric curve");
  add_reading(*v, *o, Reading::Converts);
  add_uncertainty(*v, *o);
  add_output(*v, *o, false);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_statistics(*o); });
}

}  // namespace

void add_judging_verbs(CLI::App& app, int& status) {
  add_check(app, status);
  add_compare(app, status);
  add_correct(app, status);
  add_statistics(app, status);
}

}  // namespace katoptra::cli
