#include "katoptra/study/judgements.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"

#include "base/csv.hpp"

namespace katoptra {
namespace {

using Json = nlohmann::ordered_json;

Json number(double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); }

std::string json_text(const Json& j) { return j.dump(2, ' ', false, Json::error_handler_t::replace); }

Json errors_of(const ErrorStatistics& s) {
  return {{"count", s.count},
          {"mean", number(s.mean)},
          {"deviation", number(s.deviation)},
          {"rmse", number(s.rmse)},
          {"median", number(s.median)},
          {"nmad", number(s.nmad)},
          {"q683", number(s.q683)},
          {"q95", number(s.q95)},
          {"lowest", number(s.lowest)},
          {"highest", number(s.highest)}};
}

Json volume_of(const VolumeChange& v) {
  return {{"above_m3", v.above},
          {"below_m3", v.below},
          {"net_m3", v.net()},
          {"uncertainty_m3", v.uncertainty},
          {"area_above_m2", v.area_above},
          {"area_below_m2", v.area_below},
          {"area_m2", v.area}};
}

Json correction_of(const Correction& c) {
  return {{"factor", c.factor},
          {"offset_m", c.offset.metres()},
          {"shift", {c.shift.x, c.shift.y}},
          {"crs", !c.crs ? Json(nullptr) : Json(c.crs.code().empty() ? c.crs.wkt() : c.crs.code())},
          {"tilt", {c.tilt_x, c.tilt_y}},
          {"rotation_deg", c.rotation.degrees()},
          {"pivot", {c.pivot.x, c.pivot.y}},
          {"error_m", c.error.metres()}};
}

Json coregistration_of(const Coregistration& c) {
  Json j{{"found", c.found}};
  if (!c.found) {
    j["why"] = c.why;
    return j;
  }
  j["east_m"] = c.east.metres();
  j["north_m"] = c.north.metres();
  j["cells"] = {c.cells_x, c.cells_y};
  j["shift_error_m"] = c.shift_error.metres();
  j["east_error_m"] = c.east_error.metres();
  j["north_error_m"] = c.north_error.metres();
  j["offset_m"] = c.offset.metres();
  j["offset_error_m"] = c.offset_error.metres();
  j["tilt"] = {c.tilt_x, c.tilt_y};
  j["tilt_error"] = c.tilt_error;
  if (c.rotation != Angle()) j["rotation_deg"] = c.rotation.degrees();
  j["nmad_before_m"] = c.nmad_before.metres();
  j["nmad_after_m"] = c.nmad_after.metres();
  j["steps"] = c.steps;
  j["correction"] = correction_of(c.correction());
  return j;
}

}  // namespace

std::string error_statistics_json(const ErrorStatistics& s) { return json_text(errors_of(s)); }

std::string comparison_json(const Comparison& c) {
  Json j{{"first", c.first}, {"second", c.second}, {"unit", unit_name(c.difference.quantity())}};
  j["cols"] = c.frame.cols();
  j["rows"] = c.frame.rows();
  j["crs"] = c.frame.crs().label();
  j["bounds"] = {c.frame.west(), c.frame.south(), c.frame.east(), c.frame.north()};
  j["difference"] = errors_of(c.overall);
  j["classes"] = Json::array();
  for (const DifferenceClass& k : c.classes)
    j["classes"].push_back({{"of", k.of}, {"name", k.name}, {"difference", errors_of(k.statistics)}});
  const auto [low, high] = c.robust_range();
  constexpr int kBins = 50;
  j["histogram"] = {{"from", low}, {"to", high}, {"cells", c.sketch.histogram(kBins, {low, high})}};
  j["worst"] = Json::array();
  for (const WorstPlace& w : c.worst)
    j["worst"].push_back(
        {{"x", w.place.x}, {"y", w.place.y}, {"difference", w.difference}, {"patch_mean", w.patch_mean}});
  j["volume"] = volume_of(c.volume);
  j["independent_cells"] = c.independent_cells;
  if (c.detection)
    j["detection"] = {{"level", c.detection->level}, {"level_range", {c.detection->lowest, c.detection->highest}},
                      {"known", c.detection->known}, {"cells", c.detection->cells},
                      {"share", c.detection->share}, {"volume", volume_of(c.detection->volume)}};
  if (c.coregistration) j["coregistration"] = coregistration_of(*c.coregistration);
  j["notes"] = c.notes;
  return json_text(j);
}

