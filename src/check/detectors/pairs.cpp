#include "pairs.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/check/compare.hpp"
#include "katoptra/terrain/sample.hpp"

#include "check/moments.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kFewestPoints = 50;
constexpr double kFeetPerMetre = 1 / 0.3048;
constexpr double kDatumStep = 2;         // metres: below it is an offset
constexpr std::size_t kMostShifted = 3;  // pairs of tiles whose shift is looked for
constexpr std::int64_t kPairCells = 120'000;

// Height as a plane over the overlap, fitted without what stands off by more than three NMAD.
struct Plane {
  double middle = 0, range = 0, error = 0, spread = 0;  // range: from end to end along its steepest way, metres
};

Plane plane_of(const std::vector<Point>& places, const std::vector<double>& d) {
  Bounds box;
  for (Point p : places) box.include(p);
  const Point mid = box.centre();
  const double w = std::max(box.width() / 2, 1e-12), h = std::max(box.height() / 2, 1e-12);
  double c = median_of(d), x = 0, y = 0, spread = robust_deviation(d, c), error = 0;
  for (int round = 0; round < 4; ++round) {
    double n = 0, sx = 0, sy = 0, sxx = 0, sxy = 0, syy = 0, sd = 0, sxd = 0, syd = 0;
    std::vector<double> left;
    for (std::size_t i = 0; i < d.size(); ++i) {
      const double u = (places[i].x - mid.x) / w, v = (places[i].y - mid.y) / h;
      if (std::abs(d[i] - c - x * u - y * v) > 3 * std::max(spread, 1e-6)) continue;
      n += 1, sx += u, sy += v, sxx += u * u, sxy += u * v, syy += v * v, sd += d[i], sxd += u * d[i], syd += v * d[i];
    }
    const double xx = sxx - sx * sx / n, yy = syy - sy * sy / n, xy = sxy - sx * sy / n, xd = sxd - sx * sd / n,
                 yd = syd - sy * sd / n, det = xx * yy - xy * xy;
    if (!(det > 1e-9 * n * n)) break;
    x = (xd * yy - yd * xy) / det;
    y = (yd * xx - xd * xy) / det;
    c = (sd - x * sx - y * sy) / n;
    for (std::size_t i = 0; i < d.size(); ++i)
      left.push_back(d[i] - c - x * (places[i].x - mid.x) / w - y * (places[i].y - mid.y) / h);
    spread = robust_deviation(left, median_of(left));
    error = spread * std::sqrt(std::max(xx, yy) / det);
  }
  return {c, 2 * (std::abs(x) + std::abs(y)), 2 * error, spread};
}

// How the heights of two go together: the factor between them, when they do.
struct Likeness {
  double factor = 1;  // first in terms of second
  bool alike = false;
  bool even = false;  // neither has any relief to speak of
};

Likeness likeness_of(const std::vector<double>& a, const std::vector<double>& b) {
  const double ma = median_of(a), mb = median_of(b), sa = robust_deviation(a, ma), sb = robust_deviation(b, mb);
  double ab = 0, aa = 0, bb = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    // Blunders must not decide.
    if (std::abs(a[i] - ma) > 6 * sa || std::abs(b[i] - mb) > 6 * sb) continue;
    ab += (a[i] - ma) * (b[i] - mb);
    aa += (a[i] - ma) * (a[i] - ma);
    bb += (b[i] - mb) * (b[i] - mb);
  }
  const bool even = std::max(sa, sb) < 0.5;
  if (!(sa > 0) || !(sb > 0) || aa * bb == 0) return {.even = even};
  const double r = ab / std::sqrt(aa * bb);
  return {std::copysign(std::sqrt(aa / bb), r), std::abs(r) > 0.98 && std::min(sa, sb) > 0.5, even};
}

// Tiles of one survey share its offset and are judged together.
std::string group_of(const Grid& g) {
  const auto& sources = g.info().sources;
  for (const SourceRecord& s : sources)
    if (s.survey.empty() || s.survey != sources[0].survey) return g.info().name;
  return sources.empty() ? g.info().name : sources[0].survey;
}

struct TilePair {
  std::size_t first, second;
  std::size_t points;
};

