// Timing and test ground for the benchmarks.
#pragma once
#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fmt/format.h>
#include <functional>
#include <string>
#include <sys/resource.h>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/grid_file.hpp"

namespace bench {

inline double seconds_of(const std::function<void()>& body) {
  const auto start = std::chrono::steady_clock::now();
  body();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// The median of `n` runs, each beside the yardstick of its own turn, so that drift of the machine hits both.
struct Pair {
  double ours = 0, yardstick = 0;
  double ratio() const { return ours / yardstick; }
};
inline Pair side_by_side(int n, const std::function<void()>& ours, const std::function<void()>& yardstick) {
  std::vector<double> a, b;
  for (int i = 0; i < n; ++i) {
    b.push_back(seconds_of(yardstick));
    a.push_back(seconds_of(ours));
  }
  auto median = [](std::vector<double> v) {
    std::sort(v.begin(), v.end());
    return v[v.size() / 2];
  };
  return {median(a), median(b)};
}

inline double cpu_seconds() {
  rusage u{};
  getrusage(RUSAGE_SELF, &u);
  auto s = [](const timeval& t) { return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec); };
  return s(u.ru_utime) + s(u.ru_stime);
}
inline double peak_mib() {
  rusage u{};
  getrusage(RUSAGE_SELF, &u);
  return static_cast<double>(u.ru_maxrss) / 1024;
}

inline void require(bool good, const std::string& what) {
  if (good) return;
  fmt::print(stderr, "wrong answer: {}\n", what);
  std::exit(1);
}

// Fractal ground: nine octaves of smooth noise, 0 to about 1500 m, a little noise on top.
inline float ground(std::int64_t c, std::int64_t r) {
  auto hash = [](std::int64_t i, std::int64_t j, int k) {
    auto h = static_cast<std::uint64_t>(i) * 0x9E3779B97F4A7C15u ^ static_cast<std::uint64_t>(j) * 0xC2B2AE3D27D4EB4Fu ^
             static_cast<std::uint64_t>(k) * 0x165667B19E3779F9u;
    h ^= h >> 29;
    h *= 0xBF58476D1CE4E5B9u;
    h ^= h >> 32;
    return static_cast<float>(h >> 40) / 16777216.0f;
  };
  float z = 0, amplitude = 750;
  for (int k = 0; k < 9; ++k, amplitude *= 0.5f) {
    const std::int64_t wave = 2048 >> k;
    const std::int64_t i = c / wave, j = r / wave;
    const float u = static_cast<float>(c % wave) / static_cast<float>(wave),
                v = static_cast<float>(r % wave) / static_cast<float>(wave);
    const float su = u * u * (3 - 2 * u), sv = v * v * (3 - 2 * v);
    const float a = hash(i, j, k), b = hash(i + 1, j, k), d = hash(i, j + 1, k), e = hash(i + 1, j + 1, k);
    z += amplitude * ((a + su * (b - a)) + sv * ((d + su * (e - d)) - (a + su * (b - a))));
  }
  return z + 0.05f * (hash(c, r, 99) - 0.5f);
}

inline katoptra::Quantity heights() {
  katoptra::Quantity q;
  q.heights = katoptra::HeightReference::parse("EGM2008");
  q.unit_known = true;
  return q;
}

// A grid of that ground, computed on reading; `west` and `north` in whole metres.
inline katoptra::Grid ground_grid(std::int64_t cols, std::int64_t rows, double west = 600000, double north = 5900000,
                                  float above = 0) {
  const katoptra::Frame f(katoptra::Crs::parse("EPSG:32725"), west, north, {1, 1}, cols, rows);
  return katoptra::grid_from_function(
      f,
      [above](double x, double y) {
        return static_cast<double>(ground(std::llround(x - 600000.5), std::llround(5900000 - 0.5 - y)) + above);
      },
      heights());
}

// Ground of n x n cells of 1 m, rounded to centimetres, as a file.
inline void write_ground(const std::filesystem::path& path, std::int64_t n) {
  std::vector<float> v(static_cast<std::size_t>(n * n));
  katoptra::parallel_for(static_cast<std::size_t>(n), {}, [&](std::size_t r) {
    for (std::int64_t c = 0; c < n; ++c)
      v[r * static_cast<std::size_t>(n) + static_cast<std::size_t>(c)] =
          std::round(ground(c, static_cast<std::int64_t>(r)) * 100) / 100;
  });
  const katoptra::Frame frame(katoptra::Crs::parse("EPSG:32725"), 600000, 5900000, {1, 1}, n, n);
  katoptra::write_grid(katoptra::grid_from_values(frame, std::move(v), heights()), path,
                       {.overwrite = true, .date = {}, .survey = {}, .run = {}});
}

}  // namespace bench
