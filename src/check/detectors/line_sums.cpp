#include "line_sums.hpp"

#include <algorithm>

#include "base/clones.hpp"

namespace katoptra {
namespace {

// out = upper + lower moved left by `shift`; beyond the end of lower there is nothing.
KATOPTRA_CLONES void add_moved(const float* __restrict upper, const float* __restrict lower, std::size_t shift,
                               std::size_t n, float* __restrict out) {
  for (std::size_t x = 0; x + shift < n; ++x) out[x] = upper[x] + lower[x + shift];
  for (std::size_t x = n - shift; x < n; ++x) out[x] = upper[x];
}

}  // namespace

void LineSums::sum(const float* values, LineTurn turn) {
  done_.assign(kEdge * kWidth, 0);
  next_.resize(kEdge * kWidth);
  for (std::size_t r = 0; r < kEdge; ++r)
    for (std::size_t c = 0; c < kEdge; ++c) {
      const std::size_t at = turn.mirrored ? kEdge - 1 - c : c;
      done_[r * kWidth + kEdge + c] = turn.transposed ? values[at * kEdge + r] : values[r * kEdge + at];
    }
  // Strips of `height` rows hold as many lines each: height doubles, strips halve.
  for (std::size_t height = 1; height < kEdge; height *= 2) {
    for (std::size_t strip = 0; strip < kEdge / (2 * height); ++strip)
      for (std::size_t s = 0; s < height; ++s) {
        const float *upper = &done_[(2 * strip * height + s) * kWidth], *lower = upper + height * kWidth;
        float* out = &next_[(strip * 2 * height + 2 * s) * kWidth];
        add_moved(upper, lower, s, kWidth, out);
        add_moved(upper, lower, s + 1, kWidth, out + kWidth);
      }
    std::swap(done_, next_);
  }
}

}  // namespace katoptra