struct SurveyPair {
  std::vector<double> first, second, differences;
  std::vector<Point> places;
  std::size_t pairs = 0;
  MultiPolygon place;
  Crs crs;
  std::vector<TilePair> tiles;
  // Both say from where they count, and not from the same.
  HeightReference first_heights, second_heights;
};

bool comparable(const Grid& g) { return g.frame().crs() && g.quantity().kind == QuantityKind::Height; }

Finding finding_of(const std::string& code, const std::string& file, const SurveyPair& pair, std::string message,
                   std::string advice, double measure, const std::string& unit) {
  return {.code = code,
          .severity = Severity::Failure,
          .file = file,
          .message = std::move(message),
          .advice = std::move(advice),
          .measure = measure,
          .unit = unit,
          .place = pair.place,
          .crs = pair.crs};
}

// What is plainly of another kind: unit, sign, vertical reference.
std::optional<Finding> judge_kind(const std::string& name, const std::string& other, const SurveyPair& pair) {
  const Likeness l = likeness_of(pair.first, pair.second);
  if (l.alike)
    for (const double ratio : {kFeetPerMetre, 1 / kFeetPerMetre}) {
      if (std::abs(l.factor / ratio - 1) > 0.05) continue;
      return finding_of("unit", name, pair,
                        fmt::format("its heights are {:.3f} times those of {}: {}", l.factor, other,
                                    ratio > 1 ? "feet were called metres" : "metres were called feet"),
                        ratio > 1 ? "tell the unit with --unit ft, or mend it with correct --factor 0.3048"
                                  : "tell the unit with --unit m, or mend it with correct --factor 3.28084",
                        l.factor, "times");
    }
  if (l.alike && std::abs(l.factor + 1) < 0.1)
    return finding_of("sign", name, pair,
                      fmt::format("its heights mirror those of {}: depths were taken for heights", other),
                      "read it with --depths", l.factor, "times");
  const double median = median_of(pair.differences);
  const Plane p = plane_of(pair.places, pair.differences);
  // The same ground, only higher: the relief must agree, or both be even.
  const bool same_ground = l.alike ? std::abs(l.factor - 1) < 0.2 : l.even;
  if (std::abs(median) < kDatumStep || p.spread > 0.25 * std::abs(median) || !same_ground) return std::nullopt;
  if (pair.first_heights.known() && pair.second_heights.known() && !(pair.first_heights == pair.second_heights)) {
    Finding f = finding_of("datum", name, pair,
                           fmt::format("counts heights from the {}, {} from {}: it lies {:.2f} m {} (spread {:.2f} m)",
                                       pair.first_heights.name(), other, pair.second_heights.name(), std::abs(median),
                                       median > 0 ? "above" : "below", p.spread),
                           "bring both to one reference before joining them (--heights, or --shift with a separation)",
                           median, "m");
    f.severity = Severity::Warning;
    return f;
  }
  return finding_of(
      "datum", name, pair,
      fmt::format("lies {:.2f} m {} {} everywhere, {:.2f} m more at one end than at the other (spread {:.2f} m): as "
                  "heights above the ellipsoid beside heights above the sea",
                  std::abs(median), median > 0 ? "above" : "below", other, p.range, p.spread),
      "find out from where each counts and tell it with --heights", median, "m");
}

std::optional<Finding> judge_difference(const std::string& name, const std::string& other, const SurveyPair& pair,
                                        const Thresholds& limits) {
  const auto n = static_cast<double>(pair.differences.size());
  const double median = median_of(pair.differences), spread = robust_deviation(pair.differences, median);
  const Plane p = plane_of(pair.places, pair.differences);
  // A difference with as much relief as the ground itself is of two different things: sea floor and sea.
  const double relief = std::max(robust_deviation(pair.first, median_of(pair.first)),
                                 robust_deviation(pair.second, median_of(pair.second)));
  if (relief > 0.5 && spread > 0.8 * relief) return std::nullopt;
  if (p.range >= limits.tilt.metres() && p.range > 10 * p.error && p.range > 1.5 * p.spread)
    return finding_of("tilt", name, pair,
                      fmt::format("its difference from {} is a tilted plane: {:.2f} m from end to end of where they "
                                  "overlap, {:+.2f} m in the middle (spread {:.2f} m)",
                                  other, p.range, p.middle, p.spread),
                      "compare --corrected takes the tilt out", p.range, "m");
  // Coarse grids differ everywhere by what they smooth away: the median must stand out from that, too.
  if (std::abs(median) < limits.offset.metres() || std::abs(median) < 4 * 1.2533 * spread / std::sqrt(n) ||
      std::abs(median) < 0.25 * spread)
    return std::nullopt;
  return finding_of("offset", name, pair,
                    fmt::format("lies {:.2f} m {} {} where they overlap (median of {} points in {} pair{} of tiles, "
                                "spread {:.2f} m)",
                                std::abs(median), median > 0 ? "above" : "below", other, pair.differences.size(),
                                pair.pairs, pair.pairs == 1 ? "" : "s", spread),
                    "find out which of them keeps to the stated reference before joining them", median, "m");
}

