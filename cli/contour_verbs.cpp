// Lines of equal height, the bands between them, and spot heights.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>

#include "katoptra/check/statistics.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/spot_heights.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

struct ContourCommand : Common {
  std::string in, interval, base, below, levels, depth_levels, shortest, smooth;
  int index_every = 5;
  bool bands = false, zones = false;
};

// An empty file with success would hide that the interval, the base or the unit is not what was meant.
[[noreturn]] void refuse_no_lines(const Grid& in, const ContourOptions& c) {
  if (in.frame().rows() < 2 || in.frame().cols() < 2)
    throw Error(ErrorCode::BadFile, "is a single row of cells, between which no line runs", in.info().name,
                "take a larger area");
  const Statistics s = statistics(in, c.run);
  if (std::isnan(s.lowest))
    throw Error(ErrorCode::BadFile, "holds nothing but voids, so it has no lines", in.info().name, "check the area");
  const LengthUnit unit = in.quantity().unit;
  if (!c.levels.empty())
    throw Error(ErrorCode::BadArgument,
                fmt::format("no level meets the surface, which lies between {:g} and {:g} {}", s.lowest, s.highest,
                            unit_name(in.quantity())),
                in.info().name, "give levels between the two");
  throw Error(
      ErrorCode::BadArgument,
      fmt::format(
          "no level meets the surface: it lies between {:g} and {:g} {}, and levels are {:g} {} apart from {:g}",
          s.lowest, s.highest, unit_name(in.quantity()), c.interval.in(unit), unit_name(in.quantity()),
          c.base.in(unit)),
      in.info().name, "take a shorter --interval, or another --base");
}

// As it was given, with what it is in the unit of the surface.
std::string interval_text(const std::string& given, Length interval, const Quantity& q) {
  const std::string here = fmt::format("{:g} {}", interval.in(q.unit), unit_name(q));
  if (unit_name(q) != symbol(q.unit) || given.empty() || parse_number(given))
    return q.unit == LengthUnit::Metre || unit_name(q) != symbol(q.unit)
               ? here
               : fmt::format("{} ({:g} m)", here, interval.metres());
  for (const LengthUnit u : {LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot})
    if (u != q.unit && given.ends_with(symbol(u))) return fmt::format("{:g} {} ({})", interval.in(u), symbol(u), here);
  return q.unit == LengthUnit::Metre ? here : fmt::format("{} ({:g} m)", here, interval.metres());
}

ContourOptions contour_options(const ContourCommand& o, const Grid& in, std::vector<std::string>& notes) {
  const Quantity& q = in.quantity();
  ContourOptions c{.index_every = o.index_every, .run = o.run()};
  const int ways = !o.interval.empty() + !o.levels.empty() + !o.depth_levels.empty();
  if (ways > 1)
    throw Error(ErrorCode::BadArgument, "levels are told in more than one way", "contours",
                "give one of --interval, --levels and --depth-levels");
  if (!o.levels.empty()) c.levels = levels_from(o.levels, "--levels", q, 1, notes);
  if (!o.depth_levels.empty()) c.levels = levels_from(o.depth_levels, "--depth-levels", q, -1, notes);
  if (!c.levels.empty() && !(o.base.empty() && o.below.empty()))
    throw Error(ErrorCode::BadArgument, "--base and --below belong to an interval", "contours",
                "leave them out where levels are given");
  if (!o.interval.empty()) c.interval = interval_from(o.interval, q, notes);
  if (ways == 0) {
    const Statistics s = statistics(in, o.run());
    c.interval = sensible_interval(s.lowest, s.highest, q.unit);
    notes.push_back(fmt::format("no interval was given: {:g} {} suits the range", c.interval.in(q.unit), unit_name(q)));
  }
  if (!o.below.empty()) c.interval_below = interval_from(o.below, q, notes);
  if (!o.base.empty()) c.base = length_from(o.base, q.unit, notes);
  if (!o.shortest.empty()) c.shortest = length_from(o.shortest, LengthUnit::Metre, notes);
  if (!o.smooth.empty()) c.tolerance = length_from(o.smooth, LengthUnit::Metre, notes);
  if (o.bands && o.zones)
    throw Error(ErrorCode::BadArgument, "bands fill the ground, zones surround lines", "contours",
                "give one of --bands and --zones");
  if (!o.uncertainty.empty() && !o.zones)
    throw Error(ErrorCode::BadArgument, "lines do not tell how sure they are", "contours",
                "--uncertainty goes with --zones");
  if ((o.bands || o.zones) && !(o.shortest.empty() && o.smooth.empty()))
    throw Error(ErrorCode::BadArgument,
                "areas of bands and zones fit one another: none of their rings can be left out or moved", "contours",
                "leave --shortest and --smooth out");
  return c;
}

