#include "katoptra/water/water_products.hpp"

#include "katoptra/base/error.hpp"
#include "katoptra/water/basins.hpp"
#include "katoptra/water/inundation.hpp"

namespace katoptra {
namespace {

DrainOptions drain_of(const Grid& surface, const Settings& s, const RunOptions& run) {
  const LengthUnit unit = surface.quantity().unit;
  DrainOptions o{.run = run};
  if (s.given("sea")) o.sea = s.length("sea").in(unit);
  if (!s.has("depressions")) return o;
  o.way = parse_take_out(s.word("depressions"));
  if (s.given("longest")) o.longest = s.length("longest");
  if (s.given("deepest")) o.deepest = s.length("deepest").in(unit);
  if (s.given("keep_deeper")) o.keep_depth = s.length("keep_deeper").in(unit);
  if (s.given("keep_larger")) o.keep_area = s.area("keep_larger");
  return o;
}

double from_area(const Settings& s, const char* what) {
  if (!s.given("from_area"))
    throw Error(ErrorCode::BadArgument, "from which area on are streams streams?", what,
                "say so with from_area, for instance 1ha");
  return s.area("from_area");
}

Grid flow_grid(const Grid& g, const Settings& s, const RunOptions& run) {
  const std::string& as = s.word("as");
  const bool of_streams = as == "height-above" || as == "distance";
  const StreamOptions streams{.from_area = of_streams ? from_area(s, "flow") : 0, .run = run};
  const Flow f = flow(g, drain_of(g, s, run));
  const UpstreamOptions up{.neighbours = parse_neighbours(s.word("neighbours")), .run = run};
  if (as == "cells") return f.upstream_cells();
  if (as == "direction") return f.direction();
  if (as == "wetness") return wetness(f, up);
  if (as == "power") return stream_power(f, up);
  if (as == "height-above") return height_above_streams(f, streams);
  if (as == "distance") return distance_to_streams(f, streams);
  return upstream(f, up);
}

Layer stream_lines(const Grid& g, const Settings& s, const RunOptions& run) {
  const double area = from_area(s, "streams");
  const Flow f = flow(g, drain_of(g, s, run));
  return stream_layer(streams(f, {.from_area = area, .run = run}), f);
}

Layer basin_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  const double area = from_area(s, "basins");
  const Flow f = flow(g, drain_of(g, s, run));
  return basin_layer(basins(f, {.outlets = {}, .within = {}, .from_area = area, .run = run}), f);
}

Layer depression_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  return depression_layer(depressions(g, drain_of(g, s, run)), g);
}

Layer wet_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  if (!s.given("level"))
    throw Error(ErrorCode::BadArgument, "how high does the water stand?", "inundation",
                "say so with level, for instance 4m");
  return inundation_layer(
      inundation(
          g,
          {.level = s.length("level").in(g.quantity().unit), .places = {}, .all = s.word("all") == "yes", .run = run}),
      g);
}

}  // namespace

const std::vector<WaterProduct>& water_products() {
  static const Setting sea{
      "sea", "cells no higher that hang together with the edge are sea", "", SettingKind::Length, {}};
  static const Setting from{"from_area", "how much must drain to a place to make a stream", "", SettingKind::Area, {}};
  static const std::vector<Setting> drains = {
      sea,
      {"depressions", "how they are taken out", "least", SettingKind::Word, {"least", "fill", "carve"}},
      {"longest", "of a channel that is carved", "", SettingKind::Length, {}},
      {"deepest", "how far below the ground it may run", "", SettingKind::Length, {}},
      {"keep_deeper", "depressions at least this deep are real", "", SettingKind::Length, {}},
      {"keep_larger", "and at least this large", "", SettingKind::Area, {}}};
  static const auto with = [](std::vector<Setting> own) {
    own.insert(own.end(), drains.begin(), drains.end());
    return own;
  };
  static const std::vector<WaterProduct> all = {
      {{"flow", "how much water comes together, which way it runs, where the ground stays wet", QuantityKind::Upstream,
        with({{"as",
               "what is written",
               "area",
               SettingKind::Word,
               {"area", "cells", "direction", "wetness", "power", "height-above", "distance"}},
              {"neighbours", "to how many water runs", "one", SettingKind::Word, {"one", "any-angle", "several"}},
              from}),
        nullptr},
       flow_grid,
       nullptr},
      {{"streams", "where enough water comes together", QuantityKind::Unknown, with({from}), nullptr},
       nullptr,
       stream_lines},
      {{"basins", "what drains to each reach of the streams", QuantityKind::Unknown, with({from}), nullptr},
       nullptr,
       basin_shapes},
      {{"depressions", "what would hold water", QuantityKind::Unknown, {sea}, nullptr}, nullptr, depression_shapes},
      {{"inundation",
        "what lies under water at a level",
        QuantityKind::Unknown,
        {{"level", "how high the water stands", "", SettingKind::Length, {}},
         {"all", "low ground that water cannot get to, too", "no", SettingKind::Word, {"no", "yes"}}},
        nullptr},
       nullptr,
       wet_shapes},
  };
  return all;
}

const WaterProduct* water_product_named(std::string_view name) {
  for (const WaterProduct& p : water_products())
    if (p.row.name == name) return &p;
  return nullptr;
}

}  // namespace katoptra
