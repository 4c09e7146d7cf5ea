// Membranes in a temporary file against those in memory, and against ground that they must meet exactly.
#include "surface/wide_membrane.hpp"

#include <cmath>

#include "katoptra/surface/fill.hpp"

#include "testing.hpp"
#include "wide_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Rough ground with a hole of any form.
Grid with_form(const Frame& f, const std::function<bool(std::int64_t, std::int64_t)>& is_void, unsigned seed = 3) {
  std::vector<float> z = all_values(rough_grid(f, seed, 0));
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c)
      if (is_void(c, r)) z[static_cast<std::size_t>(r * f.cols() + c)] = kVoid;
  return grid_from_values(f, std::move(z), metres_above_egm2008());
}

TEST(WideMembrane, IsThatInMemory) {
  const Frame f = utm_frame(143, 118);
  struct VoidForm {
    const char* name;
    std::function<bool(std::int64_t, std::int64_t)> is_void;
  };
  const VoidForm forms[] = {{"disc with an island",
                             [](auto c, auto r) {
                               const auto d = (c - 70) * (c - 70) + (r - 60) * (r - 60);
                               return d < 2500 && d > 90;
                             }},
                            {"thin ring",
                             [](auto c, auto r) {
                               const auto d = (c - 70) * (c - 70) + (r - 60) * (r - 60);
                               return d < 2500 && d > 2350;
                             }},
                            {"diagonal and a comb",
                             [](auto c, auto r) {
                               return (std::abs(c - r) < 2 && r > 4 && r < 110) ||
                                      (r > 50 && r < 60 && c > 8 && c < 130) ||
                                      (r >= 60 && r < 90 && c % 9 == 4 && c > 10 && c < 130);
                             }},
                            {"at the edge", [](auto c, auto r) { return c > 60 && r > 30 && r < 100; }},
                            {"one cell", [](auto c, auto r) { return c == 70 && r == 60; }},
                            {"a row", [](auto c, auto r) { return r == 60 && c > 3 && c < 140; }}};
  for (const VoidForm& form : forms)
    for (const double aspect : {1.0, 0.7, 1.9}) {
      SCOPED_TRACE(std::string(form.name) + ", aspect " + std::to_string(aspect));
      const Grid g = with_form(f, form.is_void);
      const VoidMap map = find_voids(g);
      const VoidCells voids(map);
      for (std::uint32_t region = 0; region < map.regions.size(); ++region) {
        const VoidShape shape = voids.shape_of(region, f.cols(), f.rows(), aspect);
        const Window box = map.regions[region].box.grown(1);
        std::vector<float> rim;
        float low = INFINITY, high = -INFINITY;
        for (const VoidShape::Cell& c : shape.rim) {
          rim.push_back(g.at(box.col + c.col, box.row + c.row));
          low = std::min(low, rim.back());
          high = std::max(high, rim.back());
        }
        const std::vector<float> held = Membrane(shape).over(rim);
        const WideMembrane wide(voids, region, g, aspect);
        EXPECT_LT(wide.rounds(), 40);
        expect_as_in_memory(wide, shape, box, held, static_cast<double>(3e-5F * (high - low) + 1e-5F));
      }
    }
}

TEST(WideMembrane, ClosesAVoidOfMillionsExactly) {
  // A saddle is harmonic: the membrane over its void is the saddle.
  const Frame f = utm_frame(1700, 1500);
  const auto saddle = [](double x, double y) {
    const double u = (x - 676850) / 100, v = (y - 5841250) / 100;
    return 20 + u * u - v * v + 0.5 * u * v;
  };
  const Grid g = grid_from_function(
      f,
      [&](double x, double y) {
        return std::hypot((x - 676850) / 820, (y - 5841250) / 720) < 0.98 ? std::nan("") : saddle(x, y);
      },
      metres_above_egm2008());
  ASSERT_EQ(find_voids(g).regions.size(), 1u);
  ASSERT_LT(find_voids(g).cells, kSolvedCells);
  const VoidMap map = find_voids(g);
  const VoidCells voids(map);
  const WideMembrane wide(voids, 0, g, 1);
  EXPECT_LT(wide.rounds(), 20);
  double worst = 0;
  for (std::int64_t r = 100; r < 1400; r += 7)
    for (std::int64_t c = 100; c < 1600; c += 7) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
      if (std::hypot((p.x - 676850) / 820, (p.y - 5841250) / 720) < 0.97)
        worst = std::max(worst, std::abs(static_cast<double>(wide.at(c, r)) - saddle(p.x, p.y)));
    }
  EXPECT_LT(worst, 4e-3) << "the range of the rim is 120 m";
}

