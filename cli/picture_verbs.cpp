// Pictures: maps for a page, pictures that know where they lie, height maps.
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <memory>
#include <optional>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/height_map.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/leaving.hpp"
#include "katoptra/study/map_style.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/terrain/spot_heights.hpp"

#include "pictures.hpp"

namespace katoptra::cli {

void add_line_options(CLI::App& v, LineOptions& o) {
  v.add_option("--line", o.line, "a vector file with the line");
  v.add_option("--from", o.from, "where the line begins: X,Y or X,Y@CRS");
  v.add_option("--to", o.to, "where it ends: X,Y or X,Y@CRS");
  v.add_option("--bearing", o.bearing, "which way it runs instead, clockwise from grid north, e.g. 70deg");
  v.add_option("--length", o.length, "with that: how far on the ground, e.g. 400m");
}

LineString section_line(const LineOptions& o, const char* verb, const Crs& crs, std::vector<std::string>& notes) {
  if (!o.line.empty()) {
    if (!o.line_is_file())
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no file of a line", o.line), "--line",
                  "give coordinates as --from X,Y --to X,Y");
    return read_line(o.line, crs, &notes);
  }
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

namespace {

struct MapCommand : Common, LineOptions {
  std::string page, scale, ramp, classes;
  std::optional<int> dpi;
  bool grid_lines = false;
  std::string in, title, contours, spots, shortlist, overlay_area, points, basins, water, streams;
  std::string style, light, shore, backdrop, waypoints, reference, sources, licence, date, inset;
  std::string graticule;
  int width = 0;
  std::optional<double> exaggerate;
  bool no_shade = false;
};

// Colours rather than values: three or four bytes a pixel.
bool is_photograph(const std::string& file) {
  const GridFile f = open_grid_file(file, {.band = "1"});
  return f.facts.bands.size() >= 3 && f.grid.info().type == SampleType::UInt8;
}

// A layer as a style file has it: what an option cannot say has its usual look.
MapOverlay as_layer(const char* kind, const std::string& file, const MapCommand& o, const Grid& in,
                    std::vector<std::string>& notes) {
  StyleLayer l{.kind = kind, .file = file};
  if (l.kind == "waypoints") l.heights = true;
  if (l.kind == "reference" && !o.contours.empty()) {
    std::vector<std::string> told;  // with the contours
    l.interval = length_from(o.contours, in.quantity().unit, told);
  }
  return overlay_of(l, in, o.run(), &notes);
}

std::vector<MapOverlay> overlays_of(const MapCommand& o, const Grid& in, std::vector<std::string>& notes) {
  std::vector<MapOverlay> overlays;
  if (!o.backdrop.empty()) {
    const bool values = format_of(o.backdrop, Holds::Grids) && !is_photograph(o.backdrop);
    overlays.push_back(as_layer(values ? "grid" : "picture", o.backdrop, o, in, notes));
    overlays.push_back({.layer = {}, .style = OverlayStyle::Land});
  }
  if (!o.contours.empty()) {
    const auto lines = contours(in, {.interval = length_from(o.contours, in.quantity().unit, notes), .run = o.run()});
    overlays.push_back({contour_layer(lines, in), OverlayStyle::Contours, "contours, " + o.contours});
  }
  if (!o.spots.empty()) {
    // What stands out by less than there is between two contours says nothing.
    std::vector<std::string> told;  // with the contours
    const Length relief = o.contours.empty() ? Length() : length_from(o.contours, in.quantity().unit, told);
    const SpotOptions spot{.radius = length_from(o.spots, LengthUnit::Metre, notes), .relief = relief, .run = o.run()};
    overlays.push_back({spot_layer(spot_heights(in, spot), in), OverlayStyle::Spots, ""});
  }
  if (!o.shortlist.empty()) {
    Layer tiles = read_layer(o.shortlist), gaps = tiles;
    auto is_gap = [](const Feature& f) {
      return std::any_of(f.properties.begin(), f.properties.end(),
                         [](const auto& p) { return p.first == "role" && p.second == Property(std::string("gap")); });
    };
    std::erase_if(tiles.features, is_gap);
    std::erase_if(gaps.features, [&](const Feature& f) { return !is_gap(f); });
    overlays.push_back({tiles, OverlayStyle::Footprints, ""});
    if (!gaps.features.empty()) overlays.push_back({gaps, OverlayStyle::Gaps, ""});
  }
  if (!o.overlay_area.empty()) {
    const Area a = area_from(o.overlay_area);
    overlays.push_back({{.name = "area", .crs = a.crs(), .features = {{a.shape(), {}}}}, OverlayStyle::Area, ""});
  }
  if (o.given()) {
    const LineString line = section_line(o, "map", in.frame().crs(), notes);
    refuse_outside("the line", line, in);
    overlays.push_back(
        {{.name = "line", .crs = in.frame().crs(), .features = {{line, {}}}}, OverlayStyle::Transect, ""});
  }
  for (const auto& [file, style] : {std::pair{&o.basins, OverlayStyle::Basins},
                                    {&o.water, OverlayStyle::Water},
                                    {&o.streams, OverlayStyle::Streams}})
    if (!file->empty()) overlays.push_back({read_layer(*file, in.frame().crs()), style, ""});
  if (!o.points.empty()) overlays.push_back({read_layer(o.points, in.frame().crs()), OverlayStyle::Points, ""});
  if (!o.reference.empty()) overlays.push_back(as_layer("reference", o.reference, o, in, notes));
  if (!o.waypoints.empty()) overlays.push_back(as_layer("waypoints", o.waypoints, o, in, notes));
  return overlays;
}

std::optional<Palette> ramp_of(const MapCommand& o) {
  if (o.ramp.empty()) return std::nullopt;
  return parse_ramp(read_text_file(o.ramp), o.ramp);
}

// "natural:6", or breaks as levels of contours are given.
std::optional<ClassBreaks> classes_of(const MapCommand& o, const Grid& in, std::vector<std::string>& notes) {
  if (o.classes.empty()) return std::nullopt;
  if (o.classes.find(':') != std::string::npos) return parse_class_breaks(o.classes);
  ClassBreaks by{.how = ClassesBy::Given, .given = {}};
  for (const Length l : levels_from(o.classes, "--classes", in.quantity(), 1, notes))
    by.given.push_back(l.in(in.quantity().unit));
  return by;
}

// What options say of the colours; the rest stays as it is.
void colour_land(const MapCommand& o, const Grid& in, LandLook& look, std::vector<std::string>& notes) {
  if (auto ramp = ramp_of(o)) look.ramp = std::move(ramp);
  if (auto classes = classes_of(o, in, notes)) look.classes = std::move(classes);
  if (o.no_shade) look.light = MapLight::None;
  if (!o.light.empty()) look.light = parse_map_light(o.light);
  if (!o.shore.empty()) look.shore = length_from(o.shore, in.quantity().unit, notes).in(in.quantity().unit);
  if (o.exaggerate) look.exaggeration = *o.exaggerate;
}

void on_paper(const MapCommand& o, const Grid& in, MapOptions& m) {
  m.grid_lines = m.grid_lines || o.grid_lines;
  if (o.dpi) m.dpi = *o.dpi;
  if (o.page.empty() && !o.scale.empty() && !m.paper)
    throw Error(ErrorCode::BadArgument, "a scale needs a page", "--scale", "give --page A4, too");
  if (!o.scale.empty()) m.scale = scale_from(o.scale);
  if (o.page.empty()) return;
  const GroundSpacing s = ground_spacing(in.frame());
  m.paper = parse_paper(o.page, s.x.metres() * static_cast<double>(in.frame().cols()) /
                                    (s.y.metres() * static_cast<double>(in.frame().rows())));
}

int run_map(const MapCommand& o) {
  std::vector<std::string> notes;
  const Grid in = open_input(o.in, o);
  MapOptions m{
      .format = picture_format_for(o.out), .width = o.width, .overlays = overlays_of(o, in, notes), .run = o.run()};
  // A style first: what the command says holds.
  if (!o.style.empty()) apply(read_map_style(o.style), in, m, &notes);
  colour_land(o, in, m.land, notes);
  for (const auto& [to, from] :
       {std::pair{&m.title, &o.title}, {&m.sources, &o.sources}, {&m.licence, &o.licence}, {&m.date, &o.date}})
    if (!from->empty()) *to = *from;
  if (!o.graticule.empty()) m.graticule = o.graticule == "degrees" ? Crs::wgs84() : Crs::parse(o.graticule);
  if (!o.inset.empty()) m.inset = MapInset{open_grid(o.inset), ""};
  on_paper(o, in, m);
  const Picture p = draw_map(in, m);
  write_picture(p, o.out, o.overwrite);
  Statement s(o);
  s.title(o.out);
  s.line("size", fmt::format("{} x {}, {}", p.width, p.height, format_bytes(static_cast<double>(p.bytes.size()))));
  if (p.scale > 0) {
    s.line("scale",
           fmt::format("1:{:.6g} on {:.0f} x {:.0f} mm{}", p.scale, 1000 * m.paper->width.metres(),
                       1000 * m.paper->height.metres(), p.sheets > 1 ? fmt::format(", {} sheets", p.sheets) : ""));
    s.fact("scale", p.scale);
    s.fact("sheets", p.sheets);
  }
  if (p.format == PictureFormat::Pdf && in.frame().crs())
    s.line("registered", "readers of PDF that know maps tell where a place lies");
  s.fact("width", p.width);
  s.fact("height", p.height);
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

bool is_page(const std::string& out) { return has_ending(out, ".pdf"); }

// Its size on the ground, which tells at what scale it can be used.
std::string ground_text(const Frame& f) {
  const GroundSpacing s = ground_spacing(f);
  const double across = s.x.metres() * static_cast<double>(f.cols()),
               down = s.y.metres() * static_cast<double>(f.rows());
  if (std::max(across, down) >= 10'000)
    return fmt::format("{:.1f} x {:.1f} km on the ground", across / 1000, down / 1000);
  return fmt::format("{:.0f} x {:.0f} m on the ground", across, down);
}

int draw_and_state(const Grid& in, const ImageOptions& options, const Common& c,
                   const std::vector<std::string>& notes) {
  const PlacedReport r = write_placed_picture(in, c.out, options, c.overwrite);
  const Frame& f = r.frame;
  Statement s(c);
  s.title(c.out);
  std::string pixels = fmt::format("{} x {} pixels", f.cols(), f.rows());
  if (f.crs()) pixels += ", " + ground_text(f);
  s.line("size", fmt::format("{}, {}", pixels, format_bytes(static_cast<double>(r.file.bytes))));
  ordered_json beside = ordered_json::array();
  std::string names;
  for (const auto& b : r.file.beside) {
    names += (names.empty() ? "" : ", ") + b.filename().string();
    beside.push_back(b.string());
  }
  if (!names.empty()) s.line("beside", names + ": where it lies");
  s.fact("beside", std::move(beside));
  s.line("CRS", f.crs() ? f.crs().label() : "none: nobody can tell where it lies");
  if (f.crs()) s.line("pixel", cell_text(f));
  s.fact("width", f.cols());
  s.fact("height", f.rows());
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

int run_picture(const MapCommand& o) {
  std::vector<std::string> notes;
  if (!is_picture(o.out) && !has_ending(o.out, ".tif") && !has_ending(o.out, ".tiff"))
    throw Error(ErrorCode::Unsupported,
                fmt::format("pictures are not written as '{}'", std::filesystem::path(o.out).extension().string()),
                o.out, "give a name that ends in .png, .jpg, .tif, .gpkg, .kmz or .pdf");
  const Grid in = open_input(o.in, o);
  ImageOptions image{.width = o.width, .overlays = overlays_of(o, in, notes), .run = o.run()};
  if (!o.style.empty()) apply(read_map_style(o.style), in, image, &notes);
  colour_land(o, in, image.land, notes);
  return draw_and_state(in, image, o, notes);
}

struct HeightMapCommand : Common {
  std::string in, size, range;
  int depth = 16;
  std::optional<double> sea;
};

// "2048x2048", "-20m,400m": two things apart.
std::pair<std::string, std::string> two_of(const std::string& text, char between, const char* option,
                                           const char* example) {
  const auto at = text.find(between, 1);
  if (at == text.npos || at + 1 == text.size() || text.find(between, at + 1) != text.npos)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not two values", text), option,
                fmt::format("write for instance {}", example));
  return {text.substr(0, at), text.substr(at + 1)};
}

int run_height_map(const HeightMapCommand& o) {
  std::vector<std::string> notes;
  const Grid in = within(open_input(o.in, o), o, notes);
  HeightMapOptions h{.depth = o.depth, .sea = o.sea, .overwrite = o.overwrite, .run = o.run()};
  if (!o.size.empty()) {
    const auto [cols, rows] = two_of(o.size, 'x', "--size", "2049x2049");
    const auto c = parse_number(cols), r = parse_number(rows);
    if (!c || !r || *c != std::floor(*c) || *r != std::floor(*r) || std::abs(*c) > 1e9 || std::abs(*r) > 1e9)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no size", o.size), "--size",
                  "write for instance 2049x2049");
    h.cols = static_cast<std::int64_t>(*c);
    h.rows = static_cast<std::int64_t>(*r);
    if (h.cols == 0 || h.rows == 0)
      throw Error(ErrorCode::BadArgument, "a size of 0 samples is none", "--size", "write for instance 2049x2049");
  }
  if (!o.range.empty()) {
    const auto [low, high] = two_of(o.range, ',', "--range", "-20m,400m");
    h.low = length_from(low, in.quantity().unit, notes).in(in.quantity().unit);
    h.high = length_from(high, in.quantity().unit, notes).in(in.quantity().unit);
  }
  const HeightMapReport r = write_height_map(in, o.out, h);
  const std::string unit = unit_name(in.quantity());
  Statement s(o);
  s.title(o.out);
  s.line("size", fmt::format("{} x {} samples of {} bits, {}", r.frame.cols(), r.frame.rows(), o.depth,
                             format_bytes(static_cast<double>(r.bytes))));
  s.line("sample", fmt::format("{:.4g} m on the ground; {}", r.sample.metres(), ground_text(r.frame)));
  if (o.depth == 32)
    s.line("heights", fmt::format("{:g} to {:g} {}, as they are", r.low, r.high, unit));
  else
    s.line("greys", fmt::format("{} = {:g} {}, {} = {:g} {}", o.sea ? fmt::format("{:g}", *o.sea + 1) : "0", r.low,
                                unit, o.depth == 8 ? 255 : 65535, r.high, unit));
  s.line("beside", r.scale.filename().string() + ": the scale");
  s.fact("samples", ordered_json{r.frame.cols(), r.frame.rows()});
  s.fact("range", ordered_json{r.low, r.high});
  s.fact("unit", unit);
  s.fact("sample_m", r.sample.metres());
  s.fact("voids", r.voids);
  s.fact("cut", r.cut);
  if (r.voids > 0)
    notes.push_back(fmt::format("{} samples lie on voids and have the {} grey", r.voids, o.sea ? "sea's" : "lowest"));
  if (r.cut > 1e-6)
    notes.push_back(
        fmt::format("its sides are another ratio than the surface's: {:.1f} % of that lies outside", 100 * r.cut));
  s.notes(in.info(), notes);
  s.print();
  return 0;
}

void add_height_map(CLI::App& app, int& status) {
  auto h = std::make_shared<HeightMapCommand>();
  CLI::App* v = app.add_subcommand("heightmap", "heights as the greys of a picture, to build worlds from");
  add_surface_options(*v, *h, h->in);
  v->add_option("--size", h->size, "in samples, e.g. 2049x2049 (default: one for each cell)");
  v->add_option("--depth", h->depth, "bits of a sample")->check(CLI::IsMember({8, 16, 32}));
  v->add_option("--range", h->range, "heights of the darkest and the lightest, e.g. -20m,400m (default: all)");
  v->add_option("--sea", h->sea, "the grey of what lies at or below zero; land is lighter");
  v->get_option("--out")->description("where to write: .png, or .raw for bare samples");
  v->callback([h, &status] { status = run_height_map(*h); });
}

void add_drawing(CLI::App& v, MapCommand& m) {
  v.add_option("IN", m.in, "a grid")->required();
  v.add_option("--contours", m.contours, "draw contours at this interval, e.g. 5m");
  v.add_option("--spots", m.spots, "draw spot heights that stand out as far around as this, e.g. 100m");
  v.add_option("--area", m.overlay_area, "draw this area");
  v.add_option("--streams", m.streams, "draw the streams of this file, wider by order");
  v.add_option("--basins", m.basins, "draw the basins of this file");
  v.add_option("--water", m.water, "draw the polygons of this file as water: depressions, inundation");
  add_line_options(v, m);
  v.add_option("--points", m.points, "draw the points of this file");
  v.add_option("--tiles", m.shortlist, "draw footprints and gaps of this shortlist (.geojson)");
  v.add_option("--waypoints", m.waypoints, "draw the points of this file with their names and the surface's heights");
  v.add_option(
      "--reference", m.reference,
      "contours that stand out over ours: of this grid (at the interval of --contours), or lines of this file");
  v.add_option("--backdrop", m.backdrop, "a grid or a picture that is seen where the surface has voids");
  v.add_option("--style", m.style, "a style file: layers in their order, colours, words (docs/view.md)");
  v.add_option("--light", m.light, "on heights: hillshade, sky or none");
  v.add_option("--shore", m.shore, "where land and sea part in the colours, e.g. 0.4m");
  v.add_option("--exaggerate", m.exaggerate, "of that light")->default_str("1.5");
  v.add_flag("--no-shade", m.no_shade, "colours only");
  v.add_option("--ramp", m.ramp, "colours of your own: a file with a value and a colour on each line");
  v.add_option("--classes", m.classes, "a colour to each class: 0,10,25,50m, or equal:5, quantile:5, natural:5");
  add_reading(v, m, Reading::Converts);
  add_output(v, m);
  add_running(v, m);
}

}  // namespace

bool is_picture(const std::string& out) {
  const bool grid_or_picture = has_ending(out, ".tif") || has_ending(out, ".tiff");
  return is_page(out) || (image_named(out) && !grid_or_picture);
}

void say_pictures(CLI::App& verb) {
  verb.get_option("--out")->description(
      "where to write; its end decides the form: values as .tif, .asc, .nc ...; a picture that knows where it lies as "
      ".png, .jpg, .gpkg, .kmz, .pdf");
}

int picture_and_state(const Grid& grid, const Common& c, const std::vector<std::string>& notes) {
  return draw_and_state(grid, {.overlays = {}, .run = c.run()}, c, notes);
}

void add_picture_verbs(CLI::App& app, int& status) {
  auto m = std::make_shared<MapCommand>();
  m->width = 1600;
  CLI::App* v = app.add_subcommand("map", "a picture for a page: .png, .svg or .pdf");
  v->add_option("--title", m->title, "above the map");
  auto* width = v->add_option("--width", m->width, "in pixels")->check(CLI::Range(400, 8000));
  v->add_option("--page", m->page, "on paper instead, e.g. A4, A3-portrait or 297mmx420mm")->excludes(width);
  v->add_option("--scale", m->scale, "with that: held exactly, e.g. 1:5000 (default: as large as fits)");
  v->add_option("--dpi", m->dpi, "with that: dots an inch of a .png")->default_str("150")->check(CLI::Range(50, 600));
  v->add_flag("--grid-lines", m->grid_lines, "thin lines at the coordinates of the frame");
  v->add_option("--graticule", m->graticule, "lines of longitude and latitude: degrees; or of a system: EPSG:32725");
  v->add_option("--inset", m->inset, "a grid to show where the map lies, small beside it");
  v->add_option("--sources", m->sources, "beside the map: where the data come from");
  v->add_option("--licence", m->licence, "beside the map: under what they may be used");
  v->add_option("--date", m->date, "beside the map");
  add_drawing(*v, *m);
  v->callback([m, &status] { status = run_map(*m); });

  auto p = std::make_shared<MapCommand>();
  v = app.add_subcommand("picture", "the same without a page, on its place: .png, .jpg, .tif, .gpkg, .kmz or .pdf");
  v->add_option("--width", p->width, "in pixels (default: one for each cell)")->check(CLI::Range(16, 60000));
  add_drawing(*v, *p);
  v->get_option("--out")->description("where to write: .png, .jpg, .tif, .gpkg, .kmz or .pdf");
  v->callback([p, &status] { status = run_picture(*p); });
  add_height_map(app, status);
}

}  // namespace katoptra::cli
