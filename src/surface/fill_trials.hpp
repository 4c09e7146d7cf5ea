// Ways to close voids, and what they err by: known cells of the form of a void, beside it, are hidden and closed.
#pragma once
#include <array>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "rim_field.hpp"
#include "void_shape.hpp"

namespace katoptra {

// What is known around and below a void, in the order of its shape.
struct VoidSurrounds {
  std::vector<float> rim, second_rim, second_cells;
  // Heights of other known cells, further out.
  std::function<std::vector<float>(const std::vector<VoidShape::Cell>&)> beyond;
};

// Heights of the cells by a way that looks at the rim alone; `blend`: in cells, 0 for all over.
std::vector<float> closed_by(Treatment way, const VoidShape& shape, const VoidSurrounds& around,
                             const std::vector<std::uint16_t>& depths, double blend);
// A second surface moved by `off`, the membrane of what it lies off the rim by; bent so within `blend` cells of the rim
// (0: all over), and moved by the mean of the rim beyond.
float bent_onto(float second, double off, double mean, std::uint16_t depth, double blend);
// The mean of the known cells in the smallest window of 3, 5 or 7 at least half of which is known; NaN where none is.
// (c, r): within the block, which reaches three cells further.
float window_mean(const Block& block, std::int64_t c, std::int64_t r);
// Values of a grid at cells of a shape, (0, 0) of which is `at`.
std::vector<float> values_at(const Grid& grid, Window at, const std::vector<VoidShape::Cell>& cells);

// Voids of about the same size are judged together: 1 to 3 cells, 4 to 15, 16 to 63 ...
std::size_t size_class(std::int64_t cells);

class FillTrials {
 public:
  static constexpr std::size_t kWays = 7;  // by Treatment
  struct Setting {
    Grid grid;
    std::optional<Grid> second;
    std::function<double(std::uint32_t region)> aspect;
    std::function<bool(std::uint32_t region)> counts;  // regions that will be closed
    std::int64_t small = 9;
    double blend = 0;
    RunOptions run;
  };
  FillTrials(const VoidCells& voids, Setting setting);
  // The way that erred least for voids of that size, of those that may be taken; nothing where nothing could be tried.
  std::optional<Treatment> best(std::int64_t cells, const std::vector<Treatment>& of) const;
  // The standard error of a cell so deep in a void of that size; NaN where nothing could be tried, or nothing erred.
  float error(std::int64_t cells, Treatment way, std::uint16_t depth) const;
  std::vector<FillTrial> told(const std::vector<std::string>& names,
                              const std::function<bool(std::size_t, Treatment)>& taken) const;

 private:
  static constexpr std::size_t kClasses = 24, kDepths = 16;
  struct Sum {
    double squares = 0, noise = 0;
    std::int64_t cells = 0, voids = 0;
    void add(const Sum& o);
    // Of the errors against the ground itself, where the noise of a hidden cell correlates so with that of the rim.
    double variance(double common) const;
  };
  using Sums = std::array<std::array<Sum, kDepths>, kWays>;
  struct Sample {
    Sums sums;
    bool tried = false;
  };
  Sample tried(const VoidCells& voids, const Setting& s, std::uint32_t region) const;
  void measure(const VoidShape& shape, const Setting& s, const Block& block, const Window& there, Sample& out) const;
  Sum of(std::size_t size, Treatment way) const;

  // How far the noise of a cell so deep goes together with that of the rim; 1 where nobody knows.
  double common_noise(std::uint16_t depth) const;

  std::optional<double> reach_;  // of errors, in cells
  std::vector<Sums> by_class_;
  std::vector<std::int64_t> voids_in_class_;
  Sums all_;
};

}  // namespace katoptra
