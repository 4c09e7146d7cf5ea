// The uncertainties of a run of warped cells, worked out lane by lane.
#pragma once
#include <cstdint>

#include "grid/error_kernel.hpp"
#include "patch_field.hpp"

namespace katoptra {

// What is looked up for the cells of a run before their uncertainty is worked out: lanes, so that the rest are vectors.
struct DoubtLanes {
  double exact_u[kRun], exact_v[kRun];               // beyond the middle of the cell before
  float u[kRun], v[kRun];                            // the same
  float s00[kRun], s10[kRun], s01[kRun], s11[kRun];  // uncertainties of the four cells around
  float rough_x[kRun], rough_y[kRun];
  float share[kRun], more[kRun];  // the kernel's variance: of that of a cell, and besides
};

// Where the cells of a run lie in a block. False when one is not between four of its cells.
bool lane_places(const Run& run, Point corner, std::int64_t cols, std::int64_t rows, std::int64_t n, std::int32_t* at,
                 DoubtLanes& to);
// That all `n` are the same number.
bool all_alike(const float* v, std::int64_t n);
// The shares of a kernel (KernelShares::at) along both axes, multiplied.
void kernel_shares(const KernelShares& across, const KernelShares& down, std::int64_t n, DoubtLanes& l);
// Of the bilinear kernel, as FourAround has it: all of its variance.
void bilinear_variances(const ErrorKernel& errors, std::int64_t n, DoubtLanes& l);
// From lanes to uncertainties; `leaves`: how much of a mean square of differences the kernel leaves out.
void doubt_of(const DoubtLanes& l, std::int64_t n, float leaves, bool nearest, float noise_x, float noise_y,
              float* out);
// rounded_uncertainty (grid/error_kernel.hpp) of all of them.
void round_doubts(float* u, std::int64_t n);

}  // namespace katoptra
