#include "katoptra/catalogue/places.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>
#include <set>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

std::string text_property(const Feature& f, const char* key) {
  for (const auto& [name, value] : f.properties)
    if (name == key && std::holds_alternative<std::string>(value)) return std::get<std::string>(value);
  return {};
}

double number_property(const Feature& f, const char* key) {
  for (const auto& [name, value] : f.properties) {
    if (name != key) continue;
    if (const auto* d = std::get_if<double>(&value)) return *d;
    if (const auto* i = std::get_if<std::int64_t>(&value)) return static_cast<double>(*i);
  }
  return 0;
}

std::vector<std::string> names_of(const Feature& f) {
  std::vector<std::string> out = {text_property(f, "name")};
  std::string rest = text_property(f, "names");
  while (!rest.empty()) {
    const auto at = rest.find(';');
    std::string one = rest.substr(0, at);
    one.erase(0, one.find_first_not_of(' '));
    if (!one.empty()) out.push_back(one);
    rest = at == rest.npos ? "" : rest.substr(at + 1);
  }
  return out;
}

// Levenshtein's distance.
std::size_t distance(const std::string& a, const std::string& b) {
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), std::size_t{0});
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t diagonal = std::exchange(row[0], i);
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t replaced = diagonal + (a[i - 1] != b[j - 1]);
      diagonal = row[j];
      row[j] = std::min({replaced, row[j] + 1, row[j - 1] + 1});
    }
  }
  return row[b.size()];
}

std::string listed(const std::vector<std::string>& names) {
  std::string out;
  for (std::size_t i = 0; i < names.size() && i < 6; ++i) out += (i ? ", " : "") + names[i];
  return out + (names.size() > 6 ? " ..." : "");
}

}  // namespace

Gazetteer::Gazetteer(Layer places, std::string file) : places_(std::move(places)), file_(std::move(file)) {}

std::vector<std::string> Gazetteer::names() const {
  std::vector<std::string> out;
  for (const Feature& f : places_.features) out.push_back(text_property(f, "name"));
  return out;
}

Area Gazetteer::area_of(std::string_view given, std::optional<Length> radius) const {
  const std::string wanted = lower_case(std::string(given));
  std::vector<const Feature*> fitting;
  for (int pass = 0; pass < 3 && fitting.empty() && !wanted.empty(); ++pass)
    for (const Feature& f : places_.features) {
      const auto names = names_of(f);
      if (std::any_of(names.begin(), names.end(), [&](const std::string& n) {
            const std::string own = lower_case(n);
            return pass == 0 ? own == wanted : pass == 1 ? own.starts_with(wanted) : own.find(wanted) != own.npos;
          }))
        fitting.push_back(&f);
    }
  if (fitting.empty()) {
    std::vector<std::pair<std::size_t, std::string>> near;
    for (const std::string& n : names()) near.emplace_back(distance(wanted, lower_case(n)), n);
    std::stable_sort(near.begin(), near.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<std::string> best;
    for (std::size_t i = 0; i < near.size() && i < 3; ++i) best.push_back(near[i].second);
    throw Error(ErrorCode::BadArgument, fmt::format("knows no place '{}'", given), file_,
                best.empty() ? "name another gazetteer" : "did you mean " + listed(best) + "?");
  }
  if (fitting.size() > 1) {
    std::vector<std::string> found;
    for (const Feature* f : fitting) found.push_back(text_property(*f, "name"));
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' may be {}", given, listed(found)), file_, "say which");
  }
  const Feature& f = *fitting[0];
  if (const auto* shape = std::get_if<MultiPolygon>(&f.geometry)) return {*shape, places_.crs};
  const auto* point = std::get_if<Point>(&f.geometry);
  const double own = number_property(f, "radius");
  const Length reach = own > 0 ? Length::metres(own) : radius.value_or(Length());
  if (!point || !(reach.metres() > 0))
    throw Error(ErrorCode::BadArgument,
                fmt::format("'{}' is a {} without an extent", text_property(f, "name"), point ? "point" : "line"),
                file_, "say how far around it with --margin, or add a 'radius' in metres to the gazetteer");
  return Area::circle(*point, reach, places_.crs);
}

Gazetteer read_gazetteer(const std::filesystem::path& path) {
  Layer places = read_layer(path);
  if (std::none_of(places.features.begin(), places.features.end(),
                   [](const Feature& f) { return !text_property(f, "name").empty(); }))
    throw Error(ErrorCode::BadFile, "names no places", path.string(), "its features need a 'name'");
  return Gazetteer(std::move(places), path.string());
}

Area sheet_area(const std::vector<TileRecord>& tiles, std::string_view name) {
  const std::string wanted = lower_case(std::string(name));
  std::vector<const TileRecord*> fitting;
  for (const TileRecord& t : tiles) {
    const std::string file = lower_case(t.remote() ? url_file_name(t.path.native()) : t.path.filename().string());
    if (lower_case(t.id) == wanted || file == wanted || file.substr(0, file.find('.')) == wanted) fitting.push_back(&t);
  }
  std::erase_if(fitting, [](const TileRecord* t) { return !t->placed(); });
  if (fitting.empty())
    throw Error(ErrorCode::BadArgument, fmt::format("no placed tile is called '{}'", name), "--area",
                "look the names up with find");
  const TileRecord& first = *fitting[0];
  const Crs crs = first.frame && first.frame->crs() ? first.frame->crs() : Crs::wgs84();
  const double middle = first.globe_box().centre().x;
  const Area area(first.footprint(crs, middle), crs);
  for (const TileRecord* t : fitting) {
    const MultiPolygon common = overlay(t->footprint(crs, middle), area.shape(), Overlay::Intersection);
    if (planar_area(common) < 0.99 * planar_area(area.shape()))
      throw Error(ErrorCode::BadArgument,
                  fmt::format("'{}' is called so in {} and in {}", name, first.survey, t->survey), "--area",
                  "name one survey with --survey, or give a box");
  }
  return area;
}

}  // namespace katoptra
