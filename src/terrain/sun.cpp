#include "katoptra/terrain/sun.hpp"

#include <array>
#include <charconv>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <optional>
#include <string>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

constexpr double kRadians = std::numbers::pi / 180;

// Two or four digits in front of the text, which goes on behind them.
std::optional<int> digits(std::string_view& text, std::size_t n) {
  int value = 0;
  if (text.size() < n) return std::nullopt;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + n, value);
  if (problem != std::errc() || end != text.data() + n || text[0] == '-') return std::nullopt;
  text.remove_prefix(n);
  return value;
}

bool skip(std::string_view& text, char c) {
  if (text.empty() || text.front() != c) return false;
  text.remove_prefix(1);
  return true;
}

int days_of_month(int year, int month) {
  constexpr std::array<int, 12> kDays = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return kDays[static_cast<std::size_t>(month - 1)] + (month == 2 && leap ? 1 : 0);
}

// Days since noon of 1 January 2000, by UTC (Meeus, chapter 7).
double days_since_2000(int year, int month, double day) {
  if (month <= 2) {
    --year;
    month += 12;
  }
  const int century = year / 100;
  return std::floor(365.25 * (year + 4716)) + std::floor(30.6001 * (month + 1)) + day + 2 - century + century / 4 -
         1524.5 - 2451545.0;
}

// Minutes that a clock is ahead of UTC: "Z", "+01:00".
std::optional<int> minutes_ahead(std::string_view& rest) {
  if (skip(rest, 'Z')) return 0;
  const bool behind = !rest.empty() && rest.front() == '-';
  if (!behind && (rest.empty() || rest.front() != '+')) return std::nullopt;
  rest.remove_prefix(1);
  const auto hours = digits(rest, 2);
  const bool colon = skip(rest, ':');
  const auto minutes = digits(rest, 2);
  if (!hours || !colon || !minutes || *hours > 14 || *minutes > 59) return std::nullopt;
  return (behind ? -1 : 1) * (60 * *hours + *minutes);
}

std::optional<double> parsed_time(std::string_view rest) {
  const auto year = digits(rest, 4);
  if (!year || !skip(rest, '-')) return std::nullopt;
  const auto month = digits(rest, 2);
  if (!month || *month < 1 || *month > 12 || !skip(rest, '-')) return std::nullopt;
  const auto day = digits(rest, 2);
  if (!day || *day < 1 || *day > days_of_month(*year, *month) || !skip(rest, 'T')) return std::nullopt;
  const auto hour = digits(rest, 2);
  if (!hour || *hour > 23 || !skip(rest, ':')) return std::nullopt;
  const auto minute = digits(rest, 2);
  if (!minute || *minute > 59) return std::nullopt;
  int second = 0;
  if (skip(rest, ':')) {
    const auto s = digits(rest, 2);
    if (!s || *s > 59) return std::nullopt;
    second = *s;
  }
  const auto ahead = minutes_ahead(rest);
  if (!ahead || !rest.empty()) return std::nullopt;
  return days_since_2000(*year, *month, *day + (*hour + (*minute - *ahead) / 60.0 + second / 3600.0) / 24);
}

double around(double degrees) { return degrees - 360 * std::floor(degrees / 360); }

}  // namespace

SunPosition sun_at(std::string_view time, double longitude, double latitude) {
  const std::optional<double> days = parsed_time(time);
  if (!days)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no time that says where it is", time), "sun",
                "write for instance 2026-06-21T09:30Z, or 2026-06-21T07:30-02:00");
  const double t = *days / 36525;
  const double anomaly = (357.52911 + 35999.05029 * t - 0.0001537 * t * t) * kRadians;
  const double centre = (1.914602 - 0.004817 * t - 0.000014 * t * t) * std::sin(anomaly) +
                        (0.019993 - 0.000101 * t) * std::sin(2 * anomaly) + 0.000289 * std::sin(3 * anomaly);
  const double node = (125.04 - 1934.136 * t) * kRadians;
  const double longitude_of_sun =
      (280.46646 + 36000.76983 * t + 0.0003032 * t * t + centre - 0.00569 - 0.00478 * std::sin(node)) * kRadians;
  const double tilt = (23.4392911 - 0.0130042 * t + 0.00256 * std::cos(node)) * kRadians;
  const double ascension = std::atan2(std::cos(tilt) * std::sin(longitude_of_sun), std::cos(longitude_of_sun));
  const double declination = std::asin(std::sin(tilt) * std::sin(longitude_of_sun));
  const double sidereal = around(280.46061837 + 360.98564736629 * *days + 0.000387933 * t * t);
  const double hour_angle = (sidereal + longitude) * kRadians - ascension, phi = latitude * kRadians;
  const double east = -std::cos(declination) * std::sin(hour_angle),
               north =
                   std::sin(declination) * std::cos(phi) - std::cos(declination) * std::cos(hour_angle) * std::sin(phi),
               up =
                   std::sin(phi) * std::sin(declination) + std::cos(phi) * std::cos(declination) * std::cos(hour_angle);
  const double azimuth = around(std::atan2(east, north) / kRadians);
  return {Angle::degrees(azimuth >= 360 ? 0 : azimuth),
          Angle::degrees(std::atan2(up, std::hypot(east, north)) / kRadians)};
}

}  // namespace katoptra
