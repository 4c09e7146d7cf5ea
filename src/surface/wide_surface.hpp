// Voids of any size, closed in temporary files: what is asked of whatever closes one.
#pragma once
#include <cstdint>
#include <span>

#include "katoptra/grid/grid.hpp"

#include "scratch_array.hpp"
#include "void_shape.hpp"

namespace katoptra {

// How many steps (over corners, too) each cell of a void lies from its rim: 1 beside it. Two bytes a cell of its box.
class WideDepths {
 public:
  WideDepths(const VoidCells& voids, std::uint32_t region, const Frame& frame);
  // Of cells of a row of the grid that belong to the void. From any thread.
  void read(std::int64_t col, std::int64_t row, std::span<std::uint16_t> out) const;

 private:
  std::uint16_t* row(std::int64_t r) const;  // its first cell, by the row of the grid
  Window box_;                               // with a cell more on every side
  ScratchArray<std::uint16_t> depth_;
};

class WideSurface {
 public:
  virtual ~WideSurface() = default;
  WideSurface(const WideSurface&) = delete;
  WideSurface& operator=(const WideSurface&) = delete;

  // Of cells of a row of the grid that belong to the void. From any thread.
  virtual void read(std::int64_t col, std::int64_t row, std::span<float> out) const = 0;
  float at(std::int64_t col, std::int64_t row) const {
    float z = 0;
    read(col, row, std::span(&z, 1));
    return z;
  }
  void read_depths(std::int64_t col, std::int64_t row, std::span<std::uint16_t> out) const {
    depths_.read(col, row, out);
  }
  // Of the heights of the rim; NaN where none is known.
  double mean() const { return mean_; }
  // How many rounds it took.
  int rounds() const { return rounds_; }

 protected:
  // `bytes`: what else it takes of temporary files. Io where there is no room for it.
  WideSurface(const VoidCells& voids, std::uint32_t region, const Frame& frame, std::uint64_t bytes);
  double mean_ = 0;
  int rounds_ = 0;

 private:
  WideDepths depths_;
};

}  // namespace katoptra
