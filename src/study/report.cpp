#include "report.hpp"

#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <set>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/study/judgements.hpp"
#include "katoptra/version.hpp"

#include "base/base64.hpp"
#include "base/text.hpp"
#include "journal.hpp"
#include "view/html_page.hpp"
#include "view/page_parts.hpp"

namespace katoptra {
namespace {

// As it is found from the report: sheets lie in folders of their own.
std::string name_in_run(const std::filesystem::path& p, const StudyRun& run) {
  return p.lexically_relative(run.folder).generic_string();
}

std::string escaped(const std::string& s) { return xml_text(s); }

class Html {
 public:
  Html(const Study& s, const StudyRun& r, const std::vector<ReportPicture>& p) : study_(s), run_(r), pictures_(p) {}

  std::string page() {
    text_ = fmt::format("<h1>{}</h1>\n<p class=\"lead\">Study report by Katoptra {}{}</p>\n", escaped(study_.title),
                        KATOPTRA_VERSION, other_pages());
    cards();
    text_ += "<div id=\"ask\"></div>\n";
    if (!pictures_.empty()) picture(pictures_[0]);
    pin_ = 0;
    findings("Findings in the surface", run_.check.findings, "Nothing was found wrong with the surface.");
    pin_.reset();
    findings("Findings in the sources", run_.source_findings, "Nothing was found wrong with the sources.");
    accuracy();
    volumes();
    sources();
    levels();
    lineage();
    if (pictures_.size() > 1) {
      text_ += "<h2>Products</h2>\n";
      for (std::size_t i = 1; i < pictures_.size(); ++i) picture(pictures_[i]);
    }
    files();
    text_ += "<h2>How it was made</h2>\n<ol>";
    for (const std::string& s : run_.plan.steps) text_ += "<li>" + escaped(s) + "</li>";
    text_ += "</ol>\n<table><tr><th>step</th><th class=\"n\">seconds</th></tr>";
    for (const StepTime& t : run_.times)
      text_ += fmt::format("<tr><td>{}</td><td class=\"n\">{:.2f}</td></tr>", escaped(t.step), t.seconds);
    text_ += "</table>\n<h2>The study file</h2>\n<pre>" + escaped(study_.text) + "</pre>\n";
    return std::move(text_);
  }

 private:
  void card(const std::string& big, const std::string& small, const char* tone = "") {
    text_ += fmt::format("<div class=\"card\"><b class=\"{}\">{}</b><span>{}</span></div>\n", tone, escaped(big),
                         escaped(small));
  }

  void cards() {
    const Frame& f = run_.surface.info.frame;
    const GroundSpacing s = ground_spacing(f);
    const Quantity& q = run_.surface.info.quantity;
    text_ += "<div class=\"cards\">\n";
    const bool failed = run_.check.failed();
    card(failed ? "needs attention" : "sound",
         failed ? "the check of the surface failed" : "the check of the surface found no failure",
         failed ? "failure" : "good");
    for (const Finding& x : run_.check.findings)
      if (x.code == "coverage" && x.measure)
        card(fmt::format("{:.2f} %", 100 * *x.measure), "of the study area has values");
    card(fmt::format("{} × {}", f.cols(), f.rows()),
         fmt::format("cells of {:.4g} × {:.4g} m on the ground", s.x.metres(), s.y.metres()));
    card(fmt::format("{:.1f} to {:.1f} {}", run_.surface.lowest, run_.surface.highest, symbol(q.unit)),
         "heights above " + q.heights.name());
    card(f.crs().code().empty() ? f.crs().name() : f.crs().code(), f.crs().name());
    if (run_.control && run_.control->asprs)
      card(run_.control->asprs->class_cm ? fmt::format("{:g} cm", *run_.control->asprs->class_cm) : "no class",
           fmt::format("ASPRS 2023 vertical class: RMSE {:.3f} m at {} open points", run_.control->asprs->rmse.metres(),
                       run_.control->asprs->points));
    if (run_.reference)
      for (const DifferenceClass& k : run_.reference->classes)
        if (k.name == "measured")
          card(fmt::format("{:.3f} {}", k.statistics.rmse, symbol(q.unit)),
               "RMSE of measured cells against the reference surface");
    text_ += "</div>\n";
  }

