// The hierarchy lives on a square lattice of n x n squares, n a power of two, that holds the surface in one corner. A
// triangle is halved at the middle m of its longest side. That side is upright or level ("straight") or a diagonal:
//
//   diagonal, half h: m at odd multiples of h both ways, the triangle is half of a square of 2h
//   straight, half h: m at an odd multiple of h one way and an even one the other, the triangle points away from a side
//   of 2h
//
// and levels follow each other from coarse to fine: diagonal n/2, straight n/2, diagonal n/4, ... So a triangle is told
// by m alone, and whether it must be halved is one flag at m, shared by the two triangles of that side. Flags are found
// from fine to coarse: m is flagged when one of the four middles below it is, or a cell of its triangles lies too far
// off. Every triangle that is left is therefore right, and both sides of every side agree on its middle: no cracks.
#include "katoptra/terrain/mesh.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

namespace katoptra {
namespace {

constexpr std::uint64_t kBytesPerCell = 16, kBytesPerTriangle = 100;  // with its sides, and in a file
constexpr std::uint32_t kNoVertex = 0xFFFFFFFFu;

struct Spot {
  std::int64_t x = 0, y = 0;
};
using Triangle = std::array<Spot, 3>;  // the right angle at the last

class Network {
 public:
  Network(std::vector<float> heights, std::int64_t cols, std::int64_t rows, double error, std::uint64_t memory)
      : z_(std::move(heights)), cols_(cols), rows_(rows), most_(memory / kBytesPerTriangle), error_(error) {
    while (n_ < std::max(cols_, rows_) - 1) n_ *= 2;
    find_squares();
    part_corners();
    count_squares();
    flags_.assign(z_.size(), 0);
  }

  void flag(const RunOptions& run) {
    for (std::int64_t h = 1; h < n_; h *= 2) {
      straight(h, run);
      diagonal(h, run);
    }
  }

  SurfaceMesh mesh(const Frame& frame) {
    SurfaceMesh m{.frame = frame, .vertices = {}, .triangles = {}, .floor = {}, .border = {}};
    numbers_.assign(z_.size(), kNoVertex);
    extract(flags_, m.triangles, &m.vertices);
    m.border = border_of(m.triangles);
    // What the border needs, and what that needs above it.
    std::vector<std::uint8_t> needed(z_.size(), 0);
    for (const auto& side : m.border)
      for (const std::uint32_t v : side) needed[at(m.vertices[v].col, m.vertices[v].row)] = 1;
    for (std::int64_t h = 1; h < n_; h *= 2) {
      raise(needed, h, true);
      raise(needed, h, false);
    }
    extract(needed, m.floor, nullptr);
    return m;
  }

 private:
  bool inside(std::int64_t x, std::int64_t y) const { return x >= 0 && y >= 0 && x < cols_ && y < rows_; }
  std::size_t at(std::int64_t x, std::int64_t y) const { return static_cast<std::size_t>(y * cols_ + x); }
  // Of the square to the south-east of a cell.
  bool is_ground(std::int64_t x, std::int64_t y) const {
    return x >= 0 && y >= 0 && x + 1 < cols_ && y + 1 < rows_ && ground_[at(x, y)] != 0;
  }

  void find_squares() {
    ground_.assign(z_.size(), 0);
    for (std::int64_t y = 0; y + 1 < rows_; ++y)
      for (std::int64_t x = 0; x + 1 < cols_; ++x)
        ground_[at(x, y)] = !std::isnan(z_[at(x, y)]) && !std::isnan(z_[at(x + 1, y)]) &&
                            !std::isnan(z_[at(x, y + 1)]) && !std::isnan(z_[at(x + 1, y + 1)]);
  }
  // Squares that meet at a corner alone: the northern one goes. That may part others, to the north, so until none is
  // left.
  void part_corners() {
    for (bool again = true; again;) {
      again = false;
      for (std::int64_t y = rows_ - 2; y >= 1; --y)
        for (std::int64_t x = 1; x + 1 < cols_; ++x) {
          const bool nw = is_ground(x - 1, y - 1), ne = is_ground(x, y - 1), sw = is_ground(x - 1, y),
                     se = is_ground(x, y);
          if (nw == se && ne == sw && nw != ne) {
            ground_[nw ? at(x - 1, y - 1) : at(x, y - 1)] = 0;
            again = true;
          }
        }
    }
  }
  void count_squares() {
    counts_.assign(static_cast<std::size_t>((cols_ + 1) * (rows_ + 1)), 0);
    for (std::int64_t y = 0; y < rows_; ++y)
      for (std::int64_t x = 0; x < cols_; ++x)
        counts_[count_at(x + 1, y + 1)] = counts_[count_at(x, y + 1)] + counts_[count_at(x + 1, y)] -
                                          counts_[count_at(x, y)] + (is_ground(x, y) ? 1u : 0u);
  }
  std::size_t count_at(std::int64_t x, std::int64_t y) const { return static_cast<std::size_t>(y * (cols_ + 1) + x); }
  // Squares of ground in a box of corners.
  std::uint32_t squares(std::int64_t x0, std::int64_t y0, std::int64_t x1, std::int64_t y1) const {
    const std::int64_t a = std::clamp<std::int64_t>(x0, 0, cols_), b = std::clamp<std::int64_t>(y0, 0, rows_),
                       c = std::clamp<std::int64_t>(x1, 0, cols_), d = std::clamp<std::int64_t>(y1, 0, rows_);
    return counts_[count_at(c, d)] - counts_[count_at(a, d)] - counts_[count_at(c, b)] + counts_[count_at(a, b)];
  }

