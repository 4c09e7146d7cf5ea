// A surface as a solid.
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <memory>
#include <optional>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/solid_file.hpp"
#include "katoptra/study/leaving.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace {

struct SolidCommand : Common {
  std::string in, bed, scale, base = "3mm", error = "0.1mm", water, step = "0.8mm";
  std::string tab = "6mm", gap = "0.2mm";
  double exaggerate = 1;
  bool water_body = false, tiles = false;
};

Length printed(const std::string& text, const char* option) {
  if (parse_number(text))
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' has no unit", text), option,
                fmt::format("write {}mm if that is meant", text));
  return Length::parse(text, LengthUnit::Metre);
}

// "200mmx150mm", also with blanks.
void read_bed(const std::string& text, SolidOptions& s) {
  const auto at = text.find('x');
  if (at == text.npos || at == 0 || at + 1 == text.size())
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no bed", text), "--bed", "write for instance 200mmx150mm");
  s.bed_width = printed(text.substr(0, at), "--bed");
  s.bed_depth = printed(text.substr(at + 1), "--bed");
}

SolidOptions solid_options(const SolidCommand& o, const Grid& in, std::vector<std::string>& notes) {
  SolidOptions s{.exaggeration = o.exaggerate,
                 .base = printed(o.base, "--base"),
                 .error = printed(o.error, "--error"),
                 .water_step = printed(o.step, "--step"),
                 .run = o.run()};
  if (o.bed.empty() && o.scale.empty())
    throw Error(ErrorCode::BadArgument, "a solid needs a size", "solid", "give --bed 200mmx150mm or --scale 1:5000");
  if (!o.bed.empty()) read_bed(o.bed, s);
  if (!o.scale.empty()) s.scale = scale_from(o.scale);
  if (!o.water.empty()) s.water = length_from(o.water, in.quantity().unit, notes);
  s.water_body = o.water_body;
  if (o.water_body && !s.water)
    throw Error(ErrorCode::BadArgument, "a body of water needs its height", "--water-body",
                "give for instance --water 0m");
  return s;
}

void fewer_cells(const Solid& s, const Grid& in, int across, std::vector<std::string>& notes) {
  if (s.frame.cols() * across < in.frame().cols())
    notes.push_back(fmt::format("{} x {} cells were brought to fewer: no printer shows more", in.frame().cols(),
                                in.frame().rows()));
}

std::string scale_text(double scale, double exaggeration) {
  return fmt::format("1:{:.6g}{}", scale,
                     exaggeration == 1 ? "" : fmt::format(", heights {:g} times as much", exaggeration));
}

void say_unit(Statement& t, const std::string& format) {
  if (format == "glTF") t.line("unit", "metres, as glTF has it");
  if (format == "STL" || format == "OBJ") t.line("unit", fmt::format("mm, which {} cannot say", format));
}

int one_solid(const SolidCommand& o, const Grid& in, const SolidOptions& options, std::vector<std::string>& notes) {
  const Solid s = surface_solid(in, options);
  const SolidReport r = write_solid_with_map(s, in, o.out, o.overwrite, o.run());
  Statement t(o);
  t.title(o.out);
  t.line("size", fmt::format("{:.1f} x {:.1f} x {:.1f} mm, {}", s.width, s.depth, s.height,
                             format_bytes(static_cast<double>(r.bytes))));
  t.line("scale", scale_text(s.scale, o.exaggerate));
  t.line("triangles", fmt::format("{}, of which {} are the ground", s.dry(), s.ground));
  if (s.water > 0)
    t.line("water", fmt::format("{} triangles, {}", s.water,
                                r.beside.empty() ? "a body of its own" : r.beside[0].filename().string()));
  say_unit(t, r.format);
  t.fact("size_mm", ordered_json{s.width, s.depth, s.height});
  t.fact("scale", s.scale);
  t.fact("triangles", s.dry());
  t.fact("ground", s.ground);
  t.fact("water", s.water);
  if (o.water_body && s.water == 0) notes.push_back("nothing lies below the water: there is no body of it");
  fewer_cells(s, in, 1, notes);
  t.notes(in.info(), notes);
  t.print();
  return 0;
}

