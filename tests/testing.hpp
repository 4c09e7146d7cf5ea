// Helpers of the unit tests: random surfaces, grids compared bit by bit, folders that go away.
#pragma once
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
#include <gtest/gtest.h>
#include <random>
#include <sstream>
#include <string>
#include <unistd.h>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra::testing {

inline Quantity metres_above_egm2008() {
  Quantity q;
  q.heights = HeightReference::parse("EGM2008");
  q.unit_known = true;
  return q;
}

inline Frame utm_frame(std::int64_t cols, std::int64_t rows, double cell = 1, double west = 676000,
                       double north = 5842000) {
  return {Crs::parse("EPSG:32725"), west, north, {cell, cell}, cols, rows};
}

inline double value_at(const Grid& g, std::int64_t col, std::int64_t row) {
  return static_cast<double>(g.at(col, row));
}

// Values of a grid, read whole.
inline std::vector<float> all_values(const Grid& g) {
  Block b = g.read(g.frame().window());
  return {b.row(0), b.row(0) + b.window().cells()};
}

inline bool same_bits(float a, float b) { return std::memcmp(&a, &b, 4) == 0 || (std::isnan(a) && std::isnan(b)); }

// A grid must give the same bits for a cell in every plane whatever window it is read through, and whatever planes are
// read with it; what is void has no origin and no uncertainty, and no uncertainty is negative or without an end.
inline void expect_same_for_every_window(const Grid& g, unsigned seed, int tries = 40) {
  SCOPED_TRACE("seed " + std::to_string(seed));
  const Window whole = g.frame().window();
  const Block all = g.read(whole, Planes::All);
  for (std::int64_t r = 0; r < whole.rows; ++r)
    for (std::int64_t c = 0; c < whole.cols; ++c) {
      const float u = all.uncertainty_row(r)[c];
      if (std::isnan(all.at(c, r))) ASSERT_TRUE(std::isnan(u)) << c << ", " << r;
      ASSERT_TRUE(std::isnan(u) || (u >= 0 && std::isfinite(u))) << c << ", " << r << ": " << u;
    }
  std::mt19937 random(seed);
  auto pick = [&](std::int64_t n) { return static_cast<std::int64_t>(random() % static_cast<std::uint32_t>(n)); };
  for (int i = 0; i < tries; ++i) {
    Window w{pick(whole.cols), pick(whole.rows), 1 + pick(whole.cols), 1 + pick(whole.rows)};
    if (i % 4 == 0) w.cols = 1;
    if (i % 4 == 1) w.rows = 1;
    w = w.intersected(whole);
    const Planes planes = static_cast<Planes>(i / 4 % 4);
    const Block part = g.read(w, planes);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        ASSERT_TRUE(same_bits(part.at(c, r), all.at(w.col + c, w.row + r)))
            << "cell " << w.col + c << ", " << w.row + r << " through window " << w.col << "," << w.row << " " << w.cols
            << "x" << w.rows << ": " << part.at(c, r) << " against " << all.at(w.col + c, w.row + r);
        if (has_origin(planes)) ASSERT_EQ(part.origin_row(r)[c], all.origin_row(w.row + r)[w.col + c]);
        if (has_uncertainty(planes))
          ASSERT_TRUE(same_bits(part.uncertainty_row(r)[c], all.uncertainty_row(w.row + r)[w.col + c]))
              << "uncertainty of cell " << w.col + c << ", " << w.row + r << ": " << part.uncertainty_row(r)[c]
              << " against " << all.uncertainty_row(w.row + r)[w.col + c];
      }
  }
}

// Gently rolling ground with noise and round voids.
inline Grid rough_grid(const Frame& f, unsigned seed, int voids = 6, const Quantity& q = metres_above_egm2008()) {
  std::mt19937 random(seed);
  std::uniform_real_distribution<double> noise(-0.5, 0.5), place(0, 1);
  std::vector<float> v(static_cast<std::size_t>(f.cols() * f.rows()));
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c)
      v[static_cast<std::size_t>(r * f.cols() + c)] = static_cast<float>(
          100 + 20 * std::sin(static_cast<double>(c) / 11) + 15 * std::cos(static_cast<double>(r) / 7) + noise(random));
  for (int i = 0; i < voids; ++i) {
    const double x = place(random) * static_cast<double>(f.cols()), y = place(random) * static_cast<double>(f.rows()),
                 radius = 1 + 5 * place(random);
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c)
        if (std::hypot(static_cast<double>(c) - x, static_cast<double>(r) - y) < radius)
          v[static_cast<std::size_t>(r * f.cols() + c)] = kVoid;
  }
  return grid_from_values(f, std::move(v), q);
}

inline std::string contents(const std::filesystem::path& path) {
  std::ostringstream text;
  text << std::ifstream(path, std::ios::binary).rdbuf();
  return text.str();
}

class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string pattern = (std::filesystem::temp_directory_path() / "katoptra-test-XXXXXX").string();
    path_ = ::mkdtemp(pattern.data());
  }
  ~TemporaryFolder() {
    std::error_code ec;
    std::filesystem::remove_all(path_, ec);
  }
  std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
  const std::filesystem::path& path() const { return path_; }
  std::size_t files() const {
    std::size_t n = 0;
    for ([[maybe_unused]] const auto& e : std::filesystem::recursive_directory_iterator(path_)) ++n;
    return n;
  }

 private:
  std::filesystem::path path_;
};

// Runs `body` and returns the code of the Error it must throw.
inline ErrorCode error_of(const std::function<void()>& body, std::string* text = nullptr) {
  try {
    body();
  } catch (const Error& e) {
    if (text) *text = e.what();
    return e.code();
  }
  ADD_FAILURE() << "no error was thrown";
  return ErrorCode::Cancelled;
}

}  // namespace katoptra::testing
