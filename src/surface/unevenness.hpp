// How uneven the ground is between the cells of a block: the mean square of differences of neighbours, of the order
// that a kernel cannot follow. A nearest cell leaves out the first differences, a straight line the second, a cubic the
// third.
//
// Around the place between cells (c, r) and (c + 1, r + 1) twelve differences along rows speak for one direction and
// twelve along columns for the other: three in a line, four lines. All of them lie within three cells of it.
#pragma once
#include <algorithm>
#include <cmath>
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "grid/error_kernel.hpp"

namespace katoptra {
namespace unevenness {

// Squares of differences of order 1 to 3, from the four (or fewer) neighbours that lie one step apart. Returns how many
// are not known.
std::int32_t squares(const float* a, const float* b, const float* c, const float* d, int order, std::int64_t n,
                     float* out);
// Sums of a place, the one before and one or two after.
void add_three(const float* v, std::int64_t n, float* out);
void add_four(const float* v, std::int64_t n, float* out);
void add_row(const float* v, std::int64_t n, float* out);
// By a count of columns times one of rows; zero where there are none.
void divide(const float* along, float across, std::int64_t n, float* out);

}  // namespace unevenness

class Unevenness {
 public:
  // `order`: 1 to 3.
  Unevenness(const Block& block, int order) : window_(block.window()) {
    const bool holes = !take(block, order, true, x_);
    if (!take(block, order, false, y_) || holes) take_with_holes(block, order);
  }

  struct Along {
    float x = 0, y = 0;
  };
  // Between cell (c, r) and the next of the frame; 0 where no difference is known.
  Along at(std::int64_t c, std::int64_t r) const {
    c -= window_.col;
    r -= window_.row;
    if (c < 0 || r < 0 || c >= window_.cols || r >= window_.rows) return {};
    const auto i = static_cast<std::size_t>(r * window_.cols + c);
    return {x_[i], y_[i]};
  }
  // All of them, as the block has its cells.
  const float* x() const { return x_.data(); }
  const float* y() const { return y_.data(); }

 private:
  // Where a difference of that order lies from the cell before the place it belongs to: of order 2 around that cell.
  static std::int64_t before(int order) { return order == 1 ? 0 : 1; }
  static std::int64_t after(int order) { return order == 3 ? 2 : 1; }