// Half a cell is the mark of cell corners taken for centres.
std::string half_text(double x, double y) {
  auto half = [](double v) { return std::abs(std::abs(v) - 0.5) < 0.1; };
  auto none = [](double v) { return std::abs(v) < 0.1; };
  if ((half(x) && (half(y) || none(y))) || (none(x) && half(y)))
    return ": half a cell, as when corners are taken for centres";
  return {};
}

void judge_shift(const std::string& name, const std::string& other, const SurveyPair& pair,
                 const std::vector<Grid>& grids, const Thresholds& limits, const RunOptions& run,
                 std::vector<Finding>& out) {
  std::vector<TilePair> tiles = pair.tiles;
  std::stable_sort(tiles.begin(), tiles.end(),
                   [](const TilePair& a, const TilePair& b) { return a.points > b.points; });
  std::vector<Coregistration> found;
  for (std::size_t i = 0; i < std::min(tiles.size(), kMostShifted); ++i) {
    std::vector<std::string> notes;
    try {
      const auto [a, b] = brought_together(grids[tiles[i].first], grids[tiles[i].second], notes);
      Coregistration c = coregister(a, b, {.tilt = true, .rotation = true, .cells = kPairCells, .run = run});
      if (c.found) found.push_back(std::move(c));
    } catch (const Error& e) {
      // Grids whose references cannot be brought together are told by other findings.
      if (e.code() != ErrorCode::Refused && e.code() != ErrorCode::MissingResource &&
          e.code() != ErrorCode::BadArgument)
        throw;
    }
  }
  if (found.empty()) return;
  std::vector<double> xs, ys, turns;
  for (const Coregistration& c : found) {
    xs.push_back(c.cells_x);
    ys.push_back(c.cells_y);
    turns.push_back(c.rotation.degrees());
  }
  const double x = median_of(xs), y = median_of(ys), turn = median_of(turns);
  const Coregistration& c = found[0];
  const double error = c.shift_error.metres(),
               cell = std::hypot(c.east.metres(), c.north.metres()) / std::max(1e-9, std::hypot(c.cells_x, c.cells_y)),
               size = std::hypot(x, y);
  const bool better = c.nmad_after.metres() < 0.99 * c.nmad_before.metres();
  if (size >= limits.shift && size * cell > 3 * error && better)
    out.push_back(finding_of(
        "shift", other, pair,
        fmt::format(
            "lies beside {}: it fits when it is moved by {:+.2f} m east and {:+.2f} m north ({:+.2f} and {:+.2f} "
            "cells{})",
            name, c.east.metres(), c.north.metres(), x, y, half_text(x, y)),
        "compare --corrected moves it; look whether its file means centres or corners", size, "cells"));
  const double at_the_edge = c.cells_at_edge;
  if (at_the_edge >= limits.shift && at_the_edge * cell > 5 * error && better)
    out.push_back(
        finding_of("rotation", other, pair,
                   fmt::format("is turned against {} by {:+.4f} degrees: {:.2f} cells at the edge of where they "
                               "overlap",
                               name, turn, at_the_edge),
                   "ask for it in its original CRS: grid north was taken for another north", turn, "degree"));
}

SurveyPair pair_of(const Grid& a, const Grid& b, const RunOptions& run) {
  OverlapSample s = sample_overlap(a, b, run);
  SurveyPair p;
  p.crs = a.frame().crs();
  p.differences = s.differences();
  p.first = std::move(s.first);
  p.second = std::move(s.second);
  p.places = std::move(s.places);
  p.pairs = 1;
  p.place = {to_polygon(s.common)};
  p.first_heights = a.quantity().heights;
  p.second_heights = b.quantity().heights;
  return p;
}