TEST(WideMembrane, ClosesVoidsThatMemoryDoesNotHold) {
  // A plane with one void of 2.1 million cells: closed by every way that looks at the whole of a void.
  const Frame f = utm_frame(1500, 1460);
  const auto plane = [](double x, double y) { return 10 + 0.02 * (x - 676000) - 0.01 * (y - 5842000); };
  const Grid g = grid_from_function(
      f,
      [&](double x, double y) {
        const double c = x - 676000, r = 5842000 - y;
        return c > 10 && c < 1490 && r > 10 && r < 1450 ? std::nan("") : plane(x, y);
      },
      metres_above_egm2008());
  ASSERT_GT(find_voids(g).cells, kSolvedCells);
  const auto filled = [&](FillMethod method) {
    return fill_voids(g, {.largest = Length::metres(5000), .method = method, .run = {}});
  };
  EXPECT_EQ(filled(FillMethod::Tin).report.voids_by_membrane, 1);
  {
    const FillResult r = filled(FillMethod::Membrane);
    EXPECT_EQ(r.report.voids_by_membrane, 1);
    const Block all = r.grid.read(f.window(), Planes::ValuesAndOrigin);
    double worst = 0;
    for (std::int64_t row = 0; row < f.rows(); row += 3)
      for (std::int64_t c = 0; c < f.cols(); c += 3) {
        const Point p = f.centre(static_cast<double>(c), static_cast<double>(row));
        worst = std::max(worst, std::abs(static_cast<double>(all.at(c, row)) - plane(p.x, p.y)));
      }
    EXPECT_LT(worst, 2e-3);
    EXPECT_EQ(how_of(all.origin_row(700)[700]), How::Filled);
    const Block part = r.grid.read({640, 333, 90, 41});
    for (std::int64_t row = 0; row < 41; ++row)
      for (std::int64_t c = 0; c < 90; ++c) ASSERT_TRUE(same_bits(part.at(c, row), all.at(640 + c, 333 + row)));
  }
}

TEST(WideMembrane, ASecondSurfaceIsBentOntoVoidsThatMemoryDoesNotHold) {
  const Frame f = utm_frame(1500, 1460);
  const auto hills = [](double x, double y) {
    return 30 + 8 * std::sin((x - 676000) / 90) * std::cos((y - 5842000) / 70);
  };
  const auto hole = [](double x, double y) {
    const double c = x - 676000, r = 5842000 - y;
    return c > 10 && c < 1490 && r > 10 && r < 1450;
  };
  const Grid g = grid_from_function(
      f, [&](double x, double y) { return hole(x, y) ? std::nan("") : hills(x, y); }, metres_above_egm2008());
  // The second one lies off by a plane, which a membrane takes away whole.
  const auto second = [&](bool whole) {
    return grid_from_function(
        f,
        [=](double x, double y) {
          return !whole && x > 677200 ? std::nan("") : hills(x, y) + 3 + 0.002 * (x - 676000) - 0.001 * (y - 5842000);
        },
        metres_above_egm2008());
  };
  FillOptions o{.largest = Length::metres(5000), .second = second(true), .run = {}};
  const FillResult r = fill_voids(g, o);
  EXPECT_EQ(r.report.voids_from_second, 1);
  for (std::int64_t row = 100; row < 1400; row += 97)
    for (std::int64_t c = 100; c < 1400; c += 97) {
      const Point p = f.centre(static_cast<double>(c), static_cast<double>(row));
      ASSERT_NEAR(value_at(r.grid, c, row), hills(p.x, p.y), 2e-3) << c << ", " << row;
    }
  // Bent near the rim only: in the middle it is moved by its mean offset there.
  o.blend = 20_m;
  const Grid blended = fill_voids(g, o).grid;
  const Point middle = f.centre(750, 730);
  EXPECT_NEAR(value_at(blended, 750, 730), hills(middle.x, middle.y), 0.05);
  EXPECT_GT(std::abs(value_at(blended, 1300, 730) - value_at(r.grid, 1300, 730)), 0.5);
  o.second = second(false);
  EXPECT_EQ(fill_voids(g, o).report.voids_second_misses, 1);
}

}  // namespace
}  // namespace katoptra