  // Columns [first, last] of a triangle's points in a row, and of its squares between that row and the next.
  struct Rows {
    const Triangle& t;
    std::int64_t top, bottom;
    explicit Rows(const Triangle& triangle)
        : t(triangle), top(std::min({t[0].y, t[1].y, t[2].y})), bottom(std::max({t[0].y, t[1].y, t[2].y})) {}
    // Sides rise by whole numbers or stand upright, so points are where lines cross rows.
    std::pair<std::int64_t, std::int64_t> points(std::int64_t y) const {
      std::int64_t first = INT64_MAX, last = INT64_MIN;
      for (int i = 0; i < 3; ++i) {
        const Spot a = t[static_cast<std::size_t>(i)], b = t[static_cast<std::size_t>((i + 1) % 3)];
        if (y < std::min(a.y, b.y) || y > std::max(a.y, b.y)) continue;
        if (a.y == b.y) {
          first = std::min({first, a.x, b.x});
          last = std::max({last, a.x, b.x});
        } else {
          const std::int64_t x = a.x + (b.x - a.x) * (y - a.y) / (b.y - a.y);
          first = std::min(first, x);
          last = std::max(last, x);
        }
      }
      return {first, last};
    }
    std::pair<std::int64_t, std::int64_t> squares_below(std::int64_t y) const {
      const auto a = points(y), b = points(y + 1);
      return {std::min(a.first, b.first), std::max(a.second, b.second)};
    }
  };

  enum class Cover { None, Part, All };
  Cover cover(const Triangle& t) const {
    const auto [west, east] = std::minmax({t[0].x, t[1].x, t[2].x});
    const auto [north, south] = std::minmax({t[0].y, t[1].y, t[2].y});
    const std::uint32_t n = squares(west, north, east, south);
    if (n == 0) return Cover::None;
    if (n == (east - west) * (south - north)) return Cover::All;
    const Rows rows(t);
    bool some = false, all = true;
    for (std::int64_t y = rows.top; y < rows.bottom && (all || !some); ++y) {
      const auto [first, last] = rows.squares_below(y);
      const std::uint32_t here = squares(first, y, last, y + 1);
      some = some || here > 0;
      all = all && here == last - first;
    }
    return all ? Cover::All : some ? Cover::Part : Cover::None;
  }

  // Whether a triangle of ground must be halved.
  bool is_off(const Triangle& t) const {
    const Cover c = cover(t);
    if (c != Cover::All) return c == Cover::Part;
    const double za = height(t[0]), zb = height(t[1]), zc = height(t[2]);
    // The plane through the corners.
    const auto dx1 = static_cast<double>(t[0].x - t[2].x), dy1 = static_cast<double>(t[0].y - t[2].y),
               dx2 = static_cast<double>(t[1].x - t[2].x), dy2 = static_cast<double>(t[1].y - t[2].y);
    const double det = dx1 * dy2 - dx2 * dy1;
    const double gx = ((za - zc) * dy2 - (zb - zc) * dy1) / det, gy = ((zb - zc) * dx1 - (za - zc) * dx2) / det;
    const Rows rows(t);
    for (std::int64_t y = rows.top; y <= rows.bottom; ++y) {
      const auto [first, last] = rows.points(y);
      const float* z = z_.data() + at(0, y);
      const double from = zc + gy * static_cast<double>(y - t[2].y) - gx * static_cast<double>(t[2].x);
      double most = 0;
      for (std::int64_t x = first; x <= last; ++x)
        most = std::max(most, std::abs(from + gx * static_cast<double>(x) - static_cast<double>(z[x])));
      if (most > error_) return true;
    }
    return false;
  }
  double height(Spot s) const { return static_cast<double>(z_[at(s.x, s.y)]); }

