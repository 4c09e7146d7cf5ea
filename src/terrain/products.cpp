#include "katoptra/terrain/products.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/curvature.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/position.hpp"
#include "katoptra/terrain/ruggedness.hpp"
#include "katoptra/terrain/sight.hpp"
#include "katoptra/terrain/sun.hpp"

#include "quadric.hpp"

namespace katoptra {

namespace {

constexpr const char *kAzimuth = "315deg", *kAltitude = "45deg";

// Zero has a meaning of its own in Light.
double positive(const Settings& s, const char* name) {
  const double v = s.number(name);
  if (!(v > 0))
    throw Error(ErrorCode::BadArgument, fmt::format("{:g} is not above zero", v), name,
                "write for instance 1.5, or auto");
  return v;
}

Light light_of(const Settings& s) {
  const std::string& sun = s.word("sun");
  if (!sun.empty() && (s.word("azimuth") != kAzimuth || s.word("altitude") != kAltitude))
    throw Error(ErrorCode::BadArgument, "the sun has an azimuth and an altitude of its own", "hillshade",
                "leave out either the sun or the two");
  return {.azimuth = s.angle("azimuth"),
          .altitude = s.angle("altitude"),
          .exaggeration = s.word("exaggerate") == "auto" ? kExaggerationOfSurface : positive(s, "exaggerate"),
          .sun = sun};
}

Light mixed_light_of(const Settings& s) {
  Light light = light_of(s);
  light.lights = parse_lights(s.word("lights"));
  light.shadows = s.word("shadows") == "cast";
  light.sky = s.number("sky");
  if (s.given("radius")) light.sky_radius = s.length("radius");
  if (light.sky_radius && light.sky == 0)
    throw Error(ErrorCode::BadArgument, "a radius is for the light of the sky, of which there is none", "hillshade",
                "say how much with --sky, for instance 0.4");
  return light;
}

SightOptions sight_of(const Settings& s) {
  SightOptions o{.radius = {}, .directions = static_cast<int>(s.number("directions"))};
  if (s.given("radius")) o.radius = s.length("radius");
  return o;
}

LandformOptions forms_of(const Settings& s) {
  LandformOptions o{.by = parse_landforms_by(s.word("by")), .radii = {}, .flat = {}};
  if (s.given("radius")) o.radii = s.lengths("radius");
  if (s.given("flat")) o.flat = s.angle("flat");
  return o;
}

GradientOptions gradient_of(const Settings& s) {
  return {.gradient = parse_gradient(s.word("gradient")), .window = s.window("window")};
}

}  // namespace

const std::vector<Product>& products() {
  static const Setting gradient{
      "gradient",
      "how it is taken: horn from 3 x 3 cells, quadric where the window is wider, unless told",
      "automatic",
      SettingKind::Word,
      {"automatic", "horn", "zevenbergen-thorne", "quadric"}};
  static const Setting window{
      "window", "over how many cells, an odd number: wider for wider forms", "3", SettingKind::Window, {}};
  static const Setting from{
      "azimuth", "where the light comes from, clockwise from grid north", kAzimuth, SettingKind::Angle, {}};
  static const Setting high{"altitude", "how high the light stands", kAltitude, SettingKind::Angle, {}};
  static const Setting exaggerate{"exaggerate",
                                  "multiply heights before shading; auto: as the slopes of the surface need",
                                  "1",
                                  SettingKind::Number,
                                  {"auto"}};
  static const Setting sun{
      "sun", "let the sun of this time be the light, e.g. 2026-06-21T09:30Z", "", SettingKind::Time, {}};
  static const Setting reach{"radius", "how far around is looked, 50 cells unless told", "", SettingKind::Length, {}};
  static const Setting directions{"directions", "in how many directions: 8, 16 or 32", "16", SettingKind::Number, {}};
  static const std::vector<Product> all = {
      {"hillshade",
       "the land as light and shade show it",
       QuantityKind::Shade,
       {from,
        high,
        exaggerate,
        {"lights",
         "one, or several around the azimuth, weighted by the way the ground faces",
         "one",
         SettingKind::Word,
         {"one", "several"}},
        sun,
        {"shadows", "let hills cast shadows as well", "none", SettingKind::Word, {"none", "cast"}},
        {"sky", "how much of the light comes from the whole sky, 0 to 1", "0", SettingKind::Number, {}},
        {"radius", "with that: as far as hills hide the sky, 50 cells unless told", "", SettingKind::Length, {}}},
       [](const Grid& g, const Settings& s) { return hillshade(g, mixed_light_of(s)); }},
      {"shadows",
       "where higher ground keeps the light away, however far off it stands",
       QuantityKind::Shadow,
       {from, high, exaggerate, sun},
       [](const Grid& g, const Settings& s) { return shadows(g, light_of(s)); }},
      {"sky-view",
       "how much of the sky is seen: 1 in the open, less in hollows and beside walls",
       QuantityKind::SkyView,
       {reach, directions},
       [](const Grid& g, const Settings& s) { return sky_view(g, sight_of(s)); }},
      {"slope",
       "how steep the ground is",
       QuantityKind::Slope,
       {{"as", "how steepness is given", "degrees", SettingKind::Word, {"degrees", "percent", "ratio"}},
        gradient,
        window},
       [](const Grid& g, const Settings& s) { return slope(g, parse_slope_as(s.word("as")), gradient_of(s)); }},
      {"aspect",
       "which way the ground faces, in degrees clockwise from grid north",
       QuantityKind::Aspect,
       {gradient, window},
       [](const Grid& g, const Settings& s) { return aspect(g, gradient_of(s)); }},
      {"curvature",
       "how the ground bends, in 1/m: above zero where it bulges, below where it is hollow",
       QuantityKind::Curvature,
       {{"kind",
         "of which cut through the ground",
         "profile",
         SettingKind::Word,
         {"profile", "plan", "tangential", "mean", "largest", "smallest", "gaussian"}},
        window},
       [](const Grid& g, const Settings& s) {
         return curvature(g, parse_curvature_kind(s.word("kind")), s.window("window"));
       }},
      {"ruggedness",
       "how uneven the ground is in a window: heights that differ, or directions that do",
       QuantityKind::Ruggedness,
       {{"kind", "what is measured", "vector", SettingKind::Word, {"riley", "vector", "range", "deviation"}}, window},
       [](const Grid& g, const Settings& s) {
         return ruggedness(g, parse_ruggedness_kind(s.word("kind")), s.window("window"));
       }},
      {"position",
       "how high a cell stands above the ground around it: ridges above zero, hollows below",
       QuantityKind::Position,
       {{"radius",
         "how far around; of several, as 10m,50m,250m, the one where it stands out most",
         "100m",
         SettingKind::Lengths,
         {}},
        {"inner", "leave out what is nearer: a ring instead of a disc", "0m", SettingKind::Length, {}},
        {"as",
         "in heights, in standard deviations there, or the radius that was taken",
         "height",
         SettingKind::Word,
         {"height", "deviations", "radius"}}},
       [](const Grid& g, const Settings& s) {
         return position(
             g, {.radii = s.lengths("radius"), .inner = s.length("inner"), .as = parse_position_as(s.word("as"))});
       }},
      {"openness",
       "how far the ground opens to the sky or into the depth, in degrees: ridges above, hollows below",
       QuantityKind::Openness,
       {{"kind", "towards the sky, or towards the depth", "above", SettingKind::Word, {"above", "below"}},
        reach,
        directions},
       [](const Grid& g, const Settings& s) { return openness(g, parse_openness_kind(s.word("kind")), sight_of(s)); }},
      {"landforms",
       "summits, ridges, slopes, hollows, valleys: classes with names",
       QuantityKind::Landform,
       {{"by",
         "lines of sight (ten forms), or position and slope (six places; of two radii ten forms)",
         "sight",
         SettingKind::Word,
         {"sight", "position"}},
        {"radius",
         "how far around, 50 cells unless told; by position also two, as 50m,500m",
         "",
         SettingKind::Lengths,
         {}},
        {"flat", "what counts as level: 1deg by sight, 5deg by position unless told", "", SettingKind::Angle, {}}},
       [](const Grid& g, const Settings& s) { return landforms(g, forms_of(s)); }},
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

std::vector<Length> read_lengths(const std::string& text, const Setting& o) {
  std::vector<Length> lengths;
  for (std::string_view rest = text;;) {
    const auto comma = rest.find(',');
    lengths.push_back(Length::parse(rest.substr(0, comma)));
    if (comma == rest.npos) break;
    rest.remove_prefix(comma + 1);
  }
  if (o.kind == SettingKind::Length && lengths.size() != 1)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is more than one length", text), o.name, "give one");
  return lengths;
}

void judge(const Setting& o, const std::string& value) {
  if (value.empty() && o.otherwise.empty()) return;
  switch (o.kind) {
    case SettingKind::Angle:
      Angle::parse(value);
      return;
    case SettingKind::Number:
      if (!parse_number(value) && std::find(o.words.begin(), o.words.end(), value) == o.words.end())
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no number", value), o.name,
                    fmt::format("write for instance {}", o.otherwise));
      return;
    case SettingKind::Window: {
      const auto n = parse_number(value);
      if (!n || *n != std::floor(*n) || std::abs(*n) > 1e6)
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no number of cells", value), o.name,
                    "take an odd number, for instance 5");
      require_window(static_cast<int>(*n), o.name.c_str());
      return;
    }
    case SettingKind::Area:
      parse_square_metres(value);
      return;
    case SettingKind::Time:
      sun_at(value, 0, 0);
      return;
    case SettingKind::Features:  // whoever knows the folder opens it
      return;
    case SettingKind::Length:
    case SettingKind::Lengths:
      read_lengths(value, o);
      return;
    case SettingKind::Word:
      if (!o.words.empty() && std::find(o.words.begin(), o.words.end(), value) == o.words.end())
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not known here", value), o.name,
                    "use " + joined(o.words));
  }
}

}  // namespace