void join(SurveyPair& all, SurveyPair&& s, bool turned) {
  if (turned) {
    std::swap(s.first, s.second);
    std::swap(s.first_heights, s.second_heights);
    for (double& d : s.differences) d = -d;
  }
  if (!all.crs) {
    all.crs = s.crs;
    all.first_heights = s.first_heights;
    all.second_heights = s.second_heights;
  }
  if (!all.crs.same_place(s.crs)) Transform(s.crs, all.crs).forward(s.places);
  if (all.crs.same_place(s.crs)) all.place.insert(all.place.end(), s.place.begin(), s.place.end());
  auto append = [](auto& to, auto& from) { to.insert(to.end(), from.begin(), from.end()); };
  append(all.first, s.first);
  append(all.second, s.second);
  append(all.differences, s.differences);
  append(all.places, s.places);
  ++all.pairs;
}

}  // namespace

std::vector<double> OverlapSample::differences() const {
  std::vector<double> d;
  for (std::size_t i = 0; i < first.size(); ++i) d.push_back(first[i] - second[i]);
  return d;
}

OverlapSample sample_overlap(const Grid& a, const Grid& b, const RunOptions& options) {
  OverlapSample out;
  const Bounds box = a.frame().bounds(),
               other = transformed(b.frame().bounds(), Transform(b.frame().crs(), a.frame().crs()));
  out.common = {std::max(box.west, other.west), std::max(box.south, other.south), std::min(box.east, other.east),
                std::min(box.north, other.north)};
  const CellSize cell = a.frame().cell();
  if (out.common.empty() || out.common.width() < 4 * cell.x || out.common.height() < 4 * cell.y) return out;
  const Window w = a.frame().window_of_centres(out.common).intersected(a.frame().window());
  std::vector<Point> here;
  const std::int64_t step_c = std::max<std::int64_t>(1, w.cols / 250), step_r = std::max<std::int64_t>(1, w.rows / 250);
  for (std::int64_t r = w.row; r < w.row + w.rows; r += step_r)
    for (std::int64_t c = w.col; c < w.col + w.cols; c += step_c)
      here.push_back(a.frame().centre(static_cast<double>(c), static_cast<double>(r)));
  std::vector<Point> there = here;
  Transform(a.frame().crs(), b.frame().crs()).forward(there);
  const std::vector<double> za = sample(a, here, options), zb = sample(b, there, options);
  const double ua = metres_per(a.quantity().unit), ub = metres_per(b.quantity().unit);
  for (std::size_t p = 0; p < here.size(); ++p) {
    if (std::isnan(za[p]) || std::isnan(zb[p])) continue;
    out.first.push_back(za[p] * ua);
    out.second.push_back(zb[p] * ub);
    out.places.push_back(here[p]);
  }
  return out;
}

