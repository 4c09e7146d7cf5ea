#include "katoptra/terrain/profiles.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/terrain/sample.hpp"

#include "section_parts.hpp"

namespace katoptra {
namespace {

// A line that ends at a station has it, though its length is a hair short of it.
constexpr double kAtTheEnd = 1e-3;

// With the heights and the unit of the first.
Grid alike(const Grid& grid, const Grid& first) {
  const Quantity &q = grid.quantity(), &to = first.quantity();
  const bool heights = q.kind == QuantityKind::Height;
  if (heights != (to.kind == QuantityKind::Height) || q.kind != to.kind)
    throw Error(ErrorCode::Refused,
                fmt::format("holds {}, and {} holds {}", name_of(q.kind), first.info().name, name_of(to.kind)),
                grid.info().name, "give surfaces of one kind");
  if (!heights) return grid;
  Grid out = to.heights.known() && q.heights.known() ? brought_to(grid, to.heights, {}) : grid;
  return q.unit == to.unit ? out : in_unit(out, to.unit);
}

Section along(const Grid& grid, const Section& first, const RunOptions& run) {
  std::vector<Point> places;
  for (const SectionPoint& p : first.points) places.push_back(p.place);
  if (first.crs && grid.frame().crs() && !first.crs.same_place(grid.frame().crs()))
    Transform(first.crs, grid.frame().crs()).forward(places);
  const std::vector<double> values = sample(grid, places, run);
  Section out = first;
  for (std::size_t i = 0; i < values.size(); ++i) out.points[i].value = values[i];
  return out;
}

// Metres in a unit of the coordinates, about a place.
struct Local {
  Point origin;
  GroundScale scale;
  Local(const GroundRuler& ruler, Point p) : origin(p), scale(ruler.at(p)) {}
  Point metres(Point p) const { return {(p.x - origin.x) * scale.x, (p.y - origin.y) * scale.y}; }
  Point back(Point m) const { return {origin.x + m.x / scale.x, origin.y + m.y / scale.y}; }
};

}  // namespace

Profiles profiles(const std::vector<NamedGrid>& grids, const LineString& line, const SectionOptions& options) {
  if (grids.empty() || grids.size() > static_cast<std::size_t>(kMostProfiles))
    throw Error(ErrorCode::BadArgument, fmt::format("{} surfaces in a section", grids.size()), "section",
                fmt::format("give one to {}", kMostProfiles));
  Profiles out;
  out.surfaces.push_back({grids[0].name, section(grids[0].grid, line, options)});
  for (std::size_t i = 1; i < grids.size(); ++i)
    out.surfaces.push_back(
        {grids[i].name, along(alike(grids[i].grid, grids[0].grid), out.surfaces[0].section, options.run)});
  return out;
}

CutFill cut_and_fill(const Section& before, const Section& after) {
  CutFill out;
  // Heights count in the unit of distance.
  const double k = metres_per(before.quantity.unit) / metres_per(before.unit);
  for (std::size_t i = 1; i < before.points.size(); ++i) {
    const double length = before.points[i].distance - before.points[i - 1].distance;
    const double a = k * (after.points[i - 1].value - before.points[i - 1].value),
                 b = k * (after.points[i].value - before.points[i].value);
    if (std::isnan(a + b)) continue;
    out.length += length;
    double above = 0, below = 0;
    if ((a < 0) != (b < 0) && a != 0 && b != 0) {
      const double t = a / (a - b);
      (a > 0 ? above : below) += std::abs(a) * t * length / 2;
      (b > 0 ? above : below) += std::abs(b) * (1 - t) * length / 2;
    } else {
      (a + b > 0 ? above : below) += std::abs(a + b) * length / 2;
    }
    out.fill += above;
    out.cut += below;
  }
  return out;
}

CutFill volumes_between(const std::vector<Profiles>& all) {
  CutFill out;
  for (std::size_t i = 1; i < all.size(); ++i) {
    if (all[i].surfaces.size() < 2 || all[i - 1].surfaces.size() < 2) continue;
    const CutFill a = cut_and_fill(all[i - 1].surfaces[0].section, all[i - 1].surfaces[1].section),
                  b = cut_and_fill(all[i].surfaces[0].section, all[i].surfaces[1].section);
    const double way = all[i].station - all[i - 1].station;
    out.cut += (a.cut + b.cut) / 2 * way;
    out.fill += (a.fill + b.fill) / 2 * way;
    out.length += way;
  }
  return out;
}

std::vector<CrossLine> cross_lines(const Crs& crs, const LineString& centre, Length every, Length width) {
  const double step = every.metres(), half = width.metres() / 2;
  if (!(step > 0) || !(half > 0) || !std::isfinite(step) || !std::isfinite(half))
    throw Error(ErrorCode::BadArgument, "cross sections need a distance and a width above zero", "section",
                "give for instance --every 50m --width 80m");
  const GroundRuler ruler(crs);
  std::vector<CrossLine> out;
  double at = 0;  // of the beginning of the part
  for (std::size_t i = 1; i < centre.size(); ++i) {
    const Point a = centre[i - 1], b = centre[i];
    const double length = ruler.distance(a, b).metres();
    if (!(length > 0)) continue;
    if ((at + length) / step > static_cast<double>(kMostCrossLines))
      throw Error(ErrorCode::TooLarge, fmt::format("more than {} cross sections", kMostCrossLines), "section",
                  "take a longer distance between them");
    const bool last = i + 1 == centre.size();
    for (double k = static_cast<double>(out.size()); k * step <= at + length + (last ? kAtTheEnd * step : 0); ++k) {
      const double t = std::clamp((k * step - at) / length, 0.0, 1.0);
      const Point p{a.x + t * (b.x - a.x), a.y + t * (b.y - a.y)};
      const Local local(ruler, p);
      const Point way{(b.x - a.x) * local.scale.x, (b.y - a.y) * local.scale.y};
      const double n = std::hypot(way.x, way.y);
      const Point left{-way.y / n * half, way.x / n * half};
      out.push_back({k * step, {local.back(left), local.back({-left.x, -left.y})}});
    }
    at += length;
  }
  if (out.empty())
    throw Error(ErrorCode::BadArgument, "the centre line has no length", "section", "give two different points");
  return out;
}

std::vector<Profiles> cross_sections(const std::vector<NamedGrid>& grids, const LineString& centre, Length every,
                                     Length width, const SectionOptions& options) {
  if (grids.empty()) return {profiles(grids, centre, options)};  // says what is missing
  const Grid& first = grids[0].grid;
  const GroundSpacing s = ground_spacing(first.frame());
  const std::vector<CrossLine> lines = cross_lines(first.frame().crs(), centre, every, width);
  const double points = width.metres() / options.step.value_or(std::min(s.x, s.y)).metres() *
                        static_cast<double>(lines.size() * grids.size());
  if (!(points <= kMostCrossPoints))
    throw Error(ErrorCode::TooLarge,
                fmt::format("{} cross sections of {:g} m have too many points", lines.size(), width.metres()),
                "section", "take a longer step, narrower ones or fewer");
  std::vector<Profiles> out;
  for (const CrossLine& c : lines) {
    Profiles p = profiles(grids, c.line, options);
    const LengthUnit unit = p.surfaces[0].section.unit;
    p.station = c.station / metres_per(unit);
    p.across = true;
    p.name = station_name(p.station, unit);
    out.push_back(std::move(p));
  }
  return out;
}

std::string station_name(double station, LengthUnit unit) {
  const int whole = unit == LengthUnit::Metre ? 1000 : 100, digits = unit == LengthUnit::Metre ? 3 : 2;
  const double rounded = std::round(station * 100) / 100, major = std::floor(rounded / whole),
               rest = rounded - major * whole;
  std::string text = fmt::format("{:.2f}", rest);
  while (text.ends_with('0')) text.pop_back();
  if (text.ends_with('.')) text.pop_back();
  const std::size_t point = std::min(text.find('.'), text.size());
  return fmt::format("{:.0f}+{}{}", major,
                     std::string(static_cast<std::size_t>(std::max(0, digits - static_cast<int>(point))), '0'), text);
}

Profiles swath_profiles(const Grid& grid, const LineString& line, Length width, const SectionOptions& options) {
  const GroundSpacing cell = ground_spacing(grid.frame());
  const double half = width.metres() / 2, step = std::min(cell.x, cell.y).metres();
  if (!(half > 0) || !std::isfinite(half))
    throw Error(ErrorCode::BadArgument, "a corridor needs a width above zero", "section", "give for instance 40m");
  const auto n = static_cast<std::int64_t>(std::ceil(half / step));
  if (n > 100'000)
    throw Error(ErrorCode::TooLarge, "a corridor of more than 200,000 cells", "section", "take a narrower one");
  const Section middle = section(grid, line, options);
  const GroundRuler ruler(grid.frame().crs());
  Section low = middle, mean = middle, high = middle;
  std::vector<double> sums(middle.points.size(), 0), counts(middle.points.size(), 0);
  for (std::size_t i = 0; i < middle.points.size(); ++i) {
    low.points[i].value = std::numeric_limits<double>::infinity();
    high.points[i].value = -std::numeric_limits<double>::infinity();
  }
  // One line beside the middle after another, so that memory does not grow with the width.
  for (std::int64_t k = -n; k <= n; ++k) {
    const double off = half * static_cast<double>(k) / static_cast<double>(n);
    std::vector<Point> places;
    for (std::size_t i = 0; i < middle.points.size(); ++i) {
      const Point p = middle.points[i].place, a = middle.points[i > 0 ? i - 1 : 0].place,
                  b = middle.points[std::min(i + 1, middle.points.size() - 1)].place;
      const Local local(ruler, p);
      const Point way{(b.x - a.x) * local.scale.x, (b.y - a.y) * local.scale.y};
      const double length = std::max(std::hypot(way.x, way.y), 1e-300);
      places.push_back(local.back({-way.y / length * off, way.x / length * off}));
    }
    const std::vector<double> values = sample(grid, places, options.run);
    for (std::size_t i = 0; i < values.size(); ++i) {
      if (std::isnan(values[i])) continue;
      low.points[i].value = std::min(low.points[i].value, values[i]);
      high.points[i].value = std::max(high.points[i].value, values[i]);
      sums[i] += values[i];
      ++counts[i];
    }
  }
  for (std::size_t i = 0; i < sums.size(); ++i) {
    mean.points[i].value = counts[i] > 0 ? sums[i] / counts[i] : std::nan("");
    if (counts[i] == 0) low.points[i].value = high.points[i].value = std::nan("");
  }
  return {.name = {}, .surfaces = {{"lowest", low}, {"mean", mean}, {"highest", high}}, .corridor = true, .marks = {}};
}

std::vector<LineMark> marks_on(const Section& section, const Layer& layer, Length reach) {
  std::vector<LineMark> out;
  const Transform t(layer.crs ? layer.crs : section.crs, section.crs);
  const GroundRuler ruler(section.crs);
  Bounds all;
  for (const SectionPoint& p : section.points) all.include(p.place);
  auto named = [](const Feature& f) {
    for (const char* key : {"name", "id", "label", "level", "strahler"})
      if (const Property* p = property_of(f, key))
        return std::holds_alternative<double>(*p) ? fmt::format("{:g}", std::get<double>(*p)) : text_of(*p);
    return std::string();
  };
  for (const Feature& f : layer.features) {
    if (const auto* p = std::get_if<Point>(&f.geometry)) {
      // The nearest place of the line.
      const Point q = t.forward(*p);
      const Local local(ruler, q);
      double least = reach.metres(), at = -1;
      for (std::size_t i = 1; i < section.points.size(); ++i) {
        const Point m = local.metres(section.points[i - 1].place), n = local.metres(section.points[i].place);
        const double dx = n.x - m.x, dy = n.y - m.y, length = dx * dx + dy * dy;
        const double u = length > 0 ? std::clamp(-(m.x * dx + m.y * dy) / length, 0.0, 1.0) : 0;
        if (const double d = std::hypot(m.x + u * dx, m.y + u * dy); d <= least) {
          least = d;
          at = section.points[i - 1].distance + u * (section.points[i].distance - section.points[i - 1].distance);
        }
      }
      if (at >= 0) out.push_back({at, named(f)});
    } else if (const auto* l = std::get_if<LineString>(&f.geometry)) {
      LineString line = *l;
      t.forward(line);
      for (std::size_t k = 1; k < line.size(); ++k) {
        const Point c = line[k - 1], d = line[k];
        if (!all.intersects(bounds_of(LineString{c, d}))) continue;
        for (std::size_t i = 1; i < section.points.size(); ++i) {
          const SectionPoint &a = section.points[i - 1], &b = section.points[i];
          const double dx = b.place.x - a.place.x, dy = b.place.y - a.place.y, ex = d.x - c.x, ey = d.y - c.y;
          const double det = dx * ey - dy * ex;
          if (det == 0) continue;
          const double u = ((c.x - a.place.x) * ey - (c.y - a.place.y) * ex) / det,
                       v = ((c.x - a.place.x) * dy - (c.y - a.place.y) * dx) / det;
          // A crossing at a point belongs to the part that begins there.
          if (u >= 0 && u < 1 && v >= 0 && v < 1) out.push_back({a.distance + u * (b.distance - a.distance), named(f)});
        }
      }
    }
  }
  std::stable_sort(out.begin(), out.end(),
                   [](const LineMark& a, const LineMark& b) { return a.distance < b.distance; });
  return out;
}

Layer profiles_layer(const std::vector<Profiles>& all, const std::string& name) {
  Layer out{.name = name, .crs = {}, .features = {}};
  for (const Profiles& p : all)
    for (const NamedSection& s : p.surfaces) {
      out.crs = s.section.crs;
      out.unit = s.section.quantity.unit;
      std::vector<Feature> parts = parts_of(s.section);
      for (Feature& f : parts) {
        std::vector<std::pair<std::string, Property>> properties;
        if (p.across) properties.emplace_back("station", p.station);
        if (!p.name.empty()) properties.emplace_back("name", p.name);
        properties.emplace_back("surface", s.name);
        properties.insert(properties.end(), f.properties.begin(), f.properties.end());
        f.properties = std::move(properties);
        out.features.push_back(std::move(f));
      }
    }
  if (out.features.empty())
    throw Error(ErrorCode::BadArgument, "no two points in a row have a value", name, "take lines over the surface");
  return out;
}

}  // namespace katoptra