  void picture(const ReportPicture& p) {
    text_ +=
        fmt::format("<figure><img alt=\"{}\" src=\"data:image/png;base64,{}\"><figcaption>{}{}</figcaption></figure>\n",
                    escaped(p.title), base64(p.picture.bytes), escaped(p.caption),
                    p.file.empty() ? "" : " File: <code>" + escaped(p.file) + "</code>");
  }

  void findings(const char* title, const std::vector<Finding>& list, const char* none) {
    text_ += fmt::format("<h2>{}</h2>\n", title);
    if (list.empty()) {
      text_ += fmt::format("<p class=\"good\">{}</p>\n", none);
      return;
    }
    text_ += "<table><tr><th>severity</th><th>code</th><th>file</th><th>what, and what to do</th></tr>\n";
    for (const Finding& f : list) {
      // By which the page's map knows it.
      const std::string pin = pin_ && !f.place.empty() ? fmt::format(" data-pin=\"{}\"", (*pin_)++) : "";
      text_ +=
          fmt::format("<tr{5}><td class=\"{0}\">{0}</td><td>{1}</td><td class=\"file\">{2}</td><td>{3}{4}</td></tr>\n",
                      name_of(f.severity), escaped(f.code), escaped(f.file), escaped(f.message),
                      f.advice.empty() ? "" : "<br><span class=\"advice\">" + escaped(f.advice) + "</span>", pin);
    }
    text_ += "</table>\n";
  }

  void accuracy_row(const std::string& what, const std::string& of, const ErrorStatistics& e) {
    text_ += fmt::format("<tr><td>{}</td><td>{}</td><td class=\"n\">{}</td>", escaped(what), escaped(of), e.count);
    for (double v : {e.mean, e.deviation, e.rmse, e.median, e.nmad, e.q683, e.q95})
      text_ += fmt::format("<td class=\"n\">{:.3f}</td>", v);
    text_ += "</tr>\n";
  }

  void accuracy() {
    if (!run_.control && !run_.reference) return;
    text_ += "<h2>Accuracy</h2>\n<table><tr><th>compared with</th><th>of</th>";
    for (const char* head : {"number", "mean", "st. dev.", "RMSE", "median", "NMAD", "68.3 %", "95 %"})
      text_ += fmt::format("<th class=\"n\">{}</th>", head);
    text_ += "</tr>\n";
    if (run_.control)
      for (auto [name, e] : {std::pair{"open ground", &run_.control->open},
                             {"vegetated ground", &run_.control->vegetated},
                             {"sea floor", &run_.control->sea_floor}})
        if (*e) accuracy_row(study_.control.filename().string(), name, **e);
    if (run_.reference) {
      const std::string file = study_.reference.filename().string();
      accuracy_row(file, "all cells", run_.reference->overall);
      for (const DifferenceClass& k : run_.reference->classes)
        if (k.of == "lineage" || k.of == "level") accuracy_row(file, k.name, k.statistics);
    }
    text_ += fmt::format(
        "</table>\n<p class=\"note\">In {}: the surface less what it is compared with. NMAD: the "
        "standard deviation that blunders do not move; 68.3 and 95 %: of the absolute differences.</p>\n",
        symbol(run_.surface.info.quantity.unit));
    if (run_.reference && run_.reference->detection)
      text_ += fmt::format("<p>The 95 % that the surface states of itself holds {:.1f} % of {} cells.</p>\n",
                           100 * (1 - run_.reference->detection->share), run_.reference->detection->known);
    if (run_.control) standards(*run_.control);
  }

  void volumes() {
    const auto or_none = [](double v) { return std::isfinite(v) ? fmt::format("{:.4g}", v) : std::string("–"); };
    for (const auto& [title, levels] : run_.volumes) {
      text_ += fmt::format("<h2>{}</h2>\n<table><tr>", escaped(title));
      for (const char* head : {"level", "area above (m²)", "volume above (m³)", "give or take (95 %)",
                               "area below (m²)", "volume below (m³)", "give or take (95 %)"})
        text_ += fmt::format("<th class=\"n\">{}</th>", head);
      text_ += "</tr>\n";
      for (const LevelVolumes& v : levels)
        text_ += fmt::format(
            "<tr><td class=\"n\">{:g} {}</td><td class=\"n\">{:.0f}</td><td class=\"n\">{:.0f}</td><td "
            "class=\"n\">{}</td><td class=\"n\">{:.0f}</td><td class=\"n\">{:.0f}</td><td class=\"n\">{}</td></tr>\n",
            v.level, symbol(run_.surface.info.quantity.unit), v.area_above, v.volume_above,
            or_none(v.give_or_take_above), v.area_below, v.volume_below, or_none(v.give_or_take_below));
      text_ += "</table>\n";
    }
  }

