// The products of water as one table, for studies: as terrain/products.hpp for what is made cell by cell. These look at
// the whole surface when they are made.
//
//   const WaterProduct& p = *water_product_named("streams");
//   Layer lines = p.layer(dem, p.row.settings({{"from_area", "10ha"}}), run);
#pragma once
#include <string_view>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/geo/feature.hpp"
#include "katoptra/terrain/products.hpp"
#include "katoptra/water/flow.hpp"

namespace katoptra {

struct WaterProduct {
  Product row;  // name, help and settings; `gives` is that of a grid; without its `make`
  // One of the two.
  Grid (*grid)(const Grid& surface, const Settings& settings, const RunOptions& run) = nullptr;
  Layer (*layer)(const Grid& surface, const Settings& settings, const RunOptions& run) = nullptr;
  // BadArgument when something that it must know is missing; nothing is computed. The two above ask it, too.
  void (*judge)(const Settings& settings) = [](const Settings&) {};
};

// What a flow knows, by its word: area, cells, direction, wetness, power, and of streams from that many square metres
// on height-above and distance.
inline constexpr const char* kFlowWords[] = {"area",  "cells",        "direction", "wetness",
                                             "power", "height-above", "distance"};
bool is_of_streams(std::string_view as);
Grid flow_as(const Flow& flow, std::string_view as, const UpstreamOptions& up, double from_area);

const std::vector<WaterProduct>& water_products();
// Null when there is none of that name.
const WaterProduct* water_product_named(std::string_view name);

}  // namespace katoptra
