// Straight steps oblique to rows and columns.
//
// In each window, departures from the mean of 3 x 3 (of cells 2 x 2 large) are summed along all lines that cross it: a
// step leaves a strong minus beside a strong plus. Where that stands out from the parallels, the step is measured in
// pieces of the line, with the slope of both sides taken out; relief does not give the same height in nearly every
// piece, nothing beside it, and nothing wider. What passes is followed through the whole grid, piece by piece.
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <optional>

#include "check/least_squares.hpp"
#include "check/moments.hpp"
#include "check/sectors.hpp"
#include "line_sums.hpp"
#include "oblique.hpp"

namespace katoptra {
namespace {

constexpr double kScore = 8;  // times the deviation of parallels
constexpr std::size_t kSeedsAWindow = 3;
constexpr std::size_t kMostSeeds = 4000, kMostFollowed = 100;
constexpr double kPiece = 32;         // cells along the line
constexpr double kLeastLength = 512;  // cells
constexpr int kSearch = 3;            // bins to either side of where a step is looked for
constexpr int kReach = 16;            // bins to either side of the line that are known
static_assert(kReach >= kSearch + 7 + 6);
constexpr double kShareOfPieces = 0.75;  // that must show the step
constexpr double kLeastRatio = 0.6, kMostRatio = 1.5, kBesideRatio = 0.35;
constexpr double kFitted = 8;  // cells to either side of the line that relief is fitted to
constexpr int kMisses = 4;
constexpr std::size_t kRim = 8;
constexpr double kLeastLean = 2;  // cells that a line runs across rows (or columns) over all its length

GridLine through(Point a, Point b) {
  const double length = std::hypot(b.x - a.x, b.y - a.y);
  return {(a.x + b.x) / 2, (a.y + b.y) / 2, (b.x - a.x) / length, (b.y - a.y) / length};
}

// Mean heights by the distance from the line (left of its direction is negative), over a piece of it, less the curved
// surface that fits the piece best: the cells of a bin are not evenly spread along it, and slopes would show.
class CrossProfile {
 public:
  // Of cols x rows values in row order, in whose cells the line is given; none where a bin knows too little.
  static std::optional<CrossProfile> of(const float* z, std::int64_t cols, std::int64_t rows, const GridLine& line,
                                        double length) {
    const std::vector<Cell> cells = cells_of(z, cols, rows, line, length);
    LeastSquares surface(6);
    const double middle = cells.empty() ? 0 : cells[cells.size() / 2].z;
    for (const Cell& c : cells)
      if (std::abs(c.across) <= kFitted) surface.add(terms(c), c.z - middle);
    if (!surface.solve()) return std::nullopt;
    std::array<double, kBins> sums{};
    std::array<int, kBins> counts{};
    for (const Cell& c : cells) {
      const auto bin = static_cast<std::size_t>(std::llround(c.across) + kReach);
      const auto t = terms(c);
      double fit = middle;
      for (std::size_t i = 0; i < t.size(); ++i) fit += surface.value(i) * t[i];
      sums[bin] += c.z - fit;
      ++counts[bin];
    }
    CrossProfile p;
    for (std::size_t i = 0; i < kBins; ++i) {
      if (counts[i] < length / 2) return std::nullopt;
      p.z_[i] = sums[i] / counts[i];
    }
    return p;
  }

  // The step at bin j with relief up to the third power of the distance taken out: weights of the differences across
  // 1.5, 3.5 and 5.5 bins that give 1 for a step and 0 for d and d^3 (even powers cancel).
  double step(int j) const { return 2.0625 * across(j, 1) - 1.375 * across(j, 3) + 0.3125 * across(j, 5); }
  // The same over a wider gap: equal for a sharp step, several times as much for a scarp.
  double wide_step(int j) const { return 4.0625 * across(j, 3) - 4.375 * across(j, 5) + 1.3125 * across(j, 7); }
  // And over the narrowest: about the same for a sharp step, nothing at the foot of an embankment.
  double sharp_step(int j) const {
    auto pair = [&](int d) { return at(j + d) - at(j - d); };
    return 2.5 * pair(1) - 2 * pair(2) + 0.5 * pair(3);
  }

