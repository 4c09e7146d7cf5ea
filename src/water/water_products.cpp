#include "katoptra/water/water_products.hpp"

#include <iterator>

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

void require_area(const Settings& s) {
  if (!s.given("from_area"))
    throw Error(ErrorCode::BadArgument, "does not say from which area on streams are streams", "from_area",
                "add from_area = \"1ha\"");
}
void require_area_of_streams(const Settings& s) {
  if (is_of_streams(s.word("as"))) require_area(s);
}
void require_level(const Settings& s) {
  if (!s.given("level"))
    throw Error(ErrorCode::BadArgument, "does not say how high the water stands", "level", "add level = \"4m\"");
}

Grid flow_grid(const Grid& g, const Settings& s, const RunOptions& run) {
  require_area_of_streams(s);
  const UpstreamOptions up{.neighbours = parse_neighbours(s.word("neighbours")), .run = run};
  return flow_as(flow(g, drain_of(g, s, run)), s.word("as"), up, s.given("from_area") ? s.area("from_area") : 0);
}

Layer stream_lines(const Grid& g, const Settings& s, const RunOptions& run) {
  require_area(s);
  const Flow f = flow(g, drain_of(g, s, run));
  return stream_layer(streams(f, {.from_area = s.area("from_area"), .run = run}), f);
}

Layer basin_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  require_area(s);
  const Flow f = flow(g, drain_of(g, s, run));
  return basin_layer(basins(f, {.outlets = {}, .within = {}, .from_area = s.area("from_area"), .run = run}), f);
}

Layer depression_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  return depression_layer(depressions(g, drain_of(g, s, run)), g);
}

Layer wet_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  require_level(s);
  return inundation_layer(
      inundation(
          g,
          {.level = s.length("level").in(g.quantity().unit), .places = {}, .all = s.word("all") == "yes", .run = run}),
      g);
}

}  // namespace

bool is_of_streams(std::string_view as) { return as == "height-above" || as == "distance"; }

Grid flow_as(const Flow& flow, std::string_view as, const UpstreamOptions& up, double from_area) {
  const StreamOptions streams{.from_area = from_area, .run = up.run};
  if (as == "cells") return flow.upstream_cells();
  if (as == "direction") return flow.direction();
  if (as == "wetness") return wetness(flow, up);
  if (as == "power") return stream_power(flow, up);
  if (as == "height-above") return height_above_streams(flow, streams);
  if (as == "distance") return distance_to_streams(flow, streams);
  return upstream(flow, up);
}

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
        with({{"as", "what is written", "area", SettingKind::Word, {std::begin(kFlowWords), std::end(kFlowWords)}},
              {"neighbours", "to how many water runs", "one", SettingKind::Word, {"one", "any-angle", "several"}},
              from}),
        nullptr},
       flow_grid,
       nullptr,
       require_area_of_streams},
      {{"streams", "where enough water comes together", QuantityKind::Unknown, with({from}), nullptr},
       nullptr,
       stream_lines,
       require_area},
      {{"basins", "what drains to each reach of the streams", QuantityKind::Unknown, with({from}), nullptr},
       nullptr,
       basin_shapes,
       require_area},
      {{"depressions", "what would hold water", QuantityKind::Unknown, {sea}, nullptr}, nullptr, depression_shapes},
      {{"inundation",
        "what lies under water at a level",
        QuantityKind::Unknown,
        {{"level", "how high the water stands", "", SettingKind::Length, {}},
         {"all", "low ground that water cannot get to, too", "no", SettingKind::Word, {"no", "yes"}}},
        nullptr},
       nullptr,
       wet_shapes,
       require_level},
  };
  return all;
}

const WaterProduct* water_product_named(std::string_view name) {
  for (const WaterProduct& p : water_products())
    if (p.row.name == name) return &p;
  return nullptr;
}

}  // namespace katoptra
