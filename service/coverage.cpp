#include "coverage.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/json.hpp"
#include "catalogue/stac_json.hpp"

namespace katoptra {
namespace {

[[noreturn]] void wrong(const std::string& what) { throw Error(ErrorCode::BadArgument, what, "question"); }

// As it stands in a field of the page: a number, or text that is one.
std::optional<double> number_in(const json& filter, const char* key) {
  const json& j = member(filter, key);
  if (j.is_null() || (j.is_string() && j.get_ref<const std::string&>().empty())) return std::nullopt;
  const auto v = j.is_number()   ? std::optional(j.get<double>())
                 : j.is_string() ? parse_number(j.get<std::string>())
                                 : std::nullopt;
  if (!v || !std::isfinite(*v)) wrong(fmt::format("'{}' is no number", key));
  return v;
}

std::optional<int> year_in(const json& filter, const char* key) {
  const auto v = number_in(filter, key);
  if (!v) return std::nullopt;
  if (*v < 1000 || *v > 9999 || *v != std::floor(*v)) wrong(fmt::format("'{}' is no year", key));
  return static_cast<int>(*v);
}

TileFilter filter_from(const json& j) {
  TileFilter f;
  if (const std::string kind = word(j, "kind"); !kind.empty()) f.kind = parse_tile_kind(kind);
  if (const std::string access = word(j, "access"); !access.empty()) f.access = parse_access(access);
  if (const std::string heights = word(j, "heights"); !heights.empty()) f.heights = HeightReference::parse(heights);
  f.survey = word(j, "survey");
  f.from_year = year_in(j, "from");
  f.to_year = year_in(j, "to");
  if (const auto cell = number_in(j, "cell")) f.coarsest = Length::of(*cell, LengthUnit::Metre);
  return f;
}

Area area_in(const json& question) {
  if (const std::string text = word(question, "text"); !text.empty()) return parse_area(text);
  const json& shape = member(question, "shape");
  if (!shape.is_array() || shape.empty()) wrong("no area is given");
  const MultiPolygon polygons = polygons_of({{"type", "MultiPolygon"}, {"coordinates", shape}}, "question");
  std::size_t corners = 0;
  for (const Polygon& p : polygons) {
    corners += p.outer.size();
    for (const Ring& hole : p.holes) corners += hole.size();
  }
  if (corners > kMostCorners)
    throw Error(ErrorCode::TooLarge, fmt::format("an area of {} corners", corners), "question");
  return {polygons, Crs::wgs84()};
}

std::string key_of(const TileRecord& t) { return t.path.string() + "#" + t.survey + "#" + t.id; }

}  // namespace

CoverageQuestion parse_coverage_question(const json& question) {
  if (!question.is_object()) wrong("it is no JSON object");
  CoverageQuestion q{.area = area_in(question), .options = {}, .dropped = {}};
  if (q.area.empty()) wrong("the area is empty");
  q.options.filter = filter_from(member(question, "filter"));
  if (const json& drop = member(question, "drop"); drop.is_array())
    for (const json& d : drop)
      if (d.is_string()) q.dropped.insert(d.get<std::string>());
  return q;
}

Shortlist search_coverage(const Catalogue& tiles, const CoverageQuestion& question) {
  Catalogue wanted, dropped;
  for (const TileRecord& t : tiles.tiles) (question.dropped.count(key_of(t)) ? dropped : wanted).tiles.push_back(t);
  Shortlist s = find_tiles(wanted, question.area, question.options);
  // Those that were dropped stay in the list, so that they can be taken up again.
  if (!dropped.tiles.empty())
    for (ShortlistTile& t : find_tiles(dropped, question.area, question.options).tiles) {
      t.kept = false;
      t.reason = "dropped by hand";
      s.tiles.push_back(std::move(t));
    }
  return s;
}

}  // namespace katoptra
