#include "katoptra/study/tables.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/sample.hpp"

#include "base/clock.hpp"
#include "base/csv.hpp"

namespace katoptra {

namespace {

// Between the points before and after, as far as they are known.
std::string slope_text(const Section& s, std::size_t i) {
  const double k = metres_per(s.quantity.unit) / metres_per(s.unit);
  const std::size_t a = i > 0 && !std::isnan(s.points[i - 1].value) ? i - 1 : i,
                    b = i + 1 < s.points.size() && !std::isnan(s.points[i + 1].value) ? i + 1 : i;
  const double run = s.points[b].distance - s.points[a].distance;
  if (std::isnan(s.points[i].value) || !(run > 0)) return {};
  return fmt::format("{:.2f}", 100 * k * (s.points[b].value - s.points[a].value) / run + 0.0);
}

bool is_sure(const NamedSection& s) {
  return std::any_of(s.section.points.begin(), s.section.points.end(),
                     [](const SectionPoint& q) { return !std::isnan(q.uncertainty); });
}

std::string number_or_nothing(double v) { return std::isnan(v) ? std::string() : fmt::format("{:.4f}", v); }

}  // namespace

std::string profiles_csv(const std::vector<Profiles>& all) {
  const bool across = !all.empty() && all[0].across, named = !across && all.size() > 1;
  const bool timed = std::any_of(all.begin(), all.end(), [](const Profiles& p) {
    return std::any_of(p.surfaces[0].section.points.begin(), p.surfaces[0].section.points.end(),
                       [](const SectionPoint& q) { return !std::isnan(q.time); });
  });
  std::string text = across ? "station,offset,x,y" : named ? "line,distance,x,y" : "distance,x,y";
  // A column is in all rows or in none.
  std::vector<bool> sure(all.empty() ? 0 : all[0].surfaces.size());
  for (const Profiles& p : all)
    for (std::size_t k = 0; k < sure.size(); ++k) sure[k] = sure[k] || is_sure(p.surfaces[k]);
  for (std::size_t k = 0; k < sure.size(); ++k) {
    const std::string& name = all[0].surfaces[k].name;
    text += "," + csv_field(name);
    if (sure[k]) text += "," + (sure.size() > 1 ? csv_field(name + " uncertainty") : "uncertainty");
  }
  text += timed ? ",slope,time\n" : ",slope\n";
  for (const Profiles& p : all) {
    const Section& first = p.surfaces[0].section;
    const char* place = first.crs.is_geographic() ? ",{:.9f},{:.9f}" : ",{:.4f},{:.4f}";
    const double half = first.points.back().distance / 2;
    for (std::size_t i = 0; i < first.points.size(); ++i) {
      const SectionPoint& at = first.points[i];
      text += across ? fmt::format("{:.4f},{:.4f}", p.station, at.distance - half + 0.0)
                     : (named ? csv_field(p.name) + "," : "") + fmt::format("{:.4f}", at.distance);
      text += fmt::format(fmt::runtime(place), at.place.x, at.place.y);
      for (std::size_t k = 0; k < p.surfaces.size(); ++k) {
        const SectionPoint& q = p.surfaces[k].section.points[i];
        text += "," + number_or_nothing(q.value);
        if (sure[k]) text += "," + number_or_nothing(q.uncertainty);
      }
      text += "," + slope_text(first, i);
      if (timed) text += "," + (std::isnan(at.time) ? std::string() : time_text(at.time));
      text += "\n";
    }
  }
  return text;
}

std::string section_csv(const Section& s) {
  return profiles_csv({{.name = {}, .surfaces = {{"value", s}}, .marks = {}}});
}

SampledPoints sample_points(const Grid& grid, const Layer& layer, const RunOptions& options) {
  SampledPoints out;
  std::vector<Point> places;
  for (const Feature& f : layer.features) {
    const auto* p = std::get_if<Point>(&f.geometry);
    if (!p) continue;
    SampledPoint row{.name = {}, .place = *p};
    for (const auto& [name, value] : f.properties) {
      if (const auto* v = std::get_if<double>(&value); v && (name == "z" || name == "height" || name == "elevation"))
        row.known = *v;
      if (const auto* n = std::get_if<std::string>(&value); n && (name == "name" || name == "id")) row.name = *n;
      if (const auto* n = std::get_if<std::int64_t>(&value);
          n && (name == "z" || name == "height" || name == "elevation"))
        row.known = static_cast<double>(*n);
    }
    out.rows.push_back(std::move(row));
    places.push_back(*p);
  }
  if (layer.crs && grid.frame().crs()) Transform(layer.crs, grid.frame().crs()).forward(places);
  const std::vector<double> values = sample(grid, places, options), sure = sample_uncertainty(grid, places, options);
  double sum = 0, squares = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    SampledPoint& row = out.rows[i];
    row.value = values[i];
    row.uncertainty = sure[i];
    if (std::isnan(row.value)) {
      ++out.voids;
      continue;
    }
    if (!row.known) continue;
    const double r = row.value - *row.known;
    ++out.residuals;
    sum += r;
    squares += r * r;
    if (std::abs(r) > std::abs(out.largest)) out.largest = r;
  }
  const auto n = static_cast<double>(out.residuals);
  out.mean = n > 0 ? sum / n : std::nan("");
  out.rmse = n > 0 ? std::sqrt(squares / n) : std::nan("");
  return out;
}

std::string sampled_csv(const SampledPoints& s) {
  bool named = false, known = false, sure = false;
  for (const SampledPoint& p : s.rows) {
    sure = sure || !std::isnan(p.uncertainty);
    named = named || !p.name.empty();
    known = known || p.known;
  }
  std::string text = std::string(named ? "name," : "") + "x,y,value" + (sure ? ",uncertainty" : "") +
                     (known ? ",known,residual" : "") + "\n";
  for (const SampledPoint& p : s.rows) {
    if (named) text += csv_field(p.name) + ",";
    text += fmt::format("{},{},{}", p.place.x, p.place.y, number_or_nothing(p.value));
    if (sure) text += "," + number_or_nothing(p.uncertainty);
    if (known)
      text += p.known ? fmt::format(",{},{}", *p.known,
                                    std::isnan(p.value) ? "" : fmt::format("{:.4f}", p.value - *p.known))
                      : ",,";
    text += "\n";
  }
  return text;
}

std::string findings_json(const std::vector<Finding>& findings) {
  auto list = nlohmann::ordered_json::array();
  for (const Finding& f : findings) {
    nlohmann::ordered_json j{{"code", f.code},
                             {"severity", name_of(f.severity)},
                             {"file", f.file},
                             {"message", f.message},
                             {"advice", f.advice}};
    if (f.measure) {
      j["measure"] = *f.measure;
      j["unit"] = f.unit;
    }
    if (!f.place.empty()) {
      auto boxes = nlohmann::ordered_json::array();
      for (const Polygon& p : f.place) {
        const Bounds b = bounds_of(MultiPolygon{p});
        boxes.push_back({b.west, b.south, b.east, b.north});
      }
      j["place"] = {{"crs", f.crs ? f.crs.label() : ""}, {"boxes", std::move(boxes)}};
    }
    list.push_back(std::move(j));
  }
  return list.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace);
}

}  // namespace katoptra
