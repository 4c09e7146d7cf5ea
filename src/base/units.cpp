#include "katoptra/base/units.hpp"

#include <charconv>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

std::string_view trimmed(std::string_view s) {
  while (!s.empty() && s.front() == ' ') s.remove_prefix(1);
  while (!s.empty() && s.back() == ' ') s.remove_suffix(1);
  return s;
}

// Splits "12.5 ft" into its number and the rest; nullopt when no number stands in front.
std::optional<std::pair<double, std::string_view>> split_number(std::string_view text) {
  text = trimmed(text);
  if (!text.empty() && text.front() == '+') {
    text.remove_prefix(1);
    if (text.starts_with('-')) return std::nullopt;
  }
  double value = 0;
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (ec != std::errc() || !std::isfinite(value)) return std::nullopt;
  text.remove_prefix(static_cast<std::size_t>(end - text.data()));
  return std::pair{value, trimmed(text)};
}

[[noreturn]] void refuse(std::string_view what, std::string_view text, std::string_view advice) {
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not {}", text, what), {}, std::string(advice));
}

}  // namespace

double metres_per(LengthUnit unit) {
  switch (unit) {
    case LengthUnit::Foot:
      return 0.3048;
    case LengthUnit::UsFoot:
      return 1200.0 / 3937.0;
    case LengthUnit::Metre:
      break;
  }
  return 1.0;
}

const char* symbol(LengthUnit unit) {
  switch (unit) {
    case LengthUnit::Foot:
      return "ft";
    case LengthUnit::UsFoot:
      return "ftUS";
    case LengthUnit::Metre:
      break;
  }
  return "m";
}

LengthUnit parse_length_unit(std::string_view text) {
  if (text == "m") return LengthUnit::Metre;
  if (text == "ft") return LengthUnit::Foot;
  if (text == "ftUS") return LengthUnit::UsFoot;
  refuse("a unit of length", text, "use m, ft or ftUS");
}

Length Length::of(double value, LengthUnit unit) {
  switch (unit) {
    case LengthUnit::Foot:
      return feet(value);
    case LengthUnit::UsFoot:
      return us_feet(value);
    case LengthUnit::Metre:
      break;
  }
  return metres(value);
}

double Length::in(LengthUnit unit) const {
  const double value = metres_ / metres_per(unit), round = std::round(value * 1e9) / 1e9;
  return of(round, unit).metres_ == metres_ ? round : value;
}

Length Length::parse(std::string_view text, std::optional<LengthUnit> bare) {
  constexpr std::string_view kAdvice = "write a number with its unit, such as 0.5m, 2km, 1ft or 1ftUS";
  auto parts = split_number(text);
  if (!parts) refuse("a length", text, kAdvice);
  auto [value, unit] = *parts;
  if (unit.empty() && bare) return of(value, *bare);
  if (unit == "m") return metres(value);
  if (unit == "ft") return feet(value);
  if (unit == "ftUS") return us_feet(value);
  if (unit == "km") return metres(value * 1000);
  if (unit == "cm") return metres(value / 100);
  if (unit == "mm") return metres(value / 1000);
  if (unit == "mi") return metres(value * 1609.344);
  if (unit == "nmi") return metres(value * 1852);
  refuse("a length", text, kAdvice);
}

Angle Angle::radians(double r) { return Angle(r * 180.0 / std::numbers::pi); }
double Angle::radians() const { return degrees_ * std::numbers::pi / 180.0; }

Angle Angle::parse(std::string_view text) {
  constexpr std::string_view kAdvice = "write a number of degrees, such as 315deg";
  auto parts = split_number(text);
  if (!parts) refuse("an angle", text, kAdvice);
  auto [value, unit] = *parts;
  if (unit.empty() || unit == "deg" || unit == "°") return degrees(value);
  if (unit == "rad") return radians(value);
  if (unit == "gon") return degrees(value * 0.9);
  if (unit == "'") return degrees(value / 60);
  if (unit == "\"") return degrees(value / 3600);
  refuse("an angle", text, kAdvice);
}

std::optional<double> parse_number(std::string_view text) {
  auto parts = split_number(text);
  if (!parts || !parts->second.empty()) return std::nullopt;
  return parts->first;
}

