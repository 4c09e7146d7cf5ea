// Bands between contours, as polygons.
//
// The ground between known cell centres is a set of squares. What bounds a band is of two kinds: contours, and pieces
// of the border of that ground, cut where contours meet it. Each is known with its ends as numbers (the side of the
// lattice that is crossed, and the level), not as places, so rings close without looking for near points. A ring is
// walked with the band on its left: along the border to the next contour, along that to its other end, on along the
// border. Closed contours are rings already, of the band above and, turned round, of the band below. Where heights lie
// exactly at a level, lines touch at cell centres, and two may run along the same cells: sides that a band has on both
// sides of it are taken out, rings are taken apart where they touch themselves, and parts without area vanish.
#include <algorithm>
#include <array>
#include <cmath>
#include <iterator>
#include <limits>
#include <map>
#include <unordered_map>
#include <utility>

#include "katoptra/base/parallel.hpp"

#include "geo/turning.hpp"
#include "levels_of.hpp"

namespace katoptra {
namespace {

struct Corner {
  std::uint32_t col = 0, row = 0;
  auto operator<=>(const Corner&) const = default;
};
struct HashCorner {
  std::size_t operator()(Corner c) const { return (std::size_t{c.row} << 32 | c.col) * 0x9E3779B97F4A7C15u; }
};

// A side of the border, with the ground on its left.
struct Border {
  Corner from, to;
  std::int32_t step_from, step_to;
  std::size_t first_piece;  // number of the piece that begins at `from`

  LatticeSide side() const {
    const Corner low =
        std::min(from, to, [](Corner a, Corner b) { return a.row != b.row ? a.row < b.row : a.col < b.col; });
    return {low.col, low.row, from.col == to.col};
  }
  bool rises() const { return step_to > step_from; }
  int pieces() const { return std::abs(step_to - step_from) + 1; }
  std::int32_t band(int piece) const { return rises() ? step_from + piece : step_from - piece; }
  // The level that ends a piece which is not the last.
  std::int32_t level_after(int piece) const { return rises() ? step_from + piece + 1 : step_from - piece; }
  int piece_after(std::int32_t level) const { return rises() ? level - step_from : step_from - level + 1; }
};

// The border of the squares that have four known corners, from rows in order.
class BorderFinder {
 public:
  explicit BorderFinder(std::int64_t cols)
      : cols_(static_cast<std::size_t>(cols)), above_(cols_, kVoidStep), squares_(cols_ + 1, false) {}

  // The steps of the next row; one more row of voids ends it.
  void add(const std::vector<std::int32_t>& row) {
    std::vector<bool> squares(cols_ + 1, false);  // that of columns c - 1 and c, between this row and the one above
    for (std::size_t c = 1; c < cols_; ++c)
      squares[c] =
          above_[c - 1] != kVoidStep && above_[c] != kVoidStep && row[c - 1] != kVoidStep && row[c] != kVoidStep;
    const auto above = row_ - 1;
    for (std::size_t c = 0; c < cols_; ++c) {
      const auto col = static_cast<std::uint32_t>(c);
      // Sides of the row above: square above and below.
      if (c > 0 && squares_[c] != squares[c]) {
        if (squares_[c])
          put({col - 1, above}, {col, above}, above_[c - 1], above_[c]);
        else
          put({col, above}, {col - 1, above}, above_[c], above_[c - 1]);
      }
      // Sides between the rows: square to the west and to the east.
      if (squares[c] != squares[c + 1]) {
        if (squares[c + 1])
          put({col, above}, {col, row_}, above_[c], row[c]);
        else
          put({col, row_}, {col, above}, row[c], above_[c]);
      }
    }
    above_ = row;
    squares_ = std::move(squares);
    ++row_;
  }
  std::vector<Border> take() { return std::move(out_); }

 private:
  void put(Corner from, Corner to, std::int32_t a, std::int32_t b) {
    out_.push_back({from, to, a, b, pieces_});
    pieces_ += static_cast<std::size_t>(out_.back().pieces());
  }

