// The thin plate against its definition, solved whole by elimination, and against surfaces that bend nowhere.
#include "plate.hpp"

#include <cmath>
#include <functional>
#include <map>
#include <random>

#include "katoptra/surface/fill.hpp"

#include "testing.hpp"
#include "wide_plate.hpp"
#include "wide_testing.hpp"

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

// Voids of all forms in a box: a disc, one with islands, a crooked band, a comb, a frayed one.
VoidShape shape_of(std::int32_t cols, std::int32_t rows, double aspect, const std::function<bool(double, double)>& is) {
  VoidShape s;
  s.aspect = aspect;
  const auto is_void = [&](std::int32_t c, std::int32_t r) {
    return c > 0 && r > 0 && c <= cols && r <= rows && is((c - 0.5) / cols, (r - 0.5) / rows);
  };
  for (std::int32_t r = 0; r <= rows + 1; ++r)
    for (std::int32_t c = 0; c <= cols + 1; ++c) {
      bool touches = false;
      for (std::int32_t j = -1; j <= 1; ++j)
        for (std::int32_t i = -1; i <= 1; ++i) touches = touches || is_void(c + i, r + j);
      if (is_void(c, r))
        s.cells.push_back({c, r});
      else if (touches)
        s.rim.push_back({c, r});
    }
  return s;
}

// How much a surface over a void can still be relaxed, cell by cell: zero for the least bent one. In units of what a
// millimetre at one cell asks for.
double largest_pull(const VoidShape& s, const std::vector<float>& cells, const std::vector<float>& rim,
                    const std::vector<Cell>& outer, const std::vector<float>& outer_z) {
  std::map<std::pair<int, int>, double> z;
  for (std::size_t i = 0; i < s.cells.size(); ++i) z[{s.cells[i].col, s.cells[i].row}] = static_cast<double>(cells[i]);
  for (std::size_t i = 0; i < s.rim.size(); ++i) z[{s.rim[i].col, s.rim[i].row}] = static_cast<double>(rim[i]);
  for (std::size_t i = 0; i < outer.size(); ++i) z[{outer[i].col, outer[i].row}] = static_cast<double>(outer_z[i]);
  const double a2 = 1 / (s.aspect * s.aspect);
  double worst = 0;
  for (const Cell& c : s.cells) {
    const auto at = [&](int i, int j) { return z.at({c.col + i, c.row + j}); };
    double pull = (6 * a2 * a2 + 8 * a2 + 6) * at(0, 0);
    for (const int k : {-1, 1}) {
      pull += (-4 * a2 * a2 - 4 * a2) * at(k, 0) + (-4 - 4 * a2) * at(0, k) + a2 * a2 * at(2 * k, 0) + at(0, 2 * k);
      for (const int l : {-1, 1}) pull += 2 * a2 * at(k, l);
    }
    worst = std::max(worst, std::abs(pull) / (6 * a2 * a2 + 8 * a2 + 6) / 1e-3);
  }
  return worst;
}

struct Form {
  const char* name;
  std::int32_t cols, rows;
  double aspect;
  std::function<bool(double, double)> is;
};
const std::vector<Form>& forms() {
  static const std::vector<Form> all = {
      {"disc", 131, 117, 1, [](double x, double y) { return std::hypot(x - 0.5, y - 0.5) < 0.5; }},
      {"narrow cells", 120, 90, 0.35, [](double x, double y) { return std::hypot(x - 0.5, y - 0.5) < 0.5; }},
      {"wide cells", 90, 140, 2.1, [](double x, double y) { return std::hypot(x - 0.5, y - 0.5) < 0.5; }},
      {"islands", 150, 140, 1,
       [](double x, double y) { return std::fmod(x * 7, 1.0) > 0.12 || std::fmod(y * 6, 1.0) > 0.12; }},
      {"a bend", 160, 160, 1, [](double x, double y) { return std::hypot(x, y) < 1 && std::hypot(x, y) > 0.6; }},
      {"a comb", 170, 120, 1, [](double x, double y) { return y > 0.5 || std::fmod(x * 12, 1.0) < 0.4; }},
      {"frayed", 140, 130, 1,
       [](double x, double y) {
         const double turn = std::atan2(y - 0.5, x - 0.5);
         return std::hypot(x - 0.5, y - 0.5) < 0.38 + 0.06 * std::sin(23 * turn) + 0.05 * std::sin(61 * turn);
       }},
  };
  return all;
}
double rolling(double x, double y) { return 40 + 9 * std::sin(x / 17) * std::cos(y / 23 + x / 60) + 0.05 * x; }

TEST(Plate, InRoundsNothingIsLeftToRelaxWhateverTheForm) {
  for (const Form& form : forms()) {
    SCOPED_TRACE(form.name);
    const VoidShape s = shape_of(form.cols, form.rows, form.aspect, form.is);
    const Plate plate(s);
    const std::vector<float> rim = at(s.rim, rolling), outer = at(plate.outer(), rolling);
    const std::vector<float> z = plate.over(rim, outer);
    // Floats of 40 m are known to 2e-6 m, of which a pull takes some fifty.
    EXPECT_LT(largest_pull(s, z, rim, plate.outer(), outer), 0.05);
  }
}

