#include "katoptra/terrain/contours.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"

#include "contour_trace.hpp"
#include "geo/turning.hpp"
#include "levels_of.hpp"
#include "smooth_lines.hpp"

namespace katoptra {
namespace {

// One way to write down a line, wherever tracing happened to begin: higher ground on its left, closed ones from their
// western-most point.
void normalise(TracedLine& line) {
  LineString& p = line.points;
  if (!line.higher_on_left) std::reverse(p.begin(), p.end());
  if (line.closed) begin_in_west(p);
}

bool is_shorter(const LineString& line, const GroundRuler& ruler, double metres) {
  double length = 0;
  for (std::size_t i = 1; i < line.size() && length < metres; ++i)
    length += ruler.distance(line[i - 1], line[i]).metres();
  return length < metres;
}

[[noreturn]] void refuse_so_many(const Grid& surface, const Levels& levels, const RunOptions& run) {
  float low = std::numeric_limits<float>::infinity(), high = -low;
  RunOptions quiet = run;
  quiet.silent = true;
  for_each_band(surface, Planes::Values, quiet, [&](const Block& b) {
    for (std::int64_t i = 0; i < b.window().cells(); ++i)
      if (const float z = b.row(0)[i]; !std::isnan(z)) {
        low = std::min(low, z);
        high = std::max(high, z);
      }
  });
  const double to_low = static_cast<double>(low) - levels.base(), to_high = static_cast<double>(high) - levels.base();
  const double first = std::ceil(to_low / (to_low < 0 ? levels.below() : levels.above())),
               last = std::floor(to_high / (to_high < 0 ? levels.below() : levels.above()));
  throw Error(
      ErrorCode::TooLarge,
      fmt::format("an interval of {:g} {} gives {:.0f} levels between {:g} and {:g}, more than {}", levels.above(),
                  unit_name(surface.quantity()), last - first + 1, low, high, kMostContourLevels),
      "contours", "take a longer interval");
}

void refuse_without_levels(const Grid& surface) {
  switch (surface.quantity().kind) {
    case QuantityKind::Shade:
    case QuantityKind::Aspect:
    case QuantityKind::Code:
    case QuantityKind::Landform:
    case QuantityKind::SlopePosition:
    case QuantityKind::LandformByScale:
    case QuantityKind::Shadow:
    case QuantityKind::FlowDirection:
      throw Error(ErrorCode::Refused,
                  fmt::format("its values are {}, of which there are no lines of equal height",
                              name_of(surface.quantity().kind)),
                  surface.info().name, "give the surface it was made from");
    default:
      break;
  }
}

// Heights have levels with a unit; of other quantities a length stands for the bare number.
double bare(Length length, const Quantity& q) {
  return q.kind == QuantityKind::Height ? length.in(q.unit) : length.metres();
}

}  // namespace

Levels levels_of(const Grid& surface, const ContourOptions& asked) {
  refuse_without_levels(surface);
  const Quantity& q = surface.quantity();
  if (!asked.levels.empty()) {
    std::vector<double> values;
    for (const Length l : asked.levels) values.push_back(bare(l, q) + 0.0);
    std::sort(values.begin(), values.end());
    values.erase(std::unique(values.begin(), values.end()), values.end());
    if (!std::isfinite(values.front()) || !std::isfinite(values.back()))
      throw Error(ErrorCode::BadArgument, "a level is not a number", "contours", "give each as, for instance, 2.5m");
    if (values.size() > static_cast<std::size_t>(kMostContourLevels))
      throw Error(ErrorCode::TooLarge, fmt::format("{} levels are more than {}", values.size(), kMostContourLevels),
                  "contours", "give fewer");
    return Levels::listed(std::move(values));
  }
  const double base = bare(asked.base, q), above = bare(asked.interval, q),
               below = bare(asked.interval_below.value_or(asked.interval), q);
  if (!(above > 0) || !(below > 0) || !std::isfinite(base))
    throw Error(ErrorCode::BadArgument, "the contour interval must be above zero", "contours",
                "write for instance 1m or 1ft");
  return Levels::every(base, above, below);
}

void with_levels(const Grid& surface, const Levels& levels, const RunOptions& run,
                 const std::function<void(TracedLine)>& emit) {
  try {
    trace_lines(surface, levels, run, emit);
  } catch (const TooManyLevels&) {
    refuse_so_many(surface, levels, run);
  } catch (const TooManyPoints& e) {
    throw Error(ErrorCode::TooLarge,
                fmt::format("the lines have more than the {} points that fit into the memory allowed", e.most),
                "contours", "take a longer interval or a smaller area, or allow more with --memory");
  }
}

namespace {

// Lines as they are traced become lines as they are told.
class Lines {
 public:
  Lines(const Grid& surface, const ContourOptions& options, const Levels& levels)
      : levels_(levels),
        ruler_(surface.frame().crs()),
        every_(std::max(1, options.index_every)),
        shortest_(options.shortest.metres()) {}