 private:
  static constexpr std::int64_t kBins = 2 * kReach + 1;
  double at(int j) const { return z_[static_cast<std::size_t>(j + kReach)]; }
  // From bins near and near + 1 on one side of bin j to those on the other.
  double across(int j, int near) const {
    return ((at(j + near) + at(j + near + 1)) - (at(j - near) + at(j - near - 1))) / 2;
  }
  struct Cell {
    double along, across, z;
  };
  static std::array<double, LeastSquares::kMost> terms(const Cell& c) {
    return {1, c.along, c.across, c.along * c.along, c.along * c.across, c.across * c.across};
  }
  static std::vector<Cell> cells_of(const float* z, std::int64_t cols, std::int64_t rows, const GridLine& line,
                                    double length) {
    const double half = length / 2, wide = kReach + 0.5,
                 down = half * std::abs(line.south) + wide * std::abs(line.east),
                 side = half * std::abs(line.east) + wide * std::abs(line.south);
    auto from = [](double v) { return std::max<std::int64_t>(0, static_cast<std::int64_t>(std::ceil(v))); };
    auto to = [](double v, std::int64_t n) { return std::min(n - 1, static_cast<std::int64_t>(std::floor(v))); };
    std::vector<Cell> cells;
    for (std::int64_t r = from(line.row - down); r <= to(line.row + down, rows); ++r)
      for (std::int64_t c = from(line.col - side); c <= to(line.col + side, cols); ++c) {
        const double dx = static_cast<double>(c) - line.col, dy = static_cast<double>(r) - line.row,
                     along = dx * line.east + dy * line.south, across = dy * line.east - dx * line.south;
        const auto v = static_cast<double>(z[r * cols + c]);
        if (std::abs(along) <= half && std::abs(across) < wide && !std::isnan(v)) cells.push_back({along, across, v});
      }
    return cells;
  }
  std::array<double, kBins> z_{};
};

// A step as a piece of the line shows it.
struct Measured {
  double along = 0, place = 0;  // from the line's point; where it is across it
  int off = 0;                  // bins from where it was looked for
  double height = 0, wide = 0, sharp = 0;
  double before = 0, after = 0;  // steps 7 bins to either side
};

// The largest step within `search` bins; one of the sign of `like`, unless that is zero.
Measured measured(const CrossProfile& p, double along, int search, double like = 0) {
  Measured m{.along = along};
  for (int j = -search; j <= search; ++j)
    if (const double h = p.step(j); std::abs(h) > std::abs(m.height) && h * like >= 0) {
      m.height = h;
      m.off = j;
    }
  m.wide = p.wide_step(m.off);
  m.sharp = p.sharp_step(m.off);
  m.before = p.step(m.off - 7);
  m.after = p.step(m.off + 7);
  return m;
}

double median_over(const std::vector<Measured>& pieces, double Measured::*what) {
  std::vector<double> v;
  for (const Measured& m : pieces) v.push_back(m.*what);
  return median_of(std::move(v));
}

bool agrees(double height, double with) {
  return height * with > 0 && std::abs(height) > 0.4 * std::abs(with) && std::abs(height) < 2 * std::abs(with);
}

double share_agreeing(const std::vector<Measured>& pieces, double h) {
  const auto n = std::count_if(pieces.begin(), pieces.end(), [&](const Measured& m) { return agrees(m.height, h); });
  return static_cast<double>(n) / static_cast<double>(pieces.size());
}

// The height of the step that nearly all pieces show, sharp and with nothing like it beside; none otherwise.
std::optional<double> common_step(const std::vector<Measured>& pieces) {
  const double h = median_over(pieces, &Measured::height);
  if (share_agreeing(pieces, h) < kShareOfPieces) return std::nullopt;
  for (const auto gap : {&Measured::sharp, &Measured::wide}) {
    const double ratio = median_over(pieces, gap) / h;
    if (!(ratio > kLeastRatio && ratio < kMostRatio)) return std::nullopt;
  }
  for (const auto beside : {&Measured::before, &Measured::after})
    if (std::abs(median_over(pieces, beside)) > kBesideRatio * std::abs(h)) return std::nullopt;
  return h;
}

// ------------------------------------------------------------------------------------------------ within one window

constexpr auto kN = static_cast<std::int64_t>(kHalfEdge);

// Departures from the mean of 3 x 3, at most three of their deviations either way; 0 where one of them is void.
// `known`: the share of cells that have one.
std::vector<float> departures(const std::vector<float>& z, double& known) {
  std::vector<float> across(z.size()), out(z.size());
  for (std::int64_t r = 0; r < kN; ++r)
    for (std::int64_t c = 1; c + 1 < kN; ++c) {
      const float* p = &z[static_cast<std::size_t>(r * kN + c)];
      across[static_cast<std::size_t>(r * kN + c)] = (p[-1] + p[1]) + p[0];
    }
  std::vector<double> sample;
  std::size_t count = 0;
  for (std::int64_t r = 1; r + 1 < kN; ++r)
    for (std::int64_t c = 1; c + 1 < kN; ++c) {
      const auto i = static_cast<std::size_t>(r * kN + c);
      const float* p = &across[i];
      const float d = z[i] - ((p[-kN] + p[kN]) + p[0]) * (1.0f / 9);
      if (std::isnan(d)) continue;
      out[i] = d;
      if (++count % 7 == 0) sample.push_back(static_cast<double>(d));
    }
  known = static_cast<double>(count) / static_cast<double>(kN * kN);
  const auto most = sample.empty() ? 0 : static_cast<float>(3 * robust_deviation(sample, median_of(sample)));
  for (float& d : out) d = std::clamp(d, -most, most);
  return out;
}

// A line whose sums stand out: shift and column of a turned window.
struct Stand {
  std::size_t turn = 0, shift = 0, column = 0;
  double score = 0;
};

// The line between column x and x + 1 of the first row and as far on as the shift in the last, in half cells.
GridLine line_of(const Stand& s) {
  const LineTurn turn = kLineTurns[s.turn];
  const double x = static_cast<double>(s.column) - static_cast<double>(LineSums::kEdge) + 0.5,
               last = static_cast<double>(kN - 1);
  auto placed = [&](double col, double row) {
    if (turn.mirrored) col = last - col;
    return turn.transposed ? Point{row, col} : Point{col, row};
  };
  // Only what lies in the window.
  const double per_row = static_cast<double>(s.shift) / last, from = x < 0 ? -x / per_row : 0,
               to = x + static_cast<double>(s.shift) > last ? (last - x) / per_row : last;
  return through(placed(x + per_row * from, from), placed(x + per_row * to, to));
}

// Where sums along lines jump more than those along parallels do.
std::vector<Stand> outstanding(const std::vector<float>& d) {
  std::vector<Stand> best;
  LineSums sums;
  for (std::size_t t = 0; t < std::size(kLineTurns); ++t) {
    sums.sum(d.data(), kLineTurns[t]);
    for (std::size_t s = 2; s < LineSums::kEdge; ++s) {
      const float* p = sums.of_shift(s);
      // Lines that are at least half as long as the window, and not along its rim.
      const std::size_t from = LineSums::kEdge - s / 2 + kRim, to = LineSums::kWidth - s / 2 - kRim;
      double total = 0, largest = 0;
      std::size_t at = 0;
      for (std::size_t x = from + 1; x + 2 < to; ++x) {
        // Less what goes on beyond it.
        const double jump = std::abs(static_cast<double>((p[x + 1] - p[x]) - (p[x + 2] - p[x - 1]) * (1.0f / 3)));
        total += jump;
        if (jump > largest) {
          largest = jump;
          at = x;
        }
      }
      // The mean of what is left, as a deviation.
      const double others = 1.2533 * (total - largest) / static_cast<double>(to - from);
      if (largest > kScore * others && others > 0) best.push_back({t, s, at, largest / others});
    }
  }
  std::stable_sort(best.begin(), best.end(), [](const Stand& a, const Stand& b) { return a.score > b.score; });
  return best;
}

bool near(const GridLine& a, const GridLine& b, double distance) {
  const double cross = a.east * b.south - a.south * b.east, off = (b.row - a.row) * a.east - (b.col - a.col) * a.south;
  return std::abs(cross) < 0.1 && std::abs(off) < distance;
}

}  // namespace

void ObliqueSteps::look(const SampledWindow& w) {
  double known = 0;
  const std::vector<float> d = departures(w.halves, known);
  if (known < 0.5) return;
  std::vector<GridLine> taken;
  for (const Stand& s : outstanding(d)) {
    const GridLine line = line_of(s);
    if (std::any_of(taken.begin(), taken.end(), [&](const GridLine& t) { return near(t, line, 6); })) continue;
    taken.push_back(line);
    if (taken.size() > kSeedsAWindow || seeds_.size() >= kMostSeeds) return;
    std::vector<Measured> pieces;
    constexpr double kHalfPiece = kPiece / 2;
    for (double t = -90 + kHalfPiece / 2; t < 90; t += kHalfPiece) {
      GridLine piece = line;
      piece.col += t * line.east;
      piece.row += t * line.south;
      if (const auto p = CrossProfile::of(w.halves.data(), kN, kN, piece, kHalfPiece))
        pieces.push_back(measured(*p, t, 1));
    }
    // Half cells are coarse: only what plainly is none is dropped here.
    const double h = median_over(pieces, &Measured::height);
    if (pieces.size() < 4 || share_agreeing(pieces, h) < 0.5 ||
        std::abs(h) < 0.5 * scene_.in_unit(scene_.limits().step))
      continue;
    seeds_.push_back({{static_cast<double>(w.at.col) + 2 * line.col + 0.5,
                       static_cast<double>(w.at.row) + 2 * line.row + 0.5, line.east, line.south},
                      h,
                      s.score});
  }
}

namespace {

// -------------------------------------------------------------------------------------------- through the whole grid

struct Followed {
  GridLine line;
  double from = 0, to = 0;  // along it
  double height = 0;
};

class Follower {
 public:
  Follower(const Grid& grid, const GridLine& seed, double height) : grid_(grid), line_(seed), height_(height) {}

