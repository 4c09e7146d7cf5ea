// The thin plate against its definition, solved whole by elimination, and against surfaces that bend nowhere.
#include "plate.hpp"

#include <cmath>
#include <functional>
#include <map>
#include <random>

#include "katoptra/surface/fill.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
using Cell = VoidShape::Cell;

// Void cells: of a disc with a spit, in a box of 24.
VoidShape disc_with_spit(double aspect = 1) {
  VoidShape s;
  s.aspect = aspect;
  const auto is_void = [](int c, int r) {
    return (c - 11) * (c - 11) + (r - 10) * (r - 10) < 40 || (r == 12 && c > 10 && c < 21);
  };
  for (int r = 0; r < 24; ++r)
    for (int c = 0; c < 24; ++c) {
      bool touches = false;
      for (int j = -1; j <= 1; ++j)
        for (int i = -1; i <= 1; ++i) touches = touches || is_void(c + i, r + j);
      if (is_void(c, r))
        s.cells.push_back({c, r});
      else if (touches)
        s.rim.push_back({c, r});
    }
  return s;
}

using Ground2 = std::function<double(double, double)>;
std::vector<float> at(const std::vector<Cell>& cells, const Ground2& f) {
  std::vector<float> z;
  for (const Cell& c : cells) z.push_back(static_cast<float>(f(c.col, c.row)));
  return z;
}

std::vector<float> plate_over(const VoidShape& s, const Ground2& f) {
  const Plate plate(s);
  return plate.over(at(s.rim, f), at(plate.outer(), f));
}

TEST(Plate, APlaneAndATwistedOneBendNowhere) {
  const VoidShape s = disc_with_spit();
  const Ground2 plane = [](double x, double y) { return 5 + 0.7 * x - 0.3 * y; };
  const std::vector<float> z = plate_over(s, plane);
  for (std::size_t i = 0; i < z.size(); ++i) EXPECT_NEAR(z[i], plane(s.cells[i].col, s.cells[i].row), 2e-3);
}

// The sum of squared bendings by the definition, as a dense system that is solved by elimination.
TEST(Plate, IsTheLeastBentOfAll) {
  for (const double aspect : {1.0, 0.6}) {
    const VoidShape s = disc_with_spit(aspect);
    const Ground2 f = [](double x, double y) { return 9 * std::sin(x / 5) + 7 * std::cos(y / 4 + x / 9); };
    const std::size_t n = s.cells.size();
    std::map<std::pair<int, int>, std::size_t> number;
    for (std::size_t i = 0; i < n; ++i) number[{s.cells[i].col, s.cells[i].row}] = i;
    std::vector<std::vector<double>> a(n, std::vector<double>(n + 1, 0));
    const auto add = [&](const std::vector<std::pair<std::pair<int, int>, double>>& bend, double weight) {
      double known = 0;
      bool any = false;
      for (const auto& [c, k] : bend) {
        any = any || number.count(c) > 0;
        if (!number.count(c)) known += k * static_cast<double>(static_cast<float>(f(c.first, c.second)));
      }
      if (!any) return;
      for (const auto& [c, k] : bend) {
        if (!number.count(c)) continue;
        a[number[c]][n] -= weight * k * known;
        for (const auto& [d, m] : bend)
          if (number.count(d)) a[number[c]][number[d]] += weight * k * m;
      }
    };
    for (int r = -2; r < 26; ++r)
      for (int c = -2; c < 26; ++c) {
        add({{{c, r}, 1}, {{c + 1, r}, -2}, {{c + 2, r}, 1}}, std::pow(aspect, -4));
        add({{{c, r}, 1}, {{c, r + 1}, -2}, {{c, r + 2}, 1}}, 1);
        add({{{c, r}, 1}, {{c + 1, r}, -1}, {{c, r + 1}, -1}, {{c + 1, r + 1}, 1}}, 2 * std::pow(aspect, -2));
      }
    for (std::size_t k = 0; k < n; ++k)
      for (std::size_t i = k + 1; i < n; ++i) {
        const double by = a[i][k] / a[k][k];
        for (std::size_t j = k; j <= n; ++j) a[i][j] -= by * a[k][j];
      }
    std::vector<double> x(n);
    for (std::size_t k = n; k-- > 0;) {
      x[k] = a[k][n];
      for (std::size_t j = k + 1; j < n; ++j) x[k] -= a[k][j] * x[j];
      x[k] /= a[k][k];
    }
    const std::vector<float> z = plate_over(s, f);
    for (std::size_t i = 0; i < n; ++i) EXPECT_NEAR(z[i], x[i], 2e-3) << aspect;
  }
}

