// Sections of several surfaces, across a line and in a corridor, against what planes give.
#include "katoptra/terrain/profiles.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <random>

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

Grid tilted(double east, double up, const Quantity& q = metres_above_egm2008()) {
  const double unit = metres_per(q.unit);
  return grid_from_function(
      utm_frame(120, 80), [=](double x, double) { return ((x - 676000) * east + up) / unit; }, q);
}
const LineString kEast{{676010, 5841960}, {676110, 5841960}};

TEST(Profiles, CutAndFillOfTwoPlanesThatCross) {
  // From 2 m below to 3 m above over 100 m of the grid.
  const Grid a = tilted(0, 10), b = tilted(0.05, 10 - 2 - 0.5);
  const Profiles p = profiles({{"before", a}, {"after", b}}, kEast);
  const double k = p.surfaces[0].section.length().metres() / 100;
  const CutFill cf = cut_and_fill(p.surfaces[0].section, p.surfaces[1].section);
  EXPECT_NEAR(cf.cut, k * 40 * 2 / 2, 1e-4);
  EXPECT_NEAR(cf.fill, k * 60 * 3 / 2, 1e-4);
  EXPECT_NEAR(cf.length, k * 100, 1e-6);
  // The other way round, and of one with itself.
  const CutFill back = cut_and_fill(p.surfaces[1].section, p.surfaces[0].section);
  EXPECT_NEAR(back.cut, cf.fill, 1e-9);
  EXPECT_NEAR(back.fill, cf.cut, 1e-9);
  EXPECT_EQ(cut_and_fill(p.surfaces[0].section, p.surfaces[0].section).cut, 0);
}

TEST(Profiles, FeetAndAnotherReferenceAreBroughtToTheFirst) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Profiles p = profiles({{"metres", tilted(0.05, 10)}, {"feet", tilted(0.05, 11, feet)}}, kEast);
  for (std::size_t i = 0; i < p.surfaces[0].section.points.size(); ++i)
    EXPECT_NEAR(p.surfaces[1].section.points[i].value - p.surfaces[0].section.points[i].value, 1, 1e-5);
  const Profiles f = profiles({{"feet", tilted(0, 11, feet)}, {"metres", tilted(0, 12)}}, kEast);
  const CutFill cf = cut_and_fill(f.surfaces[0].section, f.surfaces[1].section);
  EXPECT_NEAR(cf.fill, f.surfaces[0].section.points.back().distance / 0.3048, 1e-3) << "square feet";
  EXPECT_EQ(error_of([&] {
              profiles({{"a", tilted(0, 1)},
                        {"b", grid_from_function(
                                  utm_frame(9, 9), [](double, double) { return 1.0; },
                                  Quantity{.kind = QuantityKind::Slope, .other_unit = "%", .heights = {}})}},
                       kEast);
            }),
            ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { profiles({}, kEast); }), ErrorCode::BadArgument);
}

TEST(Profiles, ASurfaceInAnotherCrsLiesOnTheSamePlaces) {
  const Grid utm = tilted(0.05, 10);
  const Transform back(Crs::wgs84(), utm.frame().crs());
  const Point nw = Transform(utm.frame().crs(), Crs::wgs84()).forward({675990, 5842010});
  const Grid degrees = grid_from_function(
      Frame(Crs::wgs84(), nw.x, nw.y, {1e-5, 1e-5}, 200, 120),
      [&](double x, double y) {
        return (back.forward({x, y}).x - 676000) * 0.05 + 10;
      },
      metres_above_egm2008());
  const Profiles p = profiles({{"utm", utm}, {"degrees", degrees}}, kEast);
  for (std::size_t i = 0; i < p.surfaces[0].section.points.size(); ++i)
    EXPECT_NEAR(p.surfaces[1].section.points[i].value, p.surfaces[0].section.points[i].value, 1e-3);
}

