#include "katoptra/surface/clip.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/turn.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kBucketRows = 32;

class WindowSource final : public GridSource {
 public:
  WindowSource(Grid input, GridInfo info, Window window)
      : input_(std::move(input)), info_(std::move(info)), window_(window) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void expect(const Window& w) const override {
    input_.expect({w.col + window_.col, w.row + window_.row, w.cols, w.rows});
  }
  void read(const BlockView& out) const override {
    BlockView in = out;
    in.window.col += window_.col;
    in.window.row += window_.row;
    input_.read_into(in);
  }

 private:
  Grid input_;
  GridInfo info_;
  Window window_;
};

class MaskSource final : public GridSource {
 public:
  MaskSource(Grid input, CellMask mask) : input_(std::move(input)), mask_(std::move(mask)) {}
  const GridInfo& info() const override { return input_.info(); }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void expect(const Window& w) const override { input_.expect(w); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      std::int64_t at = w.col;
      auto blank = [&](std::int64_t end) {
        for (; at < end; ++at) out.blank(at - w.col, r);
      };
      for (auto [first, last] : mask_.spans(w.row + r)) {
        blank(std::min(first, w.col + w.cols));
        at = std::max(at, std::min(last, w.col + w.cols));
      }
      blank(w.col + w.cols);
    }
  }

 private:
  Grid input_;
  CellMask mask_;
};

bool is_upright_box(const MultiPolygon& shape) {
  if (shape.size() != 1 || !shape[0].holes.empty() || shape[0].outer.size() != 5) return false;
  const Bounds b = bounds_of(shape);
  return std::all_of(shape[0].outer.begin(), shape[0].outer.end(),
                     [&](Point p) { return (p.x == b.west || p.x == b.east) && (p.y == b.south || p.y == b.north); }) &&
         planar_area(shape) > 0.999 * b.width() * b.height();
}

}  // namespace

CellMask::CellMask(const MultiPolygon& shape, const Frame& frame) : cols_(frame.cols()), rows_(frame.rows()) {
  buckets_.resize(static_cast<std::size_t>(rows_ / kBucketRows + 1));
  auto add = [&](const Ring& ring) {
    for (std::size_t i = 0; i + 1 < ring.size(); ++i) {
      Edge e{frame.col_at(ring[i].x), frame.row_at(ring[i].y), frame.col_at(ring[i + 1].x),
             frame.row_at(ring[i + 1].y)};
      if (e.y0 == e.y1) continue;
      if (e.y0 > e.y1) {
        std::swap(e.x0, e.x1);
        std::swap(e.y0, e.y1);
      }
      const double last = static_cast<double>(rows_);
      if (e.y1 < -1 || e.y0 > last + 1) continue;
      const auto b0 = static_cast<std::size_t>(std::clamp(e.y0 - 1, 0.0, last)) / kBucketRows,
                 b1 = static_cast<std::size_t>(std::clamp(e.y1 + 1, 0.0, last)) / kBucketRows;
      for (std::size_t b = b0; b <= b1; ++b) buckets_[b].push_back(e);
    }
  };
  for (const Polygon& p : shape) {
    add(p.outer);
    for (const Ring& hole : p.holes) add(hole);
  }
}

void CellMask::crossings(double y, std::vector<double>& xs) const {
  xs.clear();
  const auto bucket = static_cast<std::size_t>(std::clamp(y, 0.0, static_cast<double>(rows_))) / kBucketRows;
  for (const Edge& e : buckets_[bucket])
    if (e.y0 <= y && y < e.y1) xs.push_back(e.x0 + (y - e.y0) / (e.y1 - e.y0) * (e.x1 - e.x0));
  std::sort(xs.begin(), xs.end());
}

