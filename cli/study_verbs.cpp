#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fmt/format.h>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/study/study.hpp"
#include "katoptra/version.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace fs = std::filesystem;
namespace {

struct StudyCommand : Common {
  std::string file, in, again;
  std::vector<std::string> set;
};

// The study of a file, or that of an earlier run's record, with what --set changes.
Study study_of(const StudyCommand& o, std::vector<std::string>& notes) {
  if (o.file.empty() == o.again.empty())
    throw Error(ErrorCode::BadArgument, "a study is named by its file, or by --again RUN.json", "study",
                "give one of the two");
  std::string text;
  fs::path path = o.file;
  if (o.again.empty()) {
    if (o.set.empty()) return read_study(o.file, o.in);
    text = read_text_file(o.file, 1 << 20);
  } else {
    const StudyRecord record = read_record_of_run(o.again);
    const std::vector<std::string> changed = changed_inputs(record);
    notes.push_back(changed.empty()
                        ? fmt::format("all {} inputs are what they were", record.inputs.size())
                        : fmt::format("{} of {} inputs are not what they were", changed.size(), record.inputs.size()));
    notes.insert(notes.end(), changed.begin(), changed.end());
    text = record.study_text;
    path = record.study_file;
  }
  for (const std::string& s : o.set) {
    text = with_setting(text, s);
    notes.push_back("changed: " + s);
  }
  return read_study_text(text, path, o.in);
}

void print_plan(const Study& study, const StudyPlan& plan, const Common& c) {
  if (c.json) {
    ordered_json j;
    j["title"] = study.title;
    j["covered_fraction"] = plan.shortlist.covered_fraction;
    j["read_bytes"] = plan.shortlist.bytes;
    j["cells"] = plan.cells;
    j["bytes"] = plan.bytes;
    j["steps"] = plan.steps;
    j["left_out"] = plan.left_out;
    j["notes"] = plan.surface.info().notes;
    std::fputs((j.dump(2) + "\n").c_str(), stdout);
    return;
  }
  fmt::print("{}\n", study.title);
  for (std::size_t i = 0; i < plan.steps.size(); ++i) fmt::print("  {}. {}\n", i + 1, plan.steps[i]);
  fmt::print("  reads      {} in {} tiles, {:.2f} % of the area\n",
             format_bytes(static_cast<double>(plan.shortlist.bytes)),
             std::count_if(plan.shortlist.tiles.begin(), plan.shortlist.tiles.end(), [](auto& t) { return t.kept; }),
             100 * plan.shortlist.covered_fraction);
  fmt::print("  makes      {} cells, {} before compression\n", plan.cells, format_bytes(plan.bytes));
  fmt::print("  frame      {}, {}\n", plan.frame.crs().label(), cell_text(plan.frame));
  for (const std::string& s : plan.left_out) fmt::print("  left out   {}\n", s);
  for (const std::string& s : plan.surface.info().notes) fmt::print("  note       {}\n", s);
}

void print_run(const StudyRun& r, const Common& c) {
  if (c.json) {
    std::fputs(read_text_file(r.record).c_str(), stdout);
    return;
  }
  if (c.quiet) return;
  Statement s(c);
  s.written(r.surface);
  s.print();
  for (const std::string& text : r.plan.left_out) fmt::print("  left out   {}\n", text);
  if (const auto& l = r.plan.levelling) {
    for (const SurveyLevel& level : l->surveys) fmt::print("  levelled   {}\n", levelling_text(level));
    fmt::print("  overlaps   {}\n", overlaps_text(*l));
    for (const std::string& n : l->notes) fmt::print("  note       {}\n", n);
  }
  auto list = [](const std::vector<Finding>& findings) {
    for (const Finding& f : findings)
      fmt::print("  {:<10} {}: {}: {}\n", name_of(f.severity), f.code, f.file, f.message);
  };
  list(r.check.findings);
  list(r.source_findings);
  const std::string unit = symbol(r.surface.info.quantity.unit);
  if (r.control && r.control->asprs)
    fmt::print("  control    RMSE {:.3f} m at {} points, mean {:+.3f} {}; ASPRS 2023 {}{}\n",
               r.control->asprs->rmse.metres(), r.control->all.count, r.control->all.mean, unit,
               r.control->asprs->class_text, r.control->asprs->enough ? "" : " (too few points)");
  if (r.reference) {
    auto line = [&](const std::string& of, const ErrorStatistics& e) {
      fmt::print("  reference  RMSE {:.3f} {} over {} {} cells, mean {:+.3f}, NMAD {:.3f}\n", e.rmse, unit, e.count, of,
                 e.mean, e.nmad);
    };
    line("all", r.reference->overall);
    for (const DifferenceClass& k : r.reference->classes)
      if (k.of == "lineage") line(k.name, k.statistics);
    if (const auto& d = r.reference->detection)
      fmt::print("  reference  the 95 % that the surface states of itself holds {:.1f} % of {} cells\n",
                 100 * (1 - d->share), d->known);
  }
  if (!r.kept.empty()) {
    std::string names;
    for (const std::string& n : r.kept) names += (names.empty() ? "" : ", ") + n;
    fmt::print("  unchanged  {}: not made again\n", names);
  }
  double seconds = 0;
  for (const StepTime& t : r.times) seconds += t.seconds;
  fmt::print("  time       {:.1f} s in {} steps\n", seconds, r.times.size());
  fmt::print("  report     {}\n", r.report.string());
  if (!r.view.empty()) fmt::print("  pages      {}, {}\n", r.view.string(), r.coverage.filename().string());
  fmt::print("  record     {}\n", r.record.string());
}

int run(const StudyCommand& o) {
  std::vector<std::string> notes;
  const Study study = study_of(o, notes);
  if (!o.json && !o.quiet)
    for (const std::string& n : notes) fmt::print("  again      {}\n", n);
  // The hosts that the file names are named by the user, who runs it.
  for (const StudySource& s : study.sources)
    if (is_url(s.in)) name_host(s.in);
  const bool have_key = !http_access().keys.empty();
  if (o.dry_run) {
    print_plan(study,
               plan_study(study, {.hosts = http_access().hosts,
                                  .have_key = have_key,
                                  .cache = default_cache(),
                                  .tiles = {},
                                  .measure = false,
                                  .run = o.run()}),
               o);
    return 0;
  }
  const fs::path earlier = o.again.empty() ? fs::path() : fs::path(o.again).parent_path();
  StudyOptions options{.folder = !o.out.empty()    ? fs::path(o.out)
                                 : o.again.empty() ? study.folder / "out"
                                 : earlier.empty() ? fs::path(".")
                                                   : earlier,
                       .overwrite = o.overwrite,
                       .earlier = o.again.empty()   ? fs::path()
                                  : earlier.empty() ? fs::path(".")
                                                    : earlier,
                       .hosts = http_access().hosts,
                       .have_key = have_key,
                       .cache = default_cache(),
                       .run = o.run(),
                       .say = {}};
  if (!o.json && !o.quiet && ::isatty(2))
    options.say = [](const std::string& step) { fmt::print(stderr, "- {}\n", step); };
  print_run(run_study(study, options), o);
  return 0;
}

struct DemoCommand : Common {
  std::string folder = "marrowick";
};

// Where the example data are: beside an installed tool, else in the tree it was built from.
fs::path demo_data() {
  std::error_code ec;
  const fs::path tool = fs::read_symlink("/proc/self/exe", ec);
  for (const fs::path& p : {tool.parent_path().parent_path() / "share/katoptra/demo", fs::path(KATOPTRA_DEMO_DATA)})
    if (fs::exists(p / "study.toml", ec)) return p;
  throw Error(ErrorCode::MissingResource, "the example data are not where they should be", KATOPTRA_DEMO_DATA,
              "install Katoptra, or run from its source tree");
}

int run_demo(const DemoCommand& o) {
  const fs::path from = demo_data(), to = o.folder;
  std::error_code ec;
  if (fs::exists(to / "study.toml", ec) && !o.overwrite)
    throw Error(ErrorCode::Io, "holds the example already", to.string(), "choose another folder or say --overwrite");
  fs::create_directories(to, ec);
  fs::copy(from, to, fs::copy_options::recursive | fs::copy_options::overwrite_existing, ec);
  if (ec)
    throw Error(ErrorCode::Io, "the example cannot be copied here: " + ec.message(), to.string(),
                "choose another folder");
  if (!o.quiet && !o.json)
    fmt::print("The island of Marrowick was copied to {}. Running its study: katoptra study {}\n", to.string(),
               (to / "study.toml").string());
  StudyCommand s;
  static_cast<Common&>(s) = o;
  s.file = (to / "study.toml").string();
  s.out = (to / "out").string();
  const int status = run(s);
  if (!o.quiet && !o.json)
    fmt::print(
        "Open these in a browser:\n  {}  what was found, and a map to ask: look at it first\n"
        "  {}    the surface, to be turned, asked and cut\n  {}  which tiles cover the area, and why\n",
        (to / "out/report.html").string(), (to / "out/view.html").string(), (to / "out/coverage.html").string());
  return status;
}

}  // namespace

void add_study_verbs(CLI::App& app, int& status) {
  auto s = std::make_shared<StudyCommand>();
  CLI::App* v = app.add_subcommand("study", "plan and run a whole study");
  v->add_option("FILE", s->file, "a study file (TOML)");
  v->add_option("--again", s->again,
                "repeat a run from its record (run.json): says which inputs changed, and makes only what they change");
  v->add_option("--set", s->set, "change one thing: frame.cell=2m, product.0.interval=5m; may be given several times")
      ->allow_extra_args(false);
  v->add_option("--in", s->in, "the catalogue to look up surveys in, instead of the one that the file names");
  add_network(*v, *s);
  v->add_flag("--dry-run", s->dry_run, "print the plan with cells and bytes; nothing is written");
  add_output(*v, *s, false);
  add_running(*v, *s);
  v->callback([s, &status] { status = run(*s); });

  auto d = std::make_shared<DemoCommand>();
  v = app.add_subcommand("demo", "the example data and the whole example study");
  v->add_option("DIR", d->folder, "where to (default: marrowick)");
  v->add_flag("--overwrite", d->overwrite, "replace what is there");
  add_running(*v, *d);
  v->callback([d, &status] { status = run_demo(*d); });
}

}  // namespace katoptra::cli