  void add(TracedLine traced) {
    if (traced.points.size() < 2 || (traced.closed && traced.points.size() < 4)) return;
    if (traced.closed && shortest_ > 0 && is_shorter(traced.points, ruler_, shortest_)) return;
    normalise(traced);
    traced.points.shrink_to_fit();
    out_.push_back({.level = levels_.level(traced.step),
                    .closed = traced.closed,
                    .index = !levels_.are_listed() && traced.step % every_ == 0,
                    .hollow = traced.closed && twice_area(traced.points) < 0,
                    .points = std::move(traced.points)});
  }
  // In their order; there are none then.
  std::vector<ContourLine> take() {
    std::sort(out_.begin(), out_.end(), [](const ContourLine& a, const ContourLine& b) {
      if (a.level != b.level) return a.level < b.level;
      return std::lexicographical_compare(a.points.begin(), a.points.end(), b.points.begin(), b.points.end(), west_of);
    });
    return std::exchange(out_, {});
  }

 private:
  const Levels& levels_;
  GroundRuler ruler_;
  int every_;
  double shortest_;
  std::vector<ContourLine> out_;
};

}  // namespace

std::vector<ContourLine> contours(const Grid& surface, const ContourOptions& options) {
  const double tolerance = options.tolerance.metres();
  if (!(tolerance >= 0) || !std::isfinite(tolerance))
    throw Error(ErrorCode::BadArgument, "a tolerance must not be below zero", "contours", "write for instance 1m");
  RunOptions run = options.run;
  if (tolerance > 0) {
    run.memory /= 3;
    const GroundSpacing s = ground_spacing(surface.frame());
    if (const double most = kWidestTolerance * std::min(s.x, s.y).metres(); tolerance > most * 1.001)
      throw Error(ErrorCode::BadArgument,
                  fmt::format("a tolerance of {:g} m is more than {} cells", tolerance, kWidestTolerance), "contours",
                  fmt::format("take at most {:.3g} m, or bring the surface to larger cells first", most));
  }
  const Levels levels = levels_of(surface, options);
  Lines lines(surface, options, levels);
  with_levels(surface, levels, run, [&](TracedLine traced) { lines.add(std::move(traced)); });
  std::vector<ContourLine> out = lines.take();
  if (tolerance > 0) {
    const GroundSpacing s = ground_spacing(surface.frame());
    smooth_lines(out, tolerance, s.x.metres() / surface.frame().cell().x, s.y.metres() / surface.frame().cell().y);
  }
  return out;
}

void for_each_contour(const Grid& surface, const ContourOptions& options,
                      const std::function<void(const ContourLine&)>& body) {
  if (options.tolerance.metres() != 0) {
    for (const ContourLine& line : contours(surface, options)) body(line);
    return;
  }
  const Levels levels = levels_of(surface, options);
  Lines lines(surface, options, levels);
  try {
    trace_lines(surface, levels, options.run, [&](TracedLine traced) { lines.add(std::move(traced)); });
    for (const ContourLine& line : lines.take()) body(line);
    return;
  } catch (const TooManyLevels&) {
    refuse_so_many(surface, levels, options.run);
  } catch (const TooManyPoints& e) {
    // As many levels at once as memory holds.
    lines.take();
    const auto counts = points_by_step(surface, levels, options.run);
    for (std::size_t i = 0; i < counts.size();) {
      std::uint64_t points = counts[i].second;
      std::size_t end = i + 1;
      while (end < counts.size() && points + counts[end].second <= e.most) points += counts[end++].second;
      const Levels some = levels.within(counts[i].first, counts[end - 1].first + 1);
      with_levels(surface, some, options.run, [&](TracedLine traced) { lines.add(std::move(traced)); });
      for (const ContourLine& line : lines.take()) body(line);
      i = end;
    }
  }
}

Length sensible_interval(double lowest, double highest, LengthUnit unit, int wanted) {
  const double range = highest - lowest;
  if (!(range > 0)) return Length::of(1, unit);
  const double raw = range / wanted, power = std::pow(10, std::floor(std::log10(raw)));
  double best = power * 10;
  for (double n : {5.0, 2.0, 1.0})
    if (n * power >= raw) best = n * power;
  return Length::of(best, unit);
}

Feature contour_feature(const ContourLine& l, const Grid& surface) {
  return {l.points,
          {{"level", l.level},
           {"unit", unit_name(surface.quantity())},
           {"index", std::int64_t{l.index}},
           {"hollow", std::int64_t{l.hollow}}},
          {l.level}};
}

Layer contour_layer(const std::vector<ContourLine>& lines, const Grid& surface) {
  Layer layer{.name = "contours", .crs = surface.frame().crs(), .features = {}, .unit = surface.quantity().unit};
  for (const ContourLine& l : lines) layer.features.push_back(contour_feature(l, surface));
  return layer;
}

void add_depth(Feature& contour) {
  if (const Property* level = property_of(contour, "level"))
    contour.properties.emplace_back("depth", 0.0 - std::get<double>(*level));
}

void add_depths(Layer& contours) {
  for (Feature& f : contours.features) add_depth(f);
}

std::string number_on(const Feature& contour) {
  const Property* p = property_of(contour, "depth");
  if (!p) p = property_of(contour, "level");
  if (!p) return {};
  const auto* number = std::get_if<double>(p);
  return number ? fmt::format("{:g}", *number + 0.0) : text_of(*p);
}

bool is_numbered(const Feature& contour, bool layer_has_index) { return !layer_has_index || is_set(contour, "index"); }

bool has_index_lines(const Layer& contours) {
  return std::any_of(contours.features.begin(), contours.features.end(),
                     [](const Feature& f) { return is_set(f, "index"); });
}

}  // namespace katoptra
