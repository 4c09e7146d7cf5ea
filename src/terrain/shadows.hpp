// The shadows that hills cast, as a grid of codes: 1 shadow, 2 light.
#pragma once
#include "katoptra/grid/grid.hpp"

namespace katoptra {

// `azimuth` from grid north; `altitude` above 0; `vertical`: metres in a unit of height, times the exaggeration.
Grid cast_shadows(const Grid& surface, GridInfo info, Angle azimuth, Angle altitude, double vertical);

}  // namespace katoptra
