#include "unevenness.hpp"

#include "base/clones.hpp"

namespace katoptra::unevenness {

KATOPTRA_CLONES std::int32_t squares(const float* __restrict a, const float* __restrict b, const float* __restrict c,
                                     const float* __restrict d, int order, std::int64_t n, float* __restrict out) {
  std::int32_t unknown = 0;
  if (order == 1) {
    for (std::int64_t i = 0; i < n; ++i) out[i] = c[i] - b[i];
  } else if (order == 2) {
    for (std::int64_t i = 0; i < n; ++i) out[i] = a[i] - 2 * b[i] + c[i];
  } else {
    for (std::int64_t i = 0; i < n; ++i) out[i] = (d[i] - a[i]) - 3 * (c[i] - b[i]);
  }
  for (std::int64_t i = 0; i < n; ++i) {
    unknown += out[i] != out[i] ? 1 : 0;
    out[i] *= out[i];
  }
  return unknown;
}

KATOPTRA_CLONES void add_three(const float* __restrict v, std::int64_t n, float* __restrict out) {
  for (std::int64_t i = 0; i < n; ++i) out[i] = (v[i - 1] + v[i]) + v[i + 1];
}

KATOPTRA_CLONES void add_four(const float* __restrict v, std::int64_t n, float* __restrict out) {
  for (std::int64_t i = 0; i < n; ++i) out[i] = ((v[i - 1] + v[i]) + v[i + 1]) + v[i + 2];
}

KATOPTRA_CLONES void add_row(const float* __restrict v, std::int64_t n, float* __restrict out) {
  for (std::int64_t i = 0; i < n; ++i) out[i] += v[i];
}

KATOPTRA_CLONES void divide(const float* __restrict along, float across, std::int64_t n, float* __restrict out) {
  for (std::int64_t i = 0; i < n; ++i) {
    const float count = along[i] * across;
    out[i] = out[i] / (count > 0 ? count : 1);
  }
}

}  // namespace katoptra::unevenness