std::string standings_json(const std::vector<Standing>& list) {
  Json j = Json::array();
  for (const Standing& s : list)
    j.push_back({{"name", s.name},
                 {"cells", s.cells},
                 {"offset_m", number(s.offset.metres())},
                 {"spread_m", number(s.spread.metres())},
                 {"odd", s.odd}});
  return json_text(j);
}

std::string levelling_json(const Levelling& l) {
  Json j{{"fit", l.fit == LevelFit::Planes ? "planes" : "offsets"}};
  j["surveys"] = Json::array();
  for (const SurveyLevel& s : l.surveys)
    j["surveys"].push_back({{"name", s.name},
                            {"tiles", s.tiles.size()},
                            {"held", s.held},
                            {"known", s.known},
                            {"offset_m", s.offset.metres()},
                            {"error_m", s.error.metres()},
                            {"edge_m", s.edge.metres()},
                            {"edge_error_m", s.edge_error.metres()},
                            {"control_points", s.control},
                            {"correction", correction_of(s.correction)}});
  j["overlaps"] = Json::array();
  for (const OverlapLevel& o : l.overlaps)
    j["overlaps"].push_back({{"first", l.surveys[o.first].name},
                             {"second", l.surveys[o.second].name},
                             {"patches", o.patches},
                             {"cells", o.cells},
                             {"before_m", o.before.metres()},
                             {"after_m", o.after.metres()},
                             {"error_m", o.error.metres()},
                             {"off", o.off},
                             {"fits", o.fits}});
  j["notes"] = l.notes;
  return json_text(j);
}

std::string levelling_text(const SurveyLevel& s) {
  const std::string tiles = s.tiles.size() == 1 ? "" : fmt::format(" ({} tiles)", s.tiles.size());
  if (s.held) return fmt::format("{}{}: held", s.name, tiles);
  if (!s.known) return fmt::format("{}{}: not known, left as it is", s.name, tiles);
  const std::string plane = s.edge > Length() ? fmt::format(", tilted by {:.3f} m at its edge (give or take {:.3f})",
                                                            s.edge.metres(), s.edge_error.metres())
                                              : "";
  return fmt::format("{}{}: {:+.3f} m, give or take {:.4f}{}{}", s.name, tiles, s.offset.metres(), s.error.metres(),
                     plane,
                     s.control > 0 ? fmt::format("; {} control point{}", s.control, s.control == 1 ? "" : "s") : "");
}

std::string overlaps_text(const Levelling& l) {
  std::vector<double> before, after;
  std::size_t misfits = 0;
  for (const OverlapLevel& o : l.overlaps) {
    before.push_back(std::abs(o.before.metres()));
    after.push_back(std::abs(o.after.metres()));
    misfits += !o.fits;
  }
  if (before.empty()) return "no overlap of two surveys";
  return fmt::format("{} overlap{}: up to {:.3f} m apart before, {:.3f} m after{}", before.size(),
                     before.size() == 1 ? "" : "s", *std::max_element(before.begin(), before.end()),
                     *std::max_element(after.begin(), after.end()),
                     misfits > 0 ? fmt::format("; {} do not fit", misfits) : "");
}

namespace {

std::string level_text(const LaidBody& b, const std::string& unit) {
  std::string text = b.highest > b.level ? fmt::format("falls from {:.2f} to {:.2f} {}", b.highest, b.level, unit)
                                         : fmt::format("at {:.3f} {}", b.level, unit);
  text += b.by == "given" ? ", as given" : ", by " + b.by;
  if (b.uncertainty >= 0) text += fmt::format(" (standard uncertainty {:.2g})", b.uncertainty);
  return text;
}

}  // namespace

