// What a cloud is like, from one reading: counts by class, return and line, ranges, density over the squares that hold
// points, gaps among them, and how flight lines differ where they overlap. Each part of the cloud gives a summary of
// its own and they are added in order. Squares are twice as wide as the points lie apart, so that empty ones side by
// side are a gap and no chance. Lines are compared in squares where both saw much the same, by the median of their
// differences.
#include "katoptra/points/summary.hpp"

#include <algorithm>
#include <cmath>
#include <ctime>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <unordered_map>

#include "katoptra/points/gridding.hpp"

#include "base/robust.hpp"

namespace katoptra {
namespace {

constexpr int kGroundClass = 2;

struct Range {
  double low = std::numeric_limits<double>::infinity(), high = -std::numeric_limits<double>::infinity();
  void add(double v) {
    if (v < low) low = v;
    if (v > high) high = v;
  }
  void add(const Range& o) {
    low = std::min(low, o.low);
    high = std::max(high, o.high);
  }
};

// Heights of one flight line in one square.
struct LineSquare {
  double sum = 0;
  std::uint32_t points = 0;
  float low = std::numeric_limits<float>::infinity(), high = -std::numeric_limits<float>::infinity();
  void add(const LineSquare& o) {
    sum += o.sum;
    points += o.points;
    low = std::min(low, o.low);
    high = std::max(high, o.high);
  }
};

struct Partial {
  PointSummary s;
  std::vector<Range> fields;
  std::unordered_map<std::uint32_t, std::uint32_t> counts;  // by square
  std::unordered_map<std::uint64_t, LineSquare> lines;      // by square and line
};

class Raster {
 public:
  explicit Raster(const PointInfo& info) : box_(info.bounds) {
    const GroundScale scale = info.crs && !box_.empty() ? GroundRuler(info.crs).at(box_.centre()) : GroundScale{};
    ground_ = scale.x * scale.y;
    const double w = std::max(box_.empty() ? 0 : box_.width(), 1e-9),
                 h = std::max(box_.empty() ? 0 : box_.height(), 1e-9);
    const double area = w * scale.x * h * scale.y;
    // Twice the spacing, if the box were filled; not finer than the raster may be.
    const double edge = std::max(2 * std::sqrt(area / static_cast<double>(std::max<std::uint64_t>(info.count, 1))),
                                 std::sqrt(area / static_cast<double>(kSummaryCells)));
    cell_x_ = std::max(edge / scale.x, 1e-12);
    cell_y_ = std::max(edge / scale.y, 1e-12);
    cols = std::clamp<std::int64_t>(static_cast<std::int64_t>(w / cell_x_) + 1, 1, 1 << 15);
    rows = std::clamp<std::int64_t>(static_cast<std::int64_t>(h / cell_y_) + 1, 1, 1 << 15);
  }
  std::uint32_t square(double x, double y) const {
    const auto c = std::clamp<std::int64_t>(static_cast<std::int64_t>((x - box_.west) / cell_x_), 0, cols - 1),
               r = std::clamp<std::int64_t>(static_cast<std::int64_t>((box_.north - y) / cell_y_), 0, rows - 1);
    return static_cast<std::uint32_t>(r * cols + c);
  }
  double area() const { return cell_x_ * cell_y_ * ground_; }
  Point place(std::int64_t k) const {
    return {box_.west + (static_cast<double>(k % cols) + 0.5) * cell_x_,
            box_.north - (static_cast<double>(k / cols) + 0.5) * cell_y_};
  }
  std::int64_t cols = 1, rows = 1;

