#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "formats/csv.hpp"

namespace katoptra {
namespace {

// A part of the area this small (relative) is the rounding of footprints, no gap.
constexpr double kNothing = 1e-9;

bool better(const TileRecord& a, const TileRecord& b, const std::vector<Preference>& prefer) {
  for (Preference p : prefer) {
    if (p == Preference::Given) return false;
    if (p == Preference::Newest && a.date != b.date) return a.date > b.date;
    const double ca = a.spacing.y.metres(), cb = b.spacing.y.metres();
    if (p == Preference::Finest && std::abs(ca - cb) > 1e-3 * std::min(ca, cb)) return ca < cb;
  }
  return false;
}

std::string cannot_use(const TileRecord& t) {
  if (!t.openable) return "cannot be read: " + (t.problems.empty() ? std::string("damaged") : t.problems[0]);
  if (!t.frame->crs()) return "has no coordinate reference system, so its place is not known";
  if (!t.problems.empty()) return "damaged: " + t.problems[0];
  if (t.restricted) return "restricted: to be asked for" + (t.custodian.empty() ? std::string() : " at " + t.custodian);
  return {};
}

}  // namespace

Shortlist find_tiles(const Catalogue& catalogue, const Area& area, const FindOptions& options) {
  Shortlist s;
  s.area = area;
  const double whole = planar_area(area.shape());
  if (!(whole > 0)) throw Error(ErrorCode::BadArgument, "the area has no extent", "area", "give a polygon or a box");
  const Bounds box = area.bounds();
  std::vector<ShortlistTile> lost;
  for (const TileRecord& t : catalogue.tiles) {
    ShortlistTile tile{.tile = t, .kept = false, .reason = {}, .footprint = {}};
    if (!t.openable || !t.frame->crs()) {
      tile.reason = cannot_use(t);
      lost.push_back(std::move(tile));
      continue;
    }
    tile.footprint = transformed({to_polygon(t.frame->bounds())}, Transform(t.frame->crs(), area.crs()));
    if (tile.footprint.empty() || !bounds_of(tile.footprint).intersects(box)) continue;
    tile.covered_fraction = planar_area(overlay(tile.footprint, area.shape(), Overlay::Intersection)) / whole;
    if (tile.covered_fraction > kNothing) s.tiles.push_back(std::move(tile));
  }
  std::stable_sort(s.tiles.begin(), s.tiles.end(), [&](const ShortlistTile& a, const ShortlistTile& b) {
    return better(a.tile, b.tile, options.prefer);
  });
  MultiPolygon open = area.shape();
  for (ShortlistTile& t : s.tiles) {
    t.reason = cannot_use(t.tile);
    if (!t.reason.empty()) continue;
    const MultiPolygon rest = overlay(open, t.footprint, Overlay::Difference);
    const double gain = (planar_area(open) - planar_area(rest)) / whole;
    if (gain > kNothing) {
      t.kept = true;
      t.reason = fmt::format("adds {:.1f} % of the area", 100 * gain);
      open = rest;
    } else if (options.all) {
      t.kept = true;
      t.reason = "shows through voids of newer or finer tiles";
    } else {
      t.reason = "newer or finer tiles cover all of its part";
    }
    if (t.kept) s.bytes += t.tile.bytes;
  }
  s.covered_fraction = std::clamp(1 - planar_area(open) / whole, 0.0, 1.0);
  if (1 - s.covered_fraction <= kNothing) {
    s.covered_fraction = 1;
  } else {
    s.gaps = open;
    s.gap_area = Area(open, area.crs()).ground_area();
  }
  s.tiles.insert(s.tiles.end(), std::make_move_iterator(lost.begin()), std::make_move_iterator(lost.end()));
  return s;
}

std::string shortlist_csv(const Shortlist& s) {
  std::string text =
      "kept,path,survey,date,date_guessed,format,cell_m,crs,heights,unit,bytes,covered_fraction,reason\n";
  for (const ShortlistTile& t : s.tiles)
    text += fmt::format(
        "{},{},{},{},{},{},{:.4g},{},{},{},{},{:.6f},{}\n", t.kept ? 1 : 0, csv_field(t.tile.path.string()),
        csv_field(t.tile.survey), t.tile.date, t.tile.date_guessed ? 1 : 0, t.tile.format, t.tile.spacing.y.metres(),
        t.tile.frame ? csv_field(t.tile.frame->crs().label()) : "", csv_field(t.tile.quantity.heights.name()),
        symbol(t.tile.quantity.unit), t.tile.bytes, t.covered_fraction, csv_field(t.reason));
  return text;
}

Layer shortlist_layer(const Shortlist& s) {
  Layer layer{.name = "shortlist", .crs = s.area.crs(), .features = {}};
  for (const ShortlistTile& t : s.tiles) {
    if (t.footprint.empty()) continue;
    layer.features.push_back({t.footprint,
                              {{"role", std::string("tile")},
                               {"path", t.tile.path.string()},
                               {"survey", t.tile.survey},
                               {"date", t.tile.date},
                               {"kept", std::int64_t{t.kept}},
                               {"reason", t.reason},
                               {"covered_fraction", t.covered_fraction}}});
  }
  for (const Polygon& gap : s.gaps)
    layer.features.push_back({MultiPolygon{gap},
                              {{"role", std::string("gap")},
                               {"path", std::string()},
                               {"survey", std::string()},
                               {"date", std::string()},
                               {"kept", std::int64_t{0}},
                               {"reason", std::string("no tile covers this")},
                               {"covered_fraction", 0.0}}});
  return layer;
}

std::vector<std::filesystem::path> read_shortlist(const std::filesystem::path& path) {
  std::vector<std::filesystem::path> out;
  const std::string text = read_text_file(path);
  if (path.extension() == ".geojson" || path.extension() == ".json") {
    const auto root = nlohmann::json::parse(text, nullptr, false);
    if (root.is_discarded() || !root.contains("features"))
      throw Error(ErrorCode::BadFile, "is not a shortlist", path.string(), "make one with find");
    for (const auto& f : root["features"]) {
      const auto p = f.value("properties", nlohmann::json::object());
      if (p.value("kept", 0) == 1 && p.contains("path")) out.emplace_back(p["path"].get<std::string>());
    }
    return out;
  }
  // A person may have struck rows, or set kept to 0.
  const auto rows = parse_csv(text);
  if (rows.empty() || rows[0].size() < 2 || rows[0][0] != "kept" || rows[0][1] != "path")
    throw Error(ErrorCode::BadFile, "is not a shortlist: its first line should begin with kept,path", path.string(),
                "make one with find");
  for (std::size_t r = 1; r < rows.size(); ++r)
    if (rows[r].size() > 1 && rows[r][0] == "1") out.emplace_back(rows[r][1]);
  return out;
}

}  // namespace katoptra