  bool is_flagged(const std::vector<std::uint8_t>& flags, std::int64_t x, std::int64_t y) const {
    return inside(x, y) && flags[at(x, y)] != 0;
  }
  static bool is_odd(std::int64_t v, std::int64_t h) { return (v / h) % 2 != 0; }

  // The two triangles whose longest side has its middle here.
  static std::array<Triangle, 2> of_straight(Spot m, std::int64_t h) {
    const bool level = is_odd(m.x, h);  // the side runs east and west
    const Spot a = level ? Spot{m.x - h, m.y} : Spot{m.x, m.y - h}, b = level ? Spot{m.x + h, m.y} : Spot{m.x, m.y + h},
               c = level ? Spot{m.x, m.y - h} : Spot{m.x + h, m.y}, d = level ? Spot{m.x, m.y + h} : Spot{m.x - h, m.y};
    return {Triangle{a, b, c}, Triangle{b, a, d}};
  }
  // Diagonals run from the middle of the square that is twice as large.
  std::array<Triangle, 2> of_diagonal(Spot m, std::int64_t h) const {
    const bool falls = 2 * h == n_ || is_odd(m.x - h, 2 * h) == is_odd(m.y - h, 2 * h);
    const Spot nw{m.x - h, m.y - h}, ne{m.x + h, m.y - h}, sw{m.x - h, m.y + h}, se{m.x + h, m.y + h};
    if (falls) return {Triangle{nw, se, ne}, Triangle{se, nw, sw}};
    return {Triangle{sw, ne, nw}, Triangle{ne, sw, se}};
  }

  template <class Do>
  void each_row(std::int64_t step, std::int64_t first, const RunOptions& run, const Do& what) const {
    if (rows_ <= first) return;
    RunOptions quiet = run;
    quiet.silent = true;
    parallel_for(static_cast<std::size_t>((rows_ - 1 - first) / step + 1), quiet,
                 [&](std::size_t i) { what(first + static_cast<std::int64_t>(i) * step); });
  }
  void straight(std::int64_t h, const RunOptions& run) {
    each_row(h, 0, run, [&](std::int64_t y) {
      for (std::int64_t x = is_odd(y, h) ? 0 : h; x < cols_; x += 2 * h) {
        if (below_straight(flags_, x, y, h)) {
          flags_[at(x, y)] = 1;
          continue;
        }
        for (const Triangle& t : of_straight({x, y}, h))
          if (is_within(t) && is_off(t)) flags_[at(x, y)] = 1;
      }
    });
  }
  void diagonal(std::int64_t h, const RunOptions& run) {
    each_row(2 * h, h, run, [&](std::int64_t y) {
      for (std::int64_t x = h; x < cols_; x += 2 * h) {
        if (below_diagonal(flags_, x, y, h)) {
          flags_[at(x, y)] = 1;
          continue;
        }
        for (const Triangle& t : of_diagonal({x, y}, h))
          if (is_off(t)) flags_[at(x, y)] = 1;
      }
    });
  }
  bool is_within(const Triangle& t) const {
    for (const Spot s : t)
      if (s.x < 0 || s.y < 0 || s.x > n_ || s.y > n_) return false;
    return true;
  }
  bool below_straight(const std::vector<std::uint8_t>& f, std::int64_t x, std::int64_t y, std::int64_t h) const {
    const std::int64_t q = h / 2;
    return q > 0 && (is_flagged(f, x - q, y - q) || is_flagged(f, x + q, y - q) || is_flagged(f, x - q, y + q) ||
                     is_flagged(f, x + q, y + q));
  }
  bool below_diagonal(const std::vector<std::uint8_t>& f, std::int64_t x, std::int64_t y, std::int64_t h) const {
    return is_flagged(f, x - h, y) || is_flagged(f, x + h, y) || is_flagged(f, x, y - h) || is_flagged(f, x, y + h);
  }

  // What is needed below is needed above, too.
  void raise(std::vector<std::uint8_t>& needed, std::int64_t h, bool is_straight) const {
    if (is_straight) {
      for (std::int64_t y = 0; y < rows_; y += h)
        for (std::int64_t x = is_odd(y, h) ? 0 : h; x < cols_; x += 2 * h)
          if (below_straight(needed, x, y, h)) needed[at(x, y)] = 1;
    } else {
      for (std::int64_t y = h; y < rows_; y += 2 * h)
        for (std::int64_t x = h; x < cols_; x += 2 * h)
          if (below_diagonal(needed, x, y, h)) needed[at(x, y)] = 1;
    }
  }

