// How often the stated 95 % holds: surfaces whose truth is known, noise whose reach is known, and counting.
#pragma once
#include <cmath>
#include <functional>
#include <random>
#include <string>
#include <vector>

#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/uncertainty.hpp"

namespace katoptra::testing {

using Ground = std::function<double(double x, double y)>;

// Normal noise of deviation 1 on the cells of a frame, whose errors correlate by exp(-(d / reach)^2); reach in cells.
inline std::vector<double> noise_of_reach(std::int64_t cols, std::int64_t rows, double reach, unsigned seed) {
  std::mt19937_64 random(seed);
  std::normal_distribution<double> normal;
  const auto half = static_cast<std::int64_t>(std::ceil(2 * reach));
  const std::int64_t wide = cols + 2 * half, high = rows + 2 * half;
  std::vector<double> white(static_cast<std::size_t>(wide * high));
  for (double& w : white) w = normal(random);
  if (half == 0) return white;
  std::vector<double> kernel;
  double squares = 0;
  for (std::int64_t k = -half; k <= half; ++k) {
    kernel.push_back(std::exp(-2 * static_cast<double>(k * k) / (reach * reach)));
    squares += kernel.back() * kernel.back();
  }
  for (double& k : kernel) k /= std::sqrt(squares);
  std::vector<double> across(static_cast<std::size_t>(cols * high)), out(static_cast<std::size_t>(cols * rows));
  for (std::int64_t r = 0; r < high; ++r)
    for (std::int64_t c = 0; c < cols; ++c) {
      double s = 0;
      for (std::size_t k = 0; k < kernel.size(); ++k)
        s += kernel[k] * white[static_cast<std::size_t>(r * wide + c) + k];
      across[static_cast<std::size_t>(r * cols + c)] = s;
    }
  for (std::int64_t r = 0; r < rows; ++r)
    for (std::int64_t c = 0; c < cols; ++c) {
      double s = 0;
      for (std::size_t k = 0; k < kernel.size(); ++k)
        s += kernel[k] *
             across[(static_cast<std::size_t>(r) + k) * static_cast<std::size_t>(cols) + static_cast<std::size_t>(c)];
      out[static_cast<std::size_t>(r * cols + c)] = s;
    }
  return out;
}

// The ground at the cells of a frame with errors of a deviation and a reach, which it states.
inline Grid measured(const Frame& f, const Ground& ground, double deviation, Length reach, unsigned seed) {
  const std::vector<double> noise = noise_of_reach(f.cols(), f.rows(), reach / Length::metres(f.cell().x), seed);
  std::vector<float> z;
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      z.push_back(static_cast<float>(ground(p.x, p.y) + deviation * noise[z.size()]));
    }
  Quantity q;
  q.heights = HeightReference::parse("EGM2008");
  q.unit_known = true;
  return with_error_reach(
      with_uncertainty(grid_from_values(f, std::move(z), q), {.constant = Length::metres(deviation)}), reach);
}

// A grid with round voids of many sizes in it, about a tenth of its cells.
inline Grid with_voids(const Grid& g, unsigned seed, double largest = 25) {
  const Frame& f = g.frame();
  std::mt19937 random(seed);
  std::vector<float> keep(static_cast<std::size_t>(f.window().cells()), 1);
  const auto area = static_cast<double>(f.window().cells());
  for (double hidden = 0; hidden < 0.1 * area;) {
    const auto any = [&] { return static_cast<double>(random() % 100000) / 100000; };
    const double x = any() * static_cast<double>(f.cols()), y = any() * static_cast<double>(f.rows()),
                 a = 1 + (largest - 1) * any() * any(), b = a * (0.3 + 0.7 * any());
    if (x < a + 2 || y < b + 2 || x > static_cast<double>(f.cols()) - a - 2 ||
        y > static_cast<double>(f.rows()) - b - 2)
      continue;
    for (auto r = static_cast<std::int64_t>(y - b); r <= static_cast<std::int64_t>(y + b); ++r)
      for (auto c = static_cast<std::int64_t>(x - a); c <= static_cast<std::int64_t>(x + a); ++c) {
        const double dx = (static_cast<double>(c) - x) / a, dy = (static_cast<double>(r) - y) / b;
        if (dx * dx + dy * dy < 1) keep[static_cast<std::size_t>(r * f.cols() + c)] = kVoid;
      }
    hidden += 3.14 * a * b;
  }
  const Block b = g.read(f.window());
  std::vector<float> z(b.row(0), b.row(0) + f.window().cells());
  for (std::size_t i = 0; i < z.size(); ++i)
    if (std::isnan(keep[i])) z[i] = kVoid;
  return with_error_reach(with_uncertainty(grid_from_values(f, std::move(z), g.quantity()), uncertainty_of(g)),
                          g.info().error_reach);
}

struct Held {
  std::int64_t cells = 0, within = 0;
  double squares = 0;  // of errors in units of the stated uncertainty
  double share() const { return static_cast<double>(within) / static_cast<double>(cells); }
  // 1 where the stated uncertainty is the spread of the errors.
  double ratio() const { return std::sqrt(squares / static_cast<double>(cells)); }
  void add(const Held& o) {
    cells += o.cells;
    within += o.within;
    squares += o.squares;
  }
};

// Errors of a surface against the ground, in whatever CRS it is; `of`: which cells count, by column and row.
inline Held held(const Grid& surface, const Ground& truth,
                 const std::function<bool(const Block&, std::int64_t, std::int64_t)>& of = nullptr) {
  Held h;
  const Frame& f = surface.frame();
  const Block b = surface.read(f.window(), Planes::All);
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      const auto u = static_cast<double>(b.uncertainty_row(r)[c]);
      if (std::isnan(u) || (of && !of(b, c, r))) continue;
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      const double e = (static_cast<double>(b.at(c, r)) - truth(p.x, p.y)) / u;
      ++h.cells;
      h.within += std::abs(e) <= kTwoSided95;
      h.squares += e * e;
    }
  return h;
}

}  // namespace katoptra::testing
