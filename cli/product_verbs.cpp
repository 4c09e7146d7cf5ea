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

#include "common.hpp"
#include "pictures.hpp"

namespace katoptra::cli {
namespace {

struct ProductCommand : Common {
  std::string in;
  std::map<std::string, std::string> settings;  // of products()
};

Grid open_product_input(const ProductCommand& o, std::vector<std::string>& notes) {
  return within(open_input(o.in, o), o, notes);
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

// The points as they came, with their heights.
Layer with_heights(const Layer& points, const SampledPoints& sampled, const Grid& in) {
  Layer out{.name = "samples", .crs = points.crs, .features = {}, .unit = in.quantity().unit};
  std::size_t i = 0;
  for (const Feature& f : points.features) {
    if (!std::holds_alternative<Point>(f.geometry)) continue;
    Feature one{f.geometry, f.properties, {}};
    const double sure = sampled.rows[i].uncertainty;
    if (const double z = sampled.rows[i++].value; !std::isnan(z)) {
      if (in.quantity().kind == QuantityKind::Height) one.heights = {z};
      std::erase_if(one.properties,
                    [](const auto& p) { return p.first == "value" || p.first == "unit" || p.first == "uncertainty"; });
      one.properties.emplace_back("value", z);
      one.properties.emplace_back("unit", unit_name(in.quantity()));
      if (!std::isnan(sure)) one.properties.emplace_back("uncertainty", sure);
    }
    out.features.push_back(std::move(one));
  }
  return out;
}

void print_as_json(const SampledPoints& sampled, const Grid& in) {
  ordered_json j;
  j["unit"] = unit_name(in.quantity());
  j["points"] = ordered_json::array();
  for (const SampledPoint& p : sampled.rows) {
    ordered_json k{{"x", p.place.x},
                   {"y", p.place.y},
                   {"value", std::isnan(p.value) ? ordered_json(nullptr) : ordered_json(p.value)}};
    if (in.carries_uncertainty())
      k["uncertainty"] = std::isnan(p.uncertainty) ? ordered_json(nullptr) : ordered_json(p.uncertainty);
    if (p.known) k["residual"] = std::isnan(p.value) ? ordered_json(nullptr) : ordered_json(p.value - *p.known);
    j["points"].push_back(std::move(k));
  }
  j["notes"] = in.info().notes;
  if (sampled.residuals > 0) {
    j["residuals"] = {
        {"count", sampled.residuals}, {"mean", sampled.mean}, {"rmse", sampled.rmse}, {"largest", sampled.largest}};
  }
  std::fputs((j.dump(2) + "\n").c_str(), stdout);
}

void require_table(const SampleCommand& o) {
  if (!o.out.empty() && !has_ending(o.out, ".csv") && !has_ending(o.out, ".txt"))
    throw Error(ErrorCode::Unsupported,
                fmt::format("a table is not written as '{}'", std::filesystem::path(o.out).extension().string()), o.out,
                "give a name that ends in .csv");
}

int run_sample(const SampleCommand& o) {
  if (looks_like_points(o.in)) {
    require_table(o);
    return run_sample_points(o);
  }
  const Format* format = o.out.empty() ? nullptr : format_of(o.out, Holds::Features, Use::Written);
  const bool as_points = format && !has_ending(o.out, ".csv") && !has_ending(o.out, ".txt");
  if (!as_points) require_table(o);
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
  std::vector<std::string> notes;
  if (as_points)
    say_layer(write_layer(with_heights(layer, sampled, in), o.out, {.overwrite = o.overwrite}), notes);
  else if (!o.out.empty())
    write_text_file(o.out, csv, {.overwrite = o.overwrite});
  if (o.json) {
    print_as_json(sampled, in);
    return 0;
  }
  if (o.quiet) return 0;
  notes.insert(notes.begin(), in.info().notes.begin(), in.info().notes.end());
  for (const std::string& n : notes) fmt::print(stderr, "note: {}\n", n);
  if (o.out.empty())
    std::fputs(csv.c_str(), stdout);
  else
    fmt::print("{}\n  points    {}, {} without a value\n", o.out, sampled.rows.size(), sampled.voids);
  if (sampled.residuals > 0)
    fmt::print(stderr, "residuals (grid less known) at {} points: mean {:+.3f}, RMSE {:.3f}, largest {:+.3f} {}\n",
               sampled.residuals, sampled.mean, sampled.rmse, sampled.largest, unit_name(in.quantity()));
  return 0;
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
  add_surface_options(*v, *o, o->in);
  say_pictures(*v);
  if (p.gives == QuantityKind::Slope || p.gives == QuantityKind::Curvature) {
    add_uncertainty(*v, *o);
    add_leaving_out(*v, *o);
  }
  v->add_option("--void", o->void_value, "the void value to write")->group(kOutputOptions);
  add_sheets(*v, *o);
  v->callback([o, &p, &status] {
    std::vector<std::string> notes;
    const Settings settings = p.settings(o->settings);
    for (const Setting& s : p.options)
      if (s.kind == SettingKind::Angle && settings.given(s.name)) angle_from(o->settings[s.name], notes);
    const Grid made = p.make(open_product_input(*o, notes), settings);
    status =
        is_picture(o->out) && o->sheets.empty() ? picture_and_state(made, *o, notes) : write_and_state(made, *o, notes);
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

Statement product_in_sheets(const DeriveCommand& o, const Grid& in, const std::vector<GridTarget>& targets,
                            std::size_t which, bool dry_run) {
  const GridTarget& target = targets[which];
  DeriveCommand one = o;
  one.out = (target.path.parent_path() / target.path.stem() / target.path.filename()).string();
  one.dry_run = dry_run;
  // The sheets of a product do not depend on what else is derived.
  std::set<std::string> others(o.products.begin(), o.products.end());
  others.erase(o.products[which]);
  Statement s(o);
  write_as_sheets(target.make(in), one, o.write_options(), s, others);
  return s;
}

// Each product as sheets in a folder of its own, by a reading of its own. What one of them meets that can be known is
// told before any is written.
int derive_in_sheets(const DeriveCommand& o, const Grid& in, const std::vector<GridTarget>& targets,
                     const std::vector<std::string>& notes) {
  for (std::size_t i = 0; i < targets.size(); ++i) product_in_sheets(o, in, targets, i, true);
  ordered_json files = ordered_json::array();
  for (std::size_t i = 0; i < targets.size(); ++i) {
    Statement s = product_in_sheets(o, in, targets, i, o.dry_run);
    for (const std::string& n : notes) s.note(n);
    files.push_back(s.json());
    if (!o.json) s.print();
  }
  if (!o.json) return 0;
  Statement all(o);
  all.fact("files", std::move(files));
  if (o.dry_run) all.fact("dry_run", true);
  all.print();
  return 0;
}

int run_derive(const DeriveCommand& o) {
  std::vector<std::string> notes;
  const std::vector<GridTarget> targets = derive_targets(o, notes);
  const Grid in = open_product_input(o, notes);
  for (const GridTarget& t : targets) t.make(in);  // what cannot be made is refused before there is a folder
  if (!o.sheets.empty() || !o.part.empty()) return derive_in_sheets(o, in, targets, notes);
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
  add_sheets(*v, *o);
  add_running(*v, *o);
  v->callback([o, &status] { status = run_derive(*o); });
}

}  // namespace

void add_product_verbs(CLI::App& app, int& status) {
  for (const Product& p : products()) add_product(app, p, status);
  add_derive(app, status);

  add_contour_verbs(app, status);
  add_section_verb(app, status);

  auto p = std::make_shared<SampleCommand>();
  CLI::App* v = app.add_subcommand(
      "sample",
      "values at points; with a known height in the table, residuals too; on lidar, heights above the ground");
  v->add_option("IN", p->in, "a grid, or a LAS or LAZ file")->required();
  v->add_option("--radius", p->radius, "on points: look this far around each place");
  v->add_option("--points", p->points_file, "a CSV, GeoJSON or GeoPackage file with points");
  v->add_option("--at", p->at, "X,Y or X,Y@CRS; may be given several times")->allow_extra_args(false);
  v->add_option("--crs", p->crs, "the CRS of a table that does not say (default: the grid's)");
  add_uncertainty(*v, *p);
  add_output(*v, *p, false);
  say_lines(*v, ".csv for a table; the points with their heights: ");
  add_running(*v, *p);
  v->callback([p, &status] { status = run_sample(*p); });
}

}  // namespace katoptra::cli
