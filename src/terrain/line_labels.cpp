// Labels are told apart by discs along them: two labels are clear of each other when no disc of one comes near one of
// the other. Discs lie in boxes of a lattice as wide as they are, so only nine boxes are looked into.
#include "katoptra/terrain/line_labels.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "geo/flat_distance.hpp"

namespace katoptra {
namespace {

// A line with the distance of each point from its beginning.
struct Measured {
  const LineString& line;
  std::vector<double> at;

  explicit Measured(const LineString& l) : line(l) {
    double length = 0;
    for (std::size_t i = 0; i < line.size(); ++i) at.push_back(length += i ? flat_distance(line[i - 1], line[i]) : 0);
  }
  double length() const { return at.empty() ? 0 : at.back(); }
  // The first point beyond this distance.
  std::size_t after(double d) const {
    return static_cast<std::size_t>(std::upper_bound(at.begin(), at.end(), d) - at.begin());
  }
  Point place(double d) const {
    const std::size_t i = std::clamp<std::size_t>(after(d), 1, line.size() - 1);
    const double step = at[i] - at[i - 1], t = step > 0 ? std::clamp((d - at[i - 1]) / step, 0.0, 1.0) : 0;
    return {line[i - 1].x + t * (line[i].x - line[i - 1].x), line[i - 1].y + t * (line[i].y - line[i - 1].y)};
  }
  // The farthest that the line strays from the chord between two of its places.
  double strays(double from, double to) const {
    const Point a = place(from), b = place(to);
    const double chord = flat_distance(a, b);
    if (!(chord > 0)) return std::numeric_limits<double>::infinity();
    double most = 0;
    for (std::size_t i = after(from); i < line.size() && at[i] < to; ++i)
      most = std::max(most, std::abs((b.x - a.x) * (line[i].y - a.y) - (b.y - a.y) * (line[i].x - a.x)) / chord);
    // One that comes back on itself has a short chord.
    return to - from > 1.15 * chord ? std::numeric_limits<double>::infinity() : most;
  }
};

}  // namespace

long long LineLabels::box_of(Point p, int right, int up) const {
  const double size = 2 * options_.height;
  return static_cast<long long>(std::floor(p.x / size) + right) * 4294967291LL +
         static_cast<long long>(std::floor(p.y / size) + up);
}

std::vector<Point> LineLabels::discs(Point centre, double turn, double width) const {
  const int n = std::max(1, static_cast<int>(std::ceil(width / options_.height)));
  std::vector<Point> out;
  for (int i = 0; i < n; ++i) {
    const double along = ((i + 0.5) / n - 0.5) * width;
    out.push_back({centre.x + along * std::cos(turn), centre.y + along * std::sin(turn)});
  }
  return out;
}

bool LineLabels::is_free(Point centre, double turn, double width) const {
  for (const Point p : discs(centre, turn, width)) {
    if (!options_.within.empty() && !options_.within.grown(-0.8 * options_.height).contains(p)) return false;
    for (int up = -1; up <= 1; ++up)
      for (int right = -1; right <= 1; ++right)
        if (const auto box = taken_.find(box_of(p, right, up)); box != taken_.end())
          for (const Point q : box->second)
            if (flat_distance(p, q) < 1.6 * options_.height) return false;
  }
  return true;
}

bool LineLabels::take(Point centre, double turn, double width) {
  if (!is_free(centre, turn, width)) return false;
  keep(centre, turn, width);
  return true;
}

void LineLabels::keep(Point centre, double turn, double width) {
  for (const Point p : discs(centre, turn, width)) taken_[box_of(p, 0, 0)].push_back(p);
}

std::vector<LineLabel> LineLabels::along(const LineString& line, double width) {
  std::vector<LineLabel> out;
  if (line.size() < 2) return out;
  const Measured measured(line);
  const double length = measured.length(), gap = width + 0.6 * options_.height, step = options_.height / 2;
  // A line that a projection sent to infinity has no place for one.
  if (!(length >= 3 * width) || !std::isfinite(length)) return out;
  const auto parts = static_cast<int>(std::clamp(std::floor(length / options_.spacing), 1.0, 10000.0));
  for (int part = 0; part < parts; ++part) {
    const double begin = length * part / parts, end = length * (part + 1) / parts;
    struct Candidate {
      double strays, off, from;
    };
    std::vector<Candidate> candidates;
    for (double from = begin; from + gap <= end; from += step)
      if (const double strays = measured.strays(from, from + gap); strays <= kStraight * options_.height)
        // Hardly any difference in straightness: nearer to the middle of its part.
        candidates.push_back(
            {std::round(strays / (0.1 * options_.height)), std::abs(from + gap / 2 - (begin + end) / 2), from});
    std::sort(candidates.begin(), candidates.end(), [](const Candidate& a, const Candidate& b) {
      return a.strays != b.strays ? a.strays < b.strays : a.off != b.off ? a.off < b.off : a.from < b.from;
    });
    for (const Candidate& c : candidates) {
      const Point a = measured.place(c.from), b = measured.place(c.from + gap);
      const LineLabel label{{(a.x + b.x) / 2, (a.y + b.y) / 2}, std::atan2(b.y - a.y, b.x - a.x), c.from, c.from + gap};
      if (!take(label.centre, label.turn, width)) continue;
      out.push_back(label);
      break;
    }
  }
  return out;
}

std::vector<LineString> without_labels(const LineString& line, const std::vector<LineLabel>& labels) {
  if (labels.empty()) return {line};
  const Measured measured(line);
  std::vector<LineString> out;
  auto part = [&](double from, double to) {
    if (!(to > from)) return;
    LineString piece{measured.place(from)};
    for (std::size_t i = measured.after(from); i < line.size() && measured.at[i] < to; ++i) piece.push_back(line[i]);
    piece.push_back(measured.place(to));
    out.push_back(std::move(piece));
  };
  double from = 0;
  for (const LineLabel& l : labels) {
    part(from, l.from);
    from = l.to;
  }
  part(from, measured.length());
  return out;
}

}  // namespace katoptra