  void standards(const ControlReport& c) {
    text_ += "<ul>";
    if (c.asprs)
      text_ += fmt::format("<li>ASPRS 2023: {}; {} control points on open ground, {} are asked for{}</li>",
                           c.asprs->class_text, c.asprs->points, c.asprs->needed,
                           c.asprs->biased ? "; the mean is more than a quarter of the RMSE: look for its cause" : "");
    if (c.s44) text_ += fmt::format("<li>IHO S-44: {}</li>", name_of(c.s44->order));
    for (const ControlResidual& r : c.rows)
      if (r.outlier)
        text_ += fmt::format("<li>outlier {}: {:+.3f} {}</li>", escaped(r.point.name), r.residual, symbol(c.unit));
    for (const std::string& n : c.notes) text_ += "<li>" + escaped(n) + "</li>";
    text_ += "</ul>\n";
  }

  void sources() {
    text_ +=
        "<h2>Sources</h2>\n<table><tr><th></th><th>tile</th><th>survey</th><th>date</th><th class=\"n\">cell</th><th "
        "class=\"n\">covers</th><th>why</th></tr>\n";
    for (const ShortlistTile& t : run_.plan.shortlist.tiles)
      text_ += fmt::format(
          "<tr><td class=\"{}\">{}</td><td>{}</td><td>{}</td><td>{}</td><td class=\"n\">{:.3g} m</td><td "
          "class=\"n\">{:.1f} %</td><td>{}</td></tr>\n",
          t.kept ? "good" : "note", t.kept ? "used" : "left out", escaped(t.tile.path.filename().string()),
          escaped(t.tile.survey), escaped(t.tile.date + (t.tile.date_guessed ? " (guess)" : "")),
          t.tile.spacing.y.metres(), 100 * t.covered_fraction, escaped(t.reason));
    text_ += "</table>\n";
    bool first = true;
    for (const std::string& s : run_.plan.left_out) {
      bool listed = false;
      for (const ShortlistTile& t : run_.plan.shortlist.tiles)
        listed = listed || s.find(t.tile.path.filename().string() + ":") != s.npos;
      if (listed) continue;
      text_ += (first ? "<p>Not considered:</p><ul>" : "") + ("<li>" + escaped(s) + "</li>");
      first = false;
    }
    if (!first) text_ += "</ul>\n";
    if (!run_.failures.empty()) {
      text_ += "<p>Failed after the surface was made:</p><ul>";
      for (const std::string& s : run_.failures) text_ += "<li class=\"bad\">" + escaped(s) + "</li>";
      text_ += "</ul>\n";
    }
    if (!run_.surface.info.notes.empty()) {
      text_ += "<p>Said on the way:</p><ul>";
      for (const std::string& n : run_.surface.info.notes) text_ += "<li>" + escaped(n) + "</li>";
      text_ += "</ul>\n";
    }
  }

  void levels() {
    if (!run_.plan.levelling) return;
    const Levelling& l = *run_.plan.levelling;
    text_ += "<h2>Brought to one level</h2>\n<ul>";
    for (const SurveyLevel& s : l.surveys) text_ += "<li>" + escaped(levelling_text(s)) + "</li>";
    text_ +=
        "</ul>\n<table><tr><th>overlap</th><th class=\"n\">before</th><th class=\"n\">after</th>"
        "<th class=\"n\">give or take</th><th class=\"n\">patches</th><th class=\"n\">stand off</th></tr>\n";
    for (const OverlapLevel& o : l.overlaps)
      text_ += fmt::format(
          "<tr><td class=\"{}\">{} less {}</td><td class=\"n\">{:+.3f} m</td><td class=\"n\">{:+.3f} m</td><td "
          "class=\"n\">{:.3f} m</td><td class=\"n\">{}</td><td class=\"n\">{:.0f} %</td></tr>\n",
          o.fits ? "" : "bad", escaped(l.surveys[o.first].name), escaped(l.surveys[o.second].name), o.before.metres(),
          o.after.metres(), o.error.metres(), o.patches, 100 * o.off);
    text_ += "</table>\n";
    if (l.notes.empty()) return;
    text_ += "<ul>";
    for (const std::string& n : l.notes) text_ += "<li>" + escaped(n) + "</li>";
    text_ += "</ul>\n";
  }

