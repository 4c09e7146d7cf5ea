#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/check/statistics.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/points/measure.hpp"
#include "katoptra/study/tables.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/terrain/spot_heights.hpp"
#include "katoptra/water/streams.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

struct ProductCommand : Common {
  std::string in;
  std::map<std::string, std::string> settings;  // of products()
};

Grid open_product_input(const ProductCommand& o, std::vector<std::string>& notes) {
  return within(open_input(o.in, o), o, notes);
}

// A line: of a file, from one place to another, or along a bearing.
struct LineOptions {
  std::string line, from, to, bearing, length;
  bool given() const { return !line.empty() || !from.empty() || !to.empty() || !bearing.empty() || !length.empty(); }
};

void add_line_options(CLI::App& v, LineOptions& o) {
  v.add_option("--line", o.line, "a vector file with the line");
  v.add_option("--from", o.from, "where the line begins: X,Y or X,Y@CRS");
  v.add_option("--to", o.to, "where it ends: X,Y or X,Y@CRS");
  v.add_option("--bearing", o.bearing, "which way it runs instead, clockwise from grid north, e.g. 70deg");
  v.add_option("--length", o.length, "with that: how far on the ground, e.g. 400m");
}

struct SectionCommand : Common, LineOptions {
  std::string in, step, title, down_from, sea;
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

LineString section_line(const LineOptions& o, const char* verb, const Crs& crs, std::vector<std::string>& notes) {
  if (!o.line.empty()) return read_line(o.line, crs, &notes);
  if (o.from.empty())
    throw Error(ErrorCode::BadArgument, "no line to follow", verb,
                "give --line FILE, or --from X,Y with --to X,Y or with --bearing and --length");
  const Point from = point_from(o.from, crs);
  if (!o.to.empty()) return {from, point_from(o.to, crs)};
  if (o.bearing.empty() || o.length.empty())
    throw Error(ErrorCode::BadArgument, "--from needs --to, or --bearing and --length", verb,
                "for instance --bearing 70deg --length 400m");
  return line_by_bearing(crs, from, angle_from(o.bearing, notes), length_from(o.length, LengthUnit::Metre, notes));
}

// Rather than the table that .csv is for a section.
bool leaves_as_line(const std::string& out) {
  const Format* f = format_of(out, Holds::Features, Use::Written);
  return f && !f->points_only && !has_ending(out, ".csv");
}

void write_section(const SectionCommand& o, const Section& s, const Grid& in, std::vector<std::string>& notes) {
  if (has_ending(o.out, ".csv"))
    write_text_file(o.out, section_csv(s), {.overwrite = o.overwrite});
  else if (leaves_as_line(o.out))
    write_features(section_layer(s), o, notes);
  else
    write_picture(draw_section(s, {.format = picture_format_for(o.out),
                                   .title = o.title.empty() ? "Section through " + in.info().name : o.title}),
                  o.out, o.overwrite);
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

int run_section(const SectionCommand& o) {
  std::vector<std::string> notes;
  if (!has_ending(o.out, ".csv") && !picture_named(o.out) && !leaves_as_line(o.out))
    throw Error(ErrorCode::Unsupported,
                fmt::format("a section is not written as '{}'", std::filesystem::path(o.out).extension().string()),
                o.out,
                "give a name that ends in .csv for the table, .png, .svg or .pdf for the graph, or .gpkg, .dxf, .shp, "
                ".kml for the line with its heights");
  Grid in = open_input(o.in, o);
  LineString line;
  if (o.down_from.empty()) {
    if (!o.sea.empty())
      throw Error(ErrorCode::BadArgument, "the sea is for the way of water", "section", "it goes with --down-from");
    line = section_line(o, "section", in.frame().crs(), notes);
    refuse_outside("the line", line, in);
  } else {
    in = drained_below(o, in, line, notes);
  }
  SectionOptions options{.run = o.run()};
  // The way of water goes from cell to cell: between them there is ground that it does not touch.
  if (!o.down_from.empty()) {
    const GroundSpacing cell = ground_spacing(in.frame());
    options.step = std::max(cell.x, cell.y) * 2;
  }
  if (!o.step.empty()) options.step = length_from(o.step, LengthUnit::Metre, notes);
  const Section s = section(in, line, options);
  write_section(o, s, in, notes);
  Statement t(o);
  t.title(o.out);
  say_section(t, s);
  t.notes(in.info(), notes);
  t.print();
  return 0;
}

struct SampleCommand : Common {
  std::string in, points_file, radius = "1m";
  std::vector<std::string> at;
};

// Heights measured on points: what stands highest near each place, and how far above the ground.
int run_sample_points(const SampleCommand& o) {
  std::vector<std::string> notes;
  PointOpenOptions open{.open = o.open_options(), .area = nullptr, .spacing = {}};
  open.open.crs.reset();
  const PointCloud cloud = open_points(o.in, open);
  const PointInfo& info = cloud.info();
  std::vector<Point> places;
  std::optional<Transform> there;
  if (!o.points_file.empty()) {
    const Layer layer = read_layer(o.points_file, o.crs.empty() ? info.crs : Crs::parse(o.crs));
    if (layer.crs && info.crs && !layer.crs.same_place(info.crs)) there.emplace(layer.crs, info.crs);
    for (const Feature& f : layer.features)
      if (const auto* p = std::get_if<Point>(&f.geometry)) places.push_back(there ? there->forward(*p) : *p);
  }
  for (const std::string& text : o.at) places.push_back(point_from(text, info.crs));
  if (places.empty())
    throw Error(ErrorCode::BadArgument, "no points to sample", "sample", "give --points FILE or --at X,Y");
  const Length radius = length_from(o.radius, LengthUnit::Metre, notes);
  const auto measured = measure_points(cloud, places, radius, o.run());
  auto number = [](double v) { return std::isnan(v) ? std::string() : fmt::format("{:.3f}", v); };
  auto json_number = [](double v) { return std::isnan(v) ? ordered_json(nullptr) : ordered_json(v); };
  std::string csv = "x,y,points,lowest,highest,class,ground,above_ground\n";
  ordered_json list = ordered_json::array();
  for (const PointMeasure& m : measured) {
    csv += fmt::format("{:.3f},{:.3f},{},{},{},{},{},{}\n", m.place.x, m.place.y, m.points, number(m.lowest),
                       number(m.highest), m.points ? class_name(m.highest_class) : "", number(m.ground),
                       number(m.highest - m.ground));
    list.push_back({{"x", m.place.x},
                    {"y", m.place.y},
                    {"points", m.points},
                    {"lowest", json_number(m.lowest)},
                    {"highest", json_number(m.highest)},
                    {"class", m.highest_class},
                    {"ground", json_number(m.ground)},
                    {"above_ground", json_number(m.highest - m.ground)}});
  }
  if (!o.out.empty()) write_text_file(o.out, csv, {.overwrite = o.overwrite});
  if (o.json) {
    std::fputs(
        (ordered_json{{"unit", symbol(info.quantity.unit)}, {"radius_m", radius.metres()}, {"points", list}}.dump(2) +
         "\n")
            .c_str(),
        stdout);
  } else if (!o.quiet) {
    std::fputs(o.out.empty() ? csv.c_str() : (o.out + "\n").c_str(), stdout);
    if (measured.size() == 2)
      fmt::print(
          stderr,
          "from the ground at the second place to the top at the first: {:+.3f} {}; from top to top: {:+.3f} {}\n",
          measured[0].highest - measured[1].ground, symbol(info.quantity.unit),
          measured[0].highest - measured[1].highest, symbol(info.quantity.unit));
  }
  return 0;
}

int run_sample(const SampleCommand& o) {
  if (looks_like_points(o.in)) return run_sample_points(o);
  Common reading = o;
  reading.crs.clear();
  const Grid in = open_input(o.in, reading);
  const Crs& crs = in.frame().crs();
  Layer layer{.name = "points", .crs = crs, .features = {}};
  if (!o.points_file.empty()) layer = read_layer(o.points_file, o.crs.empty() ? crs : Crs::parse(o.crs));
  for (const std::string& text : o.at) {
    Point p = point_from(text, crs);
    if (layer.crs && crs) p = Transform(crs, layer.crs).forward(p);
    layer.features.push_back({p, {}});
  }
  const SampledPoints sampled = sample_points(in, layer, o.run());
  if (sampled.rows.empty())
    throw Error(ErrorCode::BadArgument, "no points to sample", "sample", "give --points FILE or --at X,Y");
  std::vector<Point> places;
  for (const SampledPoint& s : sampled.rows) places.push_back(s.place);
  if (layer.crs && crs) Transform(layer.crs, crs).forward(places);
  refuse_outside(places.size() == 1 ? "the point" : "every point", places, in);
  const std::string csv = sampled_csv(sampled);
  if (!o.out.empty()) write_text_file(o.out, csv, {.overwrite = o.overwrite});
  if (o.json) {
    ordered_json j;
    j["unit"] = unit_name(in.quantity());
    j["points"] = ordered_json::array();
    for (const SampledPoint& p : sampled.rows) {
      ordered_json k{{"x", p.place.x},
                     {"y", p.place.y},
                     {"value", std::isnan(p.value) ? ordered_json(nullptr) : ordered_json(p.value)}};
      if (p.known) k["residual"] = std::isnan(p.value) ? ordered_json(nullptr) : ordered_json(p.value - *p.known);
      j["points"].push_back(std::move(k));
    }
    j["notes"] = in.info().notes;
    if (sampled.residuals > 0) {
      j["residuals"] = {
          {"count", sampled.residuals}, {"mean", sampled.mean}, {"rmse", sampled.rmse}, {"largest", sampled.largest}};
    }
    std::fputs((j.dump(2) + "\n").c_str(), stdout);
    return 0;
  }
  if (o.quiet) return 0;
  for (const std::string& n : in.info().notes) fmt::print(stderr, "note: {}\n", n);
  if (o.out.empty())
    std::fputs(csv.c_str(), stdout);
  else
    fmt::print("{}\n  points    {}, {} without a value\n", o.out, sampled.rows.size(), sampled.voids);
  if (sampled.residuals > 0)
    fmt::print(stderr, "residuals (grid less known) at {} points: mean {:+.3f}, RMSE {:.3f}, largest {:+.3f} {}\n",
               sampled.residuals, sampled.mean, sampled.rmse, sampled.largest, unit_name(in.quantity()));
  return 0;
}

struct MapCommand : Common, LineOptions {
  std::string in, title, contours, spots, shortlist, overlay_area, points, basins, water, streams;
  int width = 1600;
  double exaggerate = 1.5;
  bool no_shade = false;
};

int run_map(const MapCommand& o) {
  std::vector<std::string> notes;
  Grid in = open_input(o.in, o);
  const PictureFormat format = picture_format_for(o.out);
  MapOptions m{.format = format,
               .width = o.width,
               .title = o.title,
               .shade = !o.no_shade,
               .exaggeration = o.exaggerate,
               .overlays = {},
               .run = o.run()};
  if (!o.contours.empty()) {
    const auto lines = contours(in, {.interval = length_from(o.contours, in.quantity().unit, notes), .run = o.run()});
    m.overlays.push_back({contour_layer(lines, in), OverlayStyle::Contours, "contours, " + o.contours});
  }
  if (!o.spots.empty()) {
    const SpotOptions spot{.radius = length_from(o.spots, LengthUnit::Metre, notes), .run = o.run()};
    m.overlays.push_back({spot_layer(spot_heights(in, spot), in), OverlayStyle::Spots, ""});
  }
  if (!o.shortlist.empty()) {
    Layer tiles = read_layer(o.shortlist), gaps = tiles;
    auto is_gap = [](const Feature& f) {
      return std::any_of(f.properties.begin(), f.properties.end(),
                         [](const auto& p) { return p.first == "role" && p.second == Property(std::string("gap")); });
    };
    std::erase_if(tiles.features, is_gap);
    std::erase_if(gaps.features, [&](const Feature& f) { return !is_gap(f); });
    m.overlays.push_back({tiles, OverlayStyle::Footprints, ""});
    if (!gaps.features.empty()) m.overlays.push_back({gaps, OverlayStyle::Gaps, ""});
  }
  if (!o.overlay_area.empty()) {
    const Area a = area_from(o.overlay_area);
    m.overlays.push_back({{.name = "area", .crs = a.crs(), .features = {{a.shape(), {}}}}, OverlayStyle::Area, ""});
  }
  if (o.given()) {
    const LineString line = section_line(o, "map", in.frame().crs(), notes);
    refuse_outside("the line", line, in);
    m.overlays.push_back(
        {{.name = "line", .crs = in.frame().crs(), .features = {{line, {}}}}, OverlayStyle::Transect, ""});
  }
  for (const auto& [file, style] : {std::pair{&o.basins, OverlayStyle::Basins},
                                    {&o.water, OverlayStyle::Water},
                                    {&o.streams, OverlayStyle::Streams}})
    if (!file->empty()) m.overlays.push_back({read_layer(*file, in.frame().crs()), style, ""});
  if (!o.points.empty()) m.overlays.push_back({read_layer(o.points, in.frame().crs()), OverlayStyle::Points, ""});
  const Picture p = draw_map(in, m);
  write_picture(p, o.out, o.overwrite);
  Statement s(o);
  s.title(o.out);
  s.line("size", fmt::format("{} x {}, {}", p.width, p.height, format_bytes(static_cast<double>(p.bytes.size()))));
  s.fact("width", p.width);
  s.fact("height", p.height);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_product_options(CLI::App& v, ProductCommand& o) {
  v.add_option("IN", o.in, "a surface")->required();
  v.add_option("--area", o.area, "only this area");
  v.add_option("--margin", o.margin, "this much around the area, e.g. 50m");
  add_reading(v, o, Reading::Converts);
  add_output(v, o);
  add_running(v, o);
}

// A verb of the table.
void add_product(CLI::App& app, const Product& p, int& status) {
  auto o = std::make_shared<ProductCommand>();
  CLI::App* v = app.add_subcommand(p.name, p.help);
  for (const Setting& s : p.options) {
    std::string& value = o->settings[s.name] = s.otherwise;
    CLI::Option* option = v->add_option("--" + s.name, value, s.help);
    if (s.kind == SettingKind::Word && !s.words.empty()) option->check(CLI::IsMember(s.words));
    if (s.kind == SettingKind::Number || s.kind == SettingKind::Window) option->type_name("N");
  }
  add_product_options(*v, *o);
  v->add_option("--void", o->void_value, "the void value to write")->group(kOutputOptions);
  v->callback([o, &p, &status] {
    std::vector<std::string> notes;
    const Settings settings = p.settings(o->settings);
    for (const Setting& s : p.options)
      if (s.kind == SettingKind::Angle && settings.given(s.name)) angle_from(o->settings[s.name], notes);
    status = write_and_state(p.make(open_product_input(*o, notes), settings), *o, notes);
  });
}

struct DeriveCommand : ProductCommand {
  std::vector<std::string> products;
};

std::vector<GridTarget> derive_targets(const DeriveCommand& o, std::vector<std::string>& notes) {
  std::vector<GridTarget> targets;
  for (const std::string& text : o.products) {
    const ProductCall call = parse_product(text);
    for (const Setting& s : call.product->options)
      if (s.kind == SettingKind::Angle && call.settings.given(s.name)) angle_from(call.settings.word(s.name), notes);
    targets.push_back({[call](const Grid& g) { return call.product->make(g, call.settings); },
                       std::filesystem::path(o.out) / (call.name + ".tif")});
  }
  return targets;
}

void make_folder(const std::string& folder) {
  std::error_code ec;
  std::filesystem::create_directories(folder, ec);
  if (!std::filesystem::is_directory(folder, ec))
    throw Error(ErrorCode::Io, "is no folder and cannot be made one", folder, "name a folder for the files with -o");
}

int run_derive(const DeriveCommand& o) {
  std::vector<std::string> notes;
  const std::vector<GridTarget> targets = derive_targets(o, notes);
  const Grid in = open_product_input(o, notes);
  for (const GridTarget& t : targets) t.make(in);  // what cannot be made is refused before there is a folder
  Statement s(o);
  s.title(o.out);
  ordered_json files = ordered_json::array();
  if (o.dry_run) {
    for (const GridTarget& t : targets) {
      s.line("plan", t.path.string());
      files.push_back({{"path", t.path.string()}});
    }
    s.line("size", fmt::format("{} x {} cells each; nothing was written", in.frame().cols(), in.frame().rows()));
    s.fact("dry_run", true);
  } else {
    make_folder(o.out);
    for (const WriteReport& r : write_grids(in, targets, o.write_options())) {
      s.line(r.path.filename().string(),
             fmt::format("{}, {}, {}", name_of(r.info.quantity.kind), range_text(r.lowest, r.highest, r.info.quantity),
                         format_bytes(static_cast<double>(r.bytes))));
      Statement of_file(o);
      of_file.written(r);
      files.push_back(of_file.json());
      for (const std::string& n : r.info.notes)
        if (std::find(notes.begin(), notes.end(), n) == notes.end()) notes.push_back(n);
    }
    s.line("size", fmt::format("{} x {} cells each", in.frame().cols(), in.frame().rows()));
  }
  s.line("CRS", in.frame().crs() ? in.frame().crs().label() : "none");
  s.line("cell", cell_text(in.frame()));
  s.fact("files", std::move(files));
  for (const std::string& n : o.dry_run ? in.info().notes : std::vector<std::string>())
    if (std::find(notes.begin(), notes.end(), n) == notes.end()) notes.push_back(n);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

void add_derive(CLI::App& app, int& status) {
  auto o = std::make_shared<DeriveCommand>();
  CLI::App* v =
      app.add_subcommand("derive", "several products of a surface from one reading, each in a file of its own");
  v->add_option("IN", o->in, "a surface")->required();
  v->add_option("PRODUCT", o->products, "which, with settings if any: slope, slope:as=percent,window=9")->required();
  v->add_option("--area", o->area, "only this area");
  v->add_option("--margin", o->margin, "this much around the area, e.g. 50m");
  add_reading(*v, *o, Reading::Converts);
  add_output(*v, *o);
  v->get_option("--out")->description("the folder for the files, made when it is not there");
  add_writing(*v, *o);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_derive(*o); });
}

void add_section(CLI::App& app, int& status) {
  auto s = std::make_shared<SectionCommand>();
  CLI::App* v = app.add_subcommand("section", "heights along a line: a graph, a table, or the line with its heights");
  v->add_option("IN", s->in, "a grid")->required();
  add_line_options(*v, *s);
  v->add_option("--down-from", s->down_from, "instead: the way of the water from this place, X,Y, to where it leaves");
  v->add_option("--sea", s->sea, "with that: where the sea stands, e.g. 0m, and water ends");
  v->add_option("--step", s->step, "between points (default: a cell)");
  v->add_option("--title", s->title, "above the graph");
  add_reading(*v, *s, Reading::Converts);
  add_output(*v, *s);
  v->get_option("--out")->description(
      "where to write: .png, .svg, .pdf for the graph, .csv for the table; for the line with its heights .gpkg, "
      ".geojson, .shp, .dxf, .kml, .kmz, .gpx");
  add_running(*v, *s);
  v->callback([s, &status] { status = run_section(*s); });
}

}  // namespace

void add_product_verbs(CLI::App& app, int& status) {
  for (const Product& p : products()) add_product(app, p, status);
  add_derive(app, status);

  add_contour_verbs(app, status);
  add_section(app, status);

  auto p = std::make_shared<SampleCommand>();
  CLI::App* v = app.add_subcommand(
      "sample",
      "values at points; with a known height in the table, residuals too; on lidar, heights above the ground");
  v->add_option("IN", p->in, "a grid, or a LAS or LAZ file")->required();
  v->add_option("--radius", p->radius, "on points: look this far around each place");
  v->add_option("--points", p->points_file, "a CSV, GeoJSON or GeoPackage file with points");
  v->add_option("--at", p->at, "X,Y or X,Y@CRS; may be given several times")->allow_extra_args(false);
  v->add_option("--crs", p->crs, "the CRS of a table that does not say (default: the grid's)");
  add_output(*v, *p, false);
  add_running(*v, *p);
  v->callback([p, &status] { status = run_sample(*p); });

  auto m = std::make_shared<MapCommand>();
  v = app.add_subcommand("map", "a picture for a page: .png, .svg or .pdf");
  v->add_option("IN", m->in, "a grid")->required();
  v->add_option("--title", m->title, "above the map");
  v->add_option("--width", m->width, "in pixels")->check(CLI::Range(400, 8000));
  v->add_option("--contours", m->contours, "draw contours at this interval, e.g. 5m");
  v->add_option("--spots", m->spots, "draw spot heights that stand out as far around as this, e.g. 100m");
  v->add_option("--area", m->overlay_area, "draw this area");
  v->add_option("--streams", m->streams, "draw the streams of this file, wider by order");
  v->add_option("--basins", m->basins, "draw the basins of this file");
  v->add_option("--water", m->water, "draw the polygons of this file as water: depressions, inundation");
  add_line_options(*v, *m);
  v->add_option("--points", m->points, "draw the points of this file");
  v->add_option("--tiles", m->shortlist, "draw footprints and gaps of this shortlist (.geojson)");
  v->add_option("--exaggerate", m->exaggerate, "of the hillshade");
  v->add_flag("--no-shade", m->no_shade, "colours only");
  add_reading(*v, *m, Reading::Converts);
  add_output(*v, *m);
  add_running(*v, *m);
  v->callback([m, &status] { status = run_map(*m); });
}

}  // namespace katoptra::cli