  // Sums over windows row by row: squares of a row are taken once, summed along it, and added to the rows that they
  // speak for. False when a difference is not known: counts follow from the edges only where all are.
  bool take(const Block& b, int order, bool along_x, std::vector<float>& out) const {
    const std::int64_t cols = window_.cols, rows = window_.rows;
    out.assign(static_cast<std::size_t>(cols * rows), 0);
    constexpr std::int64_t kPad = 2;
    std::vector<float> square(static_cast<std::size_t>(cols + 2 * kPad), 0), sum(square.size(), 0);
    const std::int64_t lines = along_x ? 4 : 3;  // rows that speak for a place: from the one before
    const std::int64_t first_row = along_x ? 0 : before(order), end_row = along_x ? rows : rows - after(order);
    const std::int64_t first_col = along_x ? before(order) : 0, end_col = along_x ? cols - after(order) : cols;
    if (end_col <= first_col) return true;
    std::int32_t unknown = 0;
    for (std::int64_t r = first_row; r < end_row; ++r) {
      const std::int64_t step = along_x ? 1 : cols;
      const float* p = b.row(r) + first_col;
      const float *a = order > 1 ? p - step : p, *d = order == 3 ? p + 2 * step : p;
      unknown += unevenness::squares(a, p, p + step, d, order, end_col - first_col, square.data() + kPad + first_col);
      if (along_x)
        unevenness::add_three(square.data() + kPad, cols, sum.data());
      else
        unevenness::add_four(square.data() + kPad, cols, sum.data());
      for (std::int64_t to = r + 1; to > r + 1 - lines; --to)
        if (to >= 0 && to < rows) unevenness::add_row(sum.data(), cols, out.data() + to * cols);
    }
    if (unknown > 0) return false;
    const auto along = along_x ? known(cols, before(order), cols - after(order), 3) : known(cols, 0, cols, 4),
               across = along_x ? known(rows, 0, rows, 4) : known(rows, before(order), rows - after(order), 3);
    for (std::int64_t r = 0; r < rows; ++r)
      unevenness::divide(along.data(), across[static_cast<std::size_t>(r)], cols, out.data() + r * cols);
    return true;
  }
  // With counts of what is known.
  void take_with_holes(const Block& b, int order) {
    for (const bool along_x : {true, false}) {
      const std::int64_t cols = window_.cols, rows = window_.rows, step = along_x ? 1 : cols;
      std::vector<float> square(static_cast<std::size_t>(cols * rows), 0), count(square.size(), 0);
      const float* z = b.row(0);
      for (std::int64_t r = 0; r < rows; ++r)
        for (std::int64_t c = 0; c < cols; ++c) {
          const std::int64_t at = along_x ? c : r, most = along_x ? cols : rows;
          if (at < before(order) || at + after(order) >= most) continue;
          const auto i = static_cast<std::size_t>(r * cols + c);
          const float* p = z + i;
          float d = 0;
          unevenness::squares(order > 1 ? p - step : p, p, p + step, order == 3 ? p + 2 * step : p, order, 1, &d);
          if (std::isnan(d)) continue;
          square[i] = d;
          count[i] = 1;
        }
      const std::vector<float> n = summed(summed(count, along_x ? 3 : 4, true), along_x ? 4 : 3, false);
      std::vector<float> s = summed(summed(square, along_x ? 3 : 4, true), along_x ? 4 : 3, false);
      for (std::size_t i = 0; i < s.size(); ++i) s[i] = n[i] > 0 ? s[i] / n[i] : 0;
      (along_x ? x_ : y_) = std::move(s);
    }
  }
  // Of `n` neighbours from the one before, how many lie between two places.
  static std::vector<float> known(std::int64_t size, std::int64_t from, std::int64_t to, std::int64_t n) {
    std::vector<float> out(static_cast<std::size_t>(size), 0);
    for (std::int64_t i = 0; i < size; ++i)
      for (std::int64_t k = i - 1; k < i - 1 + n; ++k) out[static_cast<std::size_t>(i)] += k >= from && k < to ? 1 : 0;
    return out;
  }
  // Sums of `n` neighbours in a row or a column, from the one before.
  std::vector<float> summed(const std::vector<float>& v, std::int64_t n, bool along_row) const {
    const std::int64_t cols = window_.cols, rows = window_.rows;
    std::vector<float> out(v.size(), 0);
    for (std::int64_t k = -1; k < n - 1; ++k)
      for (std::int64_t r = 0; r < rows; ++r) {
        const std::int64_t from_row = along_row ? r : r + k;
        if (from_row < 0 || from_row >= rows) continue;
        const std::int64_t c0 = along_row ? std::max<std::int64_t>(0, -k) : 0,
                           c1 = along_row ? std::min(cols, cols - k) : cols;
        const float* p = v.data() + from_row * cols + (along_row ? k : 0);
        float* to = out.data() + r * cols;
        for (std::int64_t c = c0; c < c1; ++c) to[c] += p[c];
      }
    return out;
  }

  Window window_;
  std::vector<float> x_, y_;
};

// Of a cell's variance, how much noise alone makes the mean square of a difference of that order; 0 where the reach of
// errors is not known, so that nothing is taken away.
inline double noise_in_difference(const ErrorKernel& errors, int order, bool along_x) {
  static constexpr float kWeights[4][4] = {{}, {-1, 1, 0, 0}, {1, -2, 1, 0}, {-1, 3, -3, 1}};
  if (!errors.known()) return 0;
  return along_x ? errors.across(kWeights[order], order + 1) : errors.down(kWeights[order], order + 1);
}

}  // namespace katoptra
