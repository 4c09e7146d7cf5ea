// Sections: one surface or several along a line, many lines across one, corridors.
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <memory>
#include <optional>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/leaving.hpp"
#include "katoptra/terrain/profiles.hpp"
#include "katoptra/water/streams.hpp"

#include "pictures.hpp"

namespace katoptra::cli {
namespace {

struct SectionCommand : Common, LineOptions {
  std::vector<std::string> in, marks;
  std::string step, title, down_from, sea, across, every, width, swath, stations;
  std::optional<double> exaggerate;
  bool by_time = false;
};

// The way of the water from a place, on the surface without depressions.
Grid drained_below(const SectionCommand& o, const Grid& in, LineString& line, std::vector<std::string>& notes) {
  if (o.given())
    throw Error(ErrorCode::BadArgument, "two lines to follow", "section", "give either a line or --down-from");
  DrainOptions d{.run = o.run()};
  if (!o.sea.empty()) d.sea = length_from(o.sea, in.quantity().unit, notes).in(in.quantity().unit);
  const Flow f = flow(in, d);
  line = way_down(f, point_from(o.down_from, in.frame().crs()));
  if (line.size() < 2)
    throw Error(ErrorCode::BadArgument, "water leaves right where it falls", "section", "give a place farther up");
  return f.surface();
}

// Rather than the table that .csv is for a section.
bool leaves_as_line(const std::string& out) {
  const Format* f = format_of(out, Holds::Features, Use::Written);
  return f && !f->points_only && !has_ending(out, ".csv");
}

void say_section(Statement& t, const Section& s) {
  double low = std::nan(""), high = low;
  std::size_t voids = 0;
  for (const SectionPoint& p : s.points) {
    if (std::isnan(p.value)) {
      ++voids;
      continue;
    }
    low = std::isnan(low) ? p.value : std::min(low, p.value);
    high = std::isnan(high) ? p.value : std::max(high, p.value);
  }
  t.line("length",
         fmt::format("{:.3f} {} on the ground, {} points", s.points.back().distance, symbol(s.unit), s.points.size()));
  t.line("range", range_text(low, high, s.quantity));
  t.line("voids", part_text(static_cast<std::int64_t>(voids), static_cast<std::int64_t>(s.points.size()), "points"));
  if (s.quantity.kind == QuantityKind::Height) t.line("heights", height_text(s.quantity));
  t.fact("length", s.points.back().distance);
  t.fact("unit", symbol(s.unit));
  t.fact("points", s.points.size());
  t.fact("voids", voids);
  t.fact("range", std::isnan(low) ? ordered_json{nullptr, nullptr} : ordered_json{low, high});
}

// What goes together, before anything is opened.
void require_sense(const SectionCommand& o) {
  if (!has_ending(o.out, ".csv") && !picture_named(o.out) && !leaves_as_line(o.out))
    throw Error(ErrorCode::Unsupported,
                fmt::format("a section is not written as '{}'", std::filesystem::path(o.out).extension().string()),
                o.out,
                "give a name that ends in .csv for the table, .png, .svg or .pdf for the graph, or .gpkg, .dxf, .shp, "
                ".kml for the line with its heights");
  auto refuse = [](const char* what, const char* how) { throw Error(ErrorCode::BadArgument, what, "section", how); };
  if (o.down_from.empty() && !o.sea.empty()) refuse("the sea is for the way of water", "it goes with --down-from");
  if (o.across.empty() != o.every.empty() || o.across.empty() != o.width.empty())
    refuse("cross sections need a line, a distance and a width", "give --across FILE --every 50m --width 80m");
  if (!o.across.empty() && (o.given() || !o.down_from.empty() || !o.swath.empty()))
    refuse("two lines to follow", "--across takes its lines from the centre line");
  if (o.in.size() > 1 && !(o.down_from.empty() && o.swath.empty()))
    refuse("the way of water and a corridor are of one surface", "give one");
  if (!o.down_from.empty() && !o.swath.empty()) refuse("a corridor needs a line", "leave --down-from out");
  if ((!o.stations.empty() || o.by_time) && !picture_named(o.out))
    refuse("stations and times are for a graph", "give a name that ends in .png, .svg or .pdf");
  if (!o.stations.empty() && !(Length::parse(o.stations, LengthUnit::Metre).metres() > 0))
    refuse("stations are some way apart", "take for instance --stations 50m");
  if (o.exaggerate && !(*o.exaggerate > 0 && *o.exaggerate <= 10000))
    refuse("an exaggeration is above zero", "10 draws heights ten times as large as lengths");
}

std::vector<NamedGrid> open_surfaces(const SectionCommand& o) {
  std::vector<NamedGrid> out;
  for (const std::string& path : o.in) {
    std::string name = std::filesystem::path(path).stem().string();
    // Two files of one name are told by their folders.
    for (const std::string& other : o.in)
      if (&other != &path && std::filesystem::path(other).stem() == name) name = path;
    out.push_back({name, open_input(path, o)});
  }
  return out;
}

void add_marks(const SectionCommand& o, Profiles& p) {
  for (const std::string& file : o.marks) {
    const Section& s = p.surfaces[0].section;
    // As near as a fiftieth of the line.
    const auto more = marks_on(s, read_layer(file, s.crs), Length::metres(s.length().metres() / 50));
    p.marks.insert(p.marks.end(), more.begin(), more.end());
  }
  std::stable_sort(p.marks.begin(), p.marks.end(),
                   [](const LineMark& a, const LineMark& b) { return a.distance < b.distance; });
}

void say_cut_and_fill(Statement& t, const CutFill& cf, LengthUnit unit, bool volume) {
  const char* power = volume ? "³" : "²";
  t.line("cut", fmt::format("{:.1f} {}{}", cf.cut, symbol(unit), power));
  t.line("fill", fmt::format("{:.1f} {}{}", cf.fill, symbol(unit), power));
  t.fact(volume ? "cut_volume" : "cut_area", cf.cut);
  t.fact(volume ? "fill_volume" : "fill_area", cf.fill);
}

void write_sections(const SectionCommand& o, const std::vector<Profiles>& all, const std::string& title,
                    std::vector<std::string>& notes) {
  GraphOptions graph{.title = o.title.empty() ? title : o.title, .exaggeration = o.exaggerate.value_or(0)};
  if (!o.stations.empty()) graph.stations = length_from(o.stations, LengthUnit::Metre, notes);
  graph.by_time = o.by_time;
  const ProfilesReport r = write_profiles(all, o.out, graph, o.overwrite);
  if (leaves_as_line(o.out))
    say_place({.name = "section", .crs = all[0].surfaces[0].section.crs, .features = {}, .unit = {}}, o.out, notes);
  say_layer(r.layer, notes);
}

int run_cross_sections(const SectionCommand& o) {
  std::vector<std::string> notes;
  const std::vector<NamedGrid> grids = open_surfaces(o);
  const Grid& first = grids[0].grid;
  const LineString centre = read_line(o.across, first.frame().crs(), &notes);
  refuse_outside("the centre line", centre, first);
  const Length every = length_from(o.every, LengthUnit::Metre, notes),
               width = length_from(o.width, LengthUnit::Metre, notes);
  SectionOptions options{.run = o.run()};
  if (!o.step.empty()) options.step = length_from(o.step, LengthUnit::Metre, notes);
  std::vector<Profiles> all = cross_sections(grids, centre, every, width, options);
  std::size_t empty = 0;
  for (Profiles& p : all) {
    add_marks(o, p);
    const auto& points = p.surfaces[0].section.points;
    empty += std::all_of(points.begin(), points.end(), [](const SectionPoint& q) { return std::isnan(q.value); });
  }
  const LengthUnit unit = all[0].surfaces[0].section.unit;
  write_sections(o, all, "Cross sections of " + first.info().name, notes);
  Statement t(o);
  t.title(o.out);
  t.line("sections", fmt::format("{}, {} to {}, each {:g} {} wide", all.size(), all.front().name, all.back().name,
                                 width.in(unit), symbol(unit)));
  t.fact("sections", all.size());
  t.fact("unit", symbol(unit));
  if (grids.size() > 1) say_cut_and_fill(t, volumes_between(all), unit, true);
  if (first.quantity().kind == QuantityKind::Height) t.line("heights", height_text(first.quantity()));
  if (empty > 0) notes.push_back(fmt::format("{} of them lie over nothing but voids", empty));
  t.notes(first.info(), notes);
  t.print();
  return 0;
}

// The lines to follow: those of a file, or one that is told.
std::vector<NamedLine> lines_of(const SectionCommand& o, Grid& in, SectionOptions& options,
                                std::vector<std::string>& notes) {
  std::vector<NamedLine> lines(1);
  if (!o.down_from.empty()) {
    in = drained_below(o, in, lines[0].line, notes);
    // The way of water goes from cell to cell: between them there is ground that it does not touch.
    const GroundSpacing cell = ground_spacing(in.frame());
    options.step = std::max(cell.x, cell.y) * 2;
    return lines;
  }
  if (o.line_is_file())
    lines = read_lines(o.line, in.frame().crs(), &notes);
  else
    lines[0].line = section_line(o, "section", in.frame().crs(), notes);
  for (const NamedLine& l : lines) refuse_outside("the line", l.line, in);
  return lines;
}

void say_marks(Statement& t, const std::vector<LineMark>& marks) {
  if (marks.empty()) return;
  t.line("marks", fmt::format("{} on the line", marks.size()));
  ordered_json list = ordered_json::array();
  for (const LineMark& m : marks) list.push_back({{"distance", m.distance}, {"name", m.name}});
  t.fact("marks", std::move(list));
}

void say_several(Statement& t, const std::vector<Profiles>& all) {
  std::string names;
  ordered_json list = ordered_json::array();
  CutFill sum;
  for (const Profiles& p : all) {
    const Section& s = p.surfaces[0].section;
    names += (names.empty() ? "" : ", ") + p.name;
    list.push_back({{"name", p.name}, {"length", s.points.back().distance}, {"points", s.points.size()}});
    if (p.surfaces.size() < 2 || p.corridor) continue;
    const CutFill cf = cut_and_fill(s, p.surfaces[1].section);
    sum.cut += cf.cut;
    sum.fill += cf.fill;
  }
  const LengthUnit unit = all[0].surfaces[0].section.unit;
  t.line("lines", fmt::format("{}: {}", all.size(), names));
  t.fact("lines", std::move(list));
  t.fact("unit", symbol(unit));
  if (all[0].surfaces.size() > 1 && !all[0].corridor) say_cut_and_fill(t, sum, unit, false);
}

int run_section(const SectionCommand& o) {
  require_sense(o);
  if (!o.across.empty()) return run_cross_sections(o);
  std::vector<std::string> notes;
  std::vector<NamedGrid> grids = open_surfaces(o);
  Grid& in = grids[0].grid;
  SectionOptions options{.run = o.run()};
  const std::vector<NamedLine> lines = lines_of(o, in, options, notes);
  if (!o.step.empty()) options.step = length_from(o.step, LengthUnit::Metre, notes);
  std::vector<Profiles> all;
  for (const NamedLine& l : lines) {
    Profiles p = o.swath.empty() ? profiles(grids, l.line, options)
                                 : swath_profiles(in, l.line, length_from(o.swath, LengthUnit::Metre, notes), options);
    p.name = lines.size() > 1 ? l.name : "";
    for (NamedSection& s : p.surfaces) set_times(s.section, l.line, l.times);
    add_marks(o, p);
    all.push_back(std::move(p));
  }
  write_sections(o, all, "Section through " + in.info().name, notes);
  Statement t(o);
  t.title(o.out);
  if (all.size() > 1) {
    say_several(t, all);
  } else {
    const Profiles& p = all[0];
    const Section& s = p.surfaces[p.corridor ? 1 : 0].section;
    say_section(t, s);
    if (p.surfaces.size() > 1 && !p.corridor)
      say_cut_and_fill(t, cut_and_fill(s, p.surfaces[1].section), s.unit, false);
    say_marks(t, p.marks);
  }
  t.notes(in.info(), notes);
  t.print();
  return 0;
}

}  // namespace

void add_section_verb(CLI::App& app, int& status) {
  auto s = std::make_shared<SectionCommand>();
  CLI::App* v = app.add_subcommand("section", "heights along a line: a graph, a table, or the line with its heights");
  v->add_option("IN", s->in, "a grid; several are drawn in one graph, the second against the first")->required();
  add_line_options(*v, *s);
  v->add_option("--down-from", s->down_from, "instead: the way of the water from this place, X,Y, to where it leaves");
  v->add_option("--sea", s->sea, "with that: where the sea stands, e.g. 0m, and water ends");
  v->add_option("--across", s->across, "instead: cross sections of the line in this file");
  v->add_option("--every", s->every, "with that: so far apart, e.g. 50m");
  v->add_option("--width", s->width, "with that: so wide, e.g. 80m");
  v->add_option("--swath", s->swath, "lowest, mean and highest in a corridor so wide, e.g. 40m");
  v->add_option("--marks", s->marks, "mark the points of this file that lie near, and where its lines cross")
      ->allow_extra_args(false);
  v->add_option("--step", s->step, "between points (default: a cell)");
  v->add_option("--stations", s->stations, "below the graph: stations and heights, so far apart, e.g. 50m");
  v->add_flag("--by-time", s->by_time, "along a track with times: by minutes instead of distance");
  v->add_option("--title", s->title, "above the graph");
  v->add_option("--exaggerate", s->exaggerate, "heights so many times as large as lengths (default: as it fits)");
  add_reading(*v, *s, Reading::Converts);
  add_uncertainty(*v, *s);
  add_output(*v, *s);
  v->get_option("--out")->description(
      "where to write: .png, .svg, .pdf for the graph, .csv for the table; for the line with its heights .gpkg, "
      ".geojson, .shp, .dxf, .kml, .kmz, .gpx");
  add_running(*v, *s);
  v->callback([s, &status] { status = run_section(*s); });
}

}  // namespace katoptra::cli