std::vector<std::pair<std::int64_t, std::int64_t>> CellMask::spans(std::int64_t row) const {
  std::vector<std::pair<std::int64_t, std::int64_t>> spans;
  std::vector<double> xs;
  // A hair above and below the line of centres too, so that a centre on a horizontal edge is inside.
  for (double shift : {-kLatticeTolerance, 0.0, kLatticeTolerance}) {
    crossings(static_cast<double>(row) + 0.5 + shift, xs);
    for (std::size_t i = 0; i + 1 < xs.size(); i += 2) {
      const double a = std::clamp(xs[i] - 0.5 - kLatticeTolerance, -1.0, static_cast<double>(cols_)),
                   b = std::clamp(xs[i + 1] - 0.5 + kLatticeTolerance, -1.0, static_cast<double>(cols_));
      const std::int64_t first = std::max<std::int64_t>(0, static_cast<std::int64_t>(std::ceil(a))),
                         last = std::min(cols_, static_cast<std::int64_t>(std::floor(b)) + 1);
      if (first < last) spans.emplace_back(first, last);
    }
  }
  std::sort(spans.begin(), spans.end());
  std::size_t kept = 0;
  for (std::size_t i = 1; i < spans.size(); ++i) {
    if (spans[i].first <= spans[kept].second)
      spans[kept].second = std::max(spans[kept].second, spans[i].second);
    else
      spans[++kept] = spans[i];
  }
  if (!spans.empty()) spans.resize(kept + 1);
  return spans;
}

Window CellMask::extent() const {
  std::int64_t r0 = -1, r1 = -1, c0 = cols_, c1 = 0;
  for (std::int64_t r = 0; r < rows_; ++r) {
    const auto s = spans(r);
    if (s.empty()) continue;
    if (r0 < 0) r0 = r;
    r1 = r;
    c0 = std::min(c0, s.front().first);
    c1 = std::max(c1, s.back().second);
  }
  return r0 < 0 ? Window{} : Window{c0, r0, c1 - c0, r1 - r0 + 1};
}

Grid cut(const Grid& grid, const Window& window) {
  if (window == grid.frame().window()) return grid;
  GridInfo info = grid.info();
  info.frame = grid.frame().sub(window);
  return Grid(std::make_shared<WindowSource>(grid, std::move(info), window));
}

MultiPolygon shape_on(const Frame& frame, const Area& area) {
  MultiPolygon shape = area.in(frame.crs()).shape();
  return frame.crs().is_geographic() ? told_around(shape, frame.bounds().centre().x) : shape;
}

namespace {

std::string told(const Bounds& b) {
  return fmt::format("{:.5f} to {:.5f} east, {:.5f} to {:.5f} north", b.west, b.east, b.south, b.north);
}

// Says where the data lie and where the area, and whether its numbers are the wrong way around.
Error nothing_inside(const Grid& grid, const Area& area, const std::string& name) {
  const Bounds data = transformed(grid.frame().bounds(), Transform(grid.frame().crs(), Crs::wgs84())),
               asked = area.in(Crs::wgs84()).bounds();
  const Bounds swapped{asked.south, asked.west, asked.north, asked.east};
  const bool wrong_way = area.crs().is_geographic() && swapped.intersects(data);
  return Error(ErrorCode::BadArgument,
               fmt::format("no cell has its centre inside the area: the data lie at {}, the area at {}", told(data),
                           told(asked)),
               name,
               wrong_way ? "latitude and longitude of the area look swapped: longitude comes first"
                         : "check the area's coordinates and CRS, or take another tile");
}

}  // namespace

Grid clip(const Grid& given, const Area& area, const ClipOptions& options) {
  const std::string& name = given.info().name;
  if (!given.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so nobody can say what lies inside the area",
                name, "tell it with --crs");
  Area here = area.grown(options.margin).in(given.frame().crs());
  // Parts on both sides of the antimeridian lie together on a grid that goes across it.
  if (given.frame().crs().is_geographic())
    here = Area(
        columns_of_globe(given.frame()) > 0 ? joined_across_antimeridian(here.shape()) : shape_on(given.frame(), here),
        here.crs());
  const bool reached = here.bounds().west >= given.frame().west() && here.bounds().east <= given.frame().east();
  const Grid grid = reached ? given : around_longitude(given, here.bounds().centre().x);
  const Window window = grid.frame().window_of_centres(here.bounds()).intersected(grid.frame().window());
  const auto outside = [&] { return nothing_inside(given, area, name); };
  if (window.empty()) throw outside();
  if (is_upright_box(here.shape())) return cut(grid, window);
  const Window tight = CellMask(here.shape(), grid.frame().sub(window)).extent();
  if (tight.empty()) throw outside();
  const Grid part = cut(grid, {window.col + tight.col, window.row + tight.row, tight.cols, tight.rows});
  return Grid(std::make_shared<MaskSource>(part, CellMask(here.shape(), part.frame())));
}

}  // namespace katoptra
