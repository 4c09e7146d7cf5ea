// Gradients of the cells of a row, products that are made of them cell by cell, and the nine cells around one with what
// is missing continued.
#pragma once
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "scale_field.hpp"

namespace katoptra {

// The nine heights of a window of 3; missing ones continued from the centre and the cell across.
struct Nine {
  float z[3][3];
};
Nine completed(const float* above, const float* here, const float* below);

// Over the window `w` of a grid: p is the rise to the east and q that to the north, as height over distance; NaN where
// the cell is a void.
class GradientField {
 public:
  // `step`: scale_step(frame), which takes its time and is asked for once.
  GradientField(const Frame& frame, const GroundRuler& ruler, std::int64_t step, double vertical, bool of_four,
                const Window& w)
      : scale_(frame, ruler, step, vertical, w), cols_(w.cols), of_four_(of_four) {}
  // Row `r` of the window. `in`: the window and a cell more on every side.
  void row(const Block& in, std::int64_t r, float* p, float* q) const;
  // How much of a unit of height across a cell is to the east and to the north, for the cells of row `r`.
  void factors(std::int64_t r, float* east, float* north) const;

 private:
  ScaleField scale_;
  std::int64_t cols_;
  bool of_four_;
};

// One value of each pair of gradients.
using GradientRow = void (*)(const float* p, const float* q, std::int64_t n, const float* parameters, float* out);

struct GradientProduct {
  double exaggeration = 1;
  bool of_four = false;
  bool states_error = false;  // where the surface carries its uncertainty, the product does
  GradientRow row = nullptr;
  std::vector<float> parameters = {};
};
Grid gradient_product(const Grid& surface, GridInfo info, const GradientProduct& what);

}  // namespace katoptra
