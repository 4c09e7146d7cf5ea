#include "katoptra/study/tables.hpp"

#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/sample.hpp"

#include "base/csv.hpp"

namespace katoptra {

std::string section_csv(const Section& s) {
  std::string text = "distance,x,y,value\n";
  const char* place = s.crs.is_geographic() ? "{:.4f},{:.9f},{:.9f},{}\n" : "{:.4f},{:.4f},{:.4f},{}\n";
  for (const SectionPoint& p : s.points)
    text += fmt::format(fmt::runtime(place), p.distance, p.place.x, p.place.y,
                        std::isnan(p.value) ? "" : fmt::format("{:.4f}", p.value));
  return text;
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
  const std::vector<double> values = sample(grid, places, options);
  double sum = 0, squares = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    SampledPoint& row = out.rows[i];
    row.value = values[i];
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
  bool named = false, known = false;
  for (const SampledPoint& p : s.rows) {
    named = named || !p.name.empty();
    known = known || p.known;
  }
  std::string text = std::string(named ? "name," : "") + "x,y,value" + (known ? ",known,residual" : "") + "\n";
  for (const SampledPoint& p : s.rows) {
    if (named) text += csv_field(p.name) + ",";
    text += fmt::format("{},{},{}", p.place.x, p.place.y, std::isnan(p.value) ? "" : fmt::format("{:.4f}", p.value));
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
