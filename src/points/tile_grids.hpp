// The cells of one tile from the points in and around it.
#pragma once
#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstdint>
#include <memory>
#include <vector>

#include "katoptra/points/gridding.hpp"

#include "buckets.hpp"

namespace katoptra {

// Everything that tiles share.
struct TilePlan {
  Frame frame;
  PointGridding options;
  std::unique_ptr<PointBuckets> buckets;
  double spacing = 0, longest_edge = 0, radius = 0;  // in lattice steps; radius 0: the cell itself
  // Breaklines in lattice steps, with vertices close enough to one another.
  struct Vertex {
    double x, y, z;
  };
  std::vector<std::vector<Vertex>> lines;
  // Pieces of breaklines that could not be put in, for they cross others; counted while cells are computed.
  std::shared_ptr<std::atomic<std::uint64_t>> lost = std::make_shared<std::atomic<std::uint64_t>>(0);

  // Centres of a cell in lattice steps.
  double x_of(std::int64_t col) const { return buckets->lattice().at_x(frame.centre(static_cast<double>(col), 0).x); }
  double y_of(std::int64_t row) const { return buckets->lattice().at_y(frame.centre(0, static_cast<double>(row)).y); }
  double cell_x() const { return frame.cell().x / buckets->lattice().step_x; }
  double cell_y() const { return frame.cell().y / buckets->lattice().step_y; }
};

// The cell of the frame that holds a point: the same for every tile that asks, and one for every point on the frame. A
// border between cells belongs to the cell east or south of it, the frame's own east and south border to its last.
class CellFinder {
 public:
  explicit CellFinder(const TilePlan& plan)
      : cols_(1, plan.buckets->lattice().at_x(plan.frame.west()), plan.buckets->lattice().at_x(plan.frame.east()),
              plan.cell_x(), plan.frame.cols()),
        rows_(-1, plan.buckets->lattice().at_y(plan.frame.north()), plan.buckets->lattice().at_y(plan.frame.south()),
              plan.cell_y(), plan.frame.rows()) {}
  std::int64_t col(double x) const { return cols_.at(x); }
  std::int64_t row(double y) const { return rows_.at(y); }

 private:
  class Along {
   public:
    Along(double sign, double begin, double end, double cell, std::int64_t n)
        : sign_(sign),
          begin_(begin),
          cell_(cell),
          first_(sign * std::round(begin)),
          last_(sign * std::round(end)),
          n_(n) {}
    std::int64_t at(double v) const {
      const auto i = static_cast<std::int64_t>(std::floor(sign_ * (v - begin_) / cell_));
      // Points are told in whole steps of the lattice, which the borders of the frame need not be.
      if (i == -1 && sign_ * v >= first_) return 0;
      return i == n_ && sign_ * v <= last_ ? n_ - 1 : i;
    }

   private:
    double sign_, begin_, cell_, first_, last_;
    std::int64_t n_;
  };
  Along cols_, rows_;
};

// One plane of floats a method, in the order of the methods, and whose point is nearest to each centre: of those in the
// cell itself (measured), else of those that its value comes from (interpolated).
struct TileCells {
  Window window;
  std::vector<std::vector<float>> planes;
  std::vector<Origin> origin;

  TileCells(const Window& w, std::size_t methods)
      : window(w),
        planes(methods, std::vector<float>(static_cast<std::size_t>(w.cells()), kVoid)),
        origin(static_cast<std::size_t>(w.cells()), 0) {}
  bool is_void() const {
    const auto has_value = [](const std::vector<float>& plane) {
      return std::any_of(plane.begin(), plane.end(), [](float v) { return !std::isnan(v); });
    };
    return std::none_of(planes.begin(), planes.end(), has_value);
  }
};
inline Origin measured_from(std::uint32_t source) { return origin_code(source + 1, How::Measured); }
inline Origin interpolated_from(std::uint32_t source) { return origin_code(source + 1, How::Interpolated); }

TileCells triangulated_tile(const TilePlan& plan, const Window& window);
TileCells counted_tile(const TilePlan& plan, const Window& window);

}  // namespace katoptra
