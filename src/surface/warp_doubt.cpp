#include "warp_doubt.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/clones.hpp"

namespace katoptra {

KATOPTRA_CLONES bool lane_places(const Run& run, Point corner, std::int64_t cols, std::int64_t rows, std::int64_t n,
                                 std::int32_t* __restrict at, DoubtLanes& __restrict to) {
  const double fx = run.first.x, fy = run.first.y, sx = run.step.x, sy = run.step.y, skip = run.skip;
  const double x0 = fx + skip * sx - 0.5 - corner.x, y0 = fy + skip * sy - 0.5 - corner.y;
  const double past = static_cast<double>(n - 1);
  const double x1 = x0 + past * sx, y1 = y0 + past * sy;
  const double x_most = static_cast<double>(cols) - 1.001, y_most = static_cast<double>(rows) - 1.001;
  if (!(std::min(x0, x1) >= 0 && std::max(x0, x1) < x_most && std::min(y0, y1) >= 0 && std::max(y0, y1) < y_most))
    return false;
  const auto wide = static_cast<std::int32_t>(cols);
  for (std::int32_t k = 0; k < static_cast<std::int32_t>(n); ++k) {
    // As Run::at has it, to the last bit: cells are the same through every window.
    const double past_first = skip + k;
    const double x = (fx + past_first * sx) - 0.5, y = (fy + past_first * sy) - 0.5;
    const double c = std::floor(x), r = std::floor(y);
    to.exact_u[k] = x - c;
    to.exact_v[k] = y - r;
    to.u[k] = static_cast<float>(x - c);
    to.v[k] = static_cast<float>(y - r);
    at[k] = static_cast<std::int32_t>(r - corner.y) * wide + static_cast<std::int32_t>(c - corner.x);
  }
  return true;
}

KATOPTRA_CLONES bool all_alike(const float* __restrict v, std::int64_t n) {
  std::int32_t others = 0;
  for (std::int64_t i = 0; i < n; ++i) others += v[i] == v[0] ? 0 : 1;
  return others == 0;
}

namespace {

KATOPTRA_CLONES void multiply_shares(const float* __restrict across, const float* __restrict down, std::int64_t n,
                                     DoubtLanes& __restrict l) {
  constexpr int kSteps = KernelShares::kSteps;
  const auto at = [](const float* table, float t) {
    const float x = t * kSteps;
    const auto whole = static_cast<std::int32_t>(x), i = whole < kSteps - 1 ? whole : kSteps - 1;
    return table[i] + (x - static_cast<float>(i)) * (table[i + 1] - table[i]);
  };
  for (std::int64_t k = 0; k < n; ++k) l.share[k] = at(across, l.u[k]) * at(down, l.v[k]);
}

KATOPTRA_CLONES void sum_of_four(bool known, double beside, double below, std::int64_t n, DoubtLanes& __restrict l) {
  for (std::int64_t k = 0; k < n; ++k) {
    const double u = l.exact_u[k], v = l.exact_v[k];
    const double w00 = (1 - u) * (1 - v), w10 = u * (1 - v), w01 = (1 - u) * v, w11 = u * v,
                 all = ((w00 + w10) + w01) + w11;
    const double a = w00 > 0 ? w00 / all * static_cast<double>(l.s00[k]) : 0,
                 b = w10 > 0 ? w10 / all * static_cast<double>(l.s10[k]) : 0,
                 c = w01 > 0 ? w01 / all * static_cast<double>(l.s01[k]) : 0,
                 d = w11 > 0 ? w11 / all * static_cast<double>(l.s11[k]) : 0;
    const double sum = a + b + c + d, own = a * a + b * b + c * c + d * d;
    const double apart =
        own + 2 * (beside * (a * b + c * d) + below * (a * c + b * d) + beside * below * (a * d + b * c));
    const double square = sum * sum;
    l.more[k] = static_cast<float>(known ? apart : square > own ? square : own);
  }
}

}  // namespace

void kernel_shares(const KernelShares& across, const KernelShares& down, std::int64_t n, DoubtLanes& l) {
  multiply_shares(across.table(), down.table(), n, l);
}

void bilinear_variances(const ErrorKernel& errors, std::int64_t n, DoubtLanes& l) {
  sum_of_four(errors.known(), errors.beside(), errors.below(), n, l);
}

KATOPTRA_CLONES void doubt_of(const DoubtLanes& l, std::int64_t n, float leaves, bool nearest, float noise_x,
                              float noise_y, float* __restrict out) {
  for (std::int64_t k = 0; k < n; ++k) {
    const float u = l.u[k], v = l.v[k];
    const float upper = (1 - u) * l.s00[k] * l.s00[k] + u * l.s10[k] * l.s10[k],
                lower = (1 - u) * l.s01[k] * l.s01[k] + u * l.s11[k] * l.s11[k];
    const float own = (1 - v) * upper + v * lower;
    const float su = u * (1 - u), sv = v * (1 - v), nu = u < 1 - u ? u : 1 - u, nv = v < 1 - v ? v : 1 - v;
    const float left_u = leaves * (nearest ? nu * nu : su * su), left_v = leaves * (nearest ? nv * nv : sv * sv);
    const float rx = l.rough_x[k] - own * noise_x, ry = l.rough_y[k] - own * noise_y;
    const float left = left_u * (rx > 0 ? rx : 0) + left_v * (ry > 0 ? ry : 0);
    out[k] = std::sqrt((own * l.share[k] + l.more[k]) + left);
  }
}

KATOPTRA_CLONES void round_doubts(float* __restrict u, std::int64_t n) {
  for (std::int64_t k = 0; k < n; ++k) {
    std::uint32_t bits = 0;
    std::memcpy(&bits, &u[k], 4);
    const std::uint32_t rounded = (bits + (1u << 15)) >> 16 << 16;
    const bool plain = u[k] > 0 && u[k] <= 3e38F;
    bits = plain ? rounded : bits;
    std::memcpy(&u[k], &bits, 4);
  }
}

}  // namespace katoptra
