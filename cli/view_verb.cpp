// A surface as a page for a browser: to be turned and asked.
#include <filesystem>
#include <fmt/format.h>
#include <memory>
#include <thread>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/catalogue/point_index.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/view/page.hpp"

#include "common.hpp"
#include "pictures.hpp"
#include "points_common.hpp"
#include "view_service.hpp"

namespace katoptra::cli {
namespace {

namespace fs = std::filesystem;

struct ViewCommand : Common {
  std::vector<std::string> in, drapes, pins, lines, points;
  std::string title;
  std::int64_t most_points = kMostPagePoints;
  std::int64_t cells = kMostPageCells;
  std::string listen = "127.0.0.1";
  int port = 0;
};

std::string word_of(const Feature& f, std::initializer_list<const char*> names) {
  for (const char* n : names)
    if (const Property* p = property_of(f, n)) return text_of(*p);
  return {};
}

Point place_of(const Feature& f) {
  if (const auto* p = std::get_if<Point>(&f.geometry)) return *p;
  const Bounds b = f.geometry.index() == 1 ? bounds_of(MultiPolygon{{std::get<LineString>(f.geometry)}})
                                           : bounds_of(std::get<MultiPolygon>(f.geometry));
  return {(b.west + b.east) / 2, (b.south + b.north) / 2};
}

// Findings say how bad they are; other places have a name, and the rest of what is known of them is their text.
PagePin pin_of(const Feature& f) {
  PagePin pin{
      .place = place_of(f), .name = word_of(f, {"name", "label", "code", "id"}), .text = word_of(f, {"message"})};
  if (const std::string severity = word_of(f, {"severity"}); !severity.empty()) {
    pin.tone = severity;
    if (const std::string advice = word_of(f, {"advice"}); !advice.empty()) pin.text += ". " + advice;
    return pin;
  }
  pin.tone = "control";
  for (const auto& [name, value] : f.properties)
    if (name != "name" && name != "label" && name != "x" && name != "y")
      pin.text += fmt::format("{}{} {}", pin.text.empty() ? "" : ", ", name, text_of(value));
  return pin;
}

std::vector<PagePin> pins_of(const std::string& file, const Crs& crs) {
  const Layer layer = read_layer(file, crs);
  std::vector<PagePin> out;
  const bool moves = layer.crs && crs && !layer.crs.same_place(crs);
  const Transform there = moves ? Transform(layer.crs, crs) : Transform(crs, crs);
  for (const Feature& f : layer.features) out.push_back(pin_of(moves ? carried(f, there) : f));
  return out;
}

// Colours rather than values: PNG and JPEG with their place beside them, GeoTIFF of three or four bytes a pixel.
bool is_colours(const std::string& text) {
  if (has_ending(text, ".png") || has_ending(text, ".jpg") || has_ending(text, ".jpeg")) return true;
  std::error_code ec;
  if (!fs::exists(text, ec) || !format_of(text, Holds::Grids)) return false;
  const GridFile f = open_grid_file(text, {.band = "1"});
  return f.facts.bands.size() >= 3 && f.grid.info().type == SampleType::UInt8;
}

// A file, or a product of the surface with its settings.
PagePlane drape_of(const std::string& text, const Grid& surface, const Common& c) {
  std::error_code ec;
  if (fs::exists(text, ec) || text.find("://") != text.npos || format_of(text, Holds::Grids))
    return {.label = fs::path(text).stem().string(), .grid = open_grid(text, c.open_options())};
  const ProductCall call = parse_product(text);
  return {.label = call.name, .grid = call.product->make(surface, call.settings)};
}

// All files as one cloud, as the surface counts: in its CRS, its unit, above its reference.
PointCloud as_surface_counts(PointCloud c, const Grid& surface) {
  const Quantity& q = surface.quantity();
  const HeightReference &from = c.info().quantity.heights, &to = q.heights;
  if (from.known() && to.known() && !(from == to)) c = to_heights(c, to);
  c = in_unit(c, q.unit);
  if (surface.frame().crs() && !c.info().crs.same_place(surface.frame().crs()))
    c = reprojected(c, surface.frame().crs());
  return relabelled(c, [&](PointInfo& i) {
    i.crs = surface.frame().crs();
    i.quantity = q;
  });
}

void points_over(const Grid& surface, const ViewCommand& o, SurfacePage& page, std::vector<std::string>& notes) {
  const Quantity& q = surface.quantity();
  std::vector<PointCloud> sheets;
  std::vector<std::vector<PointCloud>> fewer;  // of each sheet, by level
  for (const std::string& file : point_files(o.points)) {
    PointCloud c = open_points(file, {.open = o.open_options()});
    if (!c.info().quantity.heights.known() && q.heights.known())
      notes.push_back(c.info().name + ": does not say what its heights are above; taken for those of the surface");
    if (!c.info().crs) throw Error(ErrorCode::Refused, "has no CRS", c.info().name, "say where it lies (--from-crs)");
    std::vector<PointCloud> levels;
    if (o.out.empty() && !o.dry_run) {
      // Near by, only the chunks that lie there are decoded; from far away, fewer points.
      c = with_kept_index(c, file, default_cache(), o.run());
      levels = kept_levels(c, file, default_cache(), o.run());
    }
    for (PointCloud& level : levels) level = as_surface_counts(level, surface);
    fewer.push_back(std::move(levels));
    sheets.push_back(as_surface_counts(c, surface));
  }
  page.points = merged(sheets);
  std::size_t most = 0;
  for (const auto& levels : fewer) most = std::max(most, levels.size());
  // A sheet with fewer levels than others is small: its last one serves for the rest.
  for (std::size_t k = 0; k < most; ++k) {
    std::vector<PointCloud> all;
    for (std::size_t i = 0; i < sheets.size(); ++i)
      all.push_back(fewer[i].empty() ? sheets[i] : fewer[i][std::min(k, fewer[i].size() - 1)]);
    page.fewer_points.push_back(merged(all));
  }
}

// A file as it is; of a folder what a study made of it, or its tiles joined, and the points in it.
Grid surface_behind(const std::string& in, ViewCommand& o) {
  std::error_code ec;
  if (!fs::is_directory(in, ec)) return open_input(in, o);
  if (o.points.empty() && !points_behind(in).empty()) o.points.push_back(in);
  for (const char* made : {"surface.tif", "surface/surface.sheets.geojson"})
    if (fs::exists(fs::path(in) / made, ec)) return open_input((fs::path(in) / made).string(), o);
  std::vector<Grid> tiles;
  for (const std::string& file : expand_inputs({in})) tiles.push_back(open_input(file, o));
  if (tiles.empty())
    throw Error(ErrorCode::BadFile, "holds no tile of heights", in, "name surfaces, or a folder of tiles");
  return tiles.size() == 1 ? tiles[0] : mosaic(tiles, {});
}

// Files with when and how large they were.
using SeenFiles = std::vector<std::pair<fs::path, std::pair<fs::file_time_type, std::uintmax_t>>>;
std::pair<fs::file_time_type, std::uintmax_t> state_of(const fs::path& p) {
  std::error_code ec;
  return {fs::last_write_time(p, ec), fs::file_size(p, ec)};
}
SeenFiles seen_files(const ViewCommand& o) {
  SeenFiles out;
  std::error_code ec;
  for (const std::string& in : o.in) {
    if (fs::is_regular_file(in, ec)) out.push_back({in, state_of(in)});
    if (fs::is_directory(in, ec))
      for (const std::string& file : expand_inputs({in}))
        if (fs::is_regular_file(file, ec)) out.push_back({file, state_of(file)});
  }
  return out;
}
std::string changed_of(const SeenFiles& seen) {
  for (const auto& [path, state] : seen)
    if (state_of(path) != state) return path.filename().string() + " has changed since it was opened";
  return {};
}

// Shows the page until it is interrupted.
int show_live(SurfacePage page, const ViewCommand& o) {
  // What is looked at from far away; finer cells and all points come when one comes near.
  constexpr std::int64_t kMostAtOnce = 1'000'000;
  page.most_cells = std::min(page.most_cells, kMostAtOnce);
  page.most_points = std::min(page.most_points, kMostAtOnce);
  // What is decoded already may be told again long after its file has changed: so files are looked at.
  ViewService service(SurfaceViewer(std::move(page)),
                      {.host = o.listen, .port = o.port, .stale = [seen = seen_files(o)] { return changed_of(seen); }});
  if (o.json)
    fmt::print("{}\n", ordered_json{{"address", service.address()}}.dump());
  else
    fmt::print("{}\n", service.address());
  if (!o.quiet && !o.json) fmt::print("open it in a browser; shown until it is interrupted\n");
  std::fflush(stdout);
  std::jthread watch([&](std::stop_token stop) {
    while (!stop.stop_requested() && !progress().cancelled())
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    service.stop();
  });
  service.run();
  return 0;
}

int run_view(ViewCommand& o) {
  std::vector<std::string> notes;
  if (!o.out.empty() && !has_ending(o.out, ".html") && !has_ending(o.out, ".htm"))
    throw Error(ErrorCode::Unsupported,
                fmt::format("pages are not written as '{}'", fs::path(o.out).extension().string()), o.out,
                "give a name that ends in .html");
  if (o.in.size() > 4) throw Error(ErrorCode::BadArgument, "a page holds at most four surfaces", "view");
  SurfacePage p{.title = o.title, .most_cells = o.cells, .run = o.run()};
  for (const std::string& in : o.in)
    p.surfaces.push_back({.label = fs::path(in).stem().string(), .grid = within(surface_behind(in, o), o, notes)});
  const Grid first = p.surfaces[0].grid;
  if (p.title.empty()) p.title = fs::weakly_canonical(o.in[0]).stem().string();
  for (const std::string& d : o.drapes)
    if (is_colours(d))
      p.pictures.push_back({fs::path(d).stem().string(), open_picture(d, first.frame().crs())});
    else
      p.drapes.push_back(drape_of(d, first, o));
  for (const std::string& file : o.pins)
    for (PagePin& pin : pins_of(file, first.frame().crs())) p.pins.push_back(std::move(pin));
  for (const std::string& file : o.lines)
    for (const NamedLine& l : read_lines(file, first.frame().crs(), &notes))
      p.lines.push_back({l.line, l.name.empty() ? fs::path(file).stem().string() : l.name});
  if (!o.points.empty()) {
    points_over(first, o, p, notes);
    p.most_points = o.most_points;
  }
  if (o.out.empty() && !o.dry_run) return show_live(std::move(p), o);
  const Page page = surface_page(p);
  if (!o.dry_run) write_text_file(o.out, page.html, {.overwrite = o.overwrite});
  Statement s(o);
  s.title(o.out.empty() ? p.title : o.out);
  s.line("size", format_bytes(static_cast<double>(page.html.size())));
  const Frame& f = page.frame;
  s.line("shows", fmt::format("{} x {} cells, {}", f.cols(), f.rows(), cell_text(f)));
  s.line("heights", fmt::format("in steps of {:g} {}", page.step, unit_name(first.quantity())));
  if (page.times > 1)
    notes.push_back(
        fmt::format("its {} x {} cells are shown by larger ones, {:g} times as wide: --area or --cells shows more",
                    first.frame().cols(), first.frame().rows(), page.times));
  if (page.points > 0) {
    s.line("points", fmt::format("{} of {} on the surface", page.points, page.points_there));
    if (page.points < page.points_there)
      notes.push_back(fmt::format("of the {} points {} are shown, chosen evenly: --area or --most-points shows more",
                                  page.points_there, page.points));
  }
  s.line("open it", "in a browser; it needs nothing else");
  s.fact("bytes", page.html.size());
  s.fact("cols", f.cols());
  s.fact("rows", f.rows());
  s.fact("times", page.times);
  s.fact("step", page.step);
  s.fact("points", page.points);
  s.fact("points_there", page.points_there);
  s.notes(first.info(), notes);
  s.print();
  return 0;
}

}  // namespace

void add_view_verb(CLI::App& app, int& status) {
  auto o = std::make_shared<ViewCommand>();
  CLI::App* v = app.add_subcommand("view", "a page for a browser: a surface to turn, to colour and to ask");
  v->add_option("IN", o->in, "surfaces, or folders of tiles; the first is the one that is measured")->required();
  v->add_option("--drape", o->drapes,
                "what it can be coloured by, too: a grid, a picture with its place (a map), or a product as for derive")
      ->take_all();
  v->add_option("--pins", o->pins, "places with something to read: findings of check, control points")->take_all();
  v->add_option("--points", o->points, "survey points over it: files or folders of LAS and LAZ")->take_all();
  v->add_option("--most-points", o->most_points, "of more so many are shown, chosen evenly")
      ->check(CLI::Range(std::int64_t{1}, kMostPagePoints))
      ->default_str(std::to_string(kMostPagePoints));
  v->add_option("--line", o->lines, "lines to take sections along")->take_all();
  v->add_option("--title", o->title, "what stands above it (default: the name of the first)");
  v->add_option("--cells", o->cells, "larger surfaces are shown by larger cells, so that there are at most so many")
      ->check(CLI::Range(std::int64_t{1000}, std::int64_t{16'000'000}))
      ->default_str(std::to_string(kMostPageCells));
  add_area(*v, *o);
  v->add_option("--port", o->port, "without -o: where it is shown; 0: any that is free")->check(CLI::Range(0, 65535));
  v->add_option("--listen", o->listen, "without -o: the address to listen at; others than loopback let others in");
  add_output(*v, *o, false);
  for (const char* live : {"--port", "--listen"}) v->get_option(live)->excludes(v->get_option("--out"));
  add_reading(*v, *o, Reading::Converts);
  add_uncertainty(*v, *o);
  v->add_flag("--dry-run", o->dry_run, "say what would be written")->group(kOutputOptions);
  add_running(*v, *o);
  v->get_option("--out")->description(
      "where to write: .html; without it the page is shown by a service of this machine, however large the surface");
  v->callback([o, &status] { status = run_view(*o); });
}

}  // namespace katoptra::cli
