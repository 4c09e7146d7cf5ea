#include "streams.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/terrain/section.hpp"

namespace katoptra {
namespace {

// The ground ahead of a place that is higher than it: water stands there until it is level with the highest.
struct Rise {
  double height = 0, length = 0;
  Point from, top;
};

// Heights with the median of five neighbours instead of each, so that noise is no rise.
Section smoothed(const Section& s) {
  Section out = s;
  for (std::size_t i = 2; i + 2 < s.points.size(); ++i) {
    double five[5];
    for (std::size_t k = 0; k < 5; ++k) five[k] = s.points[i + k - 2].value;
    if (std::any_of(five, five + 5, [](double v) { return std::isnan(v); })) continue;
    std::nth_element(five, five + 2, five + 5);
    out.points[i].value = five[2];
  }
  return out;
}

std::vector<Rise> rises_along(const Section& s, double least) {
  std::vector<Rise> all;
  double low = INFINITY;
  std::size_t low_at = 0;
  Rise open;
  auto close = [&] {
    if (open.height >= least) all.push_back(open);
    open = {};
  };
  for (std::size_t i = 0; i < s.points.size(); ++i) {
    const double z = s.points[i].value;
    if (std::isnan(z)) continue;
    if (z <= low) {
      close();
      low = z;
      low_at = i;
    } else if (z - low > open.height) {
      open = {z - low, s.points[i].distance - s.points[low_at].distance, s.points[low_at].place, s.points[i].place};
    }
  }
  close();
  return all;
}

// The mean of the known heights of a third of a section, from either end.
double mean_height(const Section& s, bool end) {
  double sum = 0, n = 0;
  const std::size_t third = std::max<std::size_t>(1, s.points.size() / 3);
  for (std::size_t i = 0; i < third; ++i) {
    const double z = s.points[end ? s.points.size() - 1 - i : i].value;
    if (std::isnan(z)) continue;
    sum += z;
    n += 1;
  }
  return sum / n;
}

}  // namespace

void judge_streams(Scene& scene, const Layer& streams, const RunOptions& run) {
  const Crs& crs = scene.frame().crs();
  for (const Feature& f : streams.features) {
    const auto* given = std::get_if<LineString>(&f.geometry);
    if (!given || given->size() < 2) continue;
    LineString line = *given;
    if (streams.crs && crs) Transform(streams.crs, crs).forward(line);
    Section s = section(scene.grid(), line, {.step = {}, .unit = scene.grid().quantity().unit, .run = run});
    const double first = mean_height(s, false), last = mean_height(s, true);
    if (std::isnan(first) || std::isnan(last)) continue;
    if (first < last) {
      const double length = s.points.back().distance;
      std::reverse(s.points.begin(), s.points.end());
      for (SectionPoint& p : s.points) p.distance = length - p.distance;
    }
    const std::vector<Rise> rises = rises_along(smoothed(s), scene.in_unit(scene.limits().uphill));
    if (rises.empty()) continue;
    const Rise& worst =
        *std::max_element(rises.begin(), rises.end(), [](const Rise& a, const Rise& b) { return a.height < b.height; });
    std::string name = "the stream line";
    for (const auto& [key, value] : f.properties)
      if (key == "name" && std::holds_alternative<std::string>(value)) name = std::get<std::string>(value);
    Finding& out =
        scene.add("uphill", Severity::Failure,
                  fmt::format("water along {} would have to climb at {}, the most by {:.2f} {} over {:.0f} {} up to {}",
                              name, counted(static_cast<std::int64_t>(rises.size()), "place"), worst.height,
                              scene.unit(), worst.length, scene.unit(), scene.at(worst.top)),
                  "look there for a bridge, a culvert or trees that were taken for ground", worst.height);
    const double room = std::max(scene.frame().cell().x, scene.frame().cell().y);
    for (const Rise& r : rises) {
      if (out.place.size() == kMostPlaces) break;
      Bounds b;
      b.include(r.from);
      b.include(r.top);
      out.place.push_back(to_polygon(b.grown(room)));
    }
  }
}

}  // namespace katoptra
