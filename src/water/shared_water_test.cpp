// What of drainage several processes share: they take tiles as they are free, and join their borders each. Every process
// ends with what one alone would have, the first and the others.
#include "katoptra/water/basins.hpp"
#include "katoptra/water/depressions.hpp"
#include "katoptra/water/flat_water.hpp"
#include "katoptra/water/streams.hpp"

#include "flow_planes.hpp"
#include "played_ranks.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

void expect_same_cells(const Grid& a, const Grid& b, const char* what) {
  const std::vector<float> x = all_values(a), y = all_values(b);
  ASSERT_EQ(x.size(), y.size());
  for (std::size_t i = 0; i < x.size(); ++i) ASSERT_TRUE(same_bits(x[i], y[i])) << what << " at " << i;
}

// Steps leave level ground over several tiles; voids lie within and at the edge.
Grid ground(const Frame& f, unsigned seed, double step) {
  const Grid g = rough_grid(f, seed, 7);
  std::vector<float> z = all_values(g);
  if (step > 0)
    for (float& v : z) v = static_cast<float>(std::round(static_cast<double>(v) / step) * step);
  return grid_from_values(f, std::move(z), metres_above_egm2008());
}

TEST(SharedWater, AFlowOfSeveralProcessesIsThatOfOne) {
  const Frame frames[] = {utm_frame(73, 61, 2), Frame(Crs::wgs84(), 10, 70, {1.0 / 1200, 1.0 / 3600}, 67, 71)};
  unsigned seed = 0;
  for (const Frame& f : frames)
    for (const TakeOut way : {TakeOut::Fill, TakeOut::Carve, TakeOut::Least})
      for (const double step : {0.0, 1.5}) {
        SCOPED_TRACE(::testing::Message() << f.crs().label() << " " << static_cast<int>(way) << " " << step);
        const Grid g = ground(f, ++seed, step);
        DrainOptions o{.way = way, .voids = seed % 2 ? AtVoids::RunsAround : AtVoids::Leaves};
        if (seed % 3 == 0) o.keep_depth = 3.0;
        if (seed % 4 == 0) o.sea = -2.0;
        const Flow alone = FlowAccess::in_tiles(g, o, 16);
        for (const int played : {0, 1, 2}) {
          PlayedRanks ranks(played == 0);
          ranks.disk_is_elsewhere = played == 2;
          const Flow shared = FlowAccess::in_tiles(g, o, 16);
          // Folders twice, floods, regions, directions and level ground, what tiles send on and what comes to them;
          // channels.
          EXPECT_GE(ranks.runs, way == TakeOut::Fill ? 8 : 9);
          expect_same_cells(shared.surface(), alone.surface(), "surface");
          expect_same_cells(shared.direction(), alone.direction(), "direction");
          expect_same_cells(shared.upstream_cells(), alone.upstream_cells(), "cells");
          expect_same_cells(shared.upstream_area(), alone.upstream_area(), "area");
          EXPECT_EQ(shared.report().level, alone.report().level);
          EXPECT_EQ(shared.report().cut_off, alone.report().cut_off);
          EXPECT_EQ(shared.report().leaving, alone.report().leaving);
          EXPECT_EQ(shared.report().area, alone.report().area);
          EXPECT_EQ(shared.drained().carved, alone.drained().carved);
          EXPECT_EQ(shared.drained().cells_raised, alone.drained().cells_raised);
          EXPECT_EQ(shared.drained().volume_lowered, alone.drained().volume_lowered);
        }
      }
}

TEST(SharedWater, WhatFollowsAFlowIsSharedAsWell) {
  const Grid g = ground(utm_frame(83, 77, 2), 5, 0);
  const StreamOptions streams{.from_area = 120};
  const UpstreamOptions several{.neighbours = Neighbours::Several};
  BasinOptions basin_options;
  basin_options.from_area = 400;
  const Flow alone = FlowAccess::in_tiles(g, {}, 16);
  const Grid up = upstream(alone, several), above = height_above_streams(alone, streams);
  const std::vector<Basin> list = basins(alone, basin_options);
  ASSERT_GT(list.size(), 3u);
  for (const bool first : {true, false}) {
    PlayedRanks ranks(first);
    const Flow shared = FlowAccess::in_tiles(g, {}, 16);
    expect_same_cells(upstream(shared, several), up, "upstream");
    int before = ranks.runs;
    expect_same_cells(height_above_streams(shared, streams), above, "above streams");
    EXPECT_GT(ranks.runs, before);
    before = ranks.runs;
    const std::vector<Basin> again = basins(shared, basin_options);
    EXPECT_GT(ranks.runs, before);
    ASSERT_EQ(again.size(), list.size());
    for (std::size_t i = 0; i < list.size(); ++i) {
      EXPECT_EQ(again[i].cells, list[i].cells);
      EXPECT_EQ(again[i].area, list[i].area);
      EXPECT_EQ(again[i].highest, list[i].highest);
      EXPECT_EQ(again[i].shape.size(), list[i].shape.size());
    }
  }
}

// Within work that is spread already everything is this process's own.
TEST(SharedWater, WithinWorkNothingIsShared) {
  const Grid g = ground(utm_frame(41, 33, 2), 9, 1);
  const Flow alone = FlowAccess::in_tiles(g, {}, 16);
  PlayedRanks ranks(true);
  const WithinWork within;
  expect_same_cells(FlowAccess::in_tiles(g, {}, 16).upstream_area(), alone.upstream_area(), "area");
  EXPECT_EQ(ranks.runs, 0);
}

}  // namespace
}  // namespace katoptra
