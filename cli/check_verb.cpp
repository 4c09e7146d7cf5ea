#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/check/control.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/tables.hpp"

#include "control_options.hpp"
#include "judging.hpp"

namespace katoptra::cli {
namespace {

struct CheckCommand : Common, ControlOptions {
  std::vector<std::string> in, thresholds;
  std::string profile = "survey", reference, stream, figure, residuals;
  double density = 0;
};

Thresholds thresholds_from(const CheckCommand& o) {
  Thresholds t = Thresholds::of(parse_profile(o.profile));
  for (const std::string& word : o.thresholds) {
    const auto equals = word.find('=');
    if (equals == word.npos)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' sets no threshold", word), "--threshold",
                  "write NAME=VALUE, for instance seam=0.1m");
    t.set(word.substr(0, equals), word.substr(equals + 1));
  }
  return t;
}

std::string spot_text(Point p, const Crs& crs) {
  return crs.is_geographic() ? fmt::format("{:.6f}, {:.6f}", p.x, p.y) : fmt::format("{:.2f}, {:.2f}", p.x, p.y);
}

class CheckRun {
 public:
  explicit CheckRun(const CheckCommand& o) : o_(o), limits_(thresholds_from(o)) {
    if (!o.area.empty()) area_ = area_from(o.area);
    if (!o.stream.empty()) streams_ = read_layer(o.stream, o.crs.empty() ? Crs() : Crs::parse(o.crs));
  }

