#include "katoptra/terrain/products.hpp"

#include <algorithm>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/derivatives.hpp"

namespace katoptra {

const std::vector<Product>& products() {
  static const std::vector<Product> all = {
      {"hillshade",
       "the land as light and shade show it",
       QuantityKind::Shade,
       {{"azimuth", "where the light comes from, clockwise from grid north", "315deg", SettingKind::Angle, {}},
        {"altitude", "how high the light stands", "45deg", SettingKind::Angle, {}},
        {"exaggerate", "multiply heights before shading", "1", SettingKind::Number, {}}},
       [](const Grid& g, const Settings& s) {
         return hillshade(
             g,
             {.azimuth = s.angle("azimuth"), .altitude = s.angle("altitude"), .exaggeration = s.number("exaggerate")});
       }},
      {"slope",
       "how steep the ground is",
       QuantityKind::Slope,
       {{"as", "how steepness is given", "degrees", SettingKind::Word, {"degrees", "percent", "ratio"}}},
       [](const Grid& g, const Settings& s) { return slope(g, parse_slope_as(s.word("as"))); }},
      {"aspect",
       "which way the ground faces, in degrees clockwise from grid north",
       QuantityKind::Aspect,
       {},
       [](const Grid& g, const Settings&) { return aspect(g); }},
      {"roughness",
       "the largest height difference between neighbours",
       QuantityKind::Roughness,
       {},
       [](const Grid& g, const Settings&) { return roughness(g); }},
  };
  return all;
}

const Product* product_named(std::string_view name) {
  for (const Product& p : products())
    if (p.name == name) return &p;
  return nullptr;
}

namespace {

std::string joined(const std::vector<std::string>& words) {
  std::string s;
  for (std::size_t i = 0; i < words.size(); ++i) s += (i == 0 ? "" : i + 1 == words.size() ? " or " : ", ") + words[i];
  return s;
}

void judge(const Setting& o, const std::string& value) {
  switch (o.kind) {
    case SettingKind::Angle:
      Angle::parse(value);
      return;
    case SettingKind::Number:
      if (!parse_number(value))
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no number", value), o.name,
                    fmt::format("write for instance {}", o.otherwise));
      return;
    case SettingKind::Word:
      if (!o.words.empty() && std::find(o.words.begin(), o.words.end(), value) == o.words.end())
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not known here", value), o.name,
                    "use " + joined(o.words));
  }
}

}  // namespace

Settings Product::settings(const std::map<std::string, std::string>& given) const {
  Settings s;
  for (const auto& [key, value] : given)
    if (std::none_of(options.begin(), options.end(), [&](const Setting& o) { return o.name == key; }))
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no setting of {}", key, name), name);
  for (const Setting& o : options) {
    const auto it = given.find(o.name);
    const std::string& value = it == given.end() ? o.otherwise : it->second;
    judge(o, value);
    s.values_[o.name] = value;
  }
  return s;
}

Angle Settings::angle(const std::string& name) const { return Angle::parse(values_.at(name)); }
double Settings::number(const std::string& name) const { return parse_number(values_.at(name)).value_or(0); }

}  // namespace katoptra