// NAME-A1.stl, NAME-A2.stl ...; all of them or none.
int several_solids(const SolidCommand& o, const Grid& in, const SolidOptions& options,
                   std::vector<std::string>& notes) {
  namespace fs = std::filesystem;
  const fs::path out(o.out);
  const SolidTiling tiling{.tab = printed(o.tab, "--tab"), .gap = printed(o.gap, "--gap")};
  Statement t(o);
  t.title(o.out);
  std::vector<fs::path> written;
  ordered_json list = ordered_json::array();
  std::string format;
  int across = 0, down = 0;
  try {
    for_each_solid_tile(in, options, tiling, [&](const SolidTile& tile) {
      const Solid& s = tile.solid;
      const fs::path name =
          out.parent_path() / fmt::format("{}-{}{}", out.stem().string(), tile.name, out.extension().string());
      const SolidReport r = write_solid_with_map(s, tile.surface, name, o.overwrite, o.run());
      written.push_back(name);
      written.insert(written.end(), r.beside.begin(), r.beside.end());
      if (across == 0) fewer_cells(s, in, tile.across, notes);
      across = tile.across;
      down = tile.down;
      format = r.format;
      t.line(tile.name,
             fmt::format("{}: {:.1f} x {:.1f} x {:.1f} mm, {} triangles, from {:.1f}, {:.1f} mm",
                         name.filename().string(), s.width, s.depth, s.height, s.triangles.size(), tile.x, tile.y));
      list.push_back({{"name", tile.name},
                      {"file", name.string()},
                      {"size_mm", {s.width, s.depth, s.height}},
                      {"from_mm", {tile.x, tile.y}},
                      {"triangles", s.dry()},
                      {"water", s.water}});
    });
  } catch (...) {
    std::error_code ec;
    for (const fs::path& p : written) fs::remove(p, ec);
    throw;
  }
  t.line("tiles", fmt::format("{} x {}, A1 in the north-west", across, down));
  t.line("scale", scale_text(*options.scale, o.exaggerate));
  say_unit(t, format);
  t.fact("scale", *options.scale);
  t.fact("across", across);
  t.fact("down", down);
  t.fact("tiles", std::move(list));
  t.notes(in.info(), notes);
  t.print();
  return 0;
}

int run_solid(const SolidCommand& o) {
  std::vector<std::string> notes;
  if (!solid_named(o.out))
    throw Error(ErrorCode::Unsupported,
                fmt::format("solids are not written as '{}'", std::filesystem::path(o.out).extension().string()), o.out,
                "give a name that ends in .stl, .3mf, .obj or .glb");
  const Grid in = within(open_input(o.in, o), o, notes);
  const SolidOptions options = solid_options(o, in, notes);
  return o.tiles ? several_solids(o, in, options, notes) : one_solid(o, in, options, notes);
}

}  // namespace

void add_solid_verb(CLI::App& app, int& status) {
  auto s = std::make_shared<SolidCommand>();
  CLI::App* v = app.add_subcommand("solid", "a surface on a base, to be printed or looked at");
  add_surface_options(*v, *s, s->in);
  v->add_option("--bed", s->bed, "as large as fits into this, e.g. 200mmx150mm");
  v->add_option("--scale", s->scale, "or at this scale, e.g. 1:5000");
  v->add_option("--exaggerate", s->exaggerate, "heights so many times as much");
  v->add_option("--base", s->base, "so thick below the lowest ground");
  v->add_option("--error", s->error, "triangles may lie so far off, printed");
  v->add_option("--water", s->water, "what lies below this height is a level floor, e.g. 0m");
  v->add_flag("--water-body", s->water_body,
              "with that: the water is a body of its own over the floor, to be printed clear");
  v->add_flag("--tiles", s->tiles, "with --bed and --scale: in pieces that fit the bed, NAME-A1 and so on");
  v->add_option("--tab", s->tab, "with that: how far the tabs reach that hold the pieces together");
  v->add_option("--gap", s->gap, "with that: what is left free between two pieces");
  v->add_option("--step", s->step, "with that: so much below the shore, printed");
  v->get_option("--out")->description("where to write: .stl, .3mf, .obj or .glb");
  v->callback([s, &status] { status = run_solid(*s); });
}

}  // namespace katoptra::cli
