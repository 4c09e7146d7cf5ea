// Spikes and pits made voids, for `fill_voids` to close.
//
//   Grid clean = without_spikes(dem, spike_rule(dem));      // lazy; the lineage says what counted as a spike
//
// The cells are those that `check` finds: off the ground around them by at least `least` and by `times` the usual
// departure there (that of the ring around the cell, or `usual`, whichever is larger).
#pragma once
#include "katoptra/check/thresholds.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct SpikeRule {
  Length least = 0.5_m;
  double times = 10;
  Length usual;  // departure that half of all cells stay below, as a standard deviation
};
// Measures `usual` on blocks spread over the grid.
SpikeRule spike_rule(const Grid& grid, const Thresholds& thresholds = {}, const RunOptions& run = {});
Grid without_spikes(const Grid& grid, const SpikeRule& rule);

}  // namespace katoptra
