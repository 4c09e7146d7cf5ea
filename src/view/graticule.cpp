#include "graticule.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>

namespace katoptra {
namespace {

constexpr double kSize = 12;
constexpr int kWanted = 4, kPoints = 96;
constexpr double kStepsOfDegrees[] = {30.0,        20.0,        10.0,        5.0,        2.0,        1.0,
                                      30.0 / 60,   20.0 / 60,   10.0 / 60,   5.0 / 60,   2.0 / 60,   1.0 / 60,
                                      30.0 / 3600, 20.0 / 3600, 10.0 / 3600, 5.0 / 3600, 2.0 / 3600, 1.0 / 3600};

}  // namespace

double degree_step(double range, int wanted) {
  for (const double step : kStepsOfDegrees)
    if (range / step >= wanted * 0.75) return step;
  return axis_step(range * 3600, wanted + 1) / 3600;
}

std::string degree_label(double degrees, double step, bool east) {
  degrees -= east ? 360 * std::round(degrees / 360) : 0;
  const char* side = east ? (degrees < 0 ? "W" : "E") : (degrees < 0 ? "S" : "N");
  const int decimals = step * 3600 >= 1 ? 0 : std::clamp(static_cast<int>(std::ceil(-std::log10(step * 3600))), 0, 6);
  const double unit = std::pow(10, decimals);
  const auto all = static_cast<long long>(std::llround(std::abs(degrees) * 3600 * unit));
  const auto whole = all / static_cast<long long>(3600 * unit), minutes = all / static_cast<long long>(60 * unit) % 60;
  const double seconds = static_cast<double>(all % static_cast<long long>(60 * unit)) / unit;
  std::string out = fmt::format("{}°", whole);
  if (step < 1 - 1e-9) out += fmt::format(" {:02}\u2032", minutes);
  if (step < 1.0 / 60 - 1e-9) out += fmt::format(" {:0{}.{}f}\u2033", seconds, decimals ? 3 + decimals : 2, decimals);
  return out + " " + side;
}

Graticule::Graticule(const Crs& crs, const MapField& field, Canvas& canvas, LineLabels& numbers) {
  const Transform t(field.frame.crs(), crs);
  const Bounds ground = field.frame.bounds(), sheet = field.box();
  const bool degrees = crs.is_geographic();
  const double middle = t.forward(ground.centre()).x;
  // Where the map lies in the other system; across the antimeridian longitudes go on.
  Bounds reach;
  for (int i = 0; i <= kPoints; ++i)
    for (int j = 0; j <= kPoints; ++j) {
      Point p = t.forward({ground.west + ground.width() * i / kPoints, ground.south + ground.height() * j / kPoints});
      if (!std::isfinite(p.x) || !std::isfinite(p.y)) continue;
      if (degrees) p.x -= 360 * std::round((p.x - middle) / 360);
      reach.include(p);
    }
  if (reach.empty()) return;
  const double step_x = degrees ? degree_step(reach.width(), kWanted) : axis_step(reach.width(), kWanted),
               step_y = degrees ? degree_step(reach.height(), kWanted) : axis_step(reach.height(), kWanted);
  auto add = [&](double v, bool is_meridian) {
    LineString line;
    Number number{{}, {}, is_meridian ? Align::Centre : Align::Right};
    for (int i = 0; i <= kPoints; ++i) {
      const double s = static_cast<double>(i) / kPoints;
      const Point p = t.inverse(is_meridian ? Point{v, reach.south + s * reach.height()}
                                            : Point{reach.west + s * reach.width(), v});
      if (!std::isfinite(p.x) || !std::isfinite(p.y)) continue;
      const Point q = field.on_sheet(p);
      // Where it crosses the upper edge, or the right one.
      if (!line.empty() && number.text.empty()) {
        const Point a = line.back();
        const double edge = is_meridian ? sheet.south : sheet.east, from = is_meridian ? a.y : a.x,
                     to = is_meridian ? q.y : q.x;
        if ((from - edge) * (to - edge) <= 0 && from != to) {
          const double share = (edge - from) / (to - from);
          number.at = {a.x + share * (q.x - a.x), a.y + share * (q.y - a.y)};
          number.text = degrees ? degree_label(v, is_meridian ? step_x : step_y, is_meridian)
                                : axis_label(v, is_meridian ? step_x : step_y);
        }
      }
      line.push_back(q);
    }
    if (line.size() < 2) return;
    lines_.push_back(std::move(line));
    if (number.text.empty()) return;
    const double wide = canvas.text_width(number.text, kSize);
    number.at = is_meridian ? Point{number.at.x, number.at.y + 15} : Point{number.at.x - 6, number.at.y - 4};
    const double left = is_meridian ? number.at.x - wide / 2 : number.at.x - wide;
    // One that would be cut by the edge is left out.
    if (left < sheet.west + 2 || left + wide > sheet.east - 2 || number.at.y > sheet.north - 2 ||
        number.at.y < sheet.south + kSize || !numbers.take({left + wide / 2, -(number.at.y - 0.36 * kSize)}, 0, wide))
      return;
    numbers_.push_back(std::move(number));
  };
  // So few that a step which is lost beside the numbers cannot go on for ever.
  constexpr int kMostLines = 64;
  const double first_x = std::ceil(reach.west / step_x), first_y = std::ceil(reach.south / step_y);
  for (int k = 0; k < kMostLines && (first_x + k) * step_x <= reach.east; ++k) add((first_x + k) * step_x, true);
  for (int k = 0; k < kMostLines && (first_y + k) * step_y <= reach.north; ++k) add((first_y + k) * step_y, false);
}

void Graticule::draw(Canvas& canvas) const {
  constexpr Colour kLines{0.16, 0.22, 0.38};
  canvas.dashes({7, 3});
  canvas.line_width(0.7);
  canvas.colour(kLines, 0.7);
  for (const LineString& line : lines_) {
    cairo_new_path(canvas.cr());
    for (const Point& p : line) cairo_line_to(canvas.cr(), p.x, p.y);
    cairo_stroke(canvas.cr());
  }
  canvas.dashes({});
  for (const Number& n : numbers_) canvas.text_clear(n.at.x, n.at.y, n.text, kSize, n.align, kLines);
  cairo_new_path(canvas.cr());
}

}  // namespace katoptra