  std::size_t cols_;
  std::uint32_t row_ = 0;
  std::vector<std::int32_t> above_;
  std::vector<bool> squares_;
  std::vector<Border> out_;
  std::size_t pieces_ = 0;
};

struct HashPoint {
  std::size_t operator()(Point p) const {
    return std::hash<double>()(p.x) * 0x9E3779B97F4A7C15u ^ std::hash<double>()(p.y);
  }
};

// Loops of a ring that comes back to one of its points; those without area are left out.
template <class Emit>
void simple_loops(const Ring& ring, const Emit& emit) {
  Ring open;
  std::unordered_map<Point, std::size_t, HashPoint> at;
  auto close = [&](std::size_t from) {
    Ring loop(open.begin() + static_cast<std::ptrdiff_t>(from), open.end());
    loop.push_back(loop.front());
    if (loop.size() > 3 && twice_area(loop) != 0) emit(std::move(loop));
    for (std::size_t i = from; i < open.size(); ++i) at.erase(open[i]);
    open.resize(from);
  };
  for (std::size_t i = 0; i < ring.size(); ++i) {
    const Point p{ring[i].x + 0.0, ring[i].y + 0.0};
    if (const auto seen = at.find(p); seen != at.end()) close(seen->second);
    at.emplace(p, open.size());
    open.push_back(p);
  }
}

// Takes out what rings of one band run along in both directions: ground without width, between cells at a level. Such
// sides join two cell centres, so only those are looked at.
class WithoutWidth {
 public:
  explicit WithoutWidth(const Frame& frame) : frame_(frame) {}

  void take_out(std::vector<Ring>& rings) {
    sides_.clear();
    for (const Ring& r : rings)
      for (std::size_t i = 0; i + 1 < r.size(); ++i)
        if (is_centre(r[i]) && is_centre(r[i + 1])) ++sides_[{r[i], r[i + 1]}];
    std::erase_if(sides_, [this](const auto& s) { return !sides_.contains({s.first.second, s.first.first}); });
    if (sides_.empty()) return;
    std::vector<Ring> kept;
    next_.clear();
    for (Ring& r : rings) {
      bool whole = true;
      for (std::size_t i = 0; i + 1 < r.size() && whole; ++i) whole = !sides_.contains({r[i], r[i + 1]});
      if (whole) {
        kept.push_back(std::move(r));
        continue;
      }
      for (std::size_t i = 0; i + 1 < r.size(); ++i)
        if (!sides_.contains({r[i], r[i + 1]})) next_.emplace(r[i], r[i + 1]);
    }
    while (!next_.empty()) kept.push_back(loop());
    rings = std::move(kept);
  }

 private:
  bool is_centre(Point p) const {
    return frame_.centre(std::round(frame_.col_at(p.x) - 0.5), std::round(frame_.row_at(p.y) - 0.5)) == p;
  }
  // From place to place; where several ways lead on, the one farthest to the left, which goes round the same ground.
  Ring loop() {
    Ring out{next_.begin()->first};
    double dx = 0, dy = 0;
    do {
      const Point p = out.back();
      const auto [first, end] = next_.equal_range(p);
      auto best = first;
      double most = -4;
      for (auto i = first; i != end; ++i) {
        const double x = i->second.x - p.x, y = i->second.y - p.y;
        const double turn = dx == 0 && dy == 0 ? 0 : std::atan2(dx * y - dy * x, dx * x + dy * y);
        if (turn > most) {
          most = turn;
          best = i;
        }
      }
      dx = best->second.x - p.x;
      dy = best->second.y - p.y;
      out.push_back(best->second);
      next_.erase(best);
    } while (!(out.back() == out.front()));
    return out;
  }

  struct West {
    bool operator()(Point a, Point b) const { return west_of(a, b); }
  };
  struct HashSide {
    std::size_t operator()(const std::pair<Point, Point>& s) const {
      return HashPoint()(s.first) * 31 + HashPoint()(s.second);
    }
  };
  const Frame& frame_;
  std::unordered_map<std::pair<Point, Point>, int, HashSide> sides_;
  std::multimap<Point, Point, West> next_;
};

class BandWalker {
 public:
  BandWalker(const Frame& frame, std::vector<TracedLine> lines, std::vector<Border> border)
      : frame_(frame), lines_(std::move(lines)), border_(std::move(border)) {
    for (std::size_t i = 0; i < border_.size(); ++i) {
      at_corner_.emplace(border_[i].from, i);
      sides_[border_[i].side()] = i;
    }
    for (std::size_t i = 0; i < lines_.size(); ++i)
      if (!lines_[i].closed) {
        ends_[{lines_[i].first, lines_[i].step}] = {i, true};
        ends_[{lines_[i].last, lines_[i].step}] = {i, false};
      }
  }

  // Rings by band, each with the band on its left.
  std::map<std::int32_t, std::vector<Ring>> rings() {
    for (TracedLine& line : lines_)
      if (line.closed) closed(line);
    const std::size_t pieces =
        border_.empty() ? 0 : border_.back().first_piece + static_cast<std::size_t>(border_.back().pieces());
    seen_.assign(pieces, false);
    for (std::size_t i = 0; i < border_.size(); ++i)
      for (int piece = 0; piece < border_[i].pieces(); ++piece)
        if (!seen_[border_[i].first_piece + static_cast<std::size_t>(piece)]) walk(i, piece);
    WithoutWidth without_width(frame_);
    std::map<std::int32_t, std::vector<Ring>> simple;
    for (auto& [band, rings] : out_) {
      without_width.take_out(rings);
      for (const Ring& r : rings) simple_loops(r, [&, b = band](Ring loop) { simple[b].push_back(std::move(loop)); });
    }
    return simple;
  }

