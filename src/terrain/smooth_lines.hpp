// Lines drawn by hand rather than by a lattice: smoothed and thinned, never across one another.
#pragma once
#include <vector>

#include "katoptra/terrain/contours.hpp"

namespace katoptra {

// Each line stays within `tolerance` of what it was. No line crosses itself or another, none changes the side of
// another, and none crosses what a line of another level was before: each stays between the heights of its
// neighbours. `x`, `y`: metres of ground in a unit of the coordinates. Ends of open lines stay.
// Method: points are pulled towards the middle of their neighbours and pushed back a little less far (Taubin 1995), as
// long as nothing lies in what their two segments sweep over; then points are left out as far as the line allows.
// Half of the tolerance goes to either.
void smooth_lines(std::vector<ContourLine>& lines, double tolerance, double x, double y);

}  // namespace katoptra
