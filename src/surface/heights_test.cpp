// Vertical references: against PROJ itself cell by cell, in feet, at odd sizes, with constants and surfaces.
#include "katoptra/surface/heights.hpp"

#include <algorithm>

#include "katoptra/surface/mosaic.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

HeightReference egm96() { return HeightReference::parse("EGM96"); }

Grid above(const HeightReference& h, Grid g) {
  return relabelled(g, [&](GridInfo& i) { i.quantity.heights = h; });
}

// 30 m cells of a UTM grid and of degrees: every cell against its own exact transformation.
TEST(Heights, AgreeWithPROJInEveryCell) {
  for (const Frame& f : {utm_frame(131, 77, 30), utm_frame(45, 67, 2000),
                         Frame(Crs::wgs84(), -31.3, -37.2, {1.0 / 120, 1.0 / 240}, 90, 71)}) {
    const Grid g = above(HeightReference::ellipsoid(), rough_grid(f, 7, 3));
    const Grid down = to_heights(g, egm96());
    EXPECT_EQ(down.quantity().heights.name(), "EGM96 height");
    const VerticalTransform exact(f.crs(), HeightReference::ellipsoid(), egm96(), f.bounds());
    const std::vector<float> before = all_values(g), after = all_values(down);
    for (std::int64_t r = 0; r < f.rows(); ++r)
      for (std::int64_t c = 0; c < f.cols(); ++c) {
        const auto i = static_cast<std::size_t>(r * f.cols() + c);
        const Point p = f.centre(static_cast<double>(c), static_cast<double>(r));
        double shift = 0;
        exact.shifts(std::span(&p, 1), std::span(&shift, 1));
        ASSERT_EQ(std::isnan(before[i]), std::isnan(after[i]));
        if (std::isnan(before[i])) continue;
        ASSERT_NEAR(after[i], static_cast<double>(before[i]) + shift, 0.0005) << c << ", " << r;
      }
    expect_same_for_every_window(down, 5);
  }
}

TEST(Heights, ThereAndBack) {
  const Grid g = above(egm96(), rough_grid(utm_frame(64, 48, 10), 3, 2));
  const std::vector<float> a = all_values(g),
                           b = all_values(to_heights(to_heights(g, HeightReference::ellipsoid()), egm96()));
  for (std::size_t i = 0; i < a.size(); ++i)
    if (!std::isnan(a[i])) {
      EXPECT_NEAR(a[i], b[i], 0.0005);
    }
}

TEST(Heights, InFeetTheShiftIsInFeet) {
  const Frame f = utm_frame(20, 20, 30);
  const Grid metres = above(egm96(), rough_grid(f, 1, 0)), feet = in_unit(metres, LengthUnit::UsFoot);
  const std::vector<float> a = all_values(
                               in_unit(to_heights(metres, HeightReference::ellipsoid()), LengthUnit::UsFoot)),
                           b = all_values(to_heights(feet, HeightReference::ellipsoid()));
  for (std::size_t i = 0; i < a.size(); ++i) EXPECT_NEAR(a[i], b[i], 1e-3);
}

TEST(Heights, WhatIsDoneStandsInTheLineage) {
  const Grid g = above(egm96(), rough_grid(utm_frame(20, 20, 30), 1, 0));
  const Grid up = to_heights(g, HeightReference::ellipsoid());
  EXPECT_NE(up.info().sources[0].treatment.find("EGM96 height to ellipsoid"), std::string::npos);
  EXPECT_FALSE(up.info().notes.empty());
  // The same reference is the same grid.
  EXPECT_TRUE(to_heights(g, egm96()).info().notes.empty());
}

TEST(Heights, AMissingGridIsNamed) {
  const Grid g = rough_grid(utm_frame(5, 5), 1, 0);  // above EGM2008
  try {
    to_heights(g, HeightReference::ellipsoid());
    // Where the grid is installed, nothing is missing.
  } catch (const Error& e) {
    EXPECT_EQ(e.code(), ErrorCode::MissingResource);
    EXPECT_NE(std::string(e.what()).find("egm08"), std::string::npos) << e.what();
    EXPECT_NE(e.advice().find("--shift"), std::string::npos);
  }
}

TEST(Heights, NamesAloneConvertToNothing) {
  const Grid chart = above(HeightReference::parse("chart datum"), rough_grid(utm_frame(5, 5), 1, 0));
  EXPECT_EQ(chart.quantity().heights.name(), "chart datum");
  EXPECT_EQ(error_of([&] { to_heights(chart, egm96()); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { to_heights(above({}, chart), egm96()); }), ErrorCode::Refused);
  EXPECT_EQ(to_heights(chart, HeightReference::named("chart datum")).quantity().heights.name(), "chart datum");
}

TEST(Heights, AConstantKeepsIntegersWhereItIsWhole) {
  std::vector<float> v{1, 2, kVoid, 4};
  Quantity q = metres_above_egm2008();
  const Grid g = grid_from_values(utm_frame(2, 2), v, q, SampleType::Int16);
  const Grid whole = shifted_heights(g, Length::metres(-3), HeightReference::parse("chart datum"));
  EXPECT_EQ(whole.info().type, SampleType::Int16);
  EXPECT_EQ(whole.at(0, 0), -2);
  EXPECT_TRUE(std::isnan(whole.at(0, 1)));
  EXPECT_EQ(whole.quantity().heights.name(), "chart datum");
  const Grid part = shifted_heights(g, Length::metres(-0.18), q.heights);
  EXPECT_EQ(part.info().type, SampleType::Float32);
  EXPECT_FLOAT_EQ(part.at(1, 1), 3.82F);
  EXPECT_NE(part.info().sources[0].treatment.find("-0.18 m"), std::string::npos);
}

TEST(Heights, ASeparationSurfaceOnItsOwnLatticeAndUnit) {
  const Frame f = utm_frame(60, 50), coarse = utm_frame(30, 30, 10, 675900, 5842100);
  const Grid g = rough_grid(f, 4, 2);
  auto plane = [](double x, double y) { return 14 + (x - 676000) * 0.001 + (y - 5842000) * 0.002; };
  Quantity feet;
  feet.unit = LengthUnit::Foot;
  feet.unit_known = true;
  const Grid s = grid_from_function(
      coarse, [&](double x, double y) { return plane(x, y) / 0.3048; }, feet);
  const Grid up = shifted_heights(g, s, HeightReference::ellipsoid());
  const std::vector<float> a = all_values(g), b = all_values(up);
  for (std::size_t i = 0; i < a.size(); ++i) {
    const Point p = f.centre(static_cast<double>(i % 60), static_cast<double>(i / 60));
    ASSERT_EQ(std::isnan(a[i]), std::isnan(b[i]));
    if (std::isnan(a[i])) continue;
    EXPECT_NEAR(b[i], static_cast<double>(a[i]) + plane(p.x, p.y), 1e-4);
  }
  expect_same_for_every_window(up, 8);
  // Where it does not reach there is nothing to add.
  const Grid beyond = shifted_heights(rough_grid(utm_frame(4, 4, 1, 690000), 1, 0), s, HeightReference::ellipsoid());
  EXPECT_TRUE(std::isnan(beyond.at(1, 1)));
}

}  // namespace
}  // namespace katoptra
