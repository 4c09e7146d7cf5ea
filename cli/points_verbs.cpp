// points and grid: from survey points to fewer, better or other points, and to surfaces.
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/catalogue/point_index.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/points/gridding.hpp"
#include "katoptra/points/ground.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/points/soundings.hpp"
#include "katoptra/points/summary.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/view/points.hpp"

#include "common.hpp"
#include "points_common.hpp"

namespace katoptra::cli {

// ---- what both verbs understand

void add_selection(CLI::App& verb, PointsCommon& o) {
  verb.add_option("POINTS", o.files, "LAS, LAZ, COPC or text; folders of LAS and LAZ, archives, addresses")->required();
  verb.add_option("--area", o.area,
                  "only points inside: box:W,S,E,N, circle:LON,LAT,RADIUS, place:NAME, like:FILE, or a vector file");
  verb.add_option("--margin", o.margin, "this much more around the area");
  verb.add_option("--class", o.classes, "only these classes, by number or name (ground, building, water ...)")
      ->delimiter(',');
  verb.add_option("--without-class", o.without_classes, "all but these classes")->delimiter(',');
  verb.add_option("--returns", o.returns, "which returns of a pulse: all, first, last, only, between");
  verb.add_option("--line", o.lines, "only these flight lines")->delimiter(',');
  verb.add_option("--lowest", o.lowest, "only points at this height or above, e.g. -2m");
  verb.add_option("--highest", o.highest, "only points at this height or below");
  verb.add_option("--from-time", o.from_time, "only points from this time on, in the seconds of the file");
  verb.add_option("--to-time", o.to_time, "only points up to this time");
  verb.add_option("--every", o.every, "only the first of every so many points")->check(CLI::PositiveNumber);
  verb.add_flag("--without-withheld", o.without_withheld, "without points that are marked as withheld");
  verb.add_option("--spacing", o.spacing, "COPC: no finer than this distance between points");
  verb.add_flag("--find-ground", o.find_ground, "class ground and noise first, where points are not classified");
  verb.add_flag("--find-noise", o.find_noise, "class isolated points as noise first");
  verb.add_flag("--anew", o.anew, "with those: class all points anew, whatever their class");
  verb.add_option("--water-level", o.water_level, "with those: the level of open water, whose points are no ground");
  verb.add_option("--above", o.above, "heights above this surface (a grid)");
  verb.add_flag("--salvage", o.salvage, "take the points before a damage");
}

namespace {

double height_in(const std::string& text, const PointInfo& info, double otherwise, std::vector<std::string>& notes) {
  return text.empty() ? otherwise : length_from(text, info.quantity.unit, notes).in(info.quantity.unit);
}

std::optional<Area> area_of(const PointsCommon& o, std::vector<std::string>& notes) {
  if (o.area.empty()) return std::nullopt;
  const Area area = area_from(o.area, &notes, {.margin = o.margin});
  return o.margin.empty() ? area : area.grown(length_from(o.margin, LengthUnit::Metre, notes));
}

// References that a file lacks are taken from the options; others are converted.
PointCloud with_references(const PointCloud& in, const PointsCommon& o, std::vector<std::string>& notes) {
  PointCloud cloud = in;
  const HeightReference heights = HeightReference::parse(o.heights).as_heights();
  const HeightShift shift =
      parse_height_shift(o.shift, cloud.info().quantity.unit, [](const std::string& file) { return open_grid(file); });
  const HeightReference& target = heights.known() ? heights : cloud.info().quantity.heights;
  if (shift.by) {
    cloud = shifted_heights(cloud, *shift.by, target);
  } else if (shift.separation) {
    cloud = shifted_heights(cloud, *shift.separation, target);
  } else if (heights.known() && !cloud.info().quantity.heights.known()) {
    notes.push_back(fmt::format("{}: does not say from where heights are counted: {} was taken", cloud.info().name,
                                heights.name()));
    cloud = relabelled(cloud, [&](PointInfo& i) { i.quantity.heights = heights; });
  } else if (heights.known()) {
    cloud = to_heights(cloud, heights);
  }
  if (o.unit.empty() && heights.unit() == LengthUnit::Metre) return cloud;
  const LengthUnit unit = o.unit.empty() ? heights.unit() : parse_length_unit(o.unit);
  if (!cloud.info().quantity.unit_known)
    notes.push_back(fmt::format("{}: does not say in which unit its heights are: {} was taken for granted",
                                cloud.info().name, symbol(cloud.info().quantity.unit)));
  return in_unit(cloud, unit);
}

PointCloud classed(const PointCloud& cloud, const PointsCommon& o, std::vector<std::string>& notes) {
  GroundFilter f{.anew = o.anew, .noise = true, .ground = o.find_ground, .water = {}, .run = o.run()};
  if (!o.water_level.empty()) f.water = length_from(o.water_level, cloud.info().quantity.unit, notes);
  return classify_ground(cloud, f);
}

}  // namespace

std::vector<std::string> point_files(const std::vector<std::string>& given) {
  std::vector<std::string> out;
  for (const std::string& g : given) {
    const std::filesystem::path p = g;
    if (is_url(g)) name_host(g);
    for (const auto& file : points_behind(p)) out.push_back(file.string());
  }
  if (out.empty())
    throw Error(ErrorCode::Io, "holds no LAS or LAZ file", given.empty() ? "" : given.front(),
                "name the files of points");
  return out;
}

// With points --crs is where to, not where from, and may be "utm".
static OpenOptions input_of(const PointsCommon& o) {
  Common from = o;
  from.crs.clear();
  return from.open_options();
}

PointCloud open_selection(const PointsCommon& o, std::vector<std::string>& notes) {
  const std::optional<Area> area = o.around_area ? std::nullopt : area_of(o, notes);
  PointOpenOptions open{.open = input_of(o), .area = area ? &*area : nullptr, .spacing = {}, .salvage = o.salvage};
  if (!o.spacing.empty()) open.spacing = length_from(o.spacing, LengthUnit::Metre, notes);
  std::vector<PointCloud> sheets;
  for (const std::string& file : point_files(o.files)) {
    PointFile f = open_point_file(file, open);
    for (const std::string& p : f.facts.problems) notes.push_back(f.cloud.info().name + ": " + p);
    PointCloud sheet = f.cloud;
    if (area || o.around_area) sheet = with_kept_index(sheet, file, default_cache(), o.run());
    sheets.push_back(with_references(sheet, o, notes));
  }
  PointCloud cloud = merged(sheets);
  if (o.find_ground || o.find_noise) cloud = classed(cloud, o, notes);
  if (!o.above.empty()) cloud = above_surface(cloud, open_grid(o.above));
  PointSelection s{.area = area ? &*area : nullptr,
                   .box = {},
                   .classes = {},
                   .without_classes = {},
                   .lines = o.lines,
                   .returns = parse_returns(o.returns)};
  for (const std::string& c : o.classes) s.classes.push_back(parse_class(c));
  for (const std::string& c : o.without_classes) s.without_classes.push_back(parse_class(c));
  s.lowest = height_in(o.lowest, cloud.info(), s.lowest, notes);
  s.highest = height_in(o.highest, cloud.info(), s.highest, notes);
  if (o.from_time) s.from_time = *o.from_time;
  if (o.to_time) s.to_time = *o.to_time;
  s.without_withheld = o.without_withheld;
  s.every = o.every;
  cloud = select(cloud, s);
  if (!o.crs.empty()) {
    const Crs to = o.crs == "utm" ? Area::box(cloud.info().bounds, cloud.info().crs).utm() : Crs::parse(o.crs);
    cloud = reprojected(cloud, to);
  }
  return cloud;
}

// ---- points

namespace {

struct PointsCommand : PointsCommon {
  std::string thin, density, sheets, picture, colour_by = "height", title, slice_from, slice_to, slab = "2m";
  int format = -1;
};

std::string share(std::uint64_t n, std::uint64_t of) {
  return fmt::format("{} ({:.3g} %)", n, of ? 100.0 * static_cast<double>(n) / static_cast<double>(of) : 0.0);
}

}  // namespace

void state_points(const PointInfo& info, std::uint64_t points, const Bounds& b, double lowest, double highest,
                  Statement& s) {
  s.line("points", fmt::format("{}", points));
  s.line("CRS", info.crs ? fmt::format("{}{}", info.crs.epsg() ? info.crs.code() + " " : "", info.crs.name()) : "none");
  if (points > 0) s.line("lies", place_text(b, info.crs));
  s.line("heights", height_text(info.quantity));
  s.line("range", range_text(points ? lowest : std::nan(""), highest, info.quantity));
  s.fact("points", points);
  s.fact("crs", info.crs ? ordered_json(info.crs.label()) : ordered_json(nullptr));
  s.fact("bounds", {b.west, b.south, b.east, b.north});
  s.fact("heights", info.quantity.heights.name());
  s.fact("unit", symbol(info.quantity.unit));
  s.fact("unit_known", info.quantity.unit_known);
  s.fact("range", points ? ordered_json{lowest, highest} : ordered_json{nullptr, nullptr});
}

namespace {

void summary_facts(const PointSummary& p, Statement& s) {
  s.fact("pulses", p.pulses);
  s.fact("density_m2", p.density);
  s.fact("pulse_density_m2", p.pulse_density);
  s.fact("spacing_m", p.spacing.metres());
  s.fact("ground_spacing_m",
         p.ground_spacing > Length() ? ordered_json(p.ground_spacing.metres()) : ordered_json(nullptr));
  s.fact("supported_cell_m", p.supported_cell.metres());
  ordered_json by_class = ordered_json::object(), by_return = ordered_json::object(), fields = ordered_json::object(),
               lines = ordered_json::object(), pairs = ordered_json::array();
  for (int c = 0; c < 256; ++c)
    if (const auto n = p.by_class[static_cast<std::size_t>(c)]) by_class[std::to_string(c)] = n;
  for (std::size_t r = 1; r < 16; ++r)
    if (p.by_return[r]) by_return[std::to_string(r)] = p.by_return[r];
  for (const FieldRange& r : p.ranges) fields[r.name] = {r.lowest, r.highest};
  for (const auto& [line, n] : p.by_line) lines[std::to_string(line)] = n;
  for (const LineDifference& d : p.lines)
    pairs.push_back(
        {{"line", d.line}, {"other", d.other}, {"squares", d.squares}, {"median", d.median}, {"spread", d.spread}});
  s.fact("classes", by_class);
  s.fact("returns", by_return);
  s.fact("ranges", fields);
  s.fact("flight_lines", lines);
  s.fact("line_differences", pairs);
  s.fact("overlap_share", p.overlap_share);
  s.fact("covered_m2", p.covered);
  s.fact("gaps", {{"count", p.gaps}, {"open", p.open_gaps}, {"area_m2", p.gap_area}, {"largest_m2", p.largest_gap}});
  s.fact("flown", {p.first_day, p.last_day});
}

// A list under one label, broken into lines that fit a terminal.
void state_list(Statement& s, std::string label, const std::vector<std::string>& items) {
  constexpr std::size_t kWidest = 96;
  std::string line;
  for (std::size_t i = 0; i < items.size(); ++i) {
    const std::string item = items[i] + (i + 1 < items.size() ? "," : "");
    if (!line.empty() && line.size() + item.size() > kWidest) {
      s.line(label, line);
      label.clear();
      line.clear();
    }
    line += (line.empty() ? "" : " ") + item;
  }
  if (!line.empty()) s.line(label, line);
}

// What is in the columns, class by class and return by return.
void state_columns(const PointSummary& p, Statement& s) {
  std::vector<std::string> classes, returns, ranges;
  for (int c = 0; c < 256; ++c)
    if (const auto n = p.by_class[static_cast<std::size_t>(c)])
      classes.push_back(fmt::format("{} {} {}", c, class_name(c), share(n, p.points)));
  state_list(s, "classes", classes);
  for (std::size_t r = 1; r < 16; ++r)
    if (p.by_return[r]) returns.push_back(fmt::format("{}: {}", r, share(p.by_return[r], p.points)));
  state_list(s, "returns", returns);
  for (const FieldRange& r : p.ranges)
    ranges.push_back(fmt::format("{} {:.9g} to {:.9g}", r.name, r.lowest, r.highest));
  state_list(s, "ranges", ranges);
}

}  // namespace

void state_summary(const PointSummary& p, const PointInfo& info, Statement& s) {
  state_points(info, p.points, p.bounds, p.lowest, p.highest, s);
  if (p.points == 0) return;
  s.line("density", fmt::format("{:.4g} points and {:.4g} pulses per m2; {:.3f} m between pulses", p.density,
                                p.pulse_density, p.spacing.metres()));
  const std::string of = p.ground_spacing > Length()
                             ? fmt::format("ground points lie {:.3f} m apart", p.ground_spacing.metres())
                             : "no point is classed as ground";
  s.line("carries", fmt::format("cells of {:g} m or larger ({})", p.supported_cell.metres(), of));
  state_columns(p, s);
  if (!p.first_day.empty())
    s.line("flown", p.first_day == p.last_day ? p.first_day : p.first_day + " to " + p.last_day);
  if (p.by_line.size() > 1 || (p.by_line.size() == 1 && p.by_line.begin()->first != 0))
    s.line("lines", fmt::format("{} flight lines; {:.3g} % of the ground seen by two or more", p.by_line.size(),
                                100 * p.overlap_share));
  for (std::size_t i = 0; i < p.lines.size() && i < 4; ++i)
    s.line("", fmt::format("line {} minus line {}: median {:+.3f}, spread {:.3f} {} on {} even squares",
                           p.lines[i].other, p.lines[i].line, p.lines[i].median, p.lines[i].spread,
                           symbol(info.quantity.unit), p.lines[i].squares));
  if (p.gaps > 0)
    s.line("gaps", fmt::format("{} with {:.4g} m2 in all, the largest {:.4g} m2 at {:.2f}, {:.2f}", p.gaps, p.gap_area,
                               p.largest_gap, p.largest_gap_at.x, p.largest_gap_at.y));
  else
    s.line("gaps", "none that points enclose");
  if (p.open_gaps > 0) s.line("", fmt::format("{} more at the edge of the box", p.open_gaps));
  std::string marks;
  for (const auto& [name, n] : {std::pair{"withheld", p.withheld},
                                {"synthetic", p.synthetic},
                                {"overlap", p.overlap},
                                {"key points", p.key_points}})
    if (n) marks += fmt::format("{}{} {}", marks.empty() ? "" : ", ", n, name);
  if (!marks.empty()) s.line("marked", marks);
  summary_facts(p, s);
}

namespace {

// A file for each square of the map that holds points, named by its south-western corner.
void write_sheets(const PointCloud& cloud, const PointsCommand& o, const PointWriteOptions& w, Statement& s,
                  std::vector<std::string>& notes) {
  namespace fs = std::filesystem;
  const PointInfo& info = cloud.info();
  if (info.bounds.empty())
    throw Error(ErrorCode::BadFile, "there are no points to split", info.name, "check the selection");
  const Length edge = length_from(o.sheets, LengthUnit::Metre, notes);
  const CellSize size =
      info.crs ? cell_for(info.crs, edge, info.bounds.centre()) : CellSize{edge.metres(), edge.metres()};
  const Frame f = Frame::snapped(info.crs, info.bounds, size);
  if (f.cols() * f.rows() > 100'000)
    throw Error(ErrorCode::BadArgument, "that would make more than 100000 sheets", "--sheets", "make them larger");
  const PointCloud indexed = with_boxes(cloud, part_boxes(cloud, w.run));
  const fs::path out = o.out;
  ordered_json files = ordered_json::array();
  std::uint64_t points = 0;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Bounds box = f.sub({c, r, 1, 1}).bounds();
      // A sheet has its western and southern edge, not the others.
      const PointSelection inside{
          .area = nullptr,
          .box = {box.west, box.south, std::nextafter(box.east, -1e300), std::nextafter(box.north, -1e300)}};
      const PointCloud sheet = select(indexed, inside);
      std::uint64_t n = 0;
      for_each_batch(sheet, PointFields::None, w.run, [&](const PointBatch& b) { n += b.size(); });
      if (n == 0) continue;
      const fs::path path = out.parent_path() / fmt::format("{}_{:.10g}_{:.10g}{}", out.stem().string(), box.west,
                                                            box.south, out.extension().string());
      points += write_points(sheet, path, w).points;
      files.push_back(path.string());
    }
  s.title(fmt::format("{} sheets {}_*{}", files.size(), (out.parent_path() / out.stem()).string(),
                      out.extension().string()));
  s.line("points", fmt::format("{}", points));
  s.fact("points", points);
  s.fact("files", files);
}

void draw_picture(const PointCloud& cloud, const PointsCommand& o, Statement& s, std::vector<std::string>& notes) {
  PointPictureOptions p{.format = picture_format_for(o.picture),
                        .title = o.title,
                        .colour_by = parse_point_colouring(o.colour_by),
                        .slice = {},
                        .run = o.run()};
  if (o.slice_from.empty() != o.slice_to.empty())
    throw Error(ErrorCode::BadArgument, "a slice needs both ends", "--slice-from", "give --slice-from and --slice-to");
  if (!o.slice_from.empty())
    p.slice = PointSlice{point_from(o.slice_from, cloud.info().crs), point_from(o.slice_to, cloud.info().crs),
                         length_from(o.slab, LengthUnit::Metre, notes)};
  write_picture(draw_points(cloud, p), o.picture, o.overwrite);
  s.line("picture", o.picture);
  s.fact("picture", o.picture);
}

int run_points(const PointsCommand& o) {
  std::vector<std::string> notes;
  const RunOptions run = o.run();
  PointCloud cloud = open_selection(o, notes);
  if (!o.thin.empty()) {
    const ThinBy by = o.thin == "lowest"    ? ThinBy::Lowest
                      : o.thin == "highest" ? ThinBy::Highest
                      : o.thin == "nearest" ? ThinBy::Nearest
                                            : ThinBy::Spacing;
    if (o.cell.empty())
      throw Error(ErrorCode::BadArgument, "thinning needs a cell", "--thin", "give --cell, such as 1m");
    cloud = thinned(cloud, {.keep = by, .cell = length_from(o.cell, LengthUnit::Metre, notes)}, run);
  }
  Statement s(o);
  PointWriteOptions w{
      .overwrite = o.overwrite, .record_format = o.format, .delimiter = ',', .columns = o.write_columns, .run = run};
  if (const char d = input_of(o).delimiter) w.delimiter = d;
  if (o.out.empty() && !o.picture.empty()) {
    s.title(cloud.info().name);
  } else if (o.out.empty()) {
    s.title(cloud.info().name);
    state_summary(summarise(cloud, run), cloud.info(), s);
  } else if (!o.sheets.empty()) {
    write_sheets(cloud, o, w, s, notes);
  } else {
    const PointWriteReport r = write_points(cloud, o.out, w);
    s.title(r.path.string());
    s.line("kind", fmt::format("{}, {}", r.format, format_bytes(static_cast<double>(r.bytes))));
    state_points(r.info, r.points, r.bounds, r.lowest, r.highest, s);
    s.line("from", fmt::format("{} points of {}", cloud.info().count, cloud.info().name));
    s.fact("format", r.format);
    s.fact("bytes", r.bytes);
    s.fact("seconds", r.seconds);
    for (const std::string& n : r.notes) s.note(n);
  }
  if (!o.picture.empty()) draw_picture(cloud, o, s, notes);
  if (!o.density.empty()) {
    PointGridding g{.methods = {{PointMethod::Count, 50}}, .run = run};
    if (!o.cell.empty()) g.cell = length_from(o.cell, LengthUnit::Metre, notes);
    const Grid counts = grid_points(cloud, g).grids.front();
    const GroundSpacing cell = ground_spacing(counts.frame());
    const Grid density = scaled(counts, 1 / (cell.x.metres() * cell.y.metres()), 0, [](GridInfo& i) {
      i.quantity = {.kind = QuantityKind::Unknown, .other_unit = "points per m2", .heights = {}};
      i.name = "density";
    });
    write_grid(density, o.density, o.write_options());
    s.line("density", o.density + " has it cell by cell");
    s.fact("density_grid", o.density);
  }
  for (const std::string& n : cloud.info().notes) s.note(n);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

// ---- grid

struct GridCommand : PointsCommon {
  std::vector<std::string> methods{"tin"};
  std::string radius, longest_edge, like, breaklines, uncertainty, surface = "auto";
  bool all_classes = false, with_uncertainty = false;
};

// "ground.tif" for one method; "ground.mean.tif" and so on for several.
std::string path_for(const std::string& out, const std::string& method, bool several) {
  const std::filesystem::path p = out;
  return several ? (p.parent_path() / (p.stem().string() + "." + method + p.extension().string())).string() : out;
}

// Tops above the ground: that of --above, else of the points classed as ground.
int run_canopy(const PointCloud& cloud, const GridCommand& o, std::vector<std::string> notes) {
  const RunOptions run = o.run();
  const Length cell = o.cell.empty() ? Length() : length_from(o.cell, LengthUnit::Metre, notes);
  PointCloud heights = cloud;
  if (o.above.empty()) {
    RunOptions quiet = run;
    quiet.silent = true;
    const Grid ground = grid_points(select(cloud, {.area = nullptr, .classes = {2}}),
                                    {.cell = cell, .surface = SurfaceKind::Ground, .run = quiet})
                            .grids[0];
    heights = above_surface(cloud, relabelled(ground, [](GridInfo& i) { i.name = "the points classed as ground"; }));
  }
  notes.push_back("first returns above the ground, without pits");
  return write_and_state(canopy_height(heights, cell, run), o, notes, false);
}

// How far the sea floor may be off, as a grid, and which orders of S-44 it meets.
void write_uncertainty(const PointCloud& cloud, const Grid& floor, const GridCommand& o,
                       std::vector<std::string>& notes) {
  if (o.dry_run) {
    notes.push_back(o.uncertainty + " would be written; nothing was");
    return;
  }
  RunOptions quiet = o.run();
  quiet.silent = true;
  const Grid u = sounding_uncertainty(cloud, floor.frame(), quiet);
  write_grid(u, o.uncertainty, o.write_options());
  const S44Shares s = s44_shares(u, floor, quiet);
  std::string text;
  for (std::size_t k = 0; k < s.cells.size(); ++k)
    if (s.cells[k] > 0)
      text += fmt::format("{}{:.3g} % {}", text.empty() ? "" : ", ",
                          100.0 * static_cast<double>(s.cells[k]) / static_cast<double>(s.all),
                          name_of(static_cast<S44Order>(k)));
  notes.push_back(
      fmt::format("{} has the uncertainty (95 %) that density and spread of the soundings show; by IHO S-44: {}",
                  o.uncertainty, text.empty() ? "nothing lies under water" : text));
}

int run_grid(GridCommand o) {
  std::vector<std::string> notes;
  PointsCommon reading = o;
  // The area decides where the surface lies; points around it still count.
  const std::optional<Area> area = area_of(o, notes);
  reading.around_area = area || !o.like.empty();
  reading.without_withheld = true;
  PointCloud cloud = open_selection(reading, notes);
  PointSelection s{.area = nullptr, .drop_noise = true};
  SurfaceKind surface = SurfaceKind::Unknown;
  const bool canopy = o.methods == std::vector<std::string>{"canopy"};
  if (o.classes.empty() && !o.all_classes && !canopy && has(cloud.info().fields, PointFields::Class)) {
    if (has_class(area ? select(cloud, {.area = &*area}) : cloud, 2, o.run())) {
      s.classes = {2};
      surface = SurfaceKind::Ground;
      notes.push_back("made of the points classed as ground; --all-classes takes all");
    } else {
      notes.push_back("no point is classed as ground: all were taken");
    }
  }
  if (o.classes.size() == 1 && parse_class(o.classes[0]) == 2) surface = SurfaceKind::Ground;
  if (o.returns == "first") surface = SurfaceKind::FirstReturn;
  if (o.surface != "auto")
    surface = o.surface == "ground"  ? SurfaceKind::Ground
              : o.surface == "first" ? SurfaceKind::FirstReturn
                                     : SurfaceKind::SeaFloor;
  cloud = select(cloud, s);
  if (o.methods == std::vector<std::string>{"canopy"}) return run_canopy(cloud, o, notes);
  PointGridding g{.methods = {}, .area = area ? &*area : nullptr, .surface = surface, .run = o.run()};
  for (const std::string& m : o.methods) g.methods.push_back(parse_point_method(m));
  if (!o.cell.empty()) g.cell = length_from(o.cell, LengthUnit::Metre, notes);
  if (!o.like.empty()) g.frame = open_grid(o.like).frame();
  if (!o.radius.empty()) g.radius = length_from(o.radius, LengthUnit::Metre, notes);
  if (!o.longest_edge.empty()) g.longest_edge = length_from(o.longest_edge, LengthUnit::Metre, notes);
  if (!o.breaklines.empty()) g.breaklines = read_breaklines(o.breaklines, cloud.info().crs);
  const GriddedPoints made = grid_points(cloud, g);
  if (made.outside > 0 && !area && o.like.empty())
    notes.push_back(
        fmt::format("{} points lie far outside of where the header says they are, and were left out", made.outside));
  const Length cell = ground_spacing(made.grids[0].frame()).x;
  if (cell < made.spacing * 0.7)
    notes.push_back(fmt::format(
        "cells of {:.3g} m are finer than the points, which lie {:.3g} m apart: most cells are interpolated",
        cell.metres(), made.spacing.metres()));
  notes.push_back(fmt::format("from {} points, {:.3f} m apart; edges up to {:.3g} m", made.points,
                              made.spacing.metres(), made.longest_edge.metres()));
  if (!o.uncertainty.empty()) write_uncertainty(cloud, made.grids[0], o, notes);
  for (std::size_t i = 0; i < made.grids.size(); ++i) {
    Common to = o;
    to.out = path_for(o.out, name_of(g.methods[i]), made.grids.size() > 1);
    Statement said(to);
    Grid grid = made.grids[i];
    if (o.with_uncertainty) {
      RunOptions quiet = o.run();
      quiet.silent = true;
      if (is_estimate(g.methods[i].method))
        grid = with_point_uncertainty(grid, cloud, quiet);
      else
        said.note(fmt::format("how sure its cells are is not known for {}, which picks or counts points",
                              name_of(g.methods[i])));
    }
    write_or_plan(grid, to, said, true);
    if (i + 1 == made.grids.size()) {
      for (const std::string& n : notes) said.note(n);
      if (const auto lost = made.breaklines_lost(); lost > 0)
        said.note(fmt::format("breaklines cross one another: {} pieces of them could not be kept", lost));
    }
    said.print();
  }
  return 0;
}

}  // namespace

void add_point_verbs(CLI::App& app, int& status) {
  auto p = std::make_shared<PointsCommand>();
  CLI::App* points =
      app.add_subcommand("points", "filter, thin, convert, summarise points; without -o it tells what they are");
  add_selection(*points, *p);
  add_output(*points, *p, false);
  add_reading(*points, *p, Reading::Moves);
  points->add_option("--crs", p->crs, "the CRS to move them to, e.g. EPSG:32725, or utm");
  points
      ->add_option(
          "--thin", p->thin,
          "keep one point a --cell: lowest, highest, nearest (to its centre); or spacing: none nearer than --cell")
      ->check(CLI::IsMember({"lowest", "highest", "nearest", "spacing"}));
  points->add_option("--cell", p->cell, "the cell to thin by, or of --density");
  points->add_option("--format", p->format, "LAS: the point format to write, 0 to 10")->check(CLI::Range(0, 10));
  points->add_option("--write-columns", p->write_columns, "text: the columns to write, e.g. x,y,z,class");
  points->add_option("--sheets", p->sheets,
                     "split into square sheets of this edge, named by their south-western corner");
  points->add_option("--picture", p->picture, "draw them: a .png, .svg or .pdf, from above or as a slice");
  points->add_option("--colour-by", p->colour_by, "height, class, intensity, return, time, colour, line");
  points->add_option("--title", p->title, "the title of the picture");
  points->add_option("--slice-from", p->slice_from, "one end of a slice, X,Y or X,Y@CRS");
  points->add_option("--slice-to", p->slice_to, "its other end");
  points->add_option("--slab", p->slab, "how deep the slice is");
  points->add_option("--density", p->density, "also write how many points lie on a square metre, as a grid");
  add_running(*points, *p);
  points->callback([p, &status] { status = run_points(*p); });

  auto g = std::make_shared<GridCommand>();
  CLI::App* grid = app.add_subcommand("grid", "a surface from lidar points or soundings");
  add_selection(*grid, *g);
  add_output(*grid, *g);
  add_reading(*grid, *g, Reading::Moves);
  grid->add_option("--crs", g->crs, "the CRS to move them to first, e.g. EPSG:32725, or utm");
  grid->add_option("--method", g->methods,
                   "tin, natural, lowest, highest, mean, median, idw, deviation, count, p0 to p100; several at once; "
                   "or canopy: tops above the ground")
      ->delimiter(',');
  grid->add_option("--cell", g->cell, "the cell, e.g. 1m; else the finest round one that the points carry");
  grid->add_option("--onto", g->like, "the very cells of another grid");
  grid->add_option("--radius", g->radius,
                   "statistics: take points this near to a cell's centre, not just those inside it");
  grid->add_option("--longest-edge", g->longest_edge,
                   "tin: triangles with a longer edge stay void; else ten times the spacing");
  grid->add_option("--breaklines", g->breaklines, "tin: a file of lines with heights (z) that stay edges");
  grid->add_flag("--with-uncertainty", g->with_uncertainty,
                 "how sure each cell is, by the spread of the points around it and their distance: as a second band");
  grid->add_option("--uncertainty", g->uncertainty,
                   "soundings: also write how far the sea floor may be off (95 %), and tell the orders of IHO S-44");
  grid->add_flag("--all-classes", g->all_classes, "points of all classes (but noise), not just ground");
  grid->add_option("--surface", g->surface, "what it is then: ground, first, sea-floor")
      ->check(CLI::IsMember({"ground", "first", "sea-floor"}));
  add_writing(*grid, *g);
  add_sheets(*grid, *g);
  add_running(*grid, *g);
  grid->callback([g, &status] { status = run_grid(*g); });
}

}  // namespace katoptra::cli
