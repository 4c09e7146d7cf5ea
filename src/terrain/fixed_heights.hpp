// Heights as whole numbers of steps: sums of them are exact in any order.
#pragma once
#include <cmath>
#include <cstdint>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/terrain/ruggedness.hpp"

namespace katoptra {

__extension__ using Int128 = __int128;

inline constexpr double kHeightSteps = 65536;  // of a unit

// BadFile beyond kHighestSummed.
inline std::int64_t steps_of(float z, const GridInfo& info) {
  if (std::abs(z) > static_cast<float>(kHighestSummed))
    throw Error(ErrorCode::BadFile, fmt::format("a height of {:g} cannot be one", z), info.name,
                "declare it as a void with --from-void, or check the unit");
  return std::llround(static_cast<double>(z) * kHeightSteps);
}

}  // namespace katoptra
