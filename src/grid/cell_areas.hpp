// The ground area of the cells of a row, as the CRS has it there.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <span>
#include <vector>

#include "katoptra/grid/frame.hpp"

namespace katoptra {

// In degrees the exact area between two parallels. In a projection the area at the cell's middle (the mean over a
// lattice of places for cells wider than kWide metres), at every step-th column and linear between them, where the step
// is as long as kScaleError allows: off by less than 1e-6 for every cell size. Without a CRS cells are taken to be in
// metres.
class CellAreas {
 public:
  explicit CellAreas(const Frame& frame) : frame_(frame), ruler_(frame.crs()), step_(scale_step(frame)) {
    if (!frame.crs() || frame.crs().is_geographic()) return;
    const GroundSpacing s = ground_spacing(frame);
    const double wide = std::max(s.x.metres(), s.y.metres());
    if (std::isfinite(wide)) places_ = std::clamp(static_cast<int>(std::ceil(wide / kWide)), 1, 16);
  }

  // Square metres of the cells of a row.
  class Row {
   public:
    double at(std::int64_t col) const {
      if (step_ == 0) return nodes_[0];
      const std::int64_t i = col / step_ - first_;
      const double a = nodes_[static_cast<std::size_t>(i)];
      const std::int64_t past = col - (i + first_) * step_;
      if (past == 0) return a;
      const double b = nodes_[static_cast<std::size_t>(i) + 1];
      return a + (b - a) * static_cast<double>(past) / static_cast<double>(step_);
    }
    // Of as many columns as `out` holds.
    void read(std::int64_t from, std::span<double> out) const {
      if (step_ <= 1) {
        for (std::size_t c = 0; c < out.size(); ++c)
          out[c] = nodes_[step_ == 0 ? 0 : c + static_cast<std::size_t>(from - first_)];
        return;
      }
      for (std::size_t c = 0; c < out.size();) {
        const std::int64_t col = from + static_cast<std::int64_t>(c), i = col / step_ - first_;
        const double a = nodes_[static_cast<std::size_t>(i)], b = nodes_[static_cast<std::size_t>(i) + 1];
        for (std::int64_t past = col - (i + first_) * step_; past < step_ && c < out.size(); ++past, ++c)
          out[c] = past == 0 ? a : a + (b - a) * static_cast<double>(past) / static_cast<double>(step_);
      }
    }

   private:
    friend class CellAreas;
    std::vector<double> nodes_;
    std::int64_t step_ = 0;   // 0: one area for the whole row
    std::int64_t first_ = 0;  // which node of the row is the first here
  };
  Row row(std::int64_t r) const { return row(r, 0, frame_.cols()); }
  // For the columns [from, end) alone.
  Row row(std::int64_t r, std::int64_t from, std::int64_t end) const {
    Row out;
    const double plain = frame_.cell().x * frame_.cell().y;
    if (!frame_.crs()) {
      out.nodes_ = {plain};
      return out;
    }
    if (frame_.crs().is_geographic()) {
      const double middle = frame_.centre(0, static_cast<double>(r)).y, half = frame_.cell().y / 2;
      out.nodes_ = {frame_.cell().x * ruler_.zone(middle - half, middle + half)};
      return out;
    }
    out.step_ = step_;
    out.first_ = from / step_;
    const std::int64_t nodes = (end - 1) / step_ - out.first_ + (step_ > 1 ? 2 : 1);
    std::vector<Point> at;
    for (std::int64_t i = 0; i < nodes; ++i)
      for (int v = 0; v < places_; ++v)
        for (int u = 0; u < places_; ++u)
          at.push_back(frame_.centre(static_cast<double>((i + out.first_) * step_) + (u + 0.5) / places_ - 0.5,
                                     static_cast<double>(r) + (v + 0.5) / places_ - 0.5));
    std::vector<double> area(at.size());
    ruler_.areas(at, area);
    const auto each = static_cast<std::size_t>(places_) * static_cast<std::size_t>(places_);
    for (std::size_t i = 0; i < area.size(); i += each) {
      double sum = 0;
      for (std::size_t k = 0; k < each; ++k) sum += area[i + k];
      out.nodes_.push_back(plain * sum / static_cast<double>(each));
    }
    return out;
  }

 private:
  static constexpr double kWide = 5000;
  Frame frame_;
  GroundRuler ruler_;
  std::int64_t step_;
  int places_ = 1;  // a side
};

}  // namespace katoptra