  void lineage() {
    text_ +=
        "<h2>Where the cells come from</h2>\n<table><tr><th>cells are</th><th class=\"n\">number</th><th "
        "class=\"n\">share</th></tr>\n";
    const auto all = static_cast<double>(run_.surface.cells);
    for (How h : {How::Measured, How::Resampled, How::Blended, How::Interpolated, How::Filled, How::None}) {
      const auto n = h == How::None ? run_.surface.voids : run_.surface.by_how[static_cast<int>(h)];
      text_ += fmt::format("<tr><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{:.2f} %</td></tr>\n",
                           h == How::None ? "void (most of them outside the area's outline)" : name_of(h), n,
                           100 * static_cast<double>(n) / all);
    }
    text_ += "</table>\n";
    if (!run_.water.empty()) {
      text_ += "<p>Water laid flat:</p>\n<ul>";
      for (const LaidBody& b : run_.water) {
        const std::string unit = unit_name(run_.surface.info.quantity), doubt = water_doubt(b, unit);
        text_ += fmt::format("<li>{} {}{}</li>", name_of(b.kind), escaped(water_text(b, unit)),
                             doubt.empty() ? "" : "; <b>" + escaped(doubt) + "</b>");
      }
      text_ += "</ul>\n";
    }
    const FillReport& f = run_.fill;
    if (study_.fill)
      text_ += fmt::format(
          "<p>Closed: {} voids with {} cells{}, the longest {:.1f} m. Left: {} at the edge of the neighbourhood, {} "
          "too "
          "large.</p>\n",
          f.voids_closed, f.cells_closed, escaped(ways_of(f)), f.largest_closed.metres(), f.voids_left_at_edge,
          f.voids_left_large);
  }

  void files() {
    text_ += "<h2>Files</h2>\n<ul>";
    // Names in the folder of the run.
    auto item = [&](const std::string& name, const char* what) {
      text_ += fmt::format("<li><a href=\"{0}\"><code>{0}</code></a> {1}</li>", escaped(name), what);
    };
    if (study_.sheets) {
      item(name_in_run(run_.surface.path, run_),
           "the surface: the index of its sheets, which lie beside it and open by it");
    } else {
      item("surface.tif", "the surface");
      item("surface.lineage.tif", "which source each cell came from, explained by <code>surface.lineage.csv</code>");
    }
    item("shortlist.csv", "the tiles and why (also as GeoJSON)");
    for (const auto& p : run_.products) item(name_in_run(p, run_), "");
    if (!run_.view.empty())
      item(name_in_run(run_.view, run_), "the surface in three dimensions, to be turned and asked");
    if (!run_.coverage.empty()) item(name_in_run(run_.coverage, run_), "the tiles on a map, and why");
    item("run.json", "the record of this run");
    text_ += "</ul>\n";
  }

  std::string other_pages() const {
    std::string text;
    for (const auto& [page, what] :
         {std::pair{&run_.view, "turn the surface and ask it"}, {&run_.coverage, "the tiles on a map"}})
      if (!page->empty()) text += fmt::format(" · <a href=\"{}\">{}</a>", escaped(page->filename().string()), what);
    return text;
  }