std::string water_text(const LaidBody& b, const std::string& unit) {
  std::string text = b.name.empty() || b.name == name_of(b.kind) ? "" : b.name + ": ";
  if (b.cells == 0) return text + "no cell was laid flat";
  text += level_text(b, unit) + "; " + format_area(b.area);
  if (b.voids > 0) text += fmt::format(", {} cells were voids", b.voids);
  if (b.raised > 0 || b.lowered > 0)
    text += fmt::format("; raised by up to {:.2f}, lowered by up to {:.2f}", b.raised, b.lowered);
  if (b.kept > 0) text += fmt::format("; {} cells of bank and islands kept", b.kept);
  return text;
}

std::string water_doubt(const LaidBody& b, const std::string& unit) {
  constexpr double kMuch = 0.1, kDeep = 2;
  const std::string name =
      std::string(name_of(b.kind)) + (b.name.empty() || b.name == name_of(b.kind) ? "" : " " + b.name);
  if (b.cells == 0)
    return name +
           ": no cell was laid flat: nothing within it is known to be as low as its level; was its level, unit or "
           "reference mistaken?";
  // What would run out is wrong: its level, its shape, or the bank.
  if (static_cast<double>(b.bank_below) > kMuch * static_cast<double>(b.bank))
    return fmt::format(
        "{} stands above {:.0f} % of the cells around it, by up to {:.2f} {}: its shape may be too small, or its level "
        "too high",
        name, 100.0 * static_cast<double>(b.bank_below) / static_cast<double>(b.bank), b.bank_lowest, unit);
  if (b.kind == WaterKind::Sea && b.raised > kDeep)
    return fmt::format("the sea covers a sea floor that this surface had, down to {:.1f} {} below it", b.raised, unit);
  return "";
}

std::string water_json(const std::vector<LaidBody>& bodies) {
  Json list = Json::array();
  for (const LaidBody& b : bodies)
    list.push_back({{"name", b.name},
                    {"kind", name_of(b.kind)},
                    {"level", number(b.level)},
                    {"highest", number(b.highest)},
                    {"by", b.by},
                    {"uncertainty", number(b.uncertainty)},
                    {"cells", b.cells},
                    {"voids", b.voids},
                    {"kept", b.kept},
                    {"area_m2", b.area},
                    {"raised", b.raised},
                    {"lowered", b.lowered},
                    {"bank_cells", b.bank},
                    {"bank_below", b.bank_below},
                    {"bank_lowest", b.bank_lowest}});
  return json_text(list);
}

std::vector<LaidBody> water_from_json(const std::string& text) {
  const auto known = [](const Json& v) { return v.is_number() ? v.get<double>() : std::nan(""); };
  std::vector<LaidBody> out;
  for (const Json& j : Json::parse(text)) {
    LaidBody b{.name = j.at("name"), .kind = parse_water_kind(j.at("kind").get<std::string>())};
    b.level = known(j.at("level"));
    b.highest = known(j.at("highest"));
    b.by = j.at("by");
    b.uncertainty = known(j.at("uncertainty"));
    b.cells = j.at("cells");
    b.voids = j.at("voids");
    b.kept = j.at("kept");
    b.area = j.at("area_m2");
    b.raised = j.at("raised");
    b.lowered = j.at("lowered");
    b.bank = j.at("bank_cells");
    b.bank_below = j.at("bank_below");
    b.bank_lowest = j.at("bank_lowest");
    out.push_back(std::move(b));
  }
  return out;
}

std::string control_json(const ControlReport& r) {
  Json j{{"surface", r.surface}, {"control", r.control}, {"unit", symbol(r.unit)}, {"points", r.rows.size()}};
  j["without_value"] = r.without_value;
  j["all"] = errors_of(r.all);
  for (auto [key, s] :
       {std::pair{"open", &r.open}, std::pair{"vegetated", &r.vegetated}, std::pair{"sea_floor", &r.sea_floor}})
    if (*s) j[key] = errors_of(**s);
  if (r.asprs) {
    j["asprs_2023"] = {
        {"rmse_m", r.asprs->rmse.metres()}, {"class_cm", r.asprs->class_cm ? Json(*r.asprs->class_cm) : Json(nullptr)},
        {"class", r.asprs->class_text},     {"points", r.asprs->points},
        {"needed", r.asprs->needed},        {"enough", r.asprs->enough},
        {"biased", r.asprs->biased}};
    if (r.asprs->vegetated_rmse) j["asprs_2023"]["vegetated_rmse_m"] = r.asprs->vegetated_rmse->metres();
  }
  if (r.s44) j["s44"] = {{"order", name_of(r.s44->order)}, {"shares", r.s44->shares}};
  j["residuals"] = Json::array();
  for (const ControlResidual& p : r.rows)
    j["residuals"].push_back({{"name", p.point.name},
                              {"x", p.here.x},
                              {"y", p.here.y},
                              {"cover", name_of(p.point.cover)},
                              {"known", p.known},
                              {"value", number(p.value)},
                              {"residual", number(p.residual)},
                              {"outlier", p.outlier},
                              {"normalised", number(p.normalised)}});
  if (const auto& n = r.normalised)
    j["normalised"] = {{"points", n->points}, {"within_95", n->within}, {"rms", n->rms}};
  j["notes"] = r.notes;
  return json_text(j);
}

