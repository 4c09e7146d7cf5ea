#include "katoptra/study/coverage_page.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/version.hpp"

#include "view/html_page.hpp"
#include "view/page_parts.hpp"

namespace katoptra {

using nlohmann::ordered_json;

namespace {

ordered_json answer_of(const Shortlist& s) {
  ordered_json j;
  j["covered_fraction"] = s.covered_fraction;
  j["bytes"] = s.bytes;
  j["gap_area_m2"] = s.gap_area;
  j["surveys"] = ordered_json::array();
  for (const SurveySummary& v : s.surveys)
    j["surveys"].push_back({{"survey", v.name},
                            {"kind", name_of(v.kind)},
                            {"from", v.from},
                            {"to", v.to},
                            {"date_guessed", v.date_guessed},
                            {"cell_m", v.cell.metres()},
                            {"density", v.density},
                            {"heights", v.heights},
                            {"licence", v.licence},
                            {"access", name_of(v.access)},
                            {"custodian", v.custodian},
                            {"tiles", v.tiles},
                            {"kept", v.kept},
                            {"bytes", v.bytes},
                            {"covered_fraction", v.covered_fraction},
                            {"adds", v.adds}});
  j["tiles"] = ordered_json::array();
  for (const ShortlistTile& t : s.tiles) {
    const TileRecord& r = t.tile;
    ordered_json k;
    k[r.remote() ? "href" : "path"] = r.path.string();
    k["survey"] = r.survey;
    k["kind"] = name_of(r.kind);
    k["format"] = r.format;
    k["date"] = r.date;
    k["date_guessed"] = r.date_guessed;
    k["kept"] = t.kept;
    k["reason"] = t.reason;
    k["covered_fraction"] = t.covered_fraction;
    k["cell_m"] = r.spacing.y.metres();
    k["density"] = r.density;
    k["crs"] = r.frame && r.frame->crs() ? ordered_json(r.frame->crs().label()) : ordered_json(nullptr);
    k["heights"] = r.quantity.heights.name();
    k["unit"] = symbol(r.quantity.unit);
    k["bytes"] = r.bytes;
    k["checksum"] = r.checksum;
    k["licence"] = r.licence;
    k["access"] = name_of(r.access);
    k["custodian"] = r.custodian;
    j["tiles"].push_back(std::move(k));
  }
  Layer gaps{.name = "gaps", .crs = s.area.crs(), .features = {}};
  for (const Gap& g : s.gap_list)
    gaps.features.push_back({g.shape,
                             {{"area_m2", g.area},
                              {"where", g.where},
                              {"closed_by", g.closed_by},
                              {"how", g.how},
                              {"closed_fraction", g.fraction}}});
  j["gaps"] = ordered_json::parse(to_geojson(gaps));
  j["notes"] = s.notes;
  return j;
}

// Rings of longitude and latitude, to a centimetre.
ordered_json rings_of(const MultiPolygon& lonlat) {
  ordered_json polygons = ordered_json::array();
  const auto rounded = [](double v) { return std::round(v * 1e7) / 1e7; };
  const auto points_of = [&](const Ring& ring) {
    ordered_json points = ordered_json::array();
    for (const Point& q : ring) points.push_back({rounded(q.x), rounded(q.y)});
    return points;
  };
  for (const Polygon& p : lonlat) {
    ordered_json rings = ordered_json::array({points_of(p.outer)});
    for (const Ring& hole : p.holes) rings.push_back(points_of(hole));
    polygons.push_back(std::move(rings));
  }
  return polygons;
}

MultiPolygon on_globe(const MultiPolygon& shape, const Crs& crs) {
  if (shape.empty() || !crs) return {};
  return crs.same_place(Crs::wgs84()) ? shape : transformed(shape, Transform(crs, Crs::wgs84()));
}

ordered_json whole_answer(const Shortlist& s) {
  ordered_json j = answer_of(s);
  const Crs& crs = s.area.crs();
  const double middle = s.area.empty() ? 0 : s.area.centre_lonlat().x;
  for (std::size_t i = 0; i < s.tiles.size(); ++i) {
    const ShortlistTile& t = s.tiles[i];
    ordered_json& k = j["tiles"][i];
    k["name"] = short_name(t.tile);
    k["id"] = t.tile.id;
    k["classes"] = t.tile.classes;
    k["openable"] = t.tile.openable && t.tile.untrusted.empty();
    k["shape"] = rings_of(t.footprint.empty() ? t.tile.footprint(Crs::wgs84(), middle) : on_globe(t.footprint, crs));
    // The first column is whether it is kept, which the page decides.
    k["row"] = shortlist_row(t).substr(1);
  }
  j["gaps"] = ordered_json::array();
  for (const Gap& g : s.gap_list)
    j["gaps"].push_back({{"area_m2", g.area},
                         {"share", g.share},
                         {"where", g.where},
                         {"closed_by", g.closed_by},
                         {"how", g.how},
                         {"closed_fraction", g.fraction},
                         {"shape", rings_of(on_globe(g.shape, crs))}});
  j["area"] = {{"shape", rings_of(on_globe(s.area.shape(), crs))}, {"m2", s.area.empty() ? 0 : s.area.ground_area()}};
  j["head"] = shortlist_head();
  return j;
}

// ---- pictures below the outlines

Bounds box_around(const Shortlist& s) {
  Bounds all;
  if (const MultiPolygon area = on_globe(s.area.shape(), s.area.crs()); !area.empty()) all.include(bounds_of(area));
  for (const ShortlistTile& t : s.tiles)
    if (t.tile.placed())
      if (const Bounds b = t.tile.globe_box(); !b.empty()) all.include(b);
  return all;
}

// A frame of about so many cells across, in degrees.
Frame sheet_over(const Bounds& box, int across) {
  const double cell = box.width() / across,
               rows = std::clamp(box.height() / cell, 1.0, 4.0 * static_cast<double>(across));
  return {Crs::wgs84(), box.west,
          box.north,    {cell, box.height() / std::ceil(rows)},
          across,       static_cast<std::int64_t>(std::ceil(rows))};
}

bool shows_relief(const TileRecord& r) {
  return r.kind == TileKind::Grid && !r.remote() && r.openable && r.placed() &&
         r.quantity.kind == QuantityKind::Height && r.frame && r.frame->crs();
}

// Of the coarsest survey that can be read here, over as much of what is looked at as it covers.
ordered_json relief_below(const CoveragePage& page) {
  const Shortlist& s = page.shortlist;
  std::vector<TileRecord> tiles = page.local;
  if (tiles.empty())
    for (const ShortlistTile& t : s.tiles) tiles.push_back(t.tile);
  const TileRecord* best = nullptr;
  for (const TileRecord& t : tiles)
    if (shows_relief(t) && (!best || best->spacing.y < t.spacing.y)) best = &t;
  const Bounds all = box_around(s);
  if (!best || all.empty()) return nullptr;
  try {
    constexpr int kAcross = 900;
    constexpr std::size_t kMostTiles = 24;
    // Around the area, where there is one: that is where people look.
    const MultiPolygon area = on_globe(s.area.shape(), s.area.crs());
    Bounds seen = area.empty() ? all : bounds_of(area);
    if (!area.empty()) seen = seen.grown(1.2 * std::max(seen.width(), seen.height()));
    Bounds covered;
    std::vector<Grid> grids;
    for (const TileRecord& r : tiles) {
      if (!shows_relief(r) || r.survey != best->survey || grids.size() >= kMostTiles) continue;
      const Bounds b = r.globe_box();
      if (!b.intersects(seen)) continue;
      grids.push_back(open_grid(r.path.string()));
      covered.include(b);
    }
    if (grids.empty()) return nullptr;
    const Grid grid = grids.size() == 1 ? grids[0] : mosaic(grids, {});
    const Bounds both{std::max(seen.west, covered.west), std::max(seen.south, covered.south),
                      std::min(seen.east, covered.east), std::min(seen.north, covered.north)};
    // Coarse heights have the sea at zero; it is to look like one.
    constexpr double kShore = 0.05;
    ordered_json j = picture_for_page(reproject(grid, sheet_over(both, kAcross), Resampling::Automatic),
                                      {.shore = kShore}, page.run);
    j["of"] = grids.size() == 1 ? short_name(*best) : best->survey;
    return j;
  } catch (const Error&) {
    // A picture to find one's way by: without it the page says the same.
    return nullptr;
  }
}

ordered_json demand_below(const std::vector<Order>& orders, const RunOptions& run) {
  const bool any = std::any_of(orders.begin(), orders.end(), [](const Order& o) { return !o.area.empty(); });
  if (!any) return nullptr;
  const Grid g = demand_grid(orders, 300);
  ordered_json j = picture_for_page(g, {.light = MapLight::None}, run);
  j["of"] = fmt::format("{} orders and fetches", orders.size());
  return j;
}

}  // namespace

std::string shortlist_json(const Shortlist& s) {
  return answer_of(s).dump(2, ' ', false, ordered_json::error_handler_t::replace);
}

std::string coverage_json(const Shortlist& s) { return json_for_page(whole_answer(s)); }

LivePage coverage_live_page(const CoveragePage& page) {
  HtmlPage html(page.title, "coverage/main.js", page.live.empty() ? Reaches::Nothing : Reaches::ItsServer);
  const Bounds box = box_around(page.shortlist);
  html.json("facts",
            {{"version", KATOPTRA_VERSION},
             {"title", page.title},
             {"searched", page.searched},
             {"area", page.area},
             {"live", page.live},
             {"box", box.empty() ? ordered_json(nullptr) : ordered_json{box.west, box.south, box.east, box.north}},
             {"relief", relief_below(page)},
             {"demand", demand_below(page.orders, page.run)}});
  html.json("answer", whole_answer(page.shortlist));
  return {html.html(), html.policy(true)};
}

std::string coverage_page(const CoveragePage& page) { return coverage_live_page(page).html; }

}  // namespace katoptra