namespace {

// Grids that count heights in another unit than most of those beside them: right by themselves, wrong when joined
// unawares.
void judge_units(const std::vector<Grid>& grids, std::vector<Finding>& out) {
  std::map<std::string, std::size_t> units;
  for (const Grid& g : grids)
    if (g.quantity().kind == QuantityKind::Height) ++units[symbol(g.quantity().unit)];
  if (units.size() < 2) return;
  const auto most =
      std::max_element(units.begin(), units.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
  for (const Grid& g : grids) {
    const std::string unit = symbol(g.quantity().unit);
    if (g.quantity().kind != QuantityKind::Height || unit == most->first) continue;
    out.push_back(
        {.code = "mixed-units",
         .severity = Severity::Warning,
         .file = g.info().name,
         .message = fmt::format("counts heights in {}, {} of those beside it in {}", unit, most->second, most->first),
         .advice = "mosaic converts it; do not join it by other means",
         .measure = {},
         .unit = {},
         .place = {to_polygon(g.frame().bounds())},
         .crs = g.frame().crs()});
  }
}

}  // namespace

std::vector<Finding> check_overlaps(const std::vector<Grid>& grids, const RunOptions& options,
                                    const Thresholds& limits) {
  std::map<std::pair<std::string, std::string>, SurveyPair> by_survey;
  for (std::size_t i = 0; i < grids.size(); ++i)
    for (std::size_t k = i + 1; k < grids.size(); ++k) {
      if (!comparable(grids[i]) || !comparable(grids[k])) continue;
      SurveyPair s = pair_of(grids[i], grids[k], options);
      const std::size_t points = s.differences.size();
      if (points < kFewestPoints) continue;
      std::pair key{group_of(grids[i]), group_of(grids[k])};
      const bool turned = by_survey.count({key.second, key.first}) > 0;
      if (turned) std::swap(key.first, key.second);
      SurveyPair& all = by_survey[key];
      join(all, std::move(s), turned);
      all.tiles.push_back(turned ? TilePair{k, i, points} : TilePair{i, k, points});
    }
  std::vector<Finding> out;
  judge_units(grids, out);
  for (const auto& [names, pair] : by_survey) {
    const auto& [name, other] = names;
    if (auto f = judge_kind(name, other, pair)) {
      out.push_back(std::move(*f));
      continue;
    }
    if (auto f = judge_difference(name, other, pair, limits)) out.push_back(std::move(*f));
    judge_shift(name, other, pair, grids, limits, options, out);
  }
  return out;
}

std::vector<Finding> check_against(const Grid& grid, const Grid& coarse, const RunOptions& options) {
  if (!comparable(grid) || !comparable(coarse))
    throw Error(ErrorCode::Refused, "has no CRS or holds no heights, so it cannot be checked against another",
                comparable(grid) ? coarse.info().name : grid.info().name, "tell it with --crs");
  const SurveyPair pair = pair_of(grid, coarse, options);
  std::vector<Finding> out;
  if (pair.differences.size() < kFewestPoints) return out;
  if (auto f = judge_kind(grid.info().name, coarse.info().name, pair)) out.push_back(std::move(*f));
  return out;
}

std::vector<Standing> odd_one_out(const std::vector<Grid>& grids, const RunOptions& options) {
  if (grids.size() < 3)
    throw Error(ErrorCode::BadArgument, "needs three surfaces or more", "compare",
                "two alone cannot tell which of them is right");
  for (const Grid& g : grids)
    if (!comparable(g))
      throw Error(ErrorCode::Refused, "has no CRS or holds no heights, so it cannot be compared", g.info().name,
                  "tell its CRS with --crs");
  const std::size_t n = grids.size();
  std::vector<Standing> out(n);
  std::vector<std::vector<double>> offsets(n), spreads(n);
  for (std::size_t i = 0; i < n; ++i) {
    out[i].name = grids[i].info().name;
    for (std::size_t k = i + 1; k < n; ++k) {
      std::vector<std::string> notes;
      std::vector<double> d;
      try {
        // References and units must agree before medians mean anything.
        const auto [a, b] = brought_together(grids[i], grids[k], notes);
        d = sample_overlap(a, b, options).differences();
      } catch (const Error& e) {
        if (e.code() != ErrorCode::BadArgument) throw;
        continue;  // these two do not overlap
      }
      if (d.size() < kFewestPoints) continue;
      const double median = median_of(d), spread = robust_deviation(d, median);
      for (auto [at, sign] : {std::pair{i, 1.0}, std::pair{k, -1.0}}) {
        offsets[at].push_back(sign * median);
        spreads[at].push_back(spread);
        out[at].cells += static_cast<std::int64_t>(d.size());
      }
    }
  }
  for (std::size_t i = 0; i < n; ++i) {
    // Each agrees with itself: among three, two that agree have the say.
    std::vector<double> all = offsets[i];
    if (!all.empty()) all.push_back(0);
    out[i].offset = Length::metres(median_of(std::move(all)));
    out[i].spread = Length::metres(median_of(spreads[i]));
  }
  // Odd is what stands off from the median of the others, while those stand together.
  for (std::size_t i = 0; i < n; ++i) {
    std::vector<double> others;
    for (std::size_t k = 0; k < n; ++k)
      if (k != i && !std::isnan(out[k].offset.metres())) others.push_back(std::abs(out[k].offset.metres()));
    const double usual = median_of(others);
    out[i].odd = offsets[i].size() > 1 && std::abs(out[i].offset.metres()) > std::max(kLeastStep, kOddFactor * usual);
  }
  return out;
}

}  // namespace katoptra
