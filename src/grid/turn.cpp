#include "katoptra/grid/turn.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

class MirroredSource final : public GridSource {
 public:
  MirroredSource(Grid input, GridInfo info, bool rows, bool cols)
      : input_(std::move(input)), info_(std::move(info)), rows_(rows), cols_(cols) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    BlockView from = out;
    if (rows_) from.window.row = info_.frame.rows() - out.window.row - out.window.rows;
    if (cols_) from.window.col = info_.frame.cols() - out.window.col - out.window.cols;
    input_.read_into(from);
    if (rows_)
      for (std::int64_t r = 0; r < out.window.rows / 2; ++r) {
        const std::int64_t other = out.window.rows - 1 - r;
        std::swap_ranges(out.row(r), out.row(r) + out.window.cols, out.row(other));
        if (out.origin) std::swap_ranges(out.origin_row(r), out.origin_row(r) + out.window.cols, out.origin_row(other));
        if (float* u = out.uncertainty_row(r)) std::swap_ranges(u, u + out.window.cols, out.uncertainty_row(other));
      }
    if (cols_)
      for (std::int64_t r = 0; r < out.window.rows; ++r) {
        std::reverse(out.row(r), out.row(r) + out.window.cols);
        if (out.origin) std::reverse(out.origin_row(r), out.origin_row(r) + out.window.cols);
        if (float* u = out.uncertainty_row(r)) std::reverse(u, u + out.window.cols);
      }
  }

 private:
  Grid input_;
  GridInfo info_;
  bool rows_, cols_;
};

class RolledSource final : public GridSource {
 public:
  RolledSource(Grid input, GridInfo info, std::int64_t by)
      : input_(std::move(input)), info_(std::move(info)), by_(by) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    const std::int64_t cols = info_.frame.cols(), seam = cols - by_;
    const Window& w = out.window;
    for (const auto& [range, shift] :
         {std::pair{Window{0, w.row, seam, w.rows}, by_}, std::pair{Window{seam, w.row, by_, w.rows}, by_ - cols}}) {
      const Window part = range.intersected(w);
      if (part.empty()) continue;
      BlockView to = out.part(part);
      to.window.col += shift;
      input_.read_into(to);
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  std::int64_t by_;
};

// Columns of a globe counted on beyond its ends.
class ContinuedSource final : public GridSource {
 public:
  ContinuedSource(Grid input, GridInfo info, std::int64_t by)
      : input_(std::move(input)), info_(std::move(info)), by_(by) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    const std::int64_t globe = input_.frame().cols();
    const Window& w = out.window;
    for (std::int64_t turn = -1; turn <= 1; ++turn) {
      const Window part = Window{by_ + turn * globe, w.row, globe, w.rows}.intersected(w);
      if (part.empty()) continue;
      BlockView to = out.part(part);
      to.window.col -= by_ + turn * globe;
      input_.read_into(to);
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  std::int64_t by_;
};

}  // namespace

std::int64_t columns_of_globe(const Frame& f) {
  return f.crs().is_geographic() && std::abs(f.east() - f.west() - 360) < 1e-3 * f.cell().x ? f.cols() : 0;
}

Grid continued_around(const Grid& grid, std::int64_t by) {
  const Frame& f = grid.frame();
  if (columns_of_globe(f) == 0 || by < 0 || by > f.cols())
    throw Error(ErrorCode::BadArgument, "does not go around the globe", grid.info().name);
  GridInfo info = grid.info();
  info.frame =
      Frame(f.crs(), f.west() - static_cast<double>(by) * f.cell().x, f.north(), f.cell(), f.cols() + 2 * by, f.rows());
  return Grid(std::make_shared<ContinuedSource>(grid, std::move(info), by));
}

Grid mirrored(const Grid& grid, GridInfo info, bool rows, bool cols) {
  return Grid(std::make_shared<MirroredSource>(grid, std::move(info), rows, cols));
}

Grid rolled(const Grid& grid, GridInfo info, std::int64_t by) {
  return Grid(std::make_shared<RolledSource>(grid, std::move(info), by));
}

Grid turned_around(const Grid& grid, int turns) {
  if (turns == 0) return grid;
  return relabelled(grid, [&](GridInfo& info) {
    const Frame& f = info.frame;
    info.frame = Frame(f.crs(), f.west() + 360.0 * turns, f.north(), f.cell(), f.cols(), f.rows());
  });
}

Grid around_longitude(const Grid& grid, double longitude) {
  const Frame& f = grid.frame();
  if (!f.crs().is_geographic()) return grid;
  if (columns_of_globe(f) == 0)
    return turned_around(grid, static_cast<int>(std::lround((longitude - f.bounds().centre().x) / 360)));
  const auto by = static_cast<std::int64_t>(std::llround((longitude - 180 - f.west()) / f.cell().x));
  const std::int64_t roll = ((by % f.cols()) + f.cols()) % f.cols();
  GridInfo info = grid.info();
  info.frame = Frame(f.crs(), f.west() + static_cast<double>(by) * f.cell().x, f.north(), f.cell(), f.cols(), f.rows());
  return roll == 0 ? turned_around(grid, static_cast<int>(by / f.cols())) : rolled(grid, std::move(info), roll);
}

}  // namespace katoptra
