#include <filesystem>
#include <fmt/format.h>
#include <unistd.h>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/water/flat_water.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace fs = std::filesystem;
namespace {

struct FlattenCommand : Common {
  std::string in, water, kind, sea, above, island, record, undo, flat, smallest, returns;
  bool find = false;
};

// The heights that belong to a record: lake.gpkg and lake.before.tif.
std::string heights_beside(const std::string& record) {
  return fs::path(record).replace_extension(".before.tif").string();
}

void judge_options(const FlattenCommand& o) {
  const auto refuse = [](const char* what, const char* advice) {
    throw Error(ErrorCode::BadArgument, what, "flatten", advice);
  };
  const bool lays = !o.water.empty() || o.find || !o.sea.empty();
  if (!o.undo.empty() && (lays || !(o.record.empty() && o.kind.empty() && o.above.empty() && o.island.empty())))
    refuse("water is laid flat or that is undone, not both", "give --undo alone");
  if (o.undo.empty() && !lays)
    refuse("it is not said where water is",
           "give --water with its shapes, --find for what the surface shows, or --sea with its level");
  if (!o.find && !(o.flat.empty() && o.smallest.empty() && o.returns.empty()))
    refuse("--flat, --smallest and --returns are for water that is found", "add --find");
  if (o.water.empty() && !o.kind.empty()) refuse("--kind is for shapes that do not say what they are", "add --water");
  if (!o.record.empty() && heights_beside(o.record) == o.out)
    throw Error(ErrorCode::BadArgument, "the heights of the record would have the same name as the surface", o.out,
                "choose another name for one of them");
}

std::string count_text(std::size_t n) { return fmt::format("{} {} of water", n, n == 1 ? "body" : "bodies"); }

std::vector<WaterBody> bodies_for(const FlattenCommand& o, const Grid& in, std::vector<std::string>& notes) {
  std::vector<WaterBody> bodies;
  if (!o.water.empty())
    bodies =
        water_bodies_of(read_layer(o.water, in.frame().crs()), in, parse_water_kind(o.kind.empty() ? "auto" : o.kind));
  if (!o.find) return bodies;
  FindWaterOptions f{.returns = {}, .run = o.run()};
  if (!o.flat.empty()) f.flat = length_from(o.flat, in.quantity().unit, notes);
  if (!o.smallest.empty()) f.smallest = parse_square_metres(o.smallest);
  if (!o.returns.empty()) f.returns = open_grid(o.returns);
  const std::vector<WaterBody> found = find_water(in, f);
  notes.push_back(found.empty() ? "no water was found: nowhere is the surface level below all that lies around it"
                                : count_text(found.size()) + " found");
  bodies.insert(bodies.end(), found.begin(), found.end());
  if (bodies.empty() && o.sea.empty())
    throw Error(ErrorCode::BadArgument,
                "no water was found: nowhere is the surface level below all that lies around it", o.in,
                "give its shapes with --water, or a larger --flat");
  return bodies;
}

void state_bodies(const FlatWater& f, const std::string& unit, Statement& s, std::vector<std::string>& notes) {
  constexpr std::size_t kMostLines = 12;
  double area = 0;
  for (std::size_t i = 0; i < f.bodies.size(); ++i) {
    const LaidBody& b = f.bodies[i];
    if (i < kMostLines) s.line(name_of(b.kind), water_text(b, unit));
    if (std::string doubt = water_doubt(b, unit); !doubt.empty()) notes.push_back(std::move(doubt));
    area += b.area;
  }
  if (f.bodies.size() > kMostLines)
    s.line("water", fmt::format("{} bodies, {} in all; --json tells of each", f.bodies.size(), format_area(area)));
  s.fact("water", ordered_json::parse(water_json(f.bodies)));
}

// What was written to undo a surface that then could not be written is taken away again, and an older record that it
// replaced comes back.
class WrittenRecord {
 public:
  // An older file goes by another name until `keep`.
  void put_aside(const fs::path& path) {
    std::error_code ec;
    if (!fs::is_regular_file(path, ec)) return;
    const fs::path aside = path.parent_path() / fmt::format(".{}.kept-{}", path.filename().string(), ::getpid());
    fs::rename(path, aside, ec);
    if (!ec) older_.push_back({path, aside});
  }
  void add(const fs::path& path) { written_.push_back(path); }
  void keep() { written_.clear(); }
  WrittenRecord() = default;
  WrittenRecord(const WrittenRecord&) = delete;
  WrittenRecord& operator=(const WrittenRecord&) = delete;
  ~WrittenRecord() {
    std::error_code ec;
    for (const fs::path& p : written_) fs::remove(p, ec);
    for (const auto& [path, aside] : older_)
      if (fs::exists(path, ec))
        fs::remove(aside, ec);
      else
        fs::rename(aside, path, ec);
  }

