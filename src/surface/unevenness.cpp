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

namespace {

template <int kRows>
inline void mean_of_rows(const float* const* rows, const float* __restrict along, float across, std::int64_t n,
                         float* __restrict out) {
  const float* __restrict a = rows[0];
  const float* __restrict b = rows[kRows > 1 ? 1 : 0];
  const float* __restrict c = rows[kRows > 2 ? 2 : 0];
  const float* __restrict d = rows[kRows > 3 ? 3 : 0];
  for (std::int64_t i = 0; i < n; ++i) {
    float s = a[i];
    if constexpr (kRows > 1) s += b[i];
    if constexpr (kRows > 2) s += c[i];
    if constexpr (kRows > 3) s += d[i];
    const float count = along[i] * across;
    out[i] = s / (count > 0 ? count : 1);
  }
}

}  // namespace

KATOPTRA_FLAT_CLONES void mean_of(const float* const* rows, int count, const float* along, float across, std::int64_t n,
                                  float* out) {
  switch (count) {
    case 0:
      for (std::int64_t i = 0; i < n; ++i) out[i] = 0;
      return;
    case 1:
      return mean_of_rows<1>(rows, along, across, n, out);
    case 2:
      return mean_of_rows<2>(rows, along, across, n, out);
    case 3:
      return mean_of_rows<3>(rows, along, across, n, out);
    default:
      return mean_of_rows<4>(rows, along, across, n, out);
  }
}

}  // namespace katoptra::unevenness
