// A cell against the curved ground that the ring around it tells.
#pragma once
#include <cstdint>
#include <optional>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct RingFit {
  double off = 0;    // the cell less that ground
  double usual = 0;  // NMAD of the ring about it
};
// The ring is the 40 cells two and three cells away; a quadratic is fitted to it, what stands off by more than three
// NMAD left out the second and third time. Column and row within the block. Nothing for a void, or with fewer than 12
// known cells in the ring.
// Nothing either unless the cell is off by `least` (in the unit of the values) and by `times` what is usual.
std::optional<RingFit> fit_ring(const Block& block, std::int64_t col, std::int64_t row, double least, double times);

// Whether cells that stand off their neighbours at all are enough to tell the noise of the ground. Where all but a
// handful lie in planes, those few are what is looked for; an islet in a still sea is more than a handful.
constexpr bool tells_of_noise(std::int64_t standing_off) { return standing_off >= 8; }

}  // namespace katoptra