 private:
  void closed(const TracedLine& line) {
    if (line.points.size() < 4) return;
    Ring turned(line.points.rbegin(), line.points.rend());
    out_[line.step].push_back(line.higher_on_left ? line.points : turned);
    out_[line.step - 1].push_back(line.higher_on_left ? std::move(turned) : line.points);
  }

  void walk(std::size_t edge, int piece) {
    const std::int32_t band = border_[edge].band(piece);
    Ring ring;
    auto add = [&](Point p) {
      if (ring.empty() || !(ring.back() == p)) ring.push_back(p);
    };
    for (;;) {
      const Border& b = border_[edge];
      const std::size_t number = b.first_piece + static_cast<std::size_t>(piece);
      if (seen_[number]) break;
      seen_[number] = true;
      if (piece == 0) add(frame_.centre(b.from.col, b.from.row));
      if (piece + 1 == b.pieces()) {
        edge = next_after(b);
        piece = 0;
        continue;
      }
      const std::int32_t level = b.level_after(piece);
      const auto [line, from_first] = ends_.at({b.side(), level});
      const TracedLine& l = lines_[line];
      if (from_first)
        for (auto p = l.points.begin(); p != l.points.end(); ++p) add(*p);
      else
        for (auto p = l.points.rbegin(); p != l.points.rend(); ++p) add(*p);
      edge = sides_.at(from_first ? l.last : l.first);
      piece = border_[edge].piece_after(level);
    }
    if (ring.size() < 3) return;
    if (!(ring.front() == ring.back())) ring.push_back(ring.front());
    out_[band].push_back(std::move(ring));
  }
  // Where two squares meet at a corner alone, the border goes on round the same square: to the left.
  std::size_t next_after(const Border& b) const {
    const auto [first, end] = at_corner_.equal_range(b.to);
    if (std::next(first) == end) return first->second;
    auto step = [](const Border& e) {
      return std::array{static_cast<std::int64_t>(e.to.col) - e.from.col,
                        static_cast<std::int64_t>(e.from.row) - e.to.row};
    };
    const auto d = step(b);
    for (auto i = first; i != end; ++i)
      if (const auto e = step(border_[i->second]); d[0] * e[1] - d[1] * e[0] > 0) return i->second;
    return first->second;
  }

  using End = std::pair<LatticeSide, std::int32_t>;
  struct HashEnd {
    std::size_t operator()(const End& e) const {
      return HashCorner()({e.first.col, e.first.row}) ^
             static_cast<std::size_t>(static_cast<std::uint32_t>(e.second) * 2u + (e.first.down ? 1u : 0u)) *
                 0xC2B2AE3D27D4EB4Fu;
    }
  };
  struct HashSide {
    std::size_t operator()(const LatticeSide& s) const { return HashCorner()({s.col, s.row}) + (s.down ? 1 : 0); }
  };

  const Frame& frame_;
  std::vector<TracedLine> lines_;
  std::vector<Border> border_;
  std::unordered_multimap<Corner, std::size_t, HashCorner> at_corner_;
  std::unordered_map<LatticeSide, std::size_t, HashSide> sides_;
  std::unordered_map<End, std::pair<std::size_t, bool>, HashEnd> ends_;
  std::vector<bool> seen_;
  std::map<std::int32_t, std::vector<Ring>> out_;
};

// Whether a point lies inside a ring, with the sides of the ring sorted into strips of equal height.
class InsideRing {
 public:
  explicit InsideRing(const Ring& ring) : ring_(ring), box_(bounds_of(ring)) {
    strips_.resize(std::max<std::size_t>(1, ring.size() / 8));
    for (std::size_t i = 0; i + 1 < ring.size(); ++i) {
      const auto [low, high] = std::minmax(ring[i].y, ring[i + 1].y);
      for (std::size_t s = strip(low); s <= strip(high); ++s) strips_[s].push_back(static_cast<std::uint32_t>(i));
    }
  }
  bool holds(Point p) const {
    if (!box_.contains(p)) return false;
    bool inside = false;
    for (const std::uint32_t i : strips_[strip(p.y)]) {
      const Point a = ring_[i], b = ring_[i + 1];
      if ((a.y > p.y) != (b.y > p.y) && p.x < a.x + (b.x - a.x) * (p.y - a.y) / (b.y - a.y)) inside = !inside;
    }
    return inside;
  }

