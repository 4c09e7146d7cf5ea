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
  double exaggerate = 1;
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
  return s;
}

int run_solid(const SolidCommand& o) {
  std::vector<std::string> notes;
  if (!solid_named(o.out))
    throw Error(ErrorCode::Unsupported,
                fmt::format("solids are not written as '{}'", std::filesystem::path(o.out).extension().string()), o.out,
                "give a name that ends in .stl, .3mf, .obj or .glb");
  const Grid in = within(open_input(o.in, o), o, notes);
  const Solid s = surface_solid(in, solid_options(o, in, notes));
  const SolidReport r = write_solid_with_map(s, in, o.out, o.overwrite, o.run());
  Statement t(o);
  t.title(o.out);
  t.line("size", fmt::format("{:.1f} x {:.1f} x {:.1f} mm, {}", s.width, s.depth, s.height,
                             format_bytes(static_cast<double>(r.bytes))));
  t.line("scale", fmt::format("1:{:.6g}{}", s.scale,
                              o.exaggerate == 1 ? "" : fmt::format(", heights {:g} times as much", o.exaggerate)));
  t.line("triangles", fmt::format("{}, of which {} are the ground", s.triangles.size(), s.ground));
  if (r.format == "glTF") t.line("unit", "metres, as glTF has it");
  if (r.format == "STL" || r.format == "OBJ") t.line("unit", fmt::format("mm, which {} cannot say", r.format));
  t.fact("size_mm", ordered_json{s.width, s.depth, s.height});
  t.fact("scale", s.scale);
  t.fact("triangles", s.triangles.size());
  t.fact("ground", s.ground);
  if (s.frame.cols() < in.frame().cols())
    notes.push_back(fmt::format("{} x {} cells were brought to {} x {}: no printer shows more", in.frame().cols(),
                                in.frame().rows(), s.frame.cols(), s.frame.rows()));
  t.notes(in.info(), notes);
  t.print();
  return 0;
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
  v->add_option("--step", s->step, "with that: so much below the shore, printed");
  v->get_option("--out")->description("where to write: .stl, .3mf, .obj or .glb");
  v->callback([s, &status] { status = run_solid(*s); });
}

}  // namespace katoptra::cli