  void extract(const std::vector<std::uint8_t>& flags, std::vector<std::array<std::uint32_t, 3>>& out,
               std::vector<MeshVertex>* vertices) {
    std::vector<Triangle> waiting{{Spot{n_, n_}, {0, 0}, {0, n_}}, {Spot{0, 0}, {n_, n_}, {n_, 0}}};
    while (!waiting.empty()) {
      const Triangle t = waiting.back();
      waiting.pop_back();
      const Cover c = cover(t);
      if (c == Cover::None) continue;
      const bool smallest = std::abs(t[0].x - t[2].x) + std::abs(t[0].y - t[2].y) == 1;
      const Spot m{(t[0].x + t[1].x) / 2, (t[0].y + t[1].y) / 2};
      if (!smallest && (c == Cover::Part || is_flagged(flags, m.x, m.y))) {
        waiting.push_back({t[1], t[2], m});
        waiting.push_back({t[2], t[0], m});
        continue;
      }
      std::array<std::uint32_t, 3> corners;
      for (std::size_t i = 0; i < 3; ++i) {
        std::uint32_t& number = numbers_[at(t[i].x, t[i].y)];
        if (number == kNoVertex && vertices) {
          number = static_cast<std::uint32_t>(vertices->size());
          vertices->push_back(
              {static_cast<std::int32_t>(t[i].x), static_cast<std::int32_t>(t[i].y), z_[at(t[i].x, t[i].y)]});
        }
        corners[i] = number;
      }
      // Rows go down: what turns right in rows and columns turns left on the ground.
      if ((t[1].x - t[0].x) * (t[2].y - t[0].y) - (t[1].y - t[0].y) * (t[2].x - t[0].x) > 0)
        std::swap(corners[1], corners[2]);
      if (out.size() == most_)
        throw Error(ErrorCode::TooLarge,
                    fmt::format("more than {} triangles do not fit into the memory allowed", most_), "mesh",
                    "allow a larger error, take a smaller area, or allow more with --memory");
      out.push_back(corners);
    }
  }

  static std::vector<std::array<std::uint32_t, 2>> border_of(
      const std::vector<std::array<std::uint32_t, 3>>& triangles) {
    std::vector<std::uint64_t> sides;
    sides.reserve(triangles.size() * 3);
    for (const auto& t : triangles)
      for (std::size_t i = 0; i < 3; ++i) sides.push_back(std::uint64_t{t[i]} << 32 | t[(i + 1) % 3]);
    std::sort(sides.begin(), sides.end());
    std::vector<std::array<std::uint32_t, 2>> out;
    for (const std::uint64_t s : sides)
      if (!std::binary_search(sides.begin(), sides.end(), s << 32 | s >> 32))
        out.push_back({static_cast<std::uint32_t>(s >> 32), static_cast<std::uint32_t>(s)});
    return out;
  }

  std::vector<float> z_;
  std::int64_t cols_, rows_, n_ = 1;
  std::uint64_t most_;
  double error_;
  std::vector<std::uint8_t> ground_, flags_;
  std::vector<std::uint32_t> counts_, numbers_;
};

}  // namespace

SurfaceMesh surface_mesh(const Grid& surface, const MeshOptions& options) {
  const Quantity& q = surface.quantity();
  if (is_coded(q.kind))
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, no heights", name_of(q.kind)), surface.info().name,
                "give the surface it was made from");
  const double error = options.error.in(q.unit);
  if (!(error >= 0) || !std::isfinite(error))
    throw Error(ErrorCode::BadArgument, "an error must not be below zero", "mesh", "give for instance 0.1m");
  const Frame& f = surface.frame();
  const auto cells = static_cast<std::uint64_t>(f.cols()) * static_cast<std::uint64_t>(f.rows());
  if (cells * kBytesPerCell > options.run.memory || cells >= kNoVertex)
    throw Error(ErrorCode::TooLarge,
                fmt::format("{} x {} cells do not fit into the memory allowed", f.cols(), f.rows()),
                surface.info().name, "bring it to larger cells first, or allow more with --memory");
  std::vector<float> heights;
  heights.reserve(static_cast<std::size_t>(cells));
  for_each_band(surface, Planes::Values, options.run,
                [&](const Block& b) { heights.insert(heights.end(), b.row(0), b.row(0) + b.window().cells()); });
  Network network(std::move(heights), f.cols(), f.rows(), error, options.run.memory);
  network.flag(options.run);
  return network.mesh(f);
}

}  // namespace katoptra
