// A number a cell in a temporary file, read and written by windows: what is known of a whole grid without holding it.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/memory.hpp"
#include "katoptra/grid/frame.hpp"

#include "base/common_folder.hpp"

namespace katoptra {

// How the cells of a plane lie in its file. Blocks of a few columns: a tile is written in a few turns and read with
// the cells around it in some more, and nobody asks the system for each row of each tile. Rows: where each row is
// something by itself, and is read from its begin.
enum class PlaneLayout { Blocks, Rows };

// Any thread may read and write at once; windows written at once must not overlap.
template <class T>
class ScratchPlane {
  static_assert(std::is_trivially_copyable_v<T>);

 public:
  // `wanted_for`: the file in an Error. In a folder that is seen: of all processes, by a name.
  ScratchPlane(std::int64_t cols, std::int64_t rows, std::string wanted_for,
               const std::shared_ptr<const CommonFolder>& folder = nullptr, const std::string& name = {},
               PlaneLayout layout = PlaneLayout::Blocks)
      : cols_(cols),
        rows_(rows),
        wide_(layout == PlaneLayout::Blocks ? kWide : cols),
        tall_(layout == PlaneLayout::Blocks ? kTall : 1),
        across_((cols + wide_ - 1) / wide_),
        file_(std::move(wanted_for), folder, name) {
    ScratchFile::Turn turn(file_);
    turn.reach(static_cast<std::uint64_t>((rows_ + tall_ - 1) / tall_ * across_ * tall_ * wide_) * sizeof(T));
    turn.end();
  }

  // `stride`: cells from one row to the next, where they stand in a wider array.
  void write(const Window& w, const T* cells, std::int64_t stride = 0) {
    if (stride == 0) stride = w.cols;
    ScratchFile::Turn turn(file_);
    Cells block;
    each_block(w, [&](const Window& part) {
      const T* from = cells + (part.row - w.row) * stride + (part.col - w.col);
      const std::int64_t end = part.col + part.cols;
      // Beside what lies there already, row by row; behind the last column nobody has anything.
      if (part.rows == 1 || part.col % wide_ != 0 || (end % wide_ != 0 && end != cols_)) {
        for (std::int64_t r = 0; r < part.rows; ++r)
          turn.write(at(part.col, part.row + r),
                     {reinterpret_cast<const std::uint8_t*>(from + r * stride), bytes(part.cols)});
        return;
      }
      block.resize(static_cast<std::size_t>(part.rows * wide_));
      if (part.cols < wide_) std::fill(block.begin(), block.end(), T());
      for (std::int64_t r = 0; r < part.rows; ++r) std::copy_n(from + r * stride, part.cols, block.data() + r * wide_);
      turn.write(at(part.col, part.row),
                 {reinterpret_cast<const std::uint8_t*>(block.data()), bytes(std::ssize(block))});
    });
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
    Cells block;
    each_block(in, [&](const Window& part) {
      T* to = cells + (part.row - w.row) * stride + (part.col - w.col);
      if (part.rows == 1) {
        turn.read(at(part.col, part.row), {reinterpret_cast<std::uint8_t*>(to), bytes(part.cols)});
        return;
      }
      block.resize(static_cast<std::size_t>(part.rows * wide_));
      turn.read(at(part.col / wide_ * wide_, part.row),
                {reinterpret_cast<std::uint8_t*>(block.data()), bytes(std::ssize(block))});
      for (std::int64_t r = 0; r < part.rows; ++r)
        std::copy_n(block.data() + r * wide_ + part.col % wide_, part.cols, to + r * stride);
    });
  }
  std::vector<T> read(const Window& w, T outside) const {
    std::vector<T> cells(static_cast<std::size_t>(w.cells()));
    read(w, outside, cells.data());
    return cells;
  }

 private:
  using Cells = std::vector<T, RecyclingAllocator<T>>;
  static constexpr std::int64_t kWide = 64, kTall = 512;

  static std::size_t bytes(std::int64_t n) { return static_cast<std::size_t>(n) * sizeof(T); }
  std::uint64_t at(std::int64_t col, std::int64_t row) const {
    const std::int64_t block = row / tall_ * across_ + col / wide_;
    return static_cast<std::uint64_t>((block * tall_ + row % tall_) * wide_ + col % wide_) * sizeof(T);
  }
  // The parts of a window that lie in one block each.
  template <class Body>
  void each_block(const Window& w, const Body& body) const {
    for (std::int64_t row = w.row, below; row < w.row + w.rows; row = below) {
      below = std::min(w.row + w.rows, (row / tall_ + 1) * tall_);
      for (std::int64_t col = w.col, beyond; col < w.col + w.cols; col = beyond) {
        beyond = std::min(w.col + w.cols, (col / wide_ + 1) * wide_);
        body(Window{col, row, beyond - col, below - row});
      }
    }
  }

  std::int64_t cols_, rows_;
  std::int64_t wide_, tall_;  // cells of a block; the last ones reach beyond the plane
  std::int64_t across_;       // blocks
  ScratchFile file_;
};

// Rows that change from round to round. In a folder that is seen each round writes into a file of its own, for a part
// of work may be made twice, and late; else what is new takes the place of what was.
template <class T>
class ChangingRows {
 public:
  ChangingRows(std::int64_t cols, std::int64_t rows, std::string wanted_for,
               const std::shared_ptr<const CommonFolder>& folder, std::string name)
      : cols_(cols),
        rows_(rows),
        wanted_for_(std::move(wanted_for)),
        folder_(folder),
        name_(std::move(name)),
        round_of_(static_cast<std::size_t>(rows), 0) {
    next_round();
  }

  // What is written from now on is of another round. One caller, while nothing is read or written.
  void next_round() {
    if (!rounds_.empty() && !is_seen(folder_)) return;
    rounds_.push_back(std::make_unique<ScratchPlane<T>>(
        cols_, rows_, wanted_for_, folder_, fmt::format("{}-{}", name_, rounds_.size()), PlaneLayout::Rows));
  }
  // The begin of a row in this round, for those who read it in the next. Any thread, each its own row.
  void write(std::size_t row, const std::vector<T>& cells) {
    rounds_.back()->write(at(row, cells.size()), cells.data());
  }
  // The row is read as this round wrote it. One caller, while nothing is read.
  void renew(std::size_t row) { round_of_[row] = static_cast<std::uint32_t>(rounds_.size() - 1); }
  // As many cells as were written. Any thread.
  std::vector<T> read(std::size_t row, std::size_t n) const { return rounds_[round_of_[row]]->read(at(row, n), T()); }

 private:
  static Window at(std::size_t row, std::size_t n) {
    return {0, static_cast<std::int64_t>(row), static_cast<std::int64_t>(n), 1};
  }
  std::int64_t cols_, rows_;
  std::string wanted_for_;
  std::shared_ptr<const CommonFolder> folder_;
  std::string name_;
  std::vector<std::unique_ptr<ScratchPlane<T>>> rounds_;
  std::vector<std::uint32_t> round_of_;
};

}  // namespace katoptra