 private:
  std::vector<fs::path> written_;
  std::vector<std::pair<fs::path, fs::path>> older_;  // its name, and the other one
};

// Shapes and heights before. They are written before the surface is, which may replace the one that is read.
void write_record(const FlatWater& f, const Grid& in, const FlattenCommand& o, WrittenRecord& written,
                  std::vector<std::string>& notes) {
  const std::string heights = heights_beside(o.record);
  if (o.dry_run) {
    notes.push_back(fmt::format("{} and {} would be written; nothing was", o.record, heights));
    return;
  }
  WriteOptions w = o.write_options();
  w.lineage = is_traced(in);
  std::error_code ec;
  for (const char* ending : {"", ".shx", ".dbf", ".prj", ".cpg", ".before.tif"}) {
    const fs::path path = *ending ? fs::path(o.record).replace_extension(ending) : fs::path(o.record);
    // What is read is not replaced: whoever writes it says so.
    if (o.overwrite && !fs::equivalent(path, o.in, ec)) written.put_aside(path);
  }
  const LayerReport shapes = write_layer(water_layer(f, in), o.record, {.overwrite = o.overwrite});
  written.add(o.record);
  for (const fs::path& p : shapes.beside) written.add(p);
  say_layer(shapes, notes);
  write_grid(f.before, heights, w);
  written.add(heights);
  notes.push_back(fmt::format("{} and {} undo it: flatten {} --undo {}", o.record, heights, o.out, o.record));
}

int undo_flat(const FlattenCommand& o) {
  std::vector<std::string> notes;
  const Grid in = open_input(o.in, o), before = open_input(heights_beside(o.undo), o);
  const Layer record = read_layer(o.undo, in.frame().crs());
  const Grid back = restored(in, water_bodies_of(record, in), before);
  notes.push_back(count_text(record.features.size()) + " as it was before");
  return write_and_state(back, o, notes, is_traced(back));
}

int run_flatten(const FlattenCommand& o) {
  judge_options(o);
  if (!o.undo.empty()) return undo_flat(o);
  std::vector<std::string> notes;
  const Grid in = within(open_input(o.in, o), o, notes);
  const LengthUnit unit = in.quantity().unit;
  FlattenOptions f{.run = o.run()};
  if (!o.sea.empty()) f.sea = length_from(o.sea, unit, notes).in(unit);
  if (!o.above.empty()) f.above = length_from(o.above, unit, notes);
  if (!o.island.empty()) f.smallest_island = parse_square_metres(o.island);
  const FlatWater flat = lay_water_flat(in, bodies_for(o, in, notes), f);
  Statement s(o);
  WrittenRecord record;
  if (!o.record.empty()) write_record(flat, in, o, record, notes);
  write_or_plan(flat.grid, o, s, true);
  record.keep();
  state_bodies(flat, unit_name(in.quantity()), s, notes);
  for (const std::string& n : notes) s.note(n);
  s.print();
  return 0;
}

}  // namespace

void add_flatten(CLI::App& app, int& status) {
  auto o = std::make_shared<FlattenCommand>();
  CLI::App* v =
      app.add_subcommand("flatten", "lay water flat: lakes level, rivers falling steadily, the sea at its level");
  v->add_option("IN", o->in, "a surface")->required();
  v->add_option(
      "--water", o->water,
      "a vector file with the shapes of waters; their properties kind (lake, river, sea), level, name are used");
  v->add_option("--kind", o->kind, "of shapes that do not say: lake, river, sea, or auto, by their form")
      ->check(CLI::IsMember({"auto", "lake", "river", "sea"}));
  v->add_flag("--find", o->find, "water that the surface shows: level, or void, below all that lies around it");
  v->add_option("--flat", o->flat, "cells that differ by no more from their neighbours may be water (0.1m)");
  v->add_option("--smallest", o->smallest, "the smallest water that is found (400m2)");
  v->add_option("--returns", o->returns, "a grid of the number of points in each cell: where few are, water may be");
  v->add_option("--sea", o->sea, "the level of the sea: what is as low and hangs together with the edge, e.g. 0m");
  v->add_option(
      "--above", o->above,
      "what stands so much higher than the water is bank or island (three spreads of its cells, at least 2cm)");
  v->add_option("--island", o->island, "smaller ones are laid flat, too (100m2)");
  v->add_option("--record", o->record,
                "write the shapes laid flat here, and what stood there beside them: it undoes it")
      ->group(kOutputOptions);
  v->add_option("--undo", o->undo, "the record of what was laid flat: the surface as it was before");
  add_area(*v, *o, false);
  add_surface_writing(*v, *o);
  v->callback([o, &status] { status = run_flatten(*o); });
}

}  // namespace katoptra::cli
