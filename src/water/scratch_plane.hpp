// A number a cell in a temporary file, read and written by windows: what is known of a whole grid without holding it.
#pragma once
#include <algorithm>
#include <cstdint>
#include <string>
#include <type_traits>
#include <unistd.h>
#include <vector>

#include "katoptra/grid/frame.hpp"

#include "base/scratch.hpp"

namespace katoptra {

// Any thread may read and write at once; windows written at once must not overlap.
template <class T>
class ScratchPlane {
  static_assert(std::is_trivially_copyable_v<T>);

 public:
  // `wanted_for`: the file in an Error.
  ScratchPlane(std::int64_t cols, std::int64_t rows, std::string wanted_for)
      : cols_(cols), rows_(rows), name_(std::move(wanted_for)), file_(open_unnamed_file(name_)) {}
  ~ScratchPlane() { ::close(file_); }
  ScratchPlane(const ScratchPlane&) = delete;
  ScratchPlane& operator=(const ScratchPlane&) = delete;

  // `stride`: cells from one row to the next, where they stand in a wider array.
  void write(const Window& w, const T* cells, std::int64_t stride = 0) {
    for (std::int64_t r = 0; r < w.rows; ++r)
      write_descriptor(
          file_, at(w.col, w.row + r),
          {reinterpret_cast<const std::uint8_t*>(cells + r * (stride > 0 ? stride : w.cols)), bytes(w.cols)}, name_);
  }

  // Cells outside the plane become `outside`; the part inside must have been written.
  void read(const Window& w, T outside, T* cells) const {
    const Window in = w.intersected({0, 0, cols_, rows_});
    if (in != w) std::fill_n(cells, w.cells(), outside);
    for (std::int64_t r = in.row; r < in.row + in.rows; ++r) {
      T* to = cells + (r - w.row) * w.cols + (in.col - w.col);
      if (read_descriptor(file_, at(in.col, r), {reinterpret_cast<std::uint8_t*>(to), bytes(in.cols)}, name_) !=
          bytes(in.cols))
        throw Error(ErrorCode::Io, "the temporary file ends early", name_, "check the disk");
    }
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
  std::string name_;
  int file_;
};

}  // namespace katoptra
