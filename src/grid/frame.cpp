#include "katoptra/grid/frame.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {

Window Window::intersected(const Window& o) const {
  const std::int64_t c0 = std::max(col, o.col), r0 = std::max(row, o.row);
  const std::int64_t c1 = std::min(col + cols, o.col + o.cols), r1 = std::min(row + rows, o.row + o.rows);
  return {c0, r0, std::max<std::int64_t>(0, c1 - c0), std::max<std::int64_t>(0, r1 - r0)};
}

bool Window::contains(const Window& o) const {
  return o.col >= col && o.row >= row && o.col + o.cols <= col + cols && o.row + o.rows <= row + rows;
}

Frame::Frame(Crs crs, double west, double north, CellSize cell, std::int64_t cols, std::int64_t rows)
    : crs_(std::move(crs)), west_(west), north_(north), cell_(cell), cols_(cols), rows_(rows) {
  if (cols <= 0 || rows <= 0)
    throw Error(ErrorCode::BadArgument, fmt::format("a frame of {} x {} cells has nothing in it", cols, rows), "frame",
                "check the area and the cell size");
  if (!(cell.x > 0) || !(cell.y > 0) || !std::isfinite(cell.x) || !std::isfinite(cell.y) || !std::isfinite(west) ||
      !std::isfinite(north))
    throw Error(ErrorCode::BadArgument, fmt::format("cell {} x {} at {}, {} is no place", cell.x, cell.y, west, north),
                "frame", "the cell size must be above zero");
  constexpr std::int64_t kMost = (std::int64_t{1} << 31) - 1;
  if (cols > kMost || rows > kMost)
    throw Error(ErrorCode::TooLarge, fmt::format("{} x {} cells are more than a side of 2147483647", cols, rows),
                "frame", "take a larger cell or a smaller area");
}

Frame Frame::snapped(const Crs& crs, const Bounds& box, CellSize cell) {
  if (box.empty() || !(cell.x > 0) || !(cell.y > 0))
    throw Error(ErrorCode::BadArgument, "nothing to put a frame around", "frame", "check the area and the cell size");
  auto down = [](double v, double step) { return std::floor(v / step + kLatticeTolerance); };
  auto up = [](double v, double step) { return std::ceil(v / step - kLatticeTolerance); };
  const double c0 = down(box.west, cell.x), r0 = up(box.north, cell.y);
  const double cols = std::max(1.0, up(box.east, cell.x) - c0), rows = std::max(1.0, r0 - down(box.south, cell.y));
  if (!(cols < 9e15) || !(rows < 9e15))
    throw Error(ErrorCode::TooLarge, "the frame has more cells than can be counted", "frame", "take a larger cell");
  return {crs, c0 * cell.x, r0 * cell.y, cell, static_cast<std::int64_t>(cols), static_cast<std::int64_t>(rows)};
}

Frame Frame::sub(const Window& w) const {
  return {
      crs_,  west_ + static_cast<double>(w.col) * cell_.x, north_ - static_cast<double>(w.row) * cell_.y, cell_, w.cols,
      w.rows};
}

std::optional<Window> Frame::window_of(const Frame& other) const {
  // The cell sizes must agree so well that the lattices do not drift apart across the wider of the two.
  const double drift_x =
      std::abs(other.cell_.x - cell_.x) / cell_.x * static_cast<double>(std::max(cols_, other.cols_));
  const double drift_y =
      std::abs(other.cell_.y - cell_.y) / cell_.y * static_cast<double>(std::max(rows_, other.rows_));
  if (!(drift_x < kSameLattice) || !(drift_y < kSameLattice)) return std::nullopt;
  const double c = col_at(other.west_), r = row_at(other.north_);
  if (std::abs(c - std::round(c)) > kSameLattice || std::abs(r - std::round(r)) > kSameLattice) return std::nullopt;
  if (!crs_.same_place(other.crs_) && (crs_ || other.crs_)) return std::nullopt;
  return Window{std::llround(c), std::llround(r), other.cols_, other.rows_};
}

double Frame::told_here(double x) const {
  return crs_.is_geographic() ? x - 360 * std::round((x - bounds().centre().x) / 360) : x;
}

Bounds Frame::told_here(Bounds box) const {
  const double turn = told_here(box.centre().x) - box.centre().x;
  box.west += turn;
  box.east += turn;
  return box;
}

