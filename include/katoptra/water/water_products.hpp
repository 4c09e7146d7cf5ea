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

namespace katoptra {

struct WaterProduct {
  Product row;  // name, help and settings; `gives` is that of a grid; without its `make`
  // One of the two.
  Grid (*grid)(const Grid& surface, const Settings& settings, const RunOptions& run) = nullptr;
  Layer (*layer)(const Grid& surface, const Settings& settings, const RunOptions& run) = nullptr;
};

const std::vector<WaterProduct>& water_products();
// Null when there is none of that name.
const WaterProduct* water_product_named(std::string_view name);

}  // namespace katoptra