  const Study& study_;
  const StudyRun& run_;
  const std::vector<ReportPicture>& pictures_;
  std::string text_;
  std::optional<int> pin_;  // of the next finding with a place, where they have pins
};

}  // namespace

std::string report_html(const Study& study, const StudyRun& run, const std::vector<ReportPicture>& pictures,
                        const SurfacePage& shown) {
  HtmlPage page(study.title, "report/main.js");
  page.body("<main>\n" + Html(study, run, pictures).page() + "</main>\n", "report");
  try {
    put_surfaces(page, shown);
  } catch (const Error& e) {
    // All void, or in another way nothing to ask: the report is the page it is without scripts.
    if (e.code() == ErrorCode::Cancelled) throw;
  }
  return page.html();
}

namespace {

// Whatever the run was made from, with checksums: tiles, points, and the files that the study names.
nlohmann::ordered_json inputs_of(const Study& study, const StudyRun& run) {
  nlohmann::ordered_json list = nlohmann::ordered_json::array();
  for (const ShortlistTile& t : run.plan.shortlist.tiles)
    if (t.kept)
      list.push_back({{"path", t.tile.path.string()},
                      {"survey", t.tile.survey},
                      {"date", t.tile.date},
                      {"bytes", t.tile.bytes},
                      {"sha256", checksum_of(t.tile.path)}});
  for (const StudyPoints& points : study.points)
    for (const auto& p : points.files)
      list.push_back({{"path", p.string()},
                      {"survey", points.survey},
                      {"date", points.date},
                      {"bytes", std::filesystem::file_size(p)},
                      {"sha256", checksum_of(p)}});
  // The same file may be named more than once.
  std::set<std::string> listed;
  for (const auto& input : list) listed.insert(input["path"].get<std::string>());
  for (const auto& p : named_files(study))
    if (listed.insert(p.string()).second)
      list.push_back({{"path", p.string()}, {"bytes", std::filesystem::file_size(p)}, {"sha256", checksum_of(p)}});
  return list;
}

}  // namespace

std::string record_json(const Study& study, const StudyRun& run) {
  using nlohmann::ordered_json;
  ordered_json j;
  j["title"] = study.title;
  j["versions"] = {{"katoptra", KATOPTRA_VERSION}, {"proj", proj_version()}, {"tiff", tiff_library_version()}};
  j["study_file"] = study.file.filename().string();
  j["study_path"] = std::filesystem::absolute(study.file).lexically_normal().string();
  j["study_text"] = study.text;
  j["inputs"] = inputs_of(study, run);
  j["left_out"] = run.plan.left_out;
  j["failures"] = run.failures;
  j["unchanged"] = run.kept;
  j["notes"] = run.surface.info.notes;
  j["steps"] = run.plan.steps;
  j["pages"] = ordered_json::array();
  for (const auto* p : {&run.view, &run.coverage})
    if (!p->empty()) j["pages"].push_back(p->filename().string());
  const Frame& f = run.surface.info.frame;
  j["parameters"] = {{"crs", f.crs().label()},
                     {"cell", {f.cell().x, f.cell().y}},
                     {"cols", f.cols()},
                     {"rows", f.rows()},
                     {"bounds", {f.west(), f.south(), f.east(), f.north()}},
                     {"heights", run.surface.info.quantity.heights.name()},
                     {"unit", symbol(run.surface.info.quantity.unit)},
                     {"feather_m", study.mosaic.feather.metres()},
                     {"margin_m", study.margin.metres()},
                     {"resample", name_of(study.resampling)}};
  j["surface"] = {{"path", name_in_run(run.surface.path, run)},
                  {"bytes", run.surface.bytes},
                  {"sha256", checksum_of(run.surface.path)},
                  {"range", {run.surface.lowest, run.surface.highest}},
                  {"cells", run.surface.cells},
                  {"voids", run.surface.voids}};
  for (How h : kHows) j["surface"]["lineage"][name_of(h)] = run.surface.by_how[static_cast<int>(h)];
  j["fill"] = {{"voids_closed", run.fill.voids_closed},
               {"cells_closed", run.fill.cells_closed},
               {"voids_left_at_edge", run.fill.voids_left_at_edge},
               {"voids_left_large", run.fill.voids_left_large}};
  if (study.water) j["water"] = ordered_json::parse(water_json(run.water));
  for (const auto& [title, levels] : run.volumes) j["volumes"][title] = ordered_json::parse(levels_json(levels));
  if (run.plan.levelling) j["levelling"] = ordered_json::parse(levelling_json(*run.plan.levelling));
  if (run.control) j["control"] = ordered_json::parse(control_json(*run.control));
  if (run.reference) j["reference"] = ordered_json::parse(comparison_json(*run.reference));
  for (const ThresholdInfo& i : threshold_table())
    j["parameters"]["check"][i.name] = threshold_value(study.thresholds, i);
  j["parameters"]["check"]["profile"] = name_of(study.thresholds.profile);
  std::vector<Finding> findings = run.check.findings;
  findings.insert(findings.end(), run.source_findings.begin(), run.source_findings.end());
  j["findings"] = ordered_json::parse(findings_json(findings));
  j["products"] = ordered_json::array();
  for (const auto& p : run.products) j["products"].push_back(name_in_run(p, run));
  j["times"] = ordered_json::array();
  for (const StepTime& t : run.times)
    j["times"].push_back({{"step", t.step}, {"seconds", std::round(t.seconds * 1000) / 1000}});
  return j.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n";
}

}  // namespace katoptra
