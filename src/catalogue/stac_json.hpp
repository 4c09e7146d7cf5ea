// Reading JSON of others: a key is there with the type that is needed, or it is not there.
#pragma once
#include <nlohmann/json.hpp>
#include <string>

#include "katoptra/base/error.hpp"
#include "katoptra/geo/geometry.hpp"

namespace katoptra {

using json = nlohmann::json;
using ordered_json = nlohmann::ordered_json;

// JSON of a remote service nests no deeper than this, so that no stack ends.
inline constexpr int kDeepestJson = 64;
// BadFile when it is no JSON, or too deep.
json parse_json(std::string_view text, const std::string& where);

inline std::string word(const json& j, const char* key) {
  if (!j.is_object()) return {};
  const auto f = j.find(key);
  return f != j.end() && f->is_string() ? f->get<std::string>() : std::string();
}
inline double number(const json& j, const char* key, double otherwise = 0) {
  if (!j.is_object()) return otherwise;
  const auto f = j.find(key);
  return f != j.end() && f->is_number() ? f->get<double>() : otherwise;
}
inline const json& member(const json& j, const char* key) {
  static const json nothing;
  if (!j.is_object()) return nothing;
  const auto f = j.find(key);
  return f != j.end() ? *f : nothing;
}

// Polygons of a GeoJSON geometry; other geometries give none. BadFile when coordinates are no numbers.
MultiPolygon polygons_of(const json& geometry, const std::string& where);
ordered_json geometry_json(const MultiPolygon& shape);

}  // namespace katoptra
