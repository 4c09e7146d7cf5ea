#include <fmt/format.h>

#include "detector.hpp"

namespace katoptra {

Scene::Scene(const Grid& grid, const Thresholds& thresholds, std::vector<Finding>& findings)
    : grid_(grid),
      limits_(thresholds),
      findings_(findings),
      metre_(metres_per(grid.quantity().unit)),
      unit_(symbol(grid.quantity().unit)) {}

Finding& Scene::add(const std::string& code, Severity severity, std::string message, std::string advice) {
  findings_.push_back({.code = code,
                       .severity = severity,
                       .file = grid_.info().name,
                       .message = std::move(message),
                       .advice = std::move(advice),
                       .measure = {},
                       .unit = {},
                       .place = {},
                       .crs = grid_.frame().crs()});
  return findings_.back();
}

Finding& Scene::add(const std::string& code, Severity severity, std::string message, std::string advice,
                    double measure) {
  Finding& f = add(code, severity, std::move(message), std::move(advice));
  f.measure = measure;
  f.unit = unit_;
  return f;
}

Polygon Scene::place_of(const Window& w) const { return to_polygon(frame().sub(w).bounds()); }

std::string Scene::at(Point p) const {
  return frame().crs().is_geographic() ? fmt::format("{:.5f}, {:.5f}", p.x, p.y)
                                       : fmt::format("{:.1f}, {:.1f}", p.x, p.y);
}

std::string Scene::at(const Window& w) const { return at(frame().sub(w).bounds().centre()); }

const char* name_of(Severity s) {
  return s == Severity::Failure ? "failure" : s == Severity::Warning ? "warning" : "note";
}

Layer finding_layer(const std::vector<Finding>& findings) {
  Layer layer{.name = "findings", .crs = Crs::wgs84(), .features = {}};
  for (const Finding& f : findings) {
    if (f.place.empty() || !f.crs) continue;
    Feature feature{transformed(f.place, Transform(f.crs, layer.crs)),
                    {{"code", f.code},
                     {"severity", std::string(name_of(f.severity))},
                     {"file", f.file},
                     {"message", f.message},
                     {"advice", f.advice}},
                    {}};
    if (f.measure) feature.properties.emplace_back("measure", *f.measure);
    if (!f.unit.empty()) feature.properties.emplace_back("unit", f.unit);
    layer.features.push_back(std::move(feature));
  }
  return layer;
}

}  // namespace katoptra
