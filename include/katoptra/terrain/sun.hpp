// Where the sun stands.
//
//   const SunPosition sun = sun_at("2026-06-21T09:30Z", -30.99, -37.55);
//   Grid morning = hillshade(dem, {.azimuth = sun.azimuth, .altitude = sun.altitude});   // but for the convergence
//   Grid right = hillshade(dem, {.sun = "2026-06-21T09:30Z"});                           // with it
//
// The low-precision formulas of Meeus 1998, chapters 12, 13 and 25: within 0.02 degrees from 1900 to 2100. Refraction,
// which lifts a sun near the horizon by up to half a degree, is left out.
#pragma once
#include <string_view>

#include "katoptra/base/units.hpp"

namespace katoptra {

struct SunPosition {
  Angle azimuth;   // clockwise from true north, 0 to below 360 degrees
  Angle altitude;  // above the horizon; below zero at night
};

// `time`: "2026-06-21T09:30Z", with seconds if wanted, or with an offset from UTC ("2026-06-21T07:30-02:00").
// BadArgument for anything else, also for a time of which nobody says where it is. Longitude and latitude in degrees.
SunPosition sun_at(std::string_view time, double longitude, double latitude);

}  // namespace katoptra