  std::optional<Followed> follow() {
    walk(0, kPiece);
    walk(-kPiece, -kPiece);
    std::vector<Measured> shown;
    for (const Measured& m : pieces_)
      if (agrees(m.height, height_)) shown.push_back(m);
    if (shown.size() < 4) return std::nullopt;
    const auto [first, last] = std::minmax_element(
        shown.begin(), shown.end(), [](const Measured& a, const Measured& b) { return a.along < b.along; });
    const double from = first->along, to = last->along;
    std::erase_if(pieces_, [&](const Measured& m) { return m.along < from || m.along > to; });
    const auto h = common_step(pieces_);
    if (!h || to - from + kPiece < kLeastLength) return std::nullopt;
    const Followed f{fitted(), from - kPiece / 2, to + kPiece / 2, *h};
    // Along rows and columns they are looked for in longer means, and told as such.
    const double lean = std::min(std::abs(f.line.east), std::abs(f.line.south)) * (f.to - f.from);
    return lean < kLeastLean ? std::nullopt : std::optional(f);
  }

 private:
  GridLine moved(double along, double off) const {
    return {line_.col + along * line_.east - off * line_.south, line_.row + along * line_.south + off * line_.east,
            line_.east, line_.south};
  }

  // Offset and turn of the line that the pieces so far show: along -> off.
  std::pair<double, double> trend() const {
    double n = 0, t = 0, tt = 0, o = 0, to = 0;
    for (const Measured& m : pieces_) {
      if (!agrees(m.height, height_)) continue;
      ++n;
      t += m.along;
      tt += m.along * m.along;
      o += m.place;
      to += m.along * m.place;
    }
    const double spread = n * tt - t * t;
    if (n < 3 || spread <= 0) return {n > 0 ? o / n : 0, 0};
    const double slope = (n * to - t * o) / spread;
    return {(o - slope * t) / n, slope};
  }