 private:
  std::size_t strip(double y) const {
    const double share = box_.height() > 0 ? (y - box_.south) / box_.height() : 0;
    return std::min(strips_.size() - 1,
                    static_cast<std::size_t>(std::max(0.0, share) * static_cast<double>(strips_.size())));
  }
  const Ring& ring_;
  Bounds box_;
  std::vector<std::vector<std::uint32_t>> strips_;
};

// Each hole goes to the smallest outer ring around it. Rings touch at corners at most, so the middle of a hole's
// longest side lies inside the ring that it is a hole of, not on it.
MultiPolygon polygons_of(std::vector<Ring> rings) {
  std::vector<Ring> outer, holes;
  for (Ring& r : rings) {
    begin_in_west(r);
    (twice_area(r) > 0 ? outer : holes).push_back(std::move(r));
  }
  auto by_place = [](const Ring& a, const Ring& b) {
    return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(), west_of);
  };
  std::sort(outer.begin(), outer.end(), by_place);
  std::sort(holes.begin(), holes.end(), by_place);
  MultiPolygon out;
  for (Ring& r : outer) out.push_back({std::move(r), {}});
  if (holes.empty()) return out;
  std::vector<InsideRing> inside;
  std::vector<double> sizes;
  Bounds all;
  for (const Polygon& p : out) {
    inside.emplace_back(p.outer);
    sizes.push_back(twice_area(p.outer));
    all.include(bounds_of(p.outer));
  }
  constexpr int kBoxes = 64;
  auto box_of = [&](double v, double from, double size) {
    return std::clamp(static_cast<int>((v - from) / size * kBoxes), 0, kBoxes - 1);
  };
  std::vector<std::vector<std::size_t>> near(kBoxes * kBoxes);
  for (std::size_t i = 0; i < out.size(); ++i) {
    const Bounds b = bounds_of(out[i].outer);
    for (int y = box_of(b.south, all.south, all.height()); y <= box_of(b.north, all.south, all.height()); ++y)
      for (int x = box_of(b.west, all.west, all.width()); x <= box_of(b.east, all.west, all.width()); ++x)
        near[static_cast<std::size_t>(y * kBoxes + x)].push_back(i);
  }
  for (Ring& hole : holes) {
    std::size_t longest = 0;
    double most = -1;
    for (std::size_t i = 0; i + 1 < hole.size(); ++i)
      if (const double l = std::hypot(hole[i + 1].x - hole[i].x, hole[i + 1].y - hole[i].y); l > most) {
        most = l;
        longest = i;
      }
    const Point p{(hole[longest].x + hole[longest + 1].x) / 2, (hole[longest].y + hole[longest + 1].y) / 2};
    std::size_t best = out.size();
    for (const std::size_t i : near[static_cast<std::size_t>(box_of(p.y, all.south, all.height()) * kBoxes +
                                                             box_of(p.x, all.west, all.width()))])
      if (sizes[i] > -twice_area(hole) && (best == out.size() || sizes[i] < sizes[best]) && inside[i].holds(p))
        best = i;
    if (best < out.size()) out[best].holes.push_back(std::move(hole));
  }
  return out;
}

}  // namespace

std::vector<ContourBand> contour_bands(const Grid& surface, const ContourOptions& options) {
  const Levels levels = levels_of(surface, options);
  std::vector<TracedLine> lines;
  RunOptions run = options.run;
  run.memory /= 3;  // a line is a side of two bands
  with_levels(surface, levels, run, [&](TracedLine l) { lines.push_back(std::move(l)); });
  const Frame& f = surface.frame();
  BorderFinder border(f.cols());
  std::vector<std::int32_t> steps(static_cast<std::size_t>(f.cols()));
  run.silent = true;
  for_each_band(surface, Planes::Values, run, [&](const Block& b) {
    for (std::int64_t r = 0; r < b.window().rows; ++r) {
      levels.steps(b.row(r), f.cols(), steps.data());
      border.add(steps);
    }
  });
  border.add(std::vector<std::int32_t>(static_cast<std::size_t>(f.cols()), kVoidStep));
  std::vector<ContourBand> out;
  for (auto& [step, rings] : BandWalker(f, std::move(lines), border.take()).rings())
    if (MultiPolygon shape = polygons_of(std::move(rings)); !shape.empty())
      out.push_back({levels.level(step), levels.level(step + 1), std::move(shape)});
  return out;
}

Layer band_layer(const std::vector<ContourBand>& bands, const Grid& surface) {
  Layer layer{.name = "bands", .crs = surface.frame().crs(), .features = {}, .unit = surface.quantity().unit};
  for (const ContourBand& b : bands) {
    Feature f{b.shape, {}};
    if (std::isfinite(b.from)) f.properties.emplace_back("from", b.from);
    if (std::isfinite(b.to)) f.properties.emplace_back("to", b.to);
    f.properties.emplace_back("unit", unit_name(surface.quantity()));
    layer.features.push_back(std::move(f));
  }
  return layer;
}

}  // namespace katoptra