void say_levels(Statement& s, const ContourCommand& o, const ContourOptions& c, const Quantity& q) {
  if (!c.levels.empty()) {
    ordered_json list = ordered_json::array();
    std::string text;
    for (const Length l : c.levels) {
      list.push_back(l.in(q.unit) + 0.0);
      text += fmt::format("{}{:g}", text.empty() ? "" : ", ", l.in(q.unit) + 0.0);
    }
    s.line("levels", text + " " + unit_name(q));
    s.fact("asked", list);
    return;
  }
  std::string text = interval_text(o.interval, c.interval, q);
  if (c.interval_below) text += ", below the base " + interval_text(o.below, *c.interval_below, q);
  s.line("interval", o.bands || o.zones ? text : fmt::format("{}, an index line every {}", text, o.index_every));
  s.fact("interval", c.interval.in(q.unit));
  s.fact("interval_m", c.interval.metres());
}

void say_where(Statement& s, const std::string& out, const Grid& in) {
  const Format* format = format_of(out, Holds::Features, Use::Written);
  s.line("CRS", format && format->lonlat ? fmt::format("EPSG:4326 ({} is always longitude, latitude)", format->name)
                                         : in.frame().crs().label());
  if (in.quantity().kind == QuantityKind::Height) s.line("heights", height_text(in.quantity()));
}

void make_bands(const ContourCommand& o, const Grid& in, const ContourOptions& c, Statement& s,
                std::vector<std::string>& notes) {
  const auto bands = contour_bands(in, c);
  if (bands.empty()) refuse_no_lines(in, c);
  say_layer(write_layer(band_layer(bands, in), o.out, {.overwrite = o.overwrite}), notes);
  const std::string unit = unit_name(in.quantity());
  std::size_t polygons = 0;
  ordered_json list = ordered_json::array();
  for (const ContourBand& b : bands) {
    polygons += b.shape.size();
    list.push_back({{"from", std::isfinite(b.from) ? ordered_json(b.from) : ordered_json(nullptr)},
                    {"to", std::isfinite(b.to) ? ordered_json(b.to) : ordered_json(nullptr)}});
  }
  s.line("bands", fmt::format("{} of {} polygons together", bands.size(), polygons));
  s.fact("bands", std::move(list));
  s.fact("polygons", polygons);
}

void make_zones(const ContourCommand& o, const Grid& in, const ContourOptions& c, Statement& s,
                std::vector<std::string>& notes) {
  const std::vector<ContourZone> zones = contour_zones(in, c);
  if (zones.empty()) refuse_no_lines(in, c);
  say_layer(write_layer(zone_layer(zones, in), o.out, {.overwrite = o.overwrite}), notes);
  const double first = zones.front().level, last = zones.back().level;
  s.line("zones", fmt::format("of {} levels, {:g} to {:g} {}: each line lies within with 95 %", zones.size(), first,
                              last, unit_name(in.quantity())));
  s.fact("zones", zones.size());
  s.fact("levels", ordered_json{first, last});
}

void make_lines(const ContourCommand& o, const Grid& in, const ContourOptions& c, Statement& s,
                std::vector<std::string>& notes) {
  std::unique_ptr<LayerWriter> writer;
  std::size_t lines = 0, points = 0;
  double low = 0, high = 0;
  for_each_contour(in, c, [&](const ContourLine& line) {
    Feature f = contour_feature(line, in);
    if (!o.depth_levels.empty()) add_depth(f);
    if (!writer) {
      Layer like = contour_layer({}, in);
      like.features.push_back(f);
      writer = open_layer_writer(o.out, like, {.overwrite = o.overwrite}, o.run().memory);
      low = line.level;
    }
    writer->add(f);
    ++lines;
    points += line.points.size();
    high = line.level;
  });
  if (!writer) refuse_no_lines(in, c);
  say_layer(writer->finish(), notes);
  s.line("lines",
         fmt::format("{} with {} points, levels {:g} to {:g} {}", lines, points, low, high, unit_name(in.quantity())));
  s.fact("lines", lines);
  s.fact("points", points);
  s.fact("levels", ordered_json{low, high});
}

