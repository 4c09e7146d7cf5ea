// The truth about Marrowick: one analytic function for land and sea floor of an invented island, so that every survey
// drawn from it has a known error. Coordinates are metres east and north of the island's centre, 31.0 W 37.55 S, which
// lies at kCentre in UTM zone 25 south; heights are metres above EGM2008.
#pragma once
#include <cstdint>

namespace marrowick {

inline constexpr double kCentreEast = 676672, kCentreNorth = 5842232;

// Ground on land, sea floor under water.
double ground(double east, double north);
// The same from coordinates in EPSG:32725.
double ground_utm(double easting, double northing);
// Height of the ellipsoid's surface below EGM2008's zero, negative of the geoid height as the invented survey has it.
double geoid(double east, double north);

// What stands on the ground around Kessa Inlet; all as heights above EGM2008, NaN where there is nothing.
double roof(double east, double north);    // houses: a gable on walls
double canopy(double east, double north);  // crowns of the pine plantation north-west of the inlet
double wire(double east, double north);    // the power line, within half a metre of its wire

// A reproducible number in -1..1 for a lattice place; and one with a normal distribution (standard deviation 1).
double noise(std::int64_t i, std::int64_t j, std::uint64_t seed);
double normal(std::int64_t i, std::int64_t j, std::uint64_t seed);

}  // namespace marrowick