std::string statistics_json(const Statistics& s, const Quantity& q, int bins) {
  Json j{{"unit", unit_name(q)}, {"cells", s.cells}, {"voids", s.voids}};
  j["lowest"] = number(s.lowest);
  j["highest"] = number(s.highest);
  j["lowest_at"] = {s.lowest_at.x, s.lowest_at.y};
  j["highest_at"] = {s.highest_at.x, s.highest_at.y};
  j["mean"] = number(s.mean);
  j["deviation"] = number(s.deviation);
  for (int i = 0; i < 7; ++i) j["percentiles"][fmt::format("{:g}", kPercents[i])] = number(s.percentiles[i]);
  if (s.cells > s.voids) {
    const auto [low, high] = s.robust();
    j["histogram"] = {
        {"full", {{"from", s.lowest}, {"to", s.highest}, {"cells", s.sketch.histogram(bins, {s.lowest, s.highest})}}},
        {"robust", {{"from", low}, {"to", high}, {"cells", s.sketch.histogram(bins, {low, high})}}}};
  }
  return json_text(j);
}

std::string zones_json(const std::vector<ZoneStatistics>& zones) {
  Json j = Json::array();
  for (const ZoneStatistics& z : zones)
    j.push_back({{"zone", z.name},
                 {"cells", z.cells},
                 {"voids", z.voids},
                 {"area_m2", z.area},
                 {"lowest", number(z.lowest)},
                 {"highest", number(z.highest)},
                 {"mean", number(z.mean)},
                 {"deviation", number(z.deviation)},
                 {"p5", number(z.p5)},
                 {"median", number(z.median)},
                 {"p95", number(z.p95)}});
  return json_text(j);
}

std::string levels_json(const std::vector<LevelVolumes>& levels) {
  Json j = Json::array();
  for (const LevelVolumes& v : levels)
    j.push_back({{"level", v.level},
                 {"area_above_m2", v.area_above},
                 {"area_below_m2", v.area_below},
                 {"volume_above_m3", v.volume_above},
                 {"volume_below_m3", v.volume_below},
                 {"give_or_take_above_m3", number(v.give_or_take_above)},
                 {"give_or_take_below_m3", number(v.give_or_take_below)},
                 {"known_above", v.known_above},
                 {"known_below", v.known_below}});
  return json_text(j);
}

std::string correction_json(const Correction& c) { return json_text(correction_of(c)); }

Correction read_correction(const std::string& text, const std::string& file) {
  try {
    Json j = Json::parse(text);
    // What compare writes has it further in.
    if (j.contains("coregistration")) j = j["coregistration"];
    if (j.contains("correction")) j = j["correction"];
    Correction c;
    c.factor = j.value("factor", 1.0);
    c.offset = Length::metres(j.value("offset_m", 0.0));
    c.error = Length::metres(j.value("error_m", 0.0));
    if (j.contains("shift")) c.shift = {j["shift"].at(0).get<double>(), j["shift"].at(1).get<double>()};
    if (j.contains("tilt")) {
      c.tilt_x = j["tilt"].at(0).get<double>();
      c.tilt_y = j["tilt"].at(1).get<double>();
    }
    c.rotation = Angle::degrees(j.value("rotation_deg", 0.0));
    if (j.contains("pivot")) c.pivot = {j["pivot"].at(0).get<double>(), j["pivot"].at(1).get<double>()};
    if (j.contains("crs") && j["crs"].is_string()) c.crs = Crs::parse(j["crs"].get<std::string>());
    return c;
  } catch (const Json::exception& e) {
    throw Error(ErrorCode::BadFile, fmt::format("is no correction: {}", e.what()), file,
                "give the JSON that compare --json printed");
  }
}