// A plane bends nowhere, so it comes back to the tolerance however wide a void is; also where some of what is looked at
// is not known.
TEST(Plate, InRoundsAPlaneComesBack) {
  const Ground2 plane = [](double x, double y) { return 5 + 0.07 * x - 0.03 * y; };
  for (const Form& form : forms())
    for (const bool gaps : {false, true}) {
      SCOPED_TRACE(form.name);
      const VoidShape s = shape_of(form.cols, form.rows, form.aspect, form.is);
      const Plate plate(s);
      std::vector<float> rim = at(s.rim, plane), outer = at(plate.outer(), plane);
      if (gaps) {
        for (std::size_t i = 0; i < outer.size(); i += 3) outer[i] = kVoid;
        for (std::size_t i = 0; i < rim.size(); i += 17) rim[i] = kVoid;
      }
      const std::vector<float> z = plate.over(rim, outer);
      double off = 0;
      for (std::size_t i = 0; i < z.size(); ++i)
        off = std::max(off, std::abs(static_cast<double>(z[i]) - plane(s.cells[i].col, s.cells[i].row)));
      EXPECT_LT(off, 2e-3) << "the range is some 14 m";
    }
}

// The forms as voids of a grid: in a temporary file, cell for cell what memory gives.
TEST(WidePlate, IsThePlateInAFile) {
  for (const Form& form : forms()) {
    SCOPED_TRACE(form.name);
    const Frame f(Crs::parse("EPSG:32725"), 676000, 5842000, {form.aspect, 1}, form.cols + 9, form.rows + 7);
    std::vector<float> z(static_cast<std::size_t>(f.cols() * f.rows()));
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const double x = (static_cast<double>(c) - 3.5) / form.cols, y = (static_cast<double>(r) - 3.5) / form.rows;
        const bool hole = x > 0 && y > 0 && x < 1 && y < 1 && form.is(x, y);
        z[static_cast<std::size_t>(r * f.cols() + c)] =
            hole ? kVoid : static_cast<float>(rolling(static_cast<double>(c), static_cast<double>(r)));
      }
    // A void beside it, within what is looked at.
    z[static_cast<std::size_t>(2 * f.cols() + f.cols() / 2)] = kVoid;
    const Grid g = grid_from_values(f, z, metres_above_egm2008());
    const VoidMap map = find_voids(g);
    const VoidCells voids(map);
    for (std::uint32_t region = 0; region < map.regions.size(); ++region) {
      if (map.regions[region].at_edge) continue;
      const VoidShape shape = voids.shape_of(region, f.cols(), f.rows(), form.aspect);
      const Window& box = map.regions[region].box;
      const auto read = [&](const std::vector<Cell>& cells) {
        std::vector<float> v;
        for (const Cell& c : cells) v.push_back(g.read({box.col - 1 + c.col, box.row - 1 + c.row, 1, 1}).at(0, 0));
        return v;
      };
      const Plate plate(shape);
      const std::vector<float> held = plate.over(read(shape.rim), read(plate.outer()));
      const WidePlate wide(voids, region, g, form.aspect);
      EXPECT_LT(wide.rounds(), 80);
      expect_as_in_memory(wide, shape, box.grown(1), held, 6e-4);  // the range is some 30 m
    }
  }
}

TEST(WidePlate, AVoidThatMemoryDoesNotHoldIsClosedSmooth) {
  // 2.1 million cells in ground that bends alike everywhere: no surface through its rim bends less.
  const Frame f = utm_frame(1500, 1460);
  const auto ground = [](double x, double y) {
    const double u = (x - 676750) / 100, v = (y - 5841270) / 100;
    return 20 + u * u - v * v + 0.5 * u * v;
  };
  const Grid g = grid_from_function(
      f,
      [&](double x, double y) {
        const double c = x - 676000, r = 5842000 - y;
        return c > 10 && c < 1490 && r > 10 && r < 1450 ? std::nan("") : ground(x, y);
      },
      metres_above_egm2008());
  ASSERT_GT(find_voids(g).cells, kSolvedCells);
  const FillResult r = fill_voids(g, {.largest = Length::metres(5000), .method = FillMethod::Smooth, .run = {}});
  EXPECT_EQ(r.report.voids_by_smooth, 1);
  const Block all = r.grid.read(f.window(), Planes::ValuesAndOrigin);
  double worst = 0;
  for (std::int64_t row = 0; row < f.rows(); row += 3)
    for (std::int64_t c = 0; c < f.cols(); c += 3) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(row));
      worst = std::max(worst, std::abs(static_cast<double>(all.at(c, row)) - ground(p.x, p.y)));
    }
  EXPECT_LT(worst, 5e-3) << "the range is 110 m";
  EXPECT_EQ(how_of(all.origin_row(700)[700]), How::Filled);
  const Block part = r.grid.read({640, 333, 90, 41});
  for (std::int64_t row = 0; row < 41; ++row)
    for (std::int64_t c = 0; c < 90; ++c) ASSERT_TRUE(same_bits(part.at(c, row), all.at(640 + c, 333 + row)));
}

}  // namespace
}  // namespace katoptra
