// What the products of a surface have in common.
#pragma once
#include <string>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Facts of a product of `surface`. Refused unless that is heights.
GridInfo product_info(const Grid& surface, QuantityKind kind, const std::string& unit, SampleType type);

}  // namespace katoptra
