// Ground for the tests of check, and what it finds there.
#pragma once
#include <random>
#include <string>
#include <vector>

#include "katoptra/check/check.hpp"

#include "testing.hpp"

namespace katoptra::testing {

// Rolling ground with noise, in the order of the frame's cells.
inline std::vector<float> hills(const Frame& f, unsigned seed, double noise = 0.03) {
  std::mt19937 random(seed);
  std::normal_distribution<double> jitter(0, noise);
  std::vector<float> v;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      v.push_back(static_cast<float>(60 + 25 * std::sin(p.x / 47) * std::cos(p.y / 61) +
                                     8 * std::sin((p.x + p.y) / 19) + jitter(random)));
    }
  return v;
}

inline Grid grid_of(const Frame& f, std::vector<float> v, const Quantity& q = metres_above_egm2008()) {
  return grid_from_values(f, std::move(v), q);
}

inline const Finding* found(const CheckReport& r, const std::string& code) {
  for (const Finding& f : r.findings)
    if (f.code == code) return &f;
  return nullptr;
}

}  // namespace katoptra::testing
