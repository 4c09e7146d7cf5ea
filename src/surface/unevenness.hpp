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

class Unevenness {
 public:
  // `order`: 1 to 3.
  Unevenness(const Block& block, int order) : window_(block.window()) {
    const std::int64_t cols = window_.cols, rows = window_.rows;
    std::vector<float> square(static_cast<std::size_t>(cols * rows)), count(square.size());
    x_ = mean_squares(block, order, 1, 0, square, count);
    y_ = mean_squares(block, order, 0, 1, square, count);
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

 private:
  std::vector<float> mean_squares(const Block& b, int order, std::int64_t dc, std::int64_t dr,
                                  std::vector<float>& square, std::vector<float>& count) const {
    const std::int64_t cols = window_.cols, rows = window_.rows, step = dc + dr * cols;
    // The difference that belongs to the way from a cell to the next: of order 2 the one around the cell itself.
    const std::int64_t before = order == 1 ? 0 : 1, after = order == 3 ? 2 : 1;
    const float* z = b.row(0);
    bool holes = false;
    for (std::int64_t r = 0; r < rows; ++r)
      for (std::int64_t c = 0; c < cols; ++c) {
        const auto i = static_cast<std::size_t>(r * cols + c);
        square[i] = count[i] = 0;
        const std::int64_t at = dc ? c : r, most = dc ? cols : rows;
        if (at < before || at + after >= most) continue;
        const float* p = z + i;
        const float d = order == 1   ? p[step] - p[0]
                        : order == 2 ? p[-step] - 2 * p[0] + p[step]
                                     : (p[2 * step] - p[-step]) - 3 * (p[step] - p[0]);
        if (std::isnan(d)) {
          holes = true;
          continue;
        }
        square[i] = d * d;
        count[i] = 1;
      }
    std::vector<float> s = summed(summed(square, dc ? 3 : 4, true), dc ? 4 : 3, false);
    if (holes) {
      const std::vector<float> n = summed(summed(count, dc ? 3 : 4, true), dc ? 4 : 3, false);
      for (std::size_t i = 0; i < s.size(); ++i) s[i] = n[i] > 0 ? s[i] / n[i] : 0;
      return s;
    }
    // How many there are depends on the column and on the row alone.
    const auto along = dc ? known(cols, before, cols - after, 3) : known(cols, 0, cols, 4),
               across = dc ? known(rows, 0, rows, 4) : known(rows, before, rows - after, 3);
    for (std::int64_t r = 0; r < rows; ++r)
      for (std::int64_t c = 0; c < cols; ++c) {
        const float n = along[static_cast<std::size_t>(c)] * across[static_cast<std::size_t>(r)];
        float& mean = s[static_cast<std::size_t>(r * cols + c)];
        mean = n > 0 ? mean / n : 0;
      }
    return s;
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
