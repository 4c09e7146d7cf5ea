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

// BadArgument for a radius that is shorter than a cell or longer than kFarthestCells of them.
void require_radius(const Grid& surface, Length radius);

// BadArgument unless heights are multiplied by more than 0 and at most kMostExaggerated.
void require_exaggeration(double times, const char* where);

}  // namespace katoptra
