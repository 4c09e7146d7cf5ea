// A number a cell in a temporary file, read and written by windows: what is known of a whole grid without holding it.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "katoptra/grid/frame.hpp"

#include "base/common_folder.hpp"

namespace katoptra {

// Any thread may read and write at once; windows written at once must not overlap.
template <class T>
class ScratchPlane {
  static_assert(std::is_trivially_copyable_v<T>);

 public:
  // `wanted_for`: the file in an Error. In a folder that is seen: of all processes, by a name.
  ScratchPlane(std::int64_t cols, std::int64_t rows, std::string wanted_for,
               const std::shared_ptr<const CommonFolder>& folder = nullptr, const std::string& name = {})
      : cols_(cols), rows_(rows), file_(std::move(wanted_for), folder, name) {}

  // `stride`: cells from one row to the next, where they stand in a wider array.
  void write(const Window& w, const T* cells, std::int64_t stride = 0) {
    ScratchFile::Turn turn(file_);
    for (std::int64_t r = 0; r < w.rows; ++r)
      turn.write(at(w.col, w.row + r),
                 {reinterpret_cast<const std::uint8_t*>(cells + r * (stride > 0 ? stride : w.cols)), bytes(w.cols)});
    turn.end();
  }

  // Cells outside the plane become `outside`; the part inside must have been written.
  void read(const Window& w, T outside, T* cells, std::int64_t stride = 0) const {
    if (stride == 0) stride = w.cols;
    const Window in = w.intersected({0, 0, cols_, rows_});
    if (in != w)
      for (std::int64_t r = 0; r < w.rows; ++r) std::fill_n(cells + r * stride, w.cols, outside);
    if (in.rows <= 0 || in.cols <= 0) return;
    ScratchFile::Turn turn(file_);
    for (std::int64_t r = in.row; r < in.row + in.rows; ++r)
      turn.read(at(in.col, r),
                {reinterpret_cast<std::uint8_t*>(cells + (r - w.row) * stride + (in.col - w.col)), bytes(in.cols)});
  }
  std::vector<T> read(const Window& w, T outside) const {
    std::vector<T> cells(static_cast<std::size_t>(w.cells()));
    read(w, outside, cells.data());
    return cells;
  }

 private:
  static std::size_t bytes(std::int64_t n) { return static_cast<std::size_t>(n) * sizeof(T); }
  std::uint64_t at(std::int64_t col, std::int64_t row) const {
    return static_cast<std::uint64_t>(row * cols_ + col) * sizeof(T);
  }

  std::int64_t cols_, rows_;
  ScratchFile file_;
};

}  // namespace katoptra
