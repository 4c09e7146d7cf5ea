#include "katoptra/terrain/sun.hpp"

#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <optional>
#include <string>

#include "katoptra/base/error.hpp"

#include "base/clock.hpp"

namespace katoptra {
namespace {

constexpr double kRadians = std::numbers::pi / 180;

// Days since noon of 1 January 2000, by UTC.
std::optional<double> days_since_2000(std::string_view time) {
  const auto seconds = seconds_of(time);
  return seconds ? std::optional((*seconds - 946728000) / 86400) : std::nullopt;
}

double around(double degrees) { return degrees - 360 * std::floor(degrees / 360); }

}  // namespace

SunPosition sun_at(std::string_view time, double longitude, double latitude) {
  const std::optional<double> days = days_since_2000(time);
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
