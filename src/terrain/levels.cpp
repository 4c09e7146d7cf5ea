#include "levels.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "base/clones.hpp"

namespace katoptra {
namespace {

KATOPTRA_CLONES bool steps_of_multiples(const float* row, std::int64_t n, double base, double above, double below,
                                        std::int32_t* steps) {
  const double inverse_above = 1 / above, inverse_below = 1 / below;
  int far = 0;
  for (std::int64_t c = 0; c < n; ++c) {
    const double z = static_cast<double>(row[c]);
    const double interval = z >= base ? above : below;
    double k = std::floor((z - base) * (z >= base ? inverse_above : inverse_below));
    // The product may be a hair off a whole number; the levels themselves decide.
    k += z >= base + (k + 1) * interval ? 1.0 : 0.0;
    k -= z < base + k * interval ? 1.0 : 0.0;
    far += std::abs(k) > 1073741824.0 ? 1 : 0;
    steps[c] = std::abs(k) <= 1073741824.0 ? static_cast<std::int32_t>(k) : kVoidStep;
  }
  return far == 0;
}

}  // namespace

bool Levels::steps(const float* row, std::int64_t n, std::int32_t* out) const {
  if (!are_listed()) {
    if (!steps_of_multiples(row, n, base_, above_, below_, out)) return false;
  } else {
    for (std::int64_t c = 0; c < n; ++c) {
      const auto z = static_cast<double>(row[c]);
      out[c] =
          std::isnan(z)
              ? kVoidStep
              : static_cast<std::int32_t>(std::upper_bound(listed_.begin(), listed_.end(), z) - listed_.begin()) - 1;
    }
  }
  if (is_whole_) return true;
  for (std::int64_t c = 0; c < n; ++c)
    if (out[c] != kVoidStep) out[c] = std::clamp(out[c], least_, most_);
  return true;
}

}  // namespace katoptra
