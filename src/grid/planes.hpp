// What sources do with all planes of a view at once.
#pragma once
#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Voids in every plane.
void make_void(const BlockView& view);
// No origin and no uncertainty where the value is void.
void void_where_value_is(const BlockView& view);
// Values were multiplied: so are their uncertainties, whatever the sign.
void scale_uncertainty(const BlockView& view, double factor);
// Another error that all values share, in their unit: the root of both squares.
void add_variance(const BlockView& view, double of_all);

}  // namespace katoptra