// No step in slope at the rim, where a membrane has one; and nearer to smooth ground by far.
TEST(Plate, TheSlopeGoesOnAtTheRim) {
  const Frame f = utm_frame(200, 160);
  const auto ground = [](double x, double y) { return 60 + 25 * std::sin(x / 30) * std::cos(y / 26); };
  const Grid whole = grid_from_function(f, ground, metres_above_egm2008());
  const Block b = whole.read(f.window());
  std::vector<float> z(b.row(0), b.row(0) + f.window().cells());
  for (std::int64_t r = 50; r < 110; ++r)
    for (std::int64_t c = 60; c < 130; ++c)
      if (std::hypot(static_cast<double>(c) - 95, static_cast<double>(r) - 80) < 22)
        z[static_cast<std::size_t>(r * 200 + c)] = kVoid;
  const Grid holed = grid_from_values(f, z, metres_above_egm2008());
  double rms[2] = {}, kink[2] = {};
  for (const int smooth : {0, 1}) {
    const Grid g = fill_voids(holed, {.method = smooth ? FillMethod::Smooth : FillMethod::Membrane, .run = {}}).grid;
    const Block filled = g.read(f.window());
    std::int64_t n = 0;
    for (std::int64_t r = 50; r < 110; ++r)
      for (std::int64_t c = 60; c < 130; ++c) {
        const auto at_cell = [&](std::int64_t i) { return static_cast<double>(filled.at(i, r)); };
        const bool is_void = std::isnan(z[static_cast<std::size_t>(r * 200 + c)]),
                   was = std::isnan(z[static_cast<std::size_t>(r * 200 + c - 1)]);
        // Beyond what the ground itself bends by there.
        if (is_void != was)
          kink[smooth] = std::max(kink[smooth], std::abs(at_cell(c + 1) - 2 * at_cell(c) + at_cell(c - 1)));
        if (!is_void) continue;
        rms[smooth] += std::pow(at_cell(c) - static_cast<double>(b.at(c, r)), 2);
        ++n;
      }
    rms[smooth] = std::sqrt(rms[smooth] / static_cast<double>(n));
  }
  EXPECT_LT(rms[1], 0.25 * rms[0]);
  EXPECT_LT(kink[1], 0.06) << "the ground bends by 25 / 30^2 = 0.03";
  EXPECT_GT(kink[0], 0.2);
}

// A plate that reaches the edge is held by nothing there, and was looked for for minutes.
TEST(Plate, VoidsAtTheEdgeAreClosedByAMembrane) {
  const Frame f = utm_frame(60, 40);
  std::vector<float> z(60 * 40, 5);
  for (std::size_t i = 0; i < z.size(); ++i)
    if (i % 60 < 20 || (i % 60 == 40 && i / 60 == 20)) z[i] = kVoid;
  for (const FillMethod method : {FillMethod::Smooth, FillMethod::Automatic}) {
    const FillResult r =
        fill_voids(grid_from_values(f, z, metres_above_egm2008()), {.edges = true, .method = method, .run = {}});
    EXPECT_EQ(r.report.voids_closed, 2);
    if (method == FillMethod::Smooth) {
      EXPECT_EQ(r.report.voids_by_smooth, 1);
      EXPECT_EQ(r.report.voids_by_membrane, 1);
    }
    EXPECT_NEAR(r.grid.at(3, 3), 5, 1e-4);
  }
}

TEST(Plate, WithoutKnownGroundThereIsNone) {
  VoidShape s;
  s.cells = {{1, 1}, {2, 1}};
  const Plate plate(s);
  for (const float z : plate.over({}, std::vector<float>(plate.outer().size(), kVoid))) EXPECT_TRUE(std::isnan(z));
}

// Where only one side is known it goes on straight.
TEST(Plate, BeyondTheLastKnownCellsItGoesOnStraight) {
  VoidShape s;
  for (int r = 0; r < 12; ++r)
    for (int c = 2; c < 12; ++c) s.cells.push_back({c, r});
  for (int r = 0; r < 12; ++r) s.rim.push_back({1, r});
  const Plate plate(s);
  const Ground2 plane = [](double x, double y) { return 3 + 2 * x + 0.5 * y; };
  std::vector<float> outer = at(plate.outer(), plane);
  for (std::size_t i = 0; i < outer.size(); ++i)
    if (plate.outer()[i].col != 0 || plate.outer()[i].row < 0 || plate.outer()[i].row > 11) outer[i] = kVoid;
  const std::vector<float> z = plate.over(at(s.rim, plane), outer);
  for (std::size_t i = 0; i < z.size(); ++i) EXPECT_NEAR(z[i], plane(s.cells[i].col, s.cells[i].row), 0.05);
}

}  // namespace
}  // namespace katoptra
