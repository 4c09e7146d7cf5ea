#include "katoptra/terrain/section.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/sample.hpp"

#include "section_parts.hpp"

namespace katoptra {

Length Section::length() const { return points.empty() ? Length() : Length::of(points.back().distance, unit); }

std::vector<Feature> parts_of(const Section& s) {
  std::vector<Feature> out;
  Feature part{LineString{}, {}, {}};
  double from = 0, to = 0;
  const auto finish = [&] {
    if (part.heights.size() > 1) {
      part.properties = {{"from", from}, {"length", to - from}, {"unit", std::string(symbol(s.unit))}};
      out.push_back(std::move(part));
    }
    part = {LineString{}, {}, {}};
  };
  for (const SectionPoint& p : s.points) {
    if (std::isnan(p.value)) {
      finish();
      continue;
    }
    if (part.heights.empty()) from = p.distance;
    to = p.distance;
    std::get<LineString>(part.geometry).push_back(p.place);
    part.heights.push_back(p.value);
  }
  finish();
  return out;
}

Layer section_layer(const Section& s, const std::string& name) {
  Layer layer{.name = name, .crs = s.crs, .features = parts_of(s), .unit = s.quantity.unit};
  if (layer.features.empty())
    throw Error(ErrorCode::BadArgument, "no two points in a row have a value", name, "take a line over the surface");
  return layer;
}

LineString line_by_bearing(const Crs& crs, Point from, Angle bearing, Length length) {
  if (!(length.metres() > 0)) throw Error(ErrorCode::BadArgument, "a section needs a length above zero", "section");
  const GroundRuler ruler(crs);
  const double east = std::sin(bearing.radians()), north = std::cos(bearing.radians());
  Point to = from;
  // The scale at the middle of the line is what counts; two rounds settle it.
  for (int i = 0; i < 3; ++i) {
    const GroundScale s = ruler.at(Point{(from.x + to.x) / 2, (from.y + to.y) / 2});
    to = {from.x + length.metres() * east / s.x, from.y + length.metres() * north / s.y};
  }
  return {from, to};
}

void set_times(Section& s, const LineString& line, const std::vector<double>& times) {
  if (times.size() != line.size() || line.empty()) return;
  const GroundRuler ruler(s.crs);
  std::vector<double> at{0};
  for (std::size_t i = 1; i < line.size(); ++i) at.push_back(at.back() + ruler.distance(line[i - 1], line[i]).metres());
  for (SectionPoint& p : s.points) {
    const double d = p.distance * metres_per(s.unit);
    const auto next = static_cast<std::size_t>(std::upper_bound(at.begin(), at.end(), d) - at.begin());
    if (next >= at.size()) {
      p.time = times.back();
      continue;
    }
    const double share = (d - at[next - 1]) / (at[next] - at[next - 1]);
    p.time = times[next - 1] + share * (times[next] - times[next - 1]);
  }
}

Section section(const Grid& grid, const LineString& given, const SectionOptions& options) {
  LineString line = given;
  // From 179.5 to -179.5 is one degree, not 359.
  if (grid.frame().crs().is_geographic())
    for (std::size_t i = 1; i < line.size(); ++i) line[i].x -= 360 * std::round((line[i].x - line[i - 1].x) / 360);
  if (line.size() < 2)
    throw Error(ErrorCode::BadArgument, "a section needs a line of two points or more", "section",
                "give --line, or --from with --to or --bearing and --length");
  const GroundSpacing spacing = ground_spacing(grid.frame());
  const Length step = options.step.value_or(std::min(spacing.x, spacing.y));
  if (!(step.metres() > 0)) throw Error(ErrorCode::BadArgument, "the step must be longer than zero", "section");
  const GroundRuler ruler(grid.frame().crs());
  Section out;
  out.unit = options.unit.value_or(grid.quantity().unit);
  out.quantity = grid.quantity();
  out.crs = grid.frame().crs();
  std::vector<Point> places{line.front()};
  std::vector<double> metres{0};
  for (std::size_t i = 0; i + 1 < line.size(); ++i) {
    const Point a = line[i], b = line[i + 1];
    const double length = ruler.distance(a, b).metres();
    if (!(length > 0)) continue;
    const double wanted = std::ceil(length / step.metres() - 1e-9);
    if (!(wanted + static_cast<double>(places.size()) < 1e7))
      throw Error(ErrorCode::TooLarge,
                  fmt::format("a section of {:.0f} m in steps of {:.3g} m has too many points", length, step.metres()),
                  "section", "take a longer step");
    const double start = metres.back();
    for (double k = 1; k <= wanted; ++k) {
      const double at = std::min(k * step.metres(), length), t = k == wanted ? 1 : at / length;
      places.push_back({a.x + t * (b.x - a.x), a.y + t * (b.y - a.y)});
      metres.push_back(k == wanted ? start + length : start + at);
    }
  }
  if (places.size() < 2)
    throw Error(ErrorCode::BadArgument, "the line has no length", "section", "give two different points");
  const std::vector<double> values = sample(grid, places, options.run);
  for (std::size_t i = 0; i < places.size(); ++i)
    out.points.push_back({metres[i] / metres_per(out.unit), places[i], values[i]});
  if (grid.carries_uncertainty()) {
    const std::vector<double> sure = sample_uncertainty(grid, places, options.run);
    for (std::size_t i = 0; i < places.size(); ++i) out.points[i].uncertainty = sure[i];
  }
  return out;
}

}  // namespace katoptra
