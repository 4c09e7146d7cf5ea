// Graphs of statistics: histograms and roses.
//
//   Statistics s = statistics(dem);
//   const auto [low, high] = s.robust();
//   Picture h = draw_histogram({.counts = s.sketch.histogram(60, s.robust()), .from = low, .to = high});
//   Picture r = draw_rose(slope_by_aspect(dem), {.title = "Slope by aspect"});
#pragma once
#include <string>
#include <vector>

#include "katoptra/check/zones.hpp"
#include "katoptra/view/map.hpp"
#include "katoptra/water/reservoir.hpp"

namespace katoptra {

struct HistogramChart {
  std::vector<double> counts;
  double from = 0, to = 1;
  std::string value_title;   // with its unit
  std::string facts;         // one line under the title
  bool around_zero = false;  // bars coloured as differences are
  // Upright lines with a name: median, quantiles.
  std::vector<std::pair<double, std::string>> marks;
};
// BadArgument without counts.
Picture draw_histogram(const HistogramChart& chart, const GraphOptions& options = {});

// How steep the ground is on each side of the compass: the length of a petal is the mean slope, its inner part the
// median, its width the share of the area. Zones as slope_by_aspect gives them.
Picture draw_rose(const std::vector<ZoneStatistics>& slopes, const GraphOptions& options = {});

// Area below each height, as a share of all: the hypsometric curve.
Picture draw_hypsometry(const std::vector<LevelVolumes>& levels, LengthUnit unit, const GraphOptions& options = {});

// Area and volume behind a dam at each level, as shares of what they are when it is full.
Picture draw_storage(const Reservoir& reservoir, LengthUnit unit, const GraphOptions& options = {});

}  // namespace katoptra