  GridLine fitted() const {
    const auto [off, slope] = trend();
    GridLine l = moved(0, off);
    const double e = l.east - slope * l.south, s = l.south + slope * l.east, length = std::hypot(e, s);
    l.east = e / length;
    l.south = s / length;
    return l;
  }

  void walk(double along, double by) {
    const Window all = grid_.frame().window();
    for (int misses = 0; misses < kMisses; along += by) {
      const auto [off, slope] = trend();
      const double expected = off + slope * along;
      const GridLine piece = moved(along, expected);
      if (!(piece.col >= 0 && piece.row >= 0 && piece.col < static_cast<double>(all.cols) &&
            piece.row < static_cast<double>(all.rows)))
        return;
      constexpr std::int64_t kAround = 30;
      const Window w =
          Window{std::llround(piece.col) - kAround, std::llround(piece.row) - kAround, 2 * kAround + 1, 2 * kAround + 1}
              .intersected(all);
      const Block b = grid_.read(w);
      std::vector<float> z;
      for (std::int64_t r = 0; r < w.rows; ++r) z.insert(z.end(), b.row(r), b.row(r) + w.cols);
      const GridLine here{piece.col - static_cast<double>(w.col), piece.row - static_cast<double>(w.row), piece.east,
                          piece.south};
      const auto p = CrossProfile::of(z.data(), w.cols, w.rows, here, kPiece);
      if (!p) {
        ++misses;
        continue;
      }
      Measured m = measured(*p, along, kSearch, height_);
      m.place = expected + m.off;
      pieces_.push_back(m);
      misses = agrees(m.height, height_) ? 0 : misses + 1;
    }
  }

