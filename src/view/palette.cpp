#include "katoptra/view/palette.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <optional>
#include <sstream>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

namespace katoptra {
namespace {

struct Lab {
  double l, a, b;
};

// The screen's curve, from a table: off by less than a hundredth of what a byte can tell apart.
double on_screen(double v) {
  constexpr int kSteps = 4096;
  static const auto table = [] {
    std::array<double, kSteps + 2> t{};
    for (int i = 0; i <= kSteps; ++i) {
      const double x = static_cast<double>(i) / kSteps;
      t[static_cast<std::size_t>(i)] = x <= 0.0031308 ? 12.92 * x : 1.055 * std::pow(x, 1 / 2.4) - 0.055;
    }
    t[kSteps + 1] = t[kSteps];
    return t;
  }();
  const double at = kSteps * (v > 0 ? std::min(v, 1.0) : 0.0);
  const auto i = static_cast<std::size_t>(at);
  return table[i] + (at - static_cast<double>(i)) * (table[i + 1] - table[i]);
}

Colour to_srgb(Lab c) {
  const double l_ = c.l + 0.3963377774 * c.a + 0.2158037573 * c.b, m_ = c.l - 0.1055613458 * c.a - 0.0638541728 * c.b,
               s_ = c.l - 0.0894841775 * c.a - 1.2914855480 * c.b;
  const double l = l_ * l_ * l_, m = m_ * m_ * m_, s = s_ * s_ * s_;
  return {on_screen(4.0767416621 * l - 3.3077115913 * m + 0.2309699292 * s),
          on_screen(-1.2684380046 * l + 2.6097574011 * m - 0.3413193965 * s),
          on_screen(-0.0041960863 * l - 0.7034186147 * m + 1.7076147010 * s)};
}

Lab to_lab(Colour c) {
  auto linear = [](double v) { return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
  const double r = linear(c.red), g = linear(c.green), b = linear(c.blue);
  const double l = std::cbrt(0.4122214708 * r + 0.5363325363 * g + 0.0514459929 * b),
               m = std::cbrt(0.2119034982 * r + 0.6806995451 * g + 0.1073969566 * b),
               s = std::cbrt(0.0883024619 * r + 0.2817188376 * g + 0.6299787005 * b);
  return {0.2104542553 * l + 0.7936177850 * m - 0.0040720468 * s,
          1.9779984951 * l - 2.4285922050 * m + 0.4505937099 * s,
          0.0259040371 * l + 0.7827717662 * m - 0.8086757660 * s};
}

}  // namespace

Colour from_oklch(double lightness, double chroma, double hue) {
  const double h = hue * std::numbers::pi / 180;
  return to_srgb({lightness, chroma * std::cos(h), chroma * std::sin(h)});
}

double lightness_of(Colour c) { return to_lab(c).l; }

Colour shaded(Colour c, double factor) {
  Lab lab = to_lab(c);
  lab.l = std::clamp(lab.l * factor, 0.0, 1.0);
  return to_srgb(lab);
}

Palette Palette::land_and_sea(double lowest, double highest, double shore) {
  Palette p;
  if (shore != 0) {
    p = land_and_sea(lowest - shore, highest - shore);
    for (Stop& s : p.stops_) s.value += shore;
    p.lowest_ += shore;
    p.highest_ += shore;
    return p;
  }
  p.lowest_ = lowest;
  p.highest_ = std::max(highest, lowest + 1e-9);
  // A hair of sea beside high land (or of land beside deep sea) does not take a whole ramp: it stays near the shore.
  constexpr double kLeastShare = 0.05;
  const double low = std::min(lowest, -kLeastShare * std::max(highest, 0.0));
  const double high = std::max(highest, -kLeastShare * std::min(lowest, 0.0));
  if (lowest <= 0) {
    for (auto [t, hue, chroma] :
         {std::array{0.0, 262.0, 0.105}, std::array{0.5, 243.0, 0.095}, std::array{1.0, 214.0, 0.06}})
      p.stops_.push_back({low * (1 - t), 0.36 + 0.50 * t, chroma, hue});
  }
  if (highest > 0) {
    const double from = lowest > 0 ? lowest : 0;
    for (auto [t, hue, chroma] : {std::array{0.0, 148.0, 0.078}, std::array{0.33, 118.0, 0.085},
                                  std::array{0.66, 84.0, 0.08}, std::array{1.0, 62.0, 0.03}})
      p.stops_.push_back({from + (high - from) * t, 0.54 + 0.42 * t, chroma, hue});
  }
  return p;
}

Palette Palette::plain(double lowest, double highest) {
  Palette p;
  p.lowest_ = lowest;
  p.highest_ = std::max(highest, lowest + 1e-9);
  for (auto [t, hue, chroma] :
       {std::array{0.0, 85.0, 0.045}, std::array{0.5, 40.0, 0.125}, std::array{1.0, -15.0, 0.12}})
    p.stops_.push_back({lowest + (p.highest_ - lowest) * t, 0.95 - 0.60 * t, chroma, hue});
  return p;
}

Palette Palette::around_zero(double most) {
  Palette p;
  p.highest_ = std::max(most, 1e-9);
  p.lowest_ = -p.highest_;
  for (auto [t, lightness, chroma, hue] :
       {std::array{-1.0, 0.38, 0.13, 335.0}, std::array{-0.5, 0.67, 0.10, 335.0}, std::array{0.0, 0.96, 0.0, 335.0},
        std::array{0.0, 0.96, 0.0, 195.0}, std::array{0.5, 0.67, 0.08, 195.0}, std::array{1.0, 0.38, 0.075, 200.0}})
    p.stops_.push_back({p.highest_ * t, lightness, chroma, hue});
  return p;
}

Palette Palette::directions() {
  Palette p;
  p.lowest_ = 0;
  p.highest_ = 360;
  for (int i = 0; i <= 8; ++i) p.stops_.push_back({45.0 * i, 0.72, 0.11, 45.0 * i + 20});
  return p;
}

Palette Palette::grey(double lowest, double highest) {
  Palette p;
  p.lowest_ = lowest;
  p.highest_ = std::max(highest, lowest + 1e-9);
  p.stops_ = {{lowest, 0.12, 0, 0}, {p.highest_, 0.98, 0, 0}};
  return p;
}

namespace {

struct Tone {
  double lightness, chroma, hue;
};
constexpr Tone kLandformTones[] = {{0.93, 0.02, 110}, {0.36, 0.12, 25}, {0.50, 0.14, 30},  {0.72, 0.10, 50},
                                   {0.62, 0.13, 55},  {0.82, 0.09, 90}, {0.66, 0.09, 185}, {0.83, 0.05, 200},
                                   {0.52, 0.11, 245}, {0.34, 0.10, 275}};
constexpr Tone kSlopePositionTones[] = {{0.42, 0.11, 250}, {0.66, 0.09, 200}, {0.93, 0.02, 110},
                                        {0.82, 0.09, 90},  {0.68, 0.12, 55},  {0.46, 0.13, 28}};
constexpr Tone kScaleTones[] = {{0.34, 0.10, 275}, {0.55, 0.10, 245}, {0.72, 0.07, 215}, {0.66, 0.09, 185},
                                {0.93, 0.02, 110}, {0.82, 0.09, 90},  {0.74, 0.10, 65},  {0.66, 0.13, 50},
                                {0.53, 0.14, 32},  {0.36, 0.12, 25}};
// Around the circle, then grey for what leaves and dark for what ends.
constexpr Tone kFlowTones[] = {{0.72, 0.11, 20},  {0.72, 0.11, 65},  {0.72, 0.11, 110}, {0.72, 0.11, 155},
                               {0.72, 0.11, 200}, {0.72, 0.11, 245}, {0.72, 0.11, 290}, {0.72, 0.11, 335},
                               {0.90, 0.01, 250}, {0.30, 0.03, 250}};
constexpr Tone kShadowTones[] = {{0.38, 0.05, 270}, {0.94, 0.05, 95}};

std::span<const Tone> tones_of(QuantityKind kind) {
  switch (kind) {
    case QuantityKind::Landform:
      return kLandformTones;
    case QuantityKind::SlopePosition:
      return kSlopePositionTones;
    case QuantityKind::LandformByScale:
      return kScaleTones;
    case QuantityKind::FlowDirection:
      return kFlowTones;
    default:
      return kShadowTones;
  }
}

}  // namespace

Palette Palette::classes(QuantityKind kind) {
  Palette p;
  p.lowest_ = 1;
  p.highest_ = static_cast<double>(tones_of(kind).size());
  double code = 1;
  for (const Tone& t : tones_of(kind)) {
    p.stops_.push_back({code - 0.5, t.lightness, t.chroma, t.hue});
    p.stops_.push_back({code + 0.5, t.lightness, t.chroma, t.hue});
    code += 1;
  }
  return p;
}

Palette Palette::through(const std::vector<std::pair<double, Colour>>& stops) {
  if (stops.size() < 2)
    throw Error(ErrorCode::BadArgument, "a ramp needs two colours", "ramp", "give a value and a colour on each line");
  Palette p;
  for (const auto& [value, colour] : stops) {
    if (!std::isfinite(value) || (!p.stops_.empty() && value < p.stops_.back().value))
      throw Error(ErrorCode::BadArgument, fmt::format("the value {:g} of a ramp does not ascend", value), "ramp",
                  "begin with the lowest");
    const Lab lab = to_lab(colour);
    const double chroma = std::hypot(lab.a, lab.b);
    double hue = std::atan2(lab.b, lab.a) * 180 / std::numbers::pi;
    // A grey has the hue of its neighbour, and hues go round the shorter way.
    if (!p.stops_.empty()) {
      Stop& before = p.stops_.back();
      if (chroma < 1e-3) hue = before.hue;
      if (before.chroma < 1e-3) before.hue = hue;
      hue -= 360 * std::round((hue - before.hue) / 360);
    }
    p.stops_.push_back({value, lab.l, chroma, hue});
  }
  p.lowest_ = stops.front().first;
  p.highest_ = std::max(stops.back().first, p.lowest_ + 1e-9);
  return p;
}

Palette Palette::stepped(const Palette& ramp, const std::vector<double>& breaks, double middle) {
  Palette p;
  p.lowest_ = breaks.empty() ? ramp.lowest_ : std::min(ramp.lowest_, breaks.front() - 1e-9);
  p.highest_ = breaks.empty() ? ramp.highest_ : std::max(ramp.highest_, breaks.back() + 1e-9);
  std::vector<double> edges{p.lowest_};
  edges.insert(edges.end(), breaks.begin(), breaks.end());
  edges.push_back(p.highest_);
  const std::size_t n = edges.size() - 1;
  // Classes of one side of the middle stand evenly along that side of the ramp, however wide they are: neighbours can
  // be told.
  const bool two_sided = ramp.lowest_ < middle && ramp.highest_ > middle;
  auto is_below = [&](std::size_t i) { return two_sided && edges[i] + edges[i + 1] < 2 * middle; };
  std::size_t below = 0;
  while (below < n && is_below(below)) ++below;
  for (std::size_t i = 0; i < n; ++i) {
    const double from = i < below || !two_sided ? ramp.lowest_ : middle, to = i < below ? middle : ramp.highest_;
    const auto at = static_cast<double>(i < below ? i : i - below),
               of = static_cast<double>(i < below ? below : n - below);
    const Lab lab = to_lab(ramp.at(from + (to - from) * (at + 0.5) / of));
    const double chroma = std::hypot(lab.a, lab.b), hue = std::atan2(lab.b, lab.a) * 180 / std::numbers::pi;
    p.stops_.push_back({edges[i], lab.l, chroma, hue});
    p.stops_.push_back({edges[i + 1], lab.l, chroma, hue});
  }
  p.breaks_ = breaks;
  return p;
}

std::optional<Colour> parse_colour(std::string_view text) {
  if (text.size() != 7 || text[0] != '#' ||
      text.find_first_not_of("0123456789abcdefABCDEF", 1) != std::string_view::npos)
    return std::nullopt;
  auto part = [&](std::size_t at) { return std::stoi(std::string(text.substr(at, 2)), nullptr, 16) / 255.0; };
  return Colour{part(1), part(3), part(5)};
}

Palette parse_ramp(std::string_view text, const std::string& file) {
  std::vector<std::pair<double, Colour>> stops;
  int number = 0;
  std::istringstream in{std::string(text)};
  for (std::string line; std::getline(in, line);) {
    ++number;
    auto refuse = [&](const std::string& what) {
      throw Error(ErrorCode::BadFile, what, fmt::format("{} line {}", file, number),
                  "write a value and a colour, such as 12.5 #88aa66 or 12.5 136 170 102");
    };
    std::istringstream words(line);
    std::vector<std::string> w;
    for (std::string one; words >> one;) w.push_back(one);
    if (w.empty() || (w[0][0] == '#')) continue;
    const auto value = parse_number(w[0]);
    if (!value || (w.size() != 2 && w.size() != 4))
      refuse(fmt::format("'{}' is no value with a colour", line.substr(0, 60)));
    double parts[3] = {};
    const auto named = parse_colour(w[1]);
    for (std::size_t i = 0; i < 3; ++i) {
      const auto v = w.size() == 4 ? parse_number(w[i + 1]) : std::nullopt;
      if (w.size() == 2 ? !named : !v || *v < 0 || *v > 255)
        refuse(fmt::format("'{}' is no colour", line.substr(line.find(w[1]))));
      parts[i] = v ? *v / 255 : 0;
    }
    if (!stops.empty() && *value < stops.back().first)
      refuse(fmt::format("{:g} comes after {:g}", *value, stops.back().first));
    stops.push_back({*value, named ? *named : Colour{parts[0], parts[1], parts[2]}});
  }
  try {
    return Palette::through(stops);
  } catch (const Error& e) {
    throw Error(ErrorCode::BadFile, e.problem(), file, e.advice());
  }
}

Colour Palette::at(double value, double light) const {
  if (std::isnan(value)) return {1, 1, 1};
  auto lit = [light](double lightness, double chroma, double hue) {
    return from_oklch(std::clamp(lightness * light, 0.0, 1.0), chroma, hue);
  };
  if (value <= stops_.front().value) return lit(stops_.front().lightness, stops_.front().chroma, stops_.front().hue);
  for (std::size_t i = 1; i < stops_.size(); ++i) {
    const Stop &a = stops_[i - 1], &b = stops_[i];
    if (value > b.value || b.value <= a.value) continue;
    const double t = (value - a.value) / (b.value - a.value);
    return lit(a.lightness + t * (b.lightness - a.lightness), a.chroma + t * (b.chroma - a.chroma),
               a.hue + t * (b.hue - a.hue));
  }
  const Stop& last = stops_.back();
  return lit(last.lightness, last.chroma, last.hue);
}

}  // namespace katoptra
