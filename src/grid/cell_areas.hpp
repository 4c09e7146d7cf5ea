// The ground area of the cells of a row, as the CRS has it there.
#pragma once
#include <cstdint>
#include <memory>
#include <mutex>
#include <span>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// In degrees the exact area between two parallels. In a projection the area at the cell's middle (the mean over a
// lattice of places for cells wider than 5 km), at every step-th column and row and linear between them, where
// the step is as long as kScaleError allows: off by less than 1e-6 for every cell size. Without a CRS cells are taken
// to be in metres. May be asked by several threads.
class CellAreas {
 public:
  explicit CellAreas(const Frame& frame);

  // Square metres of the cells of a row.
  class Row {
   public:
    double at(std::int64_t col) const {
      if (step_ == 0) return nodes_[0];
      const std::int64_t i = col / step_ - first_, past = col - (i + first_) * step_;
      const auto node = nodes_.begin() + i;
      return past == 0 ? *node : between(node[0], node[1], step_, past);
    }
    // Of as many columns as `out` holds.
    void read(std::int64_t from, std::span<double> out) const;

   private:
    friend class CellAreas;
    std::vector<double> nodes_;
    std::int64_t step_ = 0;   // 0: one area for the whole row
    std::int64_t first_ = 0;  // which node of the row is the first here
  };
  Row row(std::int64_t r) const { return row(r, 0, frame_.cols()); }
  // For the columns [from, end) alone.
  Row row(std::int64_t r, std::int64_t from, std::int64_t end) const;

 private:
  using Nodes = std::vector<double>;
  // Rows of nodes that were asked for last, by their number.
  struct Recent {
    std::mutex mutex;
    std::vector<std::pair<std::int64_t, std::shared_ptr<const Nodes>>> rows;
  };

  // `past` cells beyond the first of two nodes.
  static double between(double a, double b, std::int64_t step, std::int64_t past) {
    return a + (b - a) / static_cast<double>(step) * static_cast<double>(past);
  }
  Nodes nodes_of(std::int64_t r, std::int64_t first, std::int64_t count) const;
  std::shared_ptr<const Nodes> node_row(std::int64_t number) const;

  Frame frame_;
  GroundRuler ruler_;
  std::int64_t step_;
  int places_ = 1;  // a side
  std::shared_ptr<Recent> recent_ = std::make_shared<Recent>();
};

}  // namespace katoptra