  int run() {
    std::vector<std::pair<std::string, bool>> inputs;  // and whether it holds points
    for (const std::string& given : o_.in) {
      if (!std::filesystem::is_directory(given) && looks_like_points(given))
        inputs.emplace_back(given, true);
      else
        for (const std::string& path : expand_inputs({given})) inputs.emplace_back(path, false);
    }
    for (const auto& [path, holds_points] : inputs) {
      // One alone that cannot be opened is an error; among others it is a finding, and they are still judged.
      try {
        holds_points ? points(path) : surface(path);
      } catch (const Error& e) {
        if (e.code() != ErrorCode::BadFile || inputs.size() == 1) throw;
        damaged(std::filesystem::path(path).filename().string(), e.problem());
      }
    }
    for (Finding& f : check_overlaps(grids_, o_.run(), limits_)) findings_.push_back(std::move(f));
    std::stable_sort(findings_.begin(), findings_.end(),
                     [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
    if (!o_.control.empty()) control();
    if (!o_.out.empty()) write();
    print();
    return failures() > 0 ? 1 : 0;
  }

 private:
  std::int64_t failures() const {
    return std::count_if(findings_.begin(), findings_.end(),
                         [](const Finding& f) { return f.severity == Severity::Failure; });
  }

  void damaged(const std::string& file, const std::string& problem) {
    findings_.push_back({.code = "damaged",
                         .severity = Severity::Failure,
                         .file = file,
                         .message = problem,
                         .advice = "fetch it again",
                         .measure = {},
                         .unit = {},
                         .place = {},
                         .crs = {}});
  }

  void surface(const std::string& path) {
    GridFile file = open_grid_file(path, o_.open_options());
    try {
      CheckReport r = check(file.grid, {.area = area_ ? &*area_ : nullptr,
                                        .streams = streams_ ? &*streams_ : nullptr,
                                        .thresholds = limits_,
                                        .run = o_.run_in_bands()});
      if (!o_.reference.empty())
        for (Finding& f : check_against(file.grid, open_grid(o_.reference), o_.run()))
          r.findings.push_back(std::move(f));
      findings_.insert(findings_.end(), std::make_move_iterator(r.findings.begin()),
                       std::make_move_iterator(r.findings.end()));
      grids_.push_back(file.grid);
      state(path, file.grid, r.statistics);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      damaged(file.facts.path.filename().string(), e.problem());
    }
  }

  void state(const std::string& path, const Grid& grid, const Statistics& s) {
    text_ += fmt::format("{}: {} cells, {} voids, {}\n", path, s.cells, s.voids,
                         range_text(s.lowest, s.highest, grid.quantity()));
    if (s.cells == s.voids) return;
    text_ += fmt::format(
        "  percentiles 1/25/50/75/99: {:.2f} / {:.2f} / {:.2f} / {:.2f} / {:.2f}; lowest at {}, highest at {}\n",
        s.percentiles[0], s.percentiles[2], s.percentiles[3], s.percentiles[4], s.percentiles[6],
        spot_text(s.lowest_at, grid.frame().crs()), spot_text(s.highest_at, grid.frame().crs()));
    ordered_json j{{"file", path}};
    j.update(ordered_json::parse(statistics_json(s, grid.quantity())));
    // The list of seven that has always been here, beside the named ones.
    j["percentiles"] = s.percentiles;
    statistics_.push_back(std::move(j));
  }

  void points(const std::string& path) {
    const PointCloud cloud = open_points(path, {.open = o_.open_options(), .area = nullptr, .spacing = {}});
    try {
      for (Finding& f : check_points(cloud, {.density = o_.density, .thresholds = limits_, .run = o_.run()}))
        findings_.push_back(std::move(f));
      text_ += fmt::format("{}: {} points\n", path, cloud.info().count);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      damaged(std::filesystem::path(path).filename().string(), e.problem());
    }
  }

  void control() {
    if (grids_.size() != 1)
      throw Error(ErrorCode::BadArgument,
                  fmt::format("control points belong to one surface, and {} are given", grids_.size()), "--control",
                  "give one surface");
    std::vector<std::string> notes;
    const ControlSet set = control_points(o_, grids_[0], notes);
    control_ = check_control(grids_[0], set, o_.run());
    if (!o_.residuals.empty()) {
      written_.push_back(o_.residuals);
      if (has_ending(o_.residuals, ".csv"))
        write_text_file(o_.residuals, control_csv(*control_), {.overwrite = o_.overwrite});
      else
        write_layer(control_layer(*control_), o_.residuals, {.overwrite = o_.overwrite});
    }
    if (o_.figure.empty()) return;
    written_.push_back(o_.figure);
    write_picture(draw_map(grids_[0], {.format = picture_format_for(o_.figure),
                                       .title = "Residuals at control points: surface less known",
                                       .overlays = {{control_layer(*control_), OverlayStyle::Residuals, ""}},
                                       .run = o_.run()}),
                  o_.figure, o_.overwrite);
  }

  void write() {
    written_.push_back(o_.out);
    if (has_ending(o_.out, ".json"))
      write_text_file(o_.out, findings_json(findings_) + "\n", {.overwrite = o_.overwrite});
    else
      write_layer(as_drawn(finding_layer(findings_), o_.out, grids_.empty() ? Crs() : grids_[0].frame().crs()), o_.out,
                  {.overwrite = o_.overwrite});
  }

  void print() {
    if (o_.json) {
      ordered_json j;
      j["profile"] = o_.profile;
      j["failures"] = failures();
      j["findings"] = ordered_json::parse(findings_json(findings_));
      j["statistics"] = statistics_;
      if (control_) j["control"] = ordered_json::parse(control_json(*control_));
      if (!written_.empty()) j["written"] = written_;
      std::fputs((j.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n").c_str(), stdout);
      return;
    }
    if (o_.quiet) return;
    for (const Finding& f : findings_) {
      text_ += fmt::format("{:<8} {:<10} {}: {}\n", name_of(f.severity), f.code, f.file, f.message);
      if (!f.advice.empty()) text_ += fmt::format("{:19} -> {}\n", "", f.advice);
    }
    if (control_) text_ += control_text(*control_);
    const auto n = failures();
    text_ += fmt::format("{} failure{}, {} finding{} in all\n", n, n == 1 ? "" : "s", findings_.size(),
                         findings_.size() == 1 ? "" : "s");
    for (const std::string& w : written_) text_ += "wrote    " + w + "\n";
    std::fputs(text_.c_str(), stdout);
  }

  const CheckCommand& o_;
  Thresholds limits_;
  std::optional<Area> area_;
  std::optional<Layer> streams_;
  std::vector<Finding> findings_;
  std::vector<Grid> grids_;
  std::optional<ControlReport> control_;
  ordered_json statistics_ = ordered_json::array();
  std::vector<std::string> written_;
  std::string text_;
};

int print_thresholds(const std::string& profile) {
  const Thresholds t = Thresholds::of(parse_profile(profile));
  fmt::print("{:<12} {:>9} {:<6} {}\n", "threshold", profile, "", "meaning");
  for (const ThresholdInfo& i : threshold_table())
    fmt::print("{:<12} {:>9g} {:<6} {}\n", i.name, threshold_value(t, i), i.unit, i.meaning);
  return 0;
}

}  // namespace

std::string errors_header(const std::string& first) {
  return fmt::format("  {:<26}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}{:>10}\n", first, "number", "mean", "st.dev.",
                     "RMSE", "median", "NMAD", "68.3 %", "95 %");
}

std::string errors_row(const std::string& name, const ErrorStatistics& s) {
  return fmt::format("  {:<26}{:>10}{:>+10.3f}{:>10.3f}{:>10.3f}{:>+10.3f}{:>10.3f}{:>10.3f}{:>10.3f}\n", name, s.count,
                     s.mean, s.deviation, s.rmse, s.median, s.nmad, s.q683, s.q95);
}

std::string control_text(const ControlReport& r) {
  std::string t = fmt::format("control points: {} ({} without a value), residuals in {}, surface less known\n",
                              r.rows.size(), r.without_value, symbol(r.unit));
  t += errors_header("ground");
  for (auto [name, s] :
       {std::pair{"open", &r.open}, std::pair{"vegetated", &r.vegetated}, std::pair{"sea floor", &r.sea_floor}})
    if (*s) t += errors_row(name, **s);
  if (r.asprs) {
    const AsprsAccuracy& a = *r.asprs;
    t += fmt::format(
        "  ASPRS 2023 {}: RMSE {:.3f} m over open ground{}\n", a.class_text, a.rmse.metres(),
        a.vegetated_rmse ? fmt::format(", {:.3f} m over vegetation as found", a.vegetated_rmse->metres()) : "");
    t += a.enough ? fmt::format("  {} points are enough ({} are asked for)\n", a.points, a.needed)
                  : fmt::format("  {} points are not enough: the standard asks for {}\n", a.points, a.needed);
    if (a.biased)
      t += fmt::format("  the mean ({:+.3f}) is more than a quarter of the RMSE: look for its cause\n", r.open->mean);
  }
  if (r.s44)
    t += fmt::format("  IHO S-44: {} (exclusive {:.1f} %, special {:.1f} %, 1 {:.1f} %, 2 {:.1f} % of the points)\n",
                     name_of(r.s44->order), 100 * r.s44->shares[0], 100 * r.s44->shares[1], 100 * r.s44->shares[2],
                     100 * r.s44->shares[3]);
  if (const auto& n = r.normalised)
    t += fmt::format(
        "  of what the surface states of itself: residuals are {:.2f} times that (rms), {} of {} within its 95 %\n",
        n->rms, n->within, n->points);
  for (const ControlResidual& p : r.rows)
    if (p.outlier) t += fmt::format("  outlier {} ({}): {:+.3f}\n", p.point.name, name_of(p.point.cover), p.residual);
  for (const std::string& n : r.notes) t += "  note: " + n + "\n";
  return t;
}

void add_check(CLI::App& app, int& status) {
  auto k = std::make_shared<CheckCommand>();
  CLI::App* v = app.add_subcommand("check", "what is wrong with a surface; exit status 1 when a finding fails");
  auto show = std::make_shared<bool>(false);
  auto* in = v->add_option("IN", k->in, "surfaces, point files, folders or shortlists");
  v->add_option("--area", k->area, "the area that should be covered");
  v->add_option("--profile", k->profile, "how strict: quick, survey or navigation");
  v->add_option("--threshold", k->thresholds, "NAME=VALUE instead of the profile's, e.g. seam=0.1m")
      ->allow_extra_args(false);
  v->add_flag("--thresholds", *show, "print the thresholds of the profile and do nothing else");
  v->add_option("--reference", k->reference, "a coarse surface known to be right: unit, sign and datum are held to it");
  v->add_option("--stream", k->stream, "stream lines, along which water must not run uphill");
  v->add_option("--density", k->density, "points a square metre that a point file should have");
  auto* control = add_control(*v, *k, "control points: CSV, GPX, GeoPackage or GeoJSON with heights");
  v->add_option("--residuals", k->residuals, "write them as .csv, .geojson or .gpkg")->needs(control);
  v->add_option("--figure", k->figure, "draw them by place: .png, .svg, .pdf")->needs(control);
  add_reading(*v, *k, Reading::Assigns);
  add_output(*v, *k, false);
  add_running(*v, *k);
  v->callback([k, show, in, &status] {
    if (*show) {
      status = print_thresholds(k->profile);
      return;
    }
    if (in->empty()) throw CLI::RequiredError("IN");
    status = CheckRun(*k).run();
  });
}

}  // namespace katoptra::cli