TEST(CrossLines, StandSquareToTheLineAtEveryStation) {
  for (const Crs& crs : {Crs::parse("EPSG:32725"), Crs::wgs84(), Crs::parse("EPSG:2263")}) {
    SCOPED_TRACE(crs.label());
    const Point o =
        Transform(Crs::wgs84(), crs)
            .forward({crs.label() == "EPSG:2263" ? -74.0 : -31.0, crs.label() == "EPSG:2263" ? 40.7 : -37.5});
    const GroundRuler ruler(crs);
    const GroundScale s = ruler.at(o);
    auto at = [&](double east, double north) { return Point{o.x + east / s.x, o.y + north / s.y}; };
    const LineString centre{at(0, 0), at(60, 80), at(160, 80)};  // 100 m to the north-east, then 100 m to the east
    const auto lines = cross_lines(crs, centre, 25_m, 40_m);
    ASSERT_EQ(lines.size(), 9u);
    for (std::size_t i = 0; i < lines.size(); ++i) {
      EXPECT_NEAR(lines[i].station, 25.0 * static_cast<double>(i), 1e-9);
      EXPECT_NEAR(ruler.distance(lines[i].line[0], lines[i].line[1]).metres(), 40, 1e-3);
    }
    // Left of a line to the east is north; of one to the north-east, north-west.
    EXPECT_NEAR((lines[8].line[0].y - lines[8].line[1].y) * s.y, 40, 0.01);
    EXPECT_NEAR((lines[1].line[0].x - lines[1].line[1].x) * s.x, -32, 0.01);
    EXPECT_NEAR((lines[1].line[0].y - lines[1].line[1].y) * s.y, 24, 0.01);
    // Its middle lies on the centre line.
    EXPECT_NEAR(((lines[1].line[0].x + lines[1].line[1].x) / 2 - o.x) * s.x, 15, 0.01);
  }
  const Crs utm = Crs::parse("EPSG:32725");
  EXPECT_EQ(error_of([&] { cross_lines(utm, kEast, Length(), 40_m); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { cross_lines(utm, kEast, 10_m, Length::metres(-1)); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { cross_lines(utm, kEast, Length::metres(0.001), 40_m); }), ErrorCode::TooLarge);
  EXPECT_EQ(error_of([&] { cross_lines(utm, {kEast[0], kEast[0]}, 10_m, 40_m); }), ErrorCode::BadArgument);
  EXPECT_EQ(station_name(1250, LengthUnit::Metre), "1+250");
  EXPECT_EQ(station_name(0, LengthUnit::Metre), "0+000");
  EXPECT_EQ(station_name(999.999, LengthUnit::Metre), "1+000");
  EXPECT_EQ(station_name(62.5, LengthUnit::Metre), "0+062.5");
  EXPECT_EQ(station_name(1250, LengthUnit::Foot), "12+50");
}

TEST(CrossLines, VolumesByAverageEndAreas) {
  // A metre and a half more everywhere: a prism of the corridor.
  const Grid a = tilted(0.02, 10), b = tilted(0.02, 11.5);
  const std::vector<Profiles> all = cross_sections({{"a", a}, {"b", b}}, kEast, 20_m, 30_m);
  ASSERT_EQ(all.size(), 6u);
  const CutFill v = volumes_between(all);
  EXPECT_NEAR(v.fill, 1.5 * 30 * 100, 1);
  EXPECT_EQ(v.cut, 0);
  EXPECT_EQ(all[3].name, "0+060");
  EXPECT_EQ(error_of([&] { cross_sections({{"a", a}}, kEast, 1_m, Length::metres(1e6)); }), ErrorCode::TooLarge);
  EXPECT_EQ(error_of([&] { cross_sections({}, kEast, 1_m, 10_m); }), ErrorCode::BadArgument);
  const Layer layer = profiles_layer(all, "cross sections");
  EXPECT_EQ(layer.features.size(), 12u);
  EXPECT_EQ(*property_of(layer.features[3], "surface"), Property(std::string("b")));
  EXPECT_EQ(*property_of(layer.features[2], "station"), Property(20.0));
}

TEST(Swath, OfAPlaneIsAsWideAsItsTilt) {
  // Rises to the north by 0.1: in a corridor of 20 m to the east 1 m on either side.
  const Grid g = grid_from_function(
      utm_frame(120, 80), [](double, double y) { return (y - 5841960) * 0.1 + 50; }, metres_above_egm2008());
  const Profiles p = swath_profiles(g, kEast, 20_m);
  const double k = ground_spacing(g.frame()).x.metres();
  ASSERT_TRUE(p.corridor);
  for (std::size_t i = 0; i < p.surfaces[1].section.points.size(); ++i) {
    EXPECT_NEAR(p.surfaces[0].section.points[i].value, 50 - 1 / k, 1e-3);
    EXPECT_NEAR(p.surfaces[1].section.points[i].value, 50, 1e-3);
    EXPECT_NEAR(p.surfaces[2].section.points[i].value, 50 + 1 / k, 1e-3);
  }
  EXPECT_EQ(error_of([&] { swath_profiles(g, kEast, Length()); }), ErrorCode::BadArgument);
}

// Times along a track are those of its points, and go evenly between them; a stop takes no way.
TEST(Tracks, PointsOfASectionHaveTheTimesOfTheTrack) {
  const Grid g = grid_from_function(
      utm_frame(100, 100), [](double x, double) { return x - 676000; }, metres_above_egm2008());
  const LineString line{{676010, 5841950}, {676040, 5841950}, {676040, 5841950}, {676040, 5841910}, {676070, 5841910}};
  const std::vector<double> times{1000, 1060, 1360, 1400, 1430};
  Section s = section(g, line, {.step = 0.5_m});
  set_times(s, line, times);
  std::size_t met = 0;
  for (std::size_t i = 0; i < s.points.size(); ++i) {
    const SectionPoint& p = s.points[i];
    if (i > 0) {
      EXPECT_GE(p.time, s.points[i - 1].time);
    }
    // On the first leg half a metre takes a second, on the others one.
    if (p.place.y == 5841950 && p.place.x < 676039.9) {
      EXPECT_NEAR(p.time, 1000 + (p.place.x - 676010) * 2, 0.1);
    }
    if (p.place.x == 676040 && p.place.y < 5841949.9) {
      EXPECT_NEAR(p.time, 1360 + (5841950 - p.place.y), 0.1);
    }
    for (std::size_t k = 0; k < line.size(); ++k)
      if (p.place == line[k] && p.time == times[k]) ++met;
  }
  EXPECT_EQ(met, 4u);  // of the stop, when it ends
  EXPECT_EQ(s.points.back().time, 1430);
  // Other numbers of times than of points say nothing.
  Section none = section(g, line, {});
  set_times(none, line, {1, 2});
  EXPECT_TRUE(std::isnan(none.points[0].time));
}

TEST(Marks, AreWherePointsLieAndLinesCross) {
  const Grid g = tilted(0, 1);
  const Section s = section(g, kEast);
  const double k = s.length().metres() / 100;
  Layer layer{.name = "marks", .crs = g.frame().crs(), .features = {}};
  layer.features = {{Point{676040, 5841961}, {{"name", "near"}}},
                    {Point{676040, 5841900}, {{"name", "far"}}},
                    {LineString{{676075.5, 5841990}, {676075.5, 5841930}}, {{"name", "beck"}}},
                    {LineString{{676020, 5841990}, {676020, 5841961}}, {{"name", "ends before"}}}};
  const auto marks = marks_on(s, layer, 3_m);
  ASSERT_EQ(marks.size(), 2u);
  EXPECT_EQ(marks[0].name, "near");
  EXPECT_NEAR(marks[0].distance, 30 * k, 1e-4);
  EXPECT_EQ(marks[1].name, "beck");
  EXPECT_NEAR(marks[1].distance, 65.5 * k, 1e-4);
}

}  // namespace
}  // namespace katoptra