double parse_degrees(std::string_view text) {
  constexpr std::string_view kAdvice =
      "use decimal degrees (-37.55) or degrees, minutes, seconds with a letter (37°33'S)";
  std::string_view rest = trimmed(text);
  double sign = 1;
  bool lettered = false;
  if (!rest.empty() && std::string_view("NSEWnsew").find(rest.back()) != std::string_view::npos) {
    if (std::string_view("SWsw").find(rest.back()) != std::string_view::npos) sign = -1;
    lettered = true;
    rest.remove_suffix(1);
  }
  double value = 0, scale = 1;
  for (int part = 0; part < 3 && !rest.empty(); ++part, scale /= 60) {
    auto split = split_number(rest);
    // The sign is a sign, not a size: -0°30' lies south or west although its degrees are zero.
    const bool minus = split && std::signbit(split->first);
    if (!split || ((lettered || part > 0) && minus) || (part > 0 && split->first >= 60))
      refuse("an angle on the globe", text, kAdvice);
    if (minus) sign = -1;
    value += std::abs(split->first) * scale;
    rest = split->second;
    for (std::string_view mark : {"°", "deg", "'", "\"", "′", "″", ":"})
      if (rest.starts_with(mark)) {
        rest = trimmed(rest.substr(mark.size()));
        break;
      }
  }
  if (!rest.empty() || trimmed(text).empty() || (lettered && text.find_first_of("0123456789") == text.npos))
    refuse("an angle on the globe", text, kAdvice);
  const bool latitude = lettered && std::string_view("NSns").find(trimmed(text).back()) != std::string_view::npos;
  if (value > (latitude ? 90 : 360)) refuse("an angle on the globe", text, kAdvice);
  return sign * value;
}

std::size_t parse_bytes(std::string_view text) {
  auto parts = split_number(text);
  if (parts && parts->first >= 0 && parts->first < 1e15) {
    auto [value, unit] = *parts;
    for (std::string_view tail : {"iB", "B"})
      if (unit.ends_with(tail)) {
        unit.remove_suffix(tail.size());
        break;
      }
    double scale = unit.empty() ? 1 : unit == "K" ? 1024.0 : unit == "M" ? 1048576.0 : unit == "G" ? 1073741824.0 : 0;
    if (scale > 0) return static_cast<std::size_t>(value * scale);
  }
  refuse("a size", text, "write a number of bytes with K, M or G, such as 512M");
}

double parse_square_metres(std::string_view text) {
  constexpr double kAcre = 4046.8564224;
  if (const auto parts = split_number(text)) {
    const auto [value, unit] = *parts;
    const double scale = unit == "m2" || unit == "m²"     ? 1
                         : unit == "ha"                   ? 1e4
                         : unit == "km2" || unit == "km²" ? 1e6
                         : unit == "ac"                   ? kAcre
                                                          : 0;
    if (scale > 0 && value >= 0) return value * scale;
  }
  refuse("an area", text, "write a number with m2, ha, km2 or ac, such as 10ha");
}

std::string format_bytes(double bytes) {
  if (bytes < 1024) return fmt::format("{:.0f} B", bytes);
  for (const char* unit : {"KiB", "MiB", "GiB"}) {
    bytes /= 1024;
    if (bytes < 1024) return fmt::format("{:.1f} {}", bytes, unit);
  }
  return fmt::format("{:.1f} TiB", bytes / 1024);
}

std::string format_length(Length length) {
  const double m = length.metres();
  if (m != 0 && std::abs(m) < 0.001) return fmt::format("{:.3g} m", m);
  const bool far = std::abs(m) >= 999.5;
  const double v = far ? m / 1000 : m;
  // Three digits, without the zeros that say nothing.
  const int decimals = v == 0 ? 0 : std::max(0, 2 - static_cast<int>(std::floor(std::log10(std::abs(v)))));
  std::string text = fmt::format("{:.{}f}", v, decimals);
  if (text.find('.') != text.npos) {
    text.erase(text.find_last_not_of('0') + 1);
    if (text.ends_with('.')) text.pop_back();
  }
  return text + (far ? " km" : " m");
}

std::string format_area(double m2) {
  if (std::abs(m2) < 10) return fmt::format("{:.2g} m2", m2);
  if (std::abs(m2) < 999'999.5) return fmt::format("{:.0f} m2", m2);
  const double km2 = m2 / 1e6;
  return fmt::format("{:.{}f} km2", km2, km2 < 10 ? 2 : km2 < 100 ? 1 : 0);
}

}  // namespace katoptra
