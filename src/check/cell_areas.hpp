// The ground area of the cells of a row, as the scale of the CRS has it there.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// Exact at every kStep-th column, linear between them: off by less than 1e-6 in UTM for cells up to 80 m.
class CellAreas {
 public:
  explicit CellAreas(const Frame& frame) : frame_(frame), ruler_(frame.crs()) {}

  // Square metres of the cells of a row, at nodes kStep columns apart. Without a CRS cells are taken to be in metres.
  class Row {
   public:
    double at(std::int64_t col) const {
      const std::int64_t i = col / kStep;
      const double a = nodes_[static_cast<std::size_t>(i)], b = nodes_[static_cast<std::size_t>(i) + 1];
      return a + (b - a) * static_cast<double>(col - i * kStep) / kStep;
    }

   private:
    friend class CellAreas;
    std::vector<double> nodes_;
  };
  Row row(std::int64_t r) const {
    Row out;
    const double plain = frame_.cell().x * frame_.cell().y;
    const std::int64_t nodes = frame_.cols() / kStep + 2;
    if (!frame_.crs()) {
      out.nodes_.assign(static_cast<std::size_t>(nodes), plain);
      return out;
    }
    std::vector<Point> at;
    const std::int64_t asked = frame_.crs().is_geographic() ? 1 : nodes;
    for (std::int64_t i = 0; i < asked; ++i)
      at.push_back(frame_.centre(static_cast<double>(std::min(i * kStep, frame_.cols() - 1)), static_cast<double>(r)));
    std::vector<GroundScale> scale(at.size());
    ruler_.at(at, scale);
    for (std::int64_t i = 0; i < nodes; ++i) {
      const GroundScale& s = scale[static_cast<std::size_t>(std::min(i, asked - 1))];
      out.nodes_.push_back(plain * s.x * s.y);
    }
    return out;
  }

 private:
  static constexpr std::int64_t kStep = 256;
  Frame frame_;
  GroundRuler ruler_;
};

}  // namespace katoptra
