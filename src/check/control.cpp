// Points of known height against a surface. Each is brought to the surface's CRS, reference and unit first, and what
// was taken for granted is said; then the surface is sampled there, between its cells, and the residual is surface
// less known. Those beyond three robust deviations about the median of their class of cover are named as outliers, yet
// stay in the numbers. The accuracy stated takes in the error of the points' own survey.
#include "katoptra/check/control.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/geo/vertical.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/terrain/sample.hpp"

#include "moments.hpp"

namespace katoptra {
namespace {

std::optional<double> number_in(const Feature& f, std::initializer_list<const char*> names) {
  for (const char* name : names)
    for (const auto& [key, value] : f.properties) {
      if (key != name) continue;
      if (const auto* d = std::get_if<double>(&value)) return *d;
      if (const auto* i = std::get_if<std::int64_t>(&value)) return static_cast<double>(*i);
    }
  return std::nullopt;
}

std::string text_in(const Feature& f, std::initializer_list<const char*> names) {
  for (const char* name : names)
    for (const auto& [key, value] : f.properties) {
      if (key != name) continue;
      if (const auto* t = std::get_if<std::string>(&value)) return *t;
      if (const auto* i = std::get_if<std::int64_t>(&value)) return std::to_string(*i);
    }
  return {};
}

std::optional<Cover> cover_from(std::string word) {
  for (char& c : word) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
  for (const char* w : {"open", "bare", "paved", "urban", "nva", "road", "rock"})
    if (word == w) return Cover::Open;
  for (const char* w : {"vegetated", "vegetation", "forest", "scrub", "crops", "grass", "vva", "trees"})
    if (word == w) return Cover::Vegetated;
  for (const char* w : {"sea floor", "sea-floor", "seafloor", "sea", "water", "sounding"})
    if (word == w) return Cover::SeaFloor;
  return std::nullopt;
}

// Heights of the points as the surface counts them.
std::vector<double> known_heights(const Grid& surface, const ControlSet& control, std::span<const Point> here,
                                  std::vector<std::string>& notes) {
  const LengthUnit to = surface.quantity().unit, from = control.unit.value_or(to);
  const HeightReference& reference = surface.quantity().heights;
  std::vector<double> z, shift(here.size(), 0.0);
  if (control.heights.known() && !reference.known())
    throw Error(ErrorCode::Refused,
                fmt::format("does not say from where its heights count, the control points count from {}",
                            control.heights.name()),
                surface.info().name, "tell it with --heights");
  if (control.heights.known() && !(control.heights == reference)) {
    Bounds box;
    for (Point p : here)
      if (!std::isnan(p.x)) box.include(p);
    const VerticalTransform t(surface.frame().crs(), control.heights, reference, box);
    t.shifts(here, shift);
    notes.push_back(fmt::format("control points brought from {} to {} ({})", control.heights.name(), reference.name(),
                                t.description()));
  } else if (!control.heights.known() && reference.known()) {
    notes.push_back(fmt::format(
        "control points do not say from where their heights count: {} was taken, as the surface", reference.name()));
  }
  if (from != to) notes.push_back(fmt::format("control heights brought from {} to {}", symbol(from), symbol(to)));
  for (std::size_t i = 0; i < control.points.size(); ++i)
    z.push_back((control.points[i].height * metres_per(from) + shift[i]) / metres_per(to));
  return z;
}

AsprsAccuracy asprs(const ErrorStatistics& open, const std::optional<ErrorStatistics>& vegetated, Length survey,
                    LengthUnit unit, double square_km) {
  AsprsAccuracy a;
  a.points = open.count;
  a.needed = std::min<std::int64_t>(
      120, 30 + 10 * static_cast<std::int64_t>(std::ceil(std::max(0.0, square_km - 1000) / 1000)));
  a.enough = a.points >= a.needed;
  const double metre = metres_per(unit), rmse = std::hypot(open.rmse * metre, survey.metres());
  a.rmse = Length::metres(rmse);
  for (double c : kAsprsClasses)
    if (!a.class_cm && rmse * 100 <= c) a.class_cm = c;
  a.class_text = a.class_cm ? fmt::format("{:g}-cm vertical accuracy class", *a.class_cm)
                            : fmt::format("no class: worse than {:g} cm", *(std::end(kAsprsClasses) - 1));
  a.biased = std::abs(open.mean) > open.rmse / 4;
  if (vegetated) a.vegetated_rmse = Length::metres(std::hypot(vegetated->rmse * metre, survey.metres()));
  return a;
}

S44Accuracy s44(const std::vector<ControlResidual>& rows, LengthUnit unit) {
  S44Accuracy a;
  const double metre = metres_per(unit);
  double n = 0;
  for (const ControlResidual& r : rows) {
    if (r.point.cover != Cover::SeaFloor || std::isnan(r.residual)) continue;
    ++n;
    const Length depth = Length::metres(std::max(0.0, -r.known * metre));
    for (std::size_t k = 0; k < a.shares.size(); ++k)
      a.shares[k] += std::abs(r.residual) * metre <= s44_allows(static_cast<S44Order>(k), depth).metres();
  }
  for (std::size_t k = a.shares.size(); k-- > 0;) {
    a.shares[k] /= n;
    if (a.shares[k] >= 0.95) a.order = static_cast<S44Order>(k);
  }
  return a;
}

std::vector<double> residuals_of(const std::vector<ControlResidual>& rows, std::optional<Cover> cover) {
  std::vector<double> v;
  for (const ControlResidual& r : rows)
    if (!std::isnan(r.residual) && (!cover || r.point.cover == *cover)) v.push_back(r.residual);
  return v;
}

}  // namespace

const char* name_of(Cover cover) {
  return cover == Cover::Open ? "open" : cover == Cover::Vegetated ? "vegetated" : "sea floor";
}

ControlSet control_from(const Layer& layer) {
  ControlSet set{.name = layer.name, .crs = layer.crs};
  set.heights = layer.crs.heights();
  std::size_t without = 0;
  std::vector<std::string> odd;
  for (const Feature& f : layer.features) {
    const auto* p = std::get_if<Point>(&f.geometry);
    if (!p) continue;
    auto z = number_in(f, {"z", "height", "elevation", "h", "ele"});
    if (!z && !f.heights.empty()) z = f.heights[0];
    if (!z) {
      ++without;
      continue;
    }
    ControlPoint point{.name = text_in(f, {"name", "id", "point"}), .place = *p, .height = *z};
    const std::string word = text_in(f, {"cover", "landcover", "type", "class"});
    const auto cover = cover_from(word);
    point.cover = cover.value_or(Cover::Open);
    if (!cover && !word.empty() && std::find(odd.begin(), odd.end(), word) == odd.end()) odd.push_back(word);
    if (point.name.empty()) point.name = fmt::format("{}", set.points.size() + 1);
    set.points.push_back(std::move(point));
  }
  if (set.points.empty())
    throw Error(ErrorCode::BadFile, "has no point with a height", layer.name,
                "give points with a property z, height or elevation");
  if (without > 0) set.notes.push_back(fmt::format("{} points without a height were left out", without));
  for (const std::string& w : odd)
    set.notes.push_back(fmt::format("ground cover '{}' is not known: taken for open ground", w));
  return set;
}

namespace {

void normalise(ControlReport& r, const std::vector<double>& sure, Length error) {
  NormalisedResiduals n;
  double squares = 0;
  for (std::size_t i = 0; i < r.rows.size(); ++i) {
    ControlResidual& row = r.rows[i];
    row.normalised = row.residual / std::hypot(sure[i], error.in(r.unit));
    if (!std::isfinite(row.normalised)) continue;
    ++n.points;
    n.within += std::abs(row.normalised) <= kTwoSided95;
    squares += row.normalised * row.normalised;
  }
  if (n.points == 0) return;
  n.rms = std::sqrt(squares / static_cast<double>(n.points));
  r.normalised = n;
}

}  // namespace

ControlReport check_control(const Grid& surface, const ControlSet& control, const RunOptions& options) {
  if (surface.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(surface.quantity().kind)),
                surface.info().name, "control points belong to a surface");
  const Crs& crs = surface.frame().crs();
  if (control.crs && !crs)
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so the control points cannot be placed on it",
                surface.info().name, "tell it with --crs");
  ControlReport r{.surface = surface.info().name, .control = control.name, .unit = surface.quantity().unit, .crs = crs};
  r.notes = control.notes;
  std::vector<Point> here;
  for (const ControlPoint& p : control.points) here.push_back(p.place);
  if (control.crs && crs) Transform(control.crs, crs).forward(here);
  const std::vector<double> known = known_heights(surface, control, here, r.notes),
                            values = sample(surface, here, options);
  for (std::size_t i = 0; i < here.size(); ++i) {
    r.rows.push_back({control.points[i], here[i], known[i], values[i], values[i] - known[i]});
    r.without_value += std::isnan(r.rows.back().residual);
  }
  if (surface.carries_uncertainty()) normalise(r, sample_uncertainty(surface, here, options), control.error);
  r.all = error_statistics(residuals_of(r.rows, std::nullopt));
  for (auto [cover, slot] : {std::pair{Cover::Open, &r.open}, std::pair{Cover::Vegetated, &r.vegetated},
                             std::pair{Cover::SeaFloor, &r.sea_floor}}) {
    auto v = residuals_of(r.rows, cover);
    if (v.empty()) continue;
    *slot = error_statistics(std::move(v));
    const double limit = std::max(3 * (*slot)->nmad, kLeastOutlier / metres_per(r.unit));
    for (ControlResidual& row : r.rows)
      if (row.point.cover == cover && (*slot)->count >= 8)
        row.outlier = std::abs(row.residual - (*slot)->median) > limit;
  }
  if (r.open) {
    const GroundSpacing s = ground_spacing(surface.frame());
    const double square_km = s.x.metres() * s.y.metres() * static_cast<double>(surface.frame().cols()) *
                             static_cast<double>(surface.frame().rows()) / 1e6;
    r.asprs = asprs(*r.open, r.vegetated, control.error, r.unit, square_km);
  }
  if (r.sea_floor) r.s44 = s44(r.rows, r.unit);
  return r;
}

Layer control_layer(const ControlReport& report) {
  Layer layer{.name = "control", .crs = report.crs, .features = {}};
  for (const ControlResidual& r : report.rows) {
    if (std::isnan(r.here.x)) continue;
    Feature f{r.here, {{"name", r.point.name}, {"cover", std::string(name_of(r.point.cover))}, {"known", r.known}}, {}};
    if (!std::isnan(r.residual)) {
      f.properties.emplace_back("value", r.value);
      f.properties.emplace_back("residual", r.residual);
      f.properties.emplace_back("outlier", std::int64_t{r.outlier});
      if (std::isfinite(r.normalised)) f.properties.emplace_back("normalised", r.normalised);
    }
    layer.features.push_back(std::move(f));
  }
  return layer;
}

}  // namespace katoptra
