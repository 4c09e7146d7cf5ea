// What runs oblique to rows and columns: straight steps, as between flight strips, and regular ripples. Both are looked
// for in square windows that are kept while the grid streams by.
#pragma once
#include <vector>

#include "detector.hpp"

namespace katoptra {

inline constexpr std::int64_t kWindowEdge = 256;  // cells of the grid
inline constexpr std::size_t kHalfEdge = 128;     // of its means of 2 x 2 cells, and of its middle in cells

struct SampledWindow {
  Window at;
  std::vector<float> halves;  // means of 2 x 2 cells; NaN when one of them is
  std::vector<float> middle;  // its middle in cells; empty when ripples are not looked for here
};

// A straight line across the grid, in cells (0 is the middle of the first).
struct GridLine {
  double col = 0, row = 0;     // a point of it
  double east = 1, south = 0;  // its direction, of length 1
};

class ObliqueSteps {
 public:
  explicit ObliqueSteps(Scene& scene) : scene_(scene) {}
  void look(const SampledWindow& w);
  void judge();

 private:
  struct Seed {
    GridLine line;
    double height = 0, score = 0;
  };
  Scene& scene_;
  std::vector<Seed> seeds_;
};

class ObliqueRipples {
 public:
  explicit ObliqueRipples(Scene& scene) : scene_(scene) {}
  void look(const SampledWindow& w);
  void judge();

 private:
  struct Peak {
    int kx = 0, ky = 0;  // cycles in kHalfEdge cells, kx >= 0
    double amplitude = 0;
    Window at;
  };
  Scene& scene_;
  std::int64_t windows_ = 0;
  std::vector<Peak> peaks_;
};

}  // namespace katoptra
