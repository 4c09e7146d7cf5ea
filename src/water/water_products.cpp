#include "katoptra/water/water_products.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <iterator>
#include <variant>

#include "katoptra/base/error.hpp"
#include "katoptra/water/basins.hpp"
#include "katoptra/water/inundation.hpp"

namespace katoptra {
namespace {

// The options of a drainage, with the area that they refer to.
class Draining {
 public:
  Draining(const Grid& surface, const Settings& s, const RunOptions& run) {
    const LengthUnit unit = surface.quantity().unit;
    options_.run = run;
    options_.voids = parse_at_voids(s.word("voids"));
    options_.burn = s.features("burn");
    if (s.given("sea")) options_.sea = s.length("sea").in(unit);
    if (s.given("keep_deeper")) options_.keep_depth = s.length("keep_deeper").in(unit);
    if (s.given("keep_larger")) options_.keep_area = s.area("keep_larger");
    if (const Layer* l = s.features("keep_in")) {
      keep_ = area_of(*l);
      options_.keep = &keep_;
    }
    if (!s.has("depressions")) return;
    options_.way = parse_take_out(s.word("depressions"));
    if (s.given("longest")) options_.longest = s.length("longest");
    if (s.given("deepest")) options_.deepest = s.length("deepest").in(unit);
  }
  Draining(const Draining&) = delete;
  Draining& operator=(const Draining&) = delete;
  const DrainOptions& options() const { return options_; }

 private:
  DrainOptions options_;
  Area keep_;
};

Flow flow_over(const Grid& surface, const Settings& s, const RunOptions& run) {
  return flow(surface, Draining(surface, s, run).options());
}

// A file of one thing that holds none of it.
void require_any(const Settings& s, const char* setting, const char* what, bool (*is)(const Feature&)) {
  const Layer* l = s.has(setting) ? s.features(setting) : nullptr;
  if (!l || std::any_of(l->features.begin(), l->features.end(), is)) return;
  throw Error(ErrorCode::BadArgument, fmt::format("{} = \"{}\" holds no {}", setting, s.word(setting), what), setting,
              fmt::format("give a file with {}", what));
}
void require_shapes(const Settings& s) {
  require_any(s, "burn", "lines", [](const Feature& f) { return std::holds_alternative<LineString>(f.geometry); });
  require_any(s, "keep_in", "polygons",
              [](const Feature& f) { return std::holds_alternative<MultiPolygon>(f.geometry); });
  require_any(s, "outlets", "points", [](const Feature& f) { return std::holds_alternative<Point>(f.geometry); });
}

void require_area(const Settings& s) {
  if (!s.given("from_area"))
    throw Error(ErrorCode::BadArgument, "does not say from which area on streams are streams", "from_area",
                "add from_area = \"1ha\"");
}
void judge_streams(const Settings& s) {
  require_area(s);
  require_shapes(s);
}
void judge_flow(const Settings& s) {
  require_shapes(s);
  if (is_of_streams(s.word("as"))) require_area(s);
}
void judge_basins(const Settings& s) {
  require_shapes(s);
  if (s.given("outlets") == s.given("from_area"))
    throw Error(ErrorCode::BadArgument,
                s.given("outlets") ? "has outlets and an area from which streams are streams"
                                   : "does not say what drains where",
                "outlets", "add outlets = \"outlets.geojson\", or from_area = \"1ha\" for a basin of each reach");
}
void require_level(const Settings& s) {
  if (!s.given("level"))
    throw Error(ErrorCode::BadArgument, "does not say how high the water stands", "level", "add level = \"4m\"");
}

Grid flow_grid(const Grid& g, const Settings& s, const RunOptions& run) {
  judge_flow(s);
  const UpstreamOptions up{.neighbours = parse_neighbours(s.word("neighbours")), .run = run};
  return flow_as(flow_over(g, s, run), s.word("as"), up, s.given("from_area") ? s.area("from_area") : 0);
}

Layer stream_lines(const Grid& g, const Settings& s, const RunOptions& run) {
  judge_streams(s);
  const Flow f = flow_over(g, s, run);
  return stream_layer(streams(f, {.from_area = s.area("from_area"), .run = run}), f);
}

Layer basin_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  judge_basins(s);
  const Flow f = flow_over(g, s, run);
  BasinOptions o{.outlets = {}, .within = {}, .run = run};
  if (s.given("from_area")) o.from_area = s.area("from_area");
  if (s.given("within")) o.within = s.length("within");
  if (const Layer* l = s.features("outlets")) o.outlets = places_of(*l, g.frame().crs());
  return basin_layer(basins(f, o), f);
}

Layer depression_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  require_shapes(s);
  return depression_layer(depressions(g, Draining(g, s, run).options()), g);
}

Layer wet_shapes(const Grid& g, const Settings& s, const RunOptions& run) {
  require_level(s);
  return inundation_layer(
      inundation(
          g,
          {.level = s.length("level").in(g.quantity().unit), .places = {}, .all = s.word("all") == "yes", .run = run}),
      g);
}

Grid chance_grid(const Grid& g, const Settings& s, const RunOptions&) {
  require_level(s);
  return chance_below(g, s.length("level").in(g.quantity().unit));
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
  static const std::vector<Setting> land = {
      sea,
      {"voids", "what water does at voids", "leave", SettingKind::Word, {"leave", "around"}},
      {"burn", "a file with lines under which the ground is lowered", "", SettingKind::Features, {}},
      {"keep_deeper", "depressions at least this deep are real", "", SettingKind::Length, {}},
      {"keep_larger", "and at least this large", "", SettingKind::Area, {}},
      {"keep_in", "a file with areas in which they are real", "", SettingKind::Features, {}}};
  static const std::vector<Setting> channels = {
      {"depressions", "how they are taken out", "least", SettingKind::Word, {"least", "fill", "carve"}},
      {"longest", "of a channel that is carved", "", SettingKind::Length, {}},
      {"deepest", "how far below the ground it may run", "", SettingKind::Length, {}}};
  static const auto with = [](std::vector<Setting> own) {
    own.insert(own.end(), channels.begin(), channels.end());
    own.insert(own.end(), land.begin(), land.end());
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
       judge_flow},
      {{"streams", "where enough water comes together", QuantityKind::Unknown, with({from}), nullptr},
       nullptr,
       stream_lines,
       judge_streams},
      {{"basins", "what drains to given places, or to each reach of the streams", QuantityKind::Unknown,
        with({{"outlets", "a file with the places", "", SettingKind::Features, {}},
              {"within", "how far they are moved onto the most water", "", SettingKind::Length, {}},
              from}),
        nullptr},
       nullptr,
       basin_shapes,
       judge_basins},
      {{"depressions", "what would hold water", QuantityKind::Unknown, land, nullptr},
       nullptr,
       depression_shapes,
       require_shapes},
      {{"inundation",
        "what lies under water at a level",
        QuantityKind::Unknown,
        {{"level", "how high the water stands", "", SettingKind::Length, {}},
         {"all", "low ground that water cannot get to, too", "no", SettingKind::Word, {"no", "yes"}}},
        nullptr},
       nullptr,
       wet_shapes,
       require_level},
      {{"chance",
        "how likely each place lies below a level, by how sure the surface is",
        QuantityKind::Chance,
        {{"level", "how high the water stands", "", SettingKind::Length, {}}},
        nullptr},
       chance_grid,
       nullptr,
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
