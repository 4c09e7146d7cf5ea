// Reading JSON of others: a key is there with the type that is needed, or it is not there.
#pragma once
#include <nlohmann/json.hpp>
#include <string>

namespace katoptra {

using json = nlohmann::json;
using ordered_json = nlohmann::ordered_json;

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

}  // namespace katoptra
