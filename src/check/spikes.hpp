// A cell against a plane through the ring around it.
#pragma once
#include <optional>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct RingFit {
  double off = 0;    // the cell less the plane
  double usual = 0;  // NMAD of the ring about the plane
};
// The ring is the 40 cells two and three cells away; slope and height are medians, so that a spike nearby does not
// move them. Column and row within the block. Nothing for a void, or with fewer than 12 known cells in the ring.
std::optional<RingFit> fit_ring(const Block& block, std::int64_t col, std::int64_t row);

}  // namespace katoptra