  const Grid& grid_;
  GridLine line_;
  double height_;
  std::vector<Measured> pieces_;
};

// Strips of the frame along a line, so that each has a box of its own.
MultiPolygon strips(const Frame& f, const Followed& s) {
  constexpr double kWide = 3, kMostStrips = 24;
  const double length = s.to - s.from, n = std::min(kMostStrips, std::ceil(length / 64));
  MultiPolygon all;
  for (double i = 0; i < n; ++i) {
    Ring ring;
    auto corner = [&](double along, double off) {
      ring.push_back(f.centre(s.line.col + along * s.line.east - off * s.line.south,
                              s.line.row + along * s.line.south + off * s.line.east));
    };
    const double from = s.from + length * i / n, to = s.from + length * (i + 1) / n;
    corner(from, -kWide);
    corner(from, kWide);
    corner(to, kWide);
    corner(to, -kWide);
    ring.push_back(ring.front());
    all.push_back({ring, {}});
  }
  return all;
}

// Between two sources it is a seam, which is told by itself: at least a quarter of the line lies in its squares.
bool along_seam(const Scene& scene, const Followed& f) {
  double covered = 0;
  for (const Finding& k : scene.findings()) {
    if (k.code != "seam") continue;
    for (const Polygon& p : k.place) {
      const Bounds box = bounds_of({p});
      const Point at = box.centre();
      const double dx = scene.frame().col_at(at.x) - f.line.col, dy = scene.frame().row_at(at.y) - f.line.row;
      const double edge = box.width() / scene.frame().cell().x;
      if (std::abs(dy * f.line.east - dx * f.line.south) < edge) covered += edge;
    }
  }
  return covered > (f.to - f.from) / 4;
}

}  // namespace

void ObliqueSteps::judge() {
  std::stable_sort(seeds_.begin(), seeds_.end(), [](const Seed& a, const Seed& b) { return a.score > b.score; });
  std::vector<Followed> all;
  std::size_t followed = 0;
  for (const Seed& s : seeds_) {
    if (std::any_of(all.begin(), all.end(), [&](const Followed& f) { return near(f.line, s.line, 12); })) continue;
    if (++followed > kMostFollowed) break;
    const auto f = Follower(scene_.grid(), s.line, s.height).follow();
    if (f && std::abs(f->height) >= scene_.in_unit(scene_.limits().step)) all.push_back(*f);
  }
  std::erase_if(all, [&](const Followed& f) { return along_seam(scene_, f); });
  if (all.empty()) return;
  std::stable_sort(all.begin(), all.end(),
                   [](const Followed& a, const Followed& b) { return std::abs(a.height) > std::abs(b.height); });
  const Followed& f = all[0];
  auto end_of = [&](double along) {
    return scene_.frame().centre(f.line.col + along * f.line.east, f.line.row + along * f.line.south);
  };
  // Towards the side that lies higher.
  const double side = f.height > 0 ? 1 : -1,
               bearing = std::atan2(-f.line.south * side, -f.line.east * side) * 180 / std::numbers::pi;
  Finding& finding = scene_.add(
      "step", Severity::Warning,
      fmt::format(
          "{} oblique to the rows: the ground to the {} lies {:.2f} {} higher{}, over {:.0f} cells from {} to {}",
          counted(static_cast<std::int64_t>(all.size()), "straight step"),
          sector_name(sector_of(bearing < 0 ? bearing + 360 : bearing)), std::abs(f.height), scene_.unit(),
          all.size() > 1 ? " at most" : "", f.to - f.from, scene_.at(end_of(f.from)), scene_.at(end_of(f.to))),
      "flight strips were joined here, unless a wall or a dike stands there: look at a hillshade, then correct the "
      "offset of one strip",
      std::abs(f.height));
  for (const Followed& each : all)
    for (Polygon& p : strips(scene_.frame(), each))
      if (finding.place.size() < kMostPlaces) finding.place.push_back(std::move(p));
}

}  // namespace katoptra
