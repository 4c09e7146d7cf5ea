// The membrane against what it is by definition, and against harmonic functions.
#include "membrane.hpp"

#include <cmath>
#include <limits>
#include <random>
#include <set>

#include "testing.hpp"

namespace katoptra {
namespace {

using Cell = VoidShape::Cell;

// The void cells of a picture (true), with all known cells that touch them.
VoidShape shape_of(const std::vector<std::vector<bool>>& picture) {
  VoidShape s;
  const auto at = [&](int c, int r) {
    return r >= 0 && c >= 0 && r < static_cast<int>(picture.size()) && c < static_cast<int>(picture[0].size()) &&
           picture[static_cast<std::size_t>(r)][static_cast<std::size_t>(c)];
  };
  for (int r = 0; r < static_cast<int>(picture.size()); ++r)
    for (int c = 0; c < static_cast<int>(picture[0].size()); ++c) {
      if (at(c, r)) {
        s.cells.push_back({c, r});
        continue;
      }
      bool touches = false;
      for (int j = -1; j <= 1; ++j)
        for (int i = -1; i <= 1; ++i) touches = touches || at(c + i, r + j);
      if (touches) s.rim.push_back({c, r});
    }
  return s;
}

std::vector<std::vector<bool>> blob(int cols, int rows, unsigned seed) {
  std::mt19937 random(seed);
  std::vector<std::vector<bool>> p(static_cast<std::size_t>(rows),
                                   std::vector<bool>(static_cast<std::size_t>(cols), false));
  for (int k = 0; k < 12; ++k) {
    const int x = 4 + static_cast<int>(random() % static_cast<unsigned>(cols - 8)),
              y = 4 + static_cast<int>(random() % static_cast<unsigned>(rows - 8)),
              radius = 2 + static_cast<int>(random() % 9);
    for (int r = 1; r + 1 < rows; ++r)
      for (int c = 1; c + 1 < cols; ++c)
        if ((c - x) * (c - x) + (r - y) * (r - y) < radius * radius)
          p[static_cast<std::size_t>(r)][static_cast<std::size_t>(c)] = true;
  }
  return p;
}

std::vector<float> rim_of(const VoidShape& s, const std::function<double(double, double)>& f) {
  std::vector<float> z;
  for (const Cell& c : s.rim) z.push_back(static_cast<float>(f(c.col, c.row)));
  return z;
}

TEST(Membrane, IsAHarmonicFunctionWhereItsRimIsOne) {
  // What the five-point mean reproduces exactly: 1, x, y, xy, x^2 - y^2, and with wider cells the same in their places.
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SCOPED_TRACE(seed);
    VoidShape s = shape_of(blob(30 + static_cast<int>(seed) * 7, 41, seed));
    s.aspect = seed % 3 == 0 ? 1.7 : 1;
    const double a = s.aspect;
    const auto f = [a](double c, double r) {
      const double x = a * c;
      return 500 + 0.3 * x - 0.7 * r + 0.02 * x * r + 0.01 * (x * x - r * r);
    };
    const std::vector<float> z = Membrane(s).over(rim_of(s, f));
    double low = 1e9, high = -1e9;
    for (const float v : rim_of(s, f)) {
      low = std::min(low, static_cast<double>(v));
      high = std::max(high, static_cast<double>(v));
    }
    for (std::size_t i = 0; i < z.size(); ++i)
      ASSERT_NEAR(z[i], f(s.cells[i].col, s.cells[i].row), Membrane::kTolerance * (high - low) + 1e-4);
  }
}

TEST(Membrane, EveryCellIsTheMeanOfThoseAround) {
  std::mt19937 random(5);
  VoidShape s = shape_of(blob(90, 80, 9));
  std::vector<float> rim;
  for (std::size_t i = 0; i < s.rim.size(); ++i) rim.push_back(static_cast<float>(random() % 1000) / 10);
  const std::vector<float> z = Membrane(s).over(rim);
  std::map<Cell, double> known;
  for (std::size_t i = 0; i < rim.size(); ++i) known[s.rim[i]] = static_cast<double>(rim[i]);
  for (std::size_t i = 0; i < z.size(); ++i) known[s.cells[i]] = static_cast<double>(z[i]);
  for (const Cell& c : s.cells) {
    const double mean = (known.at({c.col - 1, c.row}) + known.at({c.col + 1, c.row}) + known.at({c.col, c.row - 1}) +
                         known.at({c.col, c.row + 1})) /
                        4;
    ASSERT_NEAR(known.at(c), mean, 0.01);
  }
}

TEST(Membrane, EndsLevelAtTheEdgeAndGoesOnWhereTheRimHasGaps) {
  // A void in the corner of the grid: known only on its south and east. And one whose rim is partly not to be met.
  VoidShape s;
  for (std::int32_t r = 1; r <= 6; ++r)
    for (std::int32_t c = 1; c <= 6; ++c) s.cells.push_back({c, r});
  for (std::int32_t k = 1; k <= 7; ++k) s.rim.push_back({7, k});
  for (std::int32_t k = 1; k <= 6; ++k) s.rim.push_back({k, 7});
  std::vector<float> rim(s.rim.size(), 3);
  for (const float z : Membrane(s).over(rim)) EXPECT_NEAR(z, 3, 1e-5);
  for (std::size_t i = 7; i < rim.size(); ++i) rim[i] = std::numeric_limits<float>::quiet_NaN();
  for (const float z : Membrane(s).over(rim)) EXPECT_NEAR(z, 3, 1e-5);
  std::fill(rim.begin(), rim.end(), std::numeric_limits<float>::quiet_NaN());
  for (const float z : Membrane(s).over(rim)) EXPECT_TRUE(std::isnan(z));
  // One cell; a cell with nothing to hold it.
  VoidShape one;
  one.cells = {{1, 1}};
  one.rim = {{1, 0}, {0, 1}, {2, 1}, {1, 2}};
  EXPECT_NEAR(Membrane(one).over({1, 2, 3, 6})[0], 3, 1e-5);
  // Two parts that touch over a corner share a rim, and no link.
  VoidShape two;
  two.cells = {{1, 1}, {2, 2}};
  two.rim = {{1, 0}, {0, 1}, {2, 1}, {1, 2}, {3, 2}, {2, 3}};
  const auto z = Membrane(two).over({0, 0, 4, 4, 8, 8});
  EXPECT_NEAR(z[0], 2, 1e-4);
  EXPECT_NEAR(z[1], 6, 1e-4);
}

}  // namespace
}  // namespace katoptra