 private:
  Bounds box_;
  double ground_ = 1, cell_x_ = 1, cell_y_ = 1;
};

std::vector<std::string> field_names(const PointInfo& info) {
  std::vector<std::string> names{"intensity", "angle", "user", "time", "red", "green", "blue", "infrared"};
  for (const ExtraAttribute& a : info.extra) names.push_back(a.name);
  return names;
}

void add_fields(const PointBatch& b, const PointInfo& info, std::vector<Range>& f) {
  auto column = [&](std::size_t k, const auto& v, double factor = 1) {
    for (const auto& x : v) f[k].add(static_cast<double>(x) * factor);
  };
  column(0, b.intensity);
  column(1, b.angle, kAngleStep);
  column(2, b.user);
  column(3, b.time);
  column(4, b.red);
  column(5, b.green);
  column(6, b.blue);
  column(7, b.infrared);
  for (std::size_t a = 0; a < info.extra.size() && !b.extra.empty(); ++a)
    for (std::size_t i = 0; i < b.size(); ++i) {
      const double v = info.extra[a].value(b.extra.data() + i * static_cast<std::size_t>(info.extra_bytes));
      if (!std::isnan(v)) f[8 + a].add(v);
    }
}

std::shared_ptr<Partial> summary_of(const PointBatch& b, const PointInfo& info, const Raster& raster,
                                    const Bounds& declared) {
  auto p = std::make_shared<Partial>();
  PointSummary& s = p->s;
  p->fields.resize(8 + info.extra.size());
  s.points = b.size();
  Range z;
  const bool returns = !b.return_number.empty();
  for (std::size_t i = 0; i < b.size(); ++i) {
    s.bounds.include(Point{b.x[i], b.y[i]});
    z.add(b.z[i]);
    s.outside_declared += !declared.contains({b.x[i], b.y[i]});
    const std::uint32_t square = raster.square(b.x[i], b.y[i]);
    ++p->counts[square];
    s.pulses += !returns || b.return_number[i] <= 1;
    if (returns) {
      ++s.by_return[b.return_number[i] & 15];
      ++s.by_returns[b.return_count[i] & 15];
    }
    if (!b.classification.empty()) ++s.by_class[b.classification[i]];
    if (!b.flags.empty()) {
      s.synthetic += (b.flags[i] & kSynthetic) != 0;
      s.key_points += (b.flags[i] & kKeyPoint) != 0;
      s.withheld += (b.flags[i] & kWithheld) != 0;
      s.overlap += (b.flags[i] & kOverlap) != 0;
    }
    if (!b.source.empty()) {
      ++s.by_line[b.source[i]];
      const bool last = !returns || b.return_number[i] >= b.return_count[i];
      if (last) {
        LineSquare one;
        one.sum = b.z[i];
        one.points = 1;
        one.low = one.high = static_cast<float>(b.z[i]);
        p->lines[static_cast<std::uint64_t>(square) << 16 | b.source[i]].add(one);
      }
    }
  }
  s.lowest = z.low;
  s.highest = z.high;
  add_fields(b, info, p->fields);
  return p;
}

void add(PointSummary& to, const PointSummary& from) {
  to.points += from.points;
  to.pulses += from.pulses;
  to.bounds.include(from.bounds);
  to.lowest = std::min(to.lowest, from.lowest);
  to.highest = std::max(to.highest, from.highest);
  for (std::size_t i = 0; i < 256; ++i) to.by_class[i] += from.by_class[i];
  for (std::size_t i = 0; i < 16; ++i) {
    to.by_return[i] += from.by_return[i];
    to.by_returns[i] += from.by_returns[i];
  }
  to.withheld += from.withheld;
  to.synthetic += from.synthetic;
  to.overlap += from.overlap;
  to.key_points += from.key_points;
  to.outside_declared += from.outside_declared;
  for (const auto& [line, n] : from.by_line) to.by_line[line] += n;
}

// Connected sets of empty squares (over sides), by the size of each.
void find_gaps(const std::vector<std::uint32_t>& counts, const Raster& r, PointSummary& s) {
  std::vector<std::uint8_t> seen(counts.size(), 0);
  std::vector<std::int64_t> open;
  const double least = 16 * s.spacing.metres() * s.spacing.metres();
  for (std::int64_t start = 0; start < static_cast<std::int64_t>(counts.size()); ++start) {
    if (seen[static_cast<std::size_t>(start)] || counts[static_cast<std::size_t>(start)]) continue;
    bool at_edge = false;
    std::int64_t squares = 0;
    double x = 0, y = 0;
    open.assign(1, start);
    seen[static_cast<std::size_t>(start)] = 1;
    while (!open.empty()) {
      const std::int64_t k = open.back();
      open.pop_back();
      ++squares;
      x += r.place(k).x;
      y += r.place(k).y;
      const std::int64_t c = k % r.cols, row = k / r.cols;
      at_edge = at_edge || c == 0 || row == 0 || c == r.cols - 1 || row == r.rows - 1;
      auto visit = [&](std::int64_t other) {
        if (seen[static_cast<std::size_t>(other)] || counts[static_cast<std::size_t>(other)]) return;
        seen[static_cast<std::size_t>(other)] = 1;
        open.push_back(other);
      };
      if (c > 0) visit(k - 1);
      if (c + 1 < r.cols) visit(k + 1);
      if (row > 0) visit(k - r.cols);
      if (row + 1 < r.rows) visit(k + r.cols);
    }
    const double area = static_cast<double>(squares) * r.area();
    if (area <= least) continue;
    if (at_edge) {
      ++s.open_gaps;
      continue;
    }
    ++s.gaps;
    s.gap_area += area;
    if (area > s.largest_gap) {
      s.largest_gap = area;
      s.largest_gap_at = {x / static_cast<double>(squares), y / static_cast<double>(squares)};
    }
  }
}

void compare_lines(const std::unordered_map<std::uint64_t, LineSquare>& all, double unit, std::int64_t covered,
                   PointSummary& s) {
  std::vector<std::pair<std::uint64_t, LineSquare>> sorted(all.begin(), all.end());
  std::sort(sorted.begin(), sorted.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  std::map<std::pair<int, int>, std::vector<double>> pairs;
  std::int64_t shared = 0;
  for (std::size_t i = 0; i < sorted.size();) {
    std::size_t end = i;
    while (end < sorted.size() && sorted[end].first >> 16 == sorted[i].first >> 16) ++end;
    shared += end - i > 1;
    for (std::size_t a = i; a < end; ++a)
      for (std::size_t b = a + 1; b < end; ++b) {
        const LineSquare &p = sorted[a].second, &q = sorted[b].second;
        if (p.high - p.low > kEvenGround / unit || q.high - q.low > kEvenGround / unit || p.points < 2 || q.points < 2)
          continue;
        pairs[{static_cast<int>(sorted[a].first & 0xFFFF), static_cast<int>(sorted[b].first & 0xFFFF)}].push_back(
            q.sum / q.points - p.sum / p.points);
      }
    i = end;
  }
  s.overlap_share = covered > 0 ? static_cast<double>(shared) / static_cast<double>(covered) : 0;
  // Middle values: squares where one line saw the tops and the other the ground have no say.
  for (auto& [lines, d] : pairs) {
    const double median = upper_median_of(d);
    std::vector<double> off;
    for (double v : d) off.push_back(std::abs(v - median));
    s.lines.push_back(
        {lines.first, lines.second, static_cast<std::int64_t>(d.size()), median, 1.4826 * upper_median_of(off)});
  }
  std::stable_sort(s.lines.begin(), s.lines.end(), [](const auto& a, const auto& b) { return a.squares > b.squares; });
}

// GPS time counts from 1980-01-06 without leap seconds: 18 of them by 2017, fewer before, which a day does not show.
std::string day_of(double standard_time) {
  const double seconds = standard_time + 1e9 + 315964800 - 18;
  if (!(seconds > 0 && seconds < 4e9)) return {};
  return fmt::format("{:%Y-%m-%d}", fmt::gmtime(static_cast<std::time_t>(seconds)));
}

}  // namespace

PointSummary summarise(const PointCloud& cloud, const RunOptions& run) {
  const PointInfo& info = cloud.info();
  const Raster raster(info);
  PointSummary s;
  s.lowest = std::numeric_limits<double>::infinity();
  s.highest = -s.lowest;
  std::vector<Range> fields(8 + info.extra.size());
  std::vector<std::uint32_t> counts(static_cast<std::size_t>(raster.cols * raster.rows), 0);
  std::unordered_map<std::uint64_t, LineSquare> lines;
  // Half a step of the integers may lie between a point and the bounds as they were printed.
  const double slack = info.lattice ? std::max(info.lattice->step[0], info.lattice->step[1]) : 1e-9;
  const Bounds declared = info.bounds.grown(slack);
  map_points(
      cloud, PointFields::All, run,
      [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> { return summary_of(b, info, raster, declared); },
      [&](std::shared_ptr<void> result) {
        const Partial& p = *static_cast<const Partial*>(result.get());
        add(s, p.s);
        for (std::size_t k = 0; k < fields.size(); ++k) fields[k].add(p.fields[k]);
        for (const auto& [square, n] : p.counts) counts[square] += n;
        for (const auto& [key, square] : p.lines) lines[key].add(square);
      });
  const auto names = field_names(info);
  for (std::size_t k = 0; k < fields.size(); ++k)
    if (fields[k].low <= fields[k].high) s.ranges.push_back({names[k], fields[k].low, fields[k].high});
  if (info.time == PointTime::Standard && fields[3].low <= fields[3].high) {
    s.first_day = day_of(fields[3].low);
    s.last_day = day_of(fields[3].high);
  }
  if (s.points == 0) {
    s.lowest = s.highest = std::nan("");
    return s;
  }
  std::int64_t covered = 0;
  for (std::uint32_t n : counts) covered += n > 0;
  s.covered = static_cast<double>(covered) * raster.area();
  s.density = static_cast<double>(s.points) / s.covered;
  s.pulse_density = static_cast<double>(s.pulses) / s.covered;
  s.spacing = Length::metres(std::sqrt(1 / std::max(s.pulse_density, 1e-300)));
  const std::uint64_t ground = s.by_class[kGroundClass];
  if (ground > 0) s.ground_spacing = Length::metres(std::sqrt(s.covered / static_cast<double>(ground)));
  s.supported_cell = cell_for_spacing(ground > 0 ? s.ground_spacing : s.spacing);
  find_gaps(counts, raster, s);
  compare_lines(lines, metres_per(info.quantity.unit), covered, s);
  return s;
}

}  // namespace katoptra