const Layer* Settings::features(const std::string& name) const {
  const auto it = layers_.find(name);
  return it == layers_.end() ? nullptr : &it->second;
}

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

namespace {

// Up to the comma behind which another setting begins: "radius=10m,50m" is one.
std::string_view first_pair(std::string_view text) {
  for (auto comma = text.find(','); comma != text.npos; comma = text.find(',', comma + 1)) {
    const auto next = text.substr(comma + 1);
    const auto stop = next.find_first_of(",=");
    if (stop == next.npos ? next.empty() : next[stop] == '=' || stop == 0) return text.substr(0, comma);
  }
  return text;
}

}  // namespace

ProductCall parse_product(std::string_view text) {
  const auto colon = std::min(text.find(':'), text.size());
  ProductCall call{.product = product_named(text.substr(0, colon)), .settings = {}, .name = {}};
  if (!call.product) {
    std::vector<std::string> names;
    for (const Product& p : products()) names.push_back(p.name);
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no product", text.substr(0, colon)), {},
                "use " + joined(names));
  }
  call.name = call.product->name;
  std::map<std::string, std::string> given;
  for (auto rest = text.substr(colon); !rest.empty();) {
    rest.remove_prefix(1);
    const std::string_view pair = first_pair(rest);
    rest.remove_prefix(pair.size());
    const auto equals = pair.find('=');
    if (equals == pair.npos || equals == 0 || equals + 1 == pair.size())
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' sets nothing", pair), std::string(text),
                  "write for instance slope:as=percent,window=5");
    const std::string key(pair.substr(0, equals)), value(pair.substr(equals + 1));
    if (!given.emplace(key, value).second)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is set twice", key), std::string(text));
    call.name += "-" + value;
  }
  call.settings = call.product->settings(given);
  for (char& c : call.name)
    if (!std::isalnum(static_cast<unsigned char>(c)) && c != '.' && c != '-' && c != '+') c = '_';
  return call;
}

Angle Settings::angle(const std::string& name) const { return Angle::parse(values_.at(name)); }
std::vector<Length> Settings::lengths(const std::string& name) const {
  return read_lengths(values_.at(name),
                      {.name = name, .help = {}, .otherwise = {}, .kind = SettingKind::Lengths, .words = {}});
}
Length Settings::length(const std::string& name) const { return lengths(name).front(); }
double Settings::area(const std::string& name) const { return parse_square_metres(values_.at(name)); }
int Settings::window(const std::string& name) const { return static_cast<int>(number(name)); }
double Settings::number(const std::string& name) const { return parse_number(values_.at(name)).value_or(0); }

}  // namespace katoptra
