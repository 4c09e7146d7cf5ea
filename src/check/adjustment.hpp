// One adjustment of many unknowns by least squares that a few wrong observations do not move.
#pragma once
#include <array>
#include <cstddef>
#include <vector>

namespace katoptra {

// Bisquare weights end at so many sigma: nineteen twentieths as sharp as least squares where errors are normal.
inline constexpr double kBisquare = 4.685;

// Each body has a plane of three unknowns: its height in the middle, and what it rises by to the east and the north
// over its half width. Which of them are wanted is told by `free`.
struct AdjustedBody {
  std::array<bool, 3> free{};
  std::array<double, 3> value{}, error{};  // metres; zero where not free
};

// `value` = rest + plane of the second - plane of the first, so that it is explained when the rest is small.
struct Observation {
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
  std::size_t first = kNone, second = kNone;      // bodies; kNone is right as it is
  std::array<double, 3> at_first{}, at_second{};  // 1, and the place in half widths
  double value = 0;                               // first less second, metres
  double sigma = 1;                               // metres
  double weight = 1;                              // 0 to 1, as it came out
  double rest = 0;                                // what is left of it
};

// Bisquare weights (Beaton & Tukey 1974) about zero, from where the sum of absolute rests is least (by weights that are
// their inverse, Schlossmacher 1973), until the unknowns rest. Slopes are
// taken to be below kLikelySlope over half a width, so that what nothing determines stays zero. Returns the spread of
// the rests in units of their sigma, which the errors are multiplied with where it is above one.
inline constexpr double kLikelySlope = 1;  // metres
double adjust(std::vector<AdjustedBody>& bodies, std::vector<Observation>& observations);

}  // namespace katoptra
