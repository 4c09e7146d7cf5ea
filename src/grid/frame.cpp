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

CellSize cell_for(const Crs& crs, Length length, Point at) {
  if (!(length.metres() > 0))
    throw Error(ErrorCode::BadArgument, "a cell must be larger than zero", "cell", "write for instance 1m or 3ft");
  if (!crs.is_geographic()) return {length.metres() / crs.unit_factor(), length.metres() / crs.unit_factor()};
  const GroundScale s = GroundRuler(crs).at(at);
  const double edge = length.metres() / s.y;
  return {edge, edge};
}

}  // namespace katoptra
