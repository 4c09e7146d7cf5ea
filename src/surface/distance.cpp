#include "distance.hpp"

#include <algorithm>
#include <cmath>

namespace katoptra {

std::vector<float> distance_to_marked(const std::vector<std::uint8_t>& marked, std::int64_t cols, std::int64_t rows,
                                      std::int64_t reach) {
  const auto cap = static_cast<float>(reach);
  std::vector<float> down(static_cast<std::size_t>(cols * rows));
  auto at = [&](std::int64_t r, std::int64_t c) -> float& { return down[static_cast<std::size_t>(r * cols + c)]; };
  // Straight up and down first.
  for (std::int64_t r = 0; r < rows; ++r)
    for (std::int64_t c = 0; c < cols; ++c)
      at(r, c) = marked[static_cast<std::size_t>(r * cols + c)] ? 0 : r ? std::min(cap, at(r - 1, c) + 1) : cap;
  for (std::int64_t r = rows - 2; r >= 0; --r)
    for (std::int64_t c = 0; c < cols; ++c) at(r, c) = std::min(at(r, c), at(r + 1, c) + 1);
  // Then the best over each row: sqrt(dx^2 + down^2), only where it can still be nearer than the cap.
  std::vector<float> out(down.size());
  for (std::int64_t r = 0; r < rows; ++r)
    for (std::int64_t c = 0; c < cols; ++c) {
      float best = at(r, c) * at(r, c);
      for (std::int64_t d = 1; d < reach && static_cast<float>(d * d) < best; ++d) {
        const auto d2 = static_cast<float>(d * d);
        if (c >= d) best = std::min(best, d2 + at(r, c - d) * at(r, c - d));
        if (c + d < cols) best = std::min(best, d2 + at(r, c + d) * at(r, c + d));
      }
      out[static_cast<std::size_t>(r * cols + c)] = std::min(cap, std::sqrt(best));
    }
  return out;
}

}  // namespace katoptra