int run_contours(const ContourCommand& o) {
  std::vector<std::string> notes;
  const Grid in = within(open_input(o.in, o), o, notes);
  const ContourOptions c = contour_options(o, in, notes);
  Statement s(o);
  s.title(o.out);
  if (o.zones)
    make_zones(o, in, c, s, notes);
  else if (o.bands)
    make_bands(o, in, c, s, notes);
  else
    make_lines(o, in, c, s, notes);
  say_levels(s, o, c, in.quantity());
  say_where(s, o.out, in);
  s.fact("unit", unit_name(in.quantity()));
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

struct SpotCommand : Common {
  std::string in, radius, relief;
};

int run_spots(const SpotCommand& o) {
  std::vector<std::string> notes;
  const Grid in = within(open_input(o.in, o), o, notes);
  const Quantity& q = in.quantity();
  SpotOptions spot{.run = o.run()};
  if (!o.radius.empty()) spot.radius = length_from(o.radius, LengthUnit::Metre, notes);
  if (!o.relief.empty()) spot.relief = length_from(o.relief, q.unit, notes);
  const auto spots = spot_heights(in, spot);
  if (spots.empty())
    throw Error(ErrorCode::BadArgument, "no summit, pit or saddle stands out so far", in.info().name,
                "take a shorter --radius or less --relief");
  say_layer(write_layer(spot_layer(spots, in), o.out, {.overwrite = o.overwrite}), notes);
  std::size_t count[3] = {};
  for (const SpotHeight& p : spots) ++count[static_cast<std::size_t>(p.kind)];
  Statement s(o);
  s.title(o.out);
  s.line("spots", fmt::format("summits {}, pits {}, saddles {}", count[0], count[1], count[2]));
  for (const SpotKind k : {SpotKind::Summit, SpotKind::Pit, SpotKind::Saddle})
    s.fact(fmt::format("{}s", name_of(k)), count[static_cast<std::size_t>(k)]);
  say_where(s, o.out, in);
  s.fact("unit", unit_name(q));
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

}  // namespace

void add_contour_verbs(CLI::App& app, int& status) {
  auto c = std::make_shared<ContourCommand>();
  CLI::App* v = app.add_subcommand("contours", "lines of equal height, joined to whole lines, or the bands between");
  add_surface_options(*v, *c, c->in);
  v->add_option("--interval", c->interval, "between levels, e.g. 1m or 1ft");
  v->add_option("--base", c->base, "the level from which intervals are counted");
  v->add_option("--below", c->below, "another interval below the base, e.g. 1m");
  v->add_option("--levels", c->levels, "these levels instead, e.g. 0,2,5,10,20m");
  v->add_option("--depth-levels", c->depth_levels, "these depths instead, e.g. 0,2,5,10,20m: levels below zero");
  v->add_option("--index", c->index_every, "every how many-th line is an index line")->check(CLI::Range(1, 1000));
  v->add_option("--shortest", c->shortest, "leave closed lines out that are shorter, e.g. 20m");
  v->add_option("--smooth", c->smooth, "draw lines smoother, at most as far off as this, e.g. 1m");
  v->add_flag("--bands", c->bands, "the ground between the levels as areas, instead of lines");
  v->add_flag("--zones", c->zones, "where each line may lie, with 95 %, by how sure the surface is, instead of lines");
  add_uncertainty(*v, *c);
  say_lines(*v);
  v->callback([c, &status] { status = run_contours(*c); });

  auto s = std::make_shared<SpotCommand>();
  v = app.add_subcommand("spots", "spot heights: summits, pits and saddles");
  add_surface_options(*v, *s, s->in);
  v->add_option("--radius", s->radius, "each stands out as far around as this, e.g. 100m (default: 25 cells)");
  v->add_option("--relief", s->relief, "by at least this much, e.g. 2m");
  say_lines(*v);
  v->callback([s, &status] { status = run_spots(*s); });
}

}  // namespace katoptra::cli