Window Frame::window_of_centres(const Bounds& box) const {
  auto first = [](double v) { return static_cast<std::int64_t>(std::ceil(v - 0.5 - kLatticeTolerance)); };
  auto last = [](double v) { return static_cast<std::int64_t>(std::floor(v - 0.5 + kLatticeTolerance)); };
  const double limit = 4e9;
  auto clamp = [&](double v) { return std::clamp(v, -limit, limit); };
  const std::int64_t c0 = first(clamp(col_at(box.west))), c1 = last(clamp(col_at(box.east)));
  const std::int64_t r0 = first(clamp(row_at(box.north))), r1 = last(clamp(row_at(box.south)));
  return {c0, r0, std::max<std::int64_t>(0, c1 - c0 + 1), std::max<std::int64_t>(0, r1 - r0 + 1)};
}

Frame Frame::with_crs(const Crs& crs) const {
  Frame f = *this;
  f.crs_ = crs;
  return f;
}

bool Frame::operator==(const Frame& o) const {
  return cols_ == o.cols_ && rows_ == o.rows_ && west_ == o.west_ && north_ == o.north_ && cell_ == o.cell_ &&
         crs_.same_place(o.crs_);
}

GroundSpacing ground_spacing(const Frame& frame) {
  const GroundScale s = GroundRuler(frame.crs()).at(frame.bounds().centre());
  return {Length::metres(frame.cell().x * s.x), Length::metres(frame.cell().y * s.y)};
}

std::int64_t scale_step(const Frame& frame) {
  constexpr std::int64_t kMost = 256, kSamples = 13;
  if (!frame.crs() || frame.crs().is_geographic()) return kMost;
  const GroundRuler ruler(frame.crs());
  // Second differences over the step at places all over the frame: linear interpolation is off by a quarter of them at
  // the most, and they shrink with the square of the step.
  const double step =
      static_cast<double>(std::min(kMost, std::max<std::int64_t>(2, std::max(frame.cols(), frame.rows()))));
  std::vector<Point> points;
  for (std::int64_t j = 0; j < kSamples; ++j)
    for (std::int64_t i = 0; i < kSamples; ++i) {
      const double c = static_cast<double>((frame.cols() - 1) * i) / (kSamples - 1),
                   r = static_cast<double>((frame.rows() - 1) * j) / (kSamples - 1);
      for (const auto& [dc, dr] : {std::pair{0.0, 0.0}, {-0.5, 0.0}, {0.5, 0.0}, {0.0, -0.5}, {0.0, 0.5}})
        points.push_back(frame.centre(c + dc * step, r + dr * step));
    }
  std::vector<GroundScale> scale(points.size());
  std::vector<double> area(points.size());
  ruler.at(points, scale);
  ruler.areas(points, area);
  double worst = 0;
  const auto bend = [&](double middle, double a, double b) {
    const double d = std::abs(a + b - 2 * middle) / middle;
    worst = d <= 1e9 ? std::max(worst, d) : 1e9;  // no number: a rim
  };
  for (std::size_t k = 0; k < points.size(); k += 5)
    for (std::size_t n : {1u, 3u}) {
      bend(scale[k].x, scale[k + n].x, scale[k + n + 1].x);
      bend(scale[k].y, scale[k + n].y, scale[k + n + 1].y);
      bend(area[k], area[k + n], area[k + n + 1]);
    }
  // Rounding in the projection alone shows differences of some 1e-9.
  constexpr double kNoise = 2e-8;
  double off = std::max(0.0, worst - kNoise) * (kMost / step) * (kMost / step);
  std::int64_t found = kMost;
  for (; found > 1 && off > kScaleError; found /= 2) off /= 4;
  return found;
}

CellSize cell_for(const Crs& crs, Length length, Point at) {
  if (!(length.metres() > 0))
    throw Error(ErrorCode::BadArgument, "a cell must be larger than zero", "cell", "write for instance 1m or 3ft");
  if (!crs.is_geographic()) return {length.metres() / crs.unit_factor(), length.metres() / crs.unit_factor()};
  const GroundScale s = GroundRuler(crs).at(at);
  const double edge = length.metres() / s.y;
  return {edge, edge};
}

}  // namespace katoptra
