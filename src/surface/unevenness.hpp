// How uneven the ground is between the cells of a block: the mean square of differences of neighbours, of the order
// that a kernel cannot follow. A nearest cell leaves out the first differences, a straight line the second, a cubic the
// third.
//
// Around the place between cells (c, r) and (c + 1, r + 1) twelve differences along rows speak for one direction and
// twelve along columns for the other: three in a line, four lines. All of them lie within three cells of it.
#pragma once
#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

#include "katoptra/grid/grid.hpp"

#include "base/pool.hpp"
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
// The sum of up to four rows by a count of columns times one of rows; zero where there are none.
void mean_of(const float* const* rows, int count, const float* along, float across, std::int64_t n, float* out);

}  // namespace unevenness

class Unevenness {
 public:
  using Rooms = Pool<std::vector<float>>;  // planes that serve one block after the other
  // `order`: 1 to 3.
  Unevenness(const Block& block, int order, Rooms& rooms)
      : window_(block.window()),
        rooms_(rooms),
        x_(rooms.take([] { return std::vector<float>(); })),
        y_(rooms.take([] { return std::vector<float>(); })) {
    const bool holes = !take(block, order, true, x_);
    whole_ = take(block, order, false, y_) && !holes;
    if (!whole_) take_with_holes(block, order);
    whole_ = whole_ && std::min(window_.cols, window_.rows) > order;
  }
  ~Unevenness() {
    rooms_.give(std::move(x_));
    rooms_.give(std::move(y_));
  }
  Unevenness(const Unevenness&) = delete;
  Unevenness& operator=(const Unevenness&) = delete;
  // Every cell of the block is known.
  bool whole() const { return whole_; }

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
    out.resize(static_cast<std::size_t>(cols * rows));
    constexpr std::int64_t kPad = 2;
    const auto padded = static_cast<std::size_t>(cols + 2 * kPad);
    const std::int64_t lines = along_x ? 4 : 3;  // rows that speak for a place: from the one before
    std::vector<float> square(padded, 0), sums(padded * static_cast<std::size_t>(lines), 0);
    const std::int64_t first_row = along_x ? 0 : before(order), end_row = along_x ? rows : rows - after(order);
    const std::int64_t first_col = along_x ? before(order) : 0, end_col = along_x ? cols - after(order) : cols;
    if (end_col <= first_col) {
      std::fill(out.begin(), out.end(), 0.0F);
      return true;
    }
    const auto sum_of = [&](std::int64_t r) { return sums.data() + static_cast<std::size_t>(r % lines) * padded; };
    const auto along = along_x ? known(cols, before(order), cols - after(order), 3) : known(cols, 0, cols, 4),
               across = along_x ? known(rows, 0, rows, 4) : known(rows, before(order), rows - after(order), 3);
    std::int64_t next = first_row;  // whose sums are not taken yet
    for (std::int64_t to = 0; to < rows; ++to) {
      for (; next < std::min(end_row, to + lines - 1); ++next) {
        const std::int64_t step = along_x ? 1 : cols;
        const float* p = b.row(next) + first_col;
        const float *a = order > 1 ? p - step : p, *d = order == 3 ? p + 2 * step : p;
        if (unevenness::squares(a, p, p + step, d, order, end_col - first_col, square.data() + kPad + first_col) > 0)
          return false;
        if (along_x)
          unevenness::add_three(square.data() + kPad, cols, sum_of(next));
        else
          unevenness::add_four(square.data() + kPad, cols, sum_of(next));
      }
      const float* speak[4] = {};
      int n = 0;
      for (std::int64_t r = std::max(first_row, to - 1); r < std::min(end_row, to + lines - 1); ++r)
        speak[n++] = sum_of(r);
      unevenness::mean_of(speak, n, along.data(), across[static_cast<std::size_t>(to)], cols, out.data() + to * cols);
    }
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
  Rooms& rooms_;
  std::vector<float> x_, y_;
  bool whole_ = false;
};

// Of a cell's variance, how much noise alone makes the mean square of a difference of that order; 0 where the reach of
// errors is not known, so that nothing is taken away.
inline double noise_in_difference(const ErrorKernel& errors, int order, bool along_x) {
  static constexpr float kWeights[4][4] = {{}, {-1, 1, 0, 0}, {1, -2, 1, 0}, {-1, 3, -3, 1}};
  if (!errors.known()) return 0;
  return along_x ? errors.across(kWeights[order], order + 1) : errors.down(kWeights[order], order + 1);
}

}  // namespace katoptra
