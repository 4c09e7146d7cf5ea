// What the products of a surface have in common.
#pragma once
#include <string>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Refused unless the values are heights on a grid whose distances are known: one without a CRS is taken to be in
// metres, but not when its coordinates can only be degrees (all of them on the globe, and cells below two centimetres).
void require_heights(const Grid& surface);

// Facts of a product of `surface`, of which heights are required.
GridInfo product_info(const Grid& surface, QuantityKind kind, const std::string& unit, SampleType type);

}  // namespace katoptra