std::string control_csv(const ControlReport& report) {
  auto text_or_none = [](double v) { return std::isnan(v) ? std::string() : fmt::format("{:.4f}", v); };
  std::string text = "name,x,y,cover,known,value,residual,outlier";
  text += report.normalised ? ",normalised\n" : "\n";
  const int digits = report.crs.is_geographic() ? 9 : 4;
  for (const ControlResidual& r : report.rows)
    text +=
        fmt::format("{},{:.{}f},{:.{}f},{},{:.4f},{},{},{}{}\n", csv_field(r.point.name), r.here.x, digits, r.here.y,
                    digits, name_of(r.point.cover), r.known, text_or_none(r.value), text_or_none(r.residual),
                    r.outlier ? "yes" : "", report.normalised ? "," + text_or_none(r.normalised) : "");
  return text;
}

std::string zones_csv(const std::vector<ZoneStatistics>& zones) {
  auto n = [](double v) { return std::isnan(v) ? std::string() : fmt::format("{:.10g}", v); };
  std::string text = "zone,cells,voids,area_m2,lowest,highest,mean,deviation,p5,median,p95\n";
  for (const ZoneStatistics& z : zones)
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{}\n", csv_field(z.name), z.cells, z.voids, n(z.area),
                        n(z.lowest), n(z.highest), n(z.mean), n(z.deviation), n(z.p5), n(z.median), n(z.p95));
  return text;
}

std::string levels_csv(const std::vector<LevelVolumes>& levels, const std::string& zone) {
  std::string text = zone.empty() ? "" : "zone,";
  // Columns of what is not known are not there.
  const bool sure = std::any_of(levels.begin(), levels.end(), [](const LevelVolumes& v) {
    return std::isfinite(v.give_or_take_above) || std::isfinite(v.give_or_take_below);
  });
  const auto or_none = [](double v) { return std::isfinite(v) ? fmt::format("{:.6g}", v) : std::string(); };
  text += fmt::format("level,area_above_m2,area_below_m2,volume_above_m3,volume_below_m3{}\n",
                      sure ? ",give_or_take_above_m3,give_or_take_below_m3" : "");
  const std::string first = zone.empty() ? "" : csv_field(zone) + ",";
  for (const LevelVolumes& v : levels)
    text += first + fmt::format("{:.10g},{:.10g},{:.10g},{:.10g},{:.10g}{}\n", v.level, v.area_above, v.area_below,
                                v.volume_above, v.volume_below,
                                sure ? "," + or_none(v.give_or_take_above) + "," + or_none(v.give_or_take_below) : "");
  return text;
}

std::string statistics_csv(const Statistics& s, const Quantity& q) {
  const std::string unit = unit_name(q);
  std::string text = fmt::format("measure,value,unit\ncells,{},\nvoids,{},\n", s.cells, s.voids);
  const auto row = [&](const std::string& name, double v) {
    text += name + "," + (std::isnan(v) ? "" : fmt::format("{:.10g}", v)) + "," + unit + "\n";
  };
  row("lowest", s.lowest);
  row("highest", s.highest);
  row("mean", s.mean);
  row("deviation", s.deviation);
  for (int i = 0; i < 7; ++i) row(fmt::format("p{:g}", kPercents[i]), s.percentiles[i]);
  return text;
}

std::string histogram_csv(const Statistics& s, int bins, bool robust) {
  const auto [low, high] = robust ? s.robust() : std::pair{s.lowest, s.highest};
  const std::vector<double> counts = s.sketch.histogram(bins, {low, high});
  std::string text = "from,to,cells\n";
  for (int i = 0; i < bins; ++i)
    text += fmt::format("{:.9g},{:.9g},{:.0f}\n", low + (high - low) * i / bins, low + (high - low) * (i + 1) / bins,
                        counts[static_cast<std::size_t>(i)]);
  return text;
}

}  // namespace katoptra
