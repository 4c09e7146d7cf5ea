// Lattices that nearly fit, rows from the south, both sides of the antimeridian, the poles.
#include <algorithm>
#include <fmt/format.h>

#include "katoptra/grid/turn.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/mosaic.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/sample.hpp"
#include "katoptra/terrain/section.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// A value that tells its place, periodic around the globe.
double told(double lon, double lat) { return 100 * std::sin(lon / 57.29577951308232) + lat; }
Grid globe(double west, double north, double cell, std::int64_t cols, std::int64_t rows) {
  return grid_from_function(Frame(Crs::wgs84(), west, north, {cell, cell}, cols, rows), told, metres_above_egm2008());
}

TEST(Lattice, AHairOffIsTheSameHalfACellIsNot) {
  const Grid a = rough_grid(utm_frame(30, 20), 1, 0);
  for (double off : {0.0, 1e-9, -1e-9, 1e-6}) {
    const Grid b = rough_grid(utm_frame(30, 20, 1, 676030 + off, 5842000 - off), 2, 0);
    const Grid m = mosaic({a, b});
    EXPECT_EQ(m.frame().cols(), 60);
    EXPECT_EQ(m.frame().rows(), 20);
    EXPECT_EQ(m.at(45, 3), b.at(15, 3)) << off;
    EXPECT_TRUE(m.info().notes.empty());
  }
  const Grid b = rough_grid(utm_frame(30, 20, 1, 676030.5, 5842000), 2, 0);
  const Grid m = mosaic({a, b}, {.prefer = {Preference::Given}});
  ASSERT_EQ(m.info().notes.size(), 1u);
  EXPECT_NE(m.info().notes[0].find("resampled"), std::string::npos);
  EXPECT_EQ(how_of(m.read(m.frame().window(), Planes::ValuesAndOrigin).origin_row(5)[45]), How::Resampled);
}

TEST(Lattice, ASharedRowIsTakenOnce) {
  // Tiles of nodes share their border.
  const CellSize step{0.01, 0.01};
  const Frame north = NodeFrame{Crs::wgs84(), -31, -37, step, 21, 21}.cells(),
              south = NodeFrame{Crs::wgs84(), -31, -37.2, step, 21, 21}.cells();
  const Grid m = mosaic({grid_from_function(north, told), grid_from_function(south, told)});
  EXPECT_EQ(m.frame().rows(), 41);
  for (std::int64_t r = 0; r < 41; ++r)
    EXPECT_NEAR(m.at(3, r), told(-30.97, -37 - 0.01 * static_cast<double>(r)), 1e-4);
}

TEST(Lattice, TilesMeetAcrossTheAntimeridian) {
  const Grid east = globe(179, -16, 0.01, 100, 50), west = globe(-180, -16, 0.01, 100, 50);
  for (const auto& tiles : {std::vector{east, west}, std::vector{west, east}}) {
    const Grid m = mosaic(tiles);
    EXPECT_EQ(m.frame().cols(), 200);
    const std::vector<float> v = all_values(m);
    for (std::int64_t c = 0; c < 200; ++c)
      EXPECT_NEAR(v[static_cast<std::size_t>(c)], told(179.005 + 0.01 * static_cast<double>(c), -16.005), 1e-4);
    // Points and areas find it under either name of a longitude.
    const Point both[] = {{-179.5, -16.2}, {180.5, -16.2}};
    const auto s = sample(m, both);
    EXPECT_NEAR(s[0], told(-179.5, -16.2), 1e-4);
    EXPECT_EQ(s[0], s[1]);
    EXPECT_EQ(clip(m, Area::box({-179.6, -16.3, -179.4, -16.1}, Crs::wgs84())).frame().cols(), 20);
  }
  // Into a plane around that meridian, both halves are there.
  const Crs plane = Crs::parse("+proj=laea +lat_0=-16.2 +lon_0=180 +datum=WGS84 +type=crs");
  const Grid m = mosaic({east, west});
  const Grid flat = reproject(m, frame_for(m.frame(), plane));
  EXPECT_LT(flat.frame().cols() * flat.frame().rows(), 40000);
  const Transform there(plane, Crs::wgs84());
  const Block b = flat.read(flat.frame().window());
  std::int64_t seen = 0;
  for (std::int64_t r = 2; r < flat.frame().rows() - 2; ++r)
    for (std::int64_t c = 2; c < flat.frame().cols() - 2; ++c)
      if (!std::isnan(b.at(c, r))) {
        const Point p = there.forward(flat.frame().centre(static_cast<double>(c), static_cast<double>(r)));
        ASSERT_NEAR(b.at(c, r), told(p.x, p.y), 1e-3);
        ++seen;
      }
  EXPECT_GT(seen, 8000);
  // And back.
  const Frame again = frame_for(flat.frame(), Crs::wgs84(), {.cell = Length::metres(1000)});
  EXPECT_LT(again.cols(), 300);
}

TEST(Lattice, AGlobeIsCutWhereTheAreaNeedsIt) {
  const Grid whole = globe(-180, 90, 1, 360, 180);
  const Grid part = clip(whole, Area::box({175, -20, 190, -10}, Crs::wgs84()));
  EXPECT_EQ(part.frame().cols(), 15);
  const std::vector<float> v = all_values(part);
  for (std::int64_t c = 0; c < 15; ++c)
    EXPECT_NEAR(v[static_cast<std::size_t>(c)], told(175.5 + static_cast<double>(c), -10.5), 1e-4);
  const Grid turned = around_longitude(globe(0, 90, 1, 360, 180), 0);
  EXPECT_EQ(turned.frame().west(), -180);
  for (std::int64_t c = 0; c < 360; c += 7)
    EXPECT_NEAR(turned.at(c, 5), told(static_cast<double>(c) - 179.5, 84.5), 1e-4);
  expect_same_for_every_window(turned, 3);
}

TEST(Lattice, APoleInTheMiddle) {
  const Crs polar = Crs::parse("EPSG:3031");
  const Grid cap = globe(-180, -80, 0.25, 1440, 40);
  const Bounds all = transformed(Bounds{-500000, -500000, 500000, 500000}, Transform(polar, Crs::wgs84()));
  EXPECT_EQ(all.west, -180);
  EXPECT_EQ(all.east, 180);
  EXPECT_EQ(all.south, -90);
  const Grid flat = reproject(cap, Frame(polar, -500000, 500000, {5000, 5000}, 200, 200), Resampling::Bilinear);
  const Transform there(polar, Crs::wgs84());
  const Block b = flat.read(flat.frame().window());
  std::int64_t voids = 0;
  for (std::int64_t r = 0; r < 200; ++r)
    for (std::int64_t c = 0; c < 200; ++c) {
      const Point p = there.forward(flat.frame().centre(static_cast<double>(c), static_cast<double>(r)));
      voids += std::isnan(b.at(c, r));
      // Beside the seam half of the weights is missing.
      if (std::isnan(b.at(c, r)) || std::abs(std::abs(p.x) - 180) < 0.2) continue;
      ASSERT_NEAR(b.at(c, r), told(p.x, p.y), 0.1) << c << ", " << r;
    }
  EXPECT_LT(voids, 10);
}

// A circle of 50 km across the antimeridian lost 6,670 cells and kept 5,665 wrong ones.
TEST(Lattice, AreasAcrossTheAntimeridianAndOverAPole) {
  const auto inside_exactly = [](const Grid& whole, const Area& area, Point centre, double radius) {
    const Grid part = clip(whole, area);
    const Crs plane =
        Crs::parse(fmt::format("+proj=aeqd +lat_0={} +lon_0={} +datum=WGS84 +type=crs", centre.y, centre.x));
    const Transform there(part.frame().crs(), plane);
    std::int64_t n = 0, wrong = 0;
    const Block b = part.read(part.frame().window());
    for (std::int64_t r = 0; r < part.frame().rows(); ++r)
      for (std::int64_t c = 0; c < part.frame().cols(); ++c) {
        const Point p = there.forward(part.frame().centre(static_cast<double>(c), static_cast<double>(r)));
        const double d = std::hypot(p.x, p.y);
        n += !std::isnan(b.at(c, r));
        // A polygon of 128 sides lies up to 0.03 % inside the circle.
        if (d < 0.9995 * radius) wrong += std::isnan(b.at(c, r));
        if (d > radius) wrong += !std::isnan(b.at(c, r));
      }
    EXPECT_EQ(wrong, 0);
    return n;
  };
  const Area fiji = parse_area("circle:180,-17,50km");
  const Grid straddling = globe(178, -15, 0.01, 400, 400), all = globe(-180, 90, 0.25, 1440, 720);
  EXPECT_NEAR(static_cast<double>(inside_exactly(straddling, fiji, {180, -17}, 50e3)), 6640, 60);
  const Grid sheet =
      grid_from_values({Crs::parse("EPSG:32701"), 0, 8400000, {1000, 1000}, 500, 500}, std::vector<float>(250000, 1));
  EXPECT_GT(inside_exactly(sheet, fiji, {180, -17}, 50e3), 1000);
  EXPECT_GT(inside_exactly(all, parse_area("circle:40,89,1000km"), {40, 89}, 1000e3), 9000);
  EXPECT_GT(inside_exactly(all, parse_area("circle:-179,-80,1500km"), {-179, -80}, 1500e3), 9000);
  // The same area as two halves, in one feature or in two, and on a grid that goes across.
  const Area halves({to_polygon({179, -18, 180, -17}), to_polygon({-180, -18, -179, -17})}, Crs::wgs84());
  for (const Grid& g : {straddling, globe(178, -15, 0.25, 16, 16), all}) {
    const Grid part = clip(g, halves);
    EXPECT_NEAR(static_cast<double>(part.frame().cols()) * g.frame().cell().x, 2, 1e-9);
    for (float z : all_values(part)) ASSERT_FALSE(std::isnan(z));
  }
}

// An explicit frame across the antimeridian ended "lies outside".
TEST(Lattice, AFrameThatWasAskedForMayCrossTheAntimeridian) {
  const Grid east = globe(179, -16, 0.01, 100, 50), west = globe(-180, -16, 0.01, 100, 50);
  const Grid utm = reproject(west, frame_for(west.frame(), Crs::parse("EPSG:32701"), {.cell = 1000_m}));
  for (double told_at : {179.8, -180.2}) {
    const Frame across(Crs::wgs84(), told_at, -16.1, {0.01, 0.01}, 40, 20);
    for (const auto& tiles : {std::vector{east, west}, std::vector{west, east}, std::vector{utm, east}}) {
      const std::vector<float> v = all_values(mosaic(tiles, {.frame = across}));
      const auto voids = std::count_if(v.begin(), v.end(), [](float z) { return std::isnan(z); });
      EXPECT_LE(voids, tiles[0].info().frame.crs().is_geographic() ? 0 : 60) << told_at;
    }
  }
}

// A world on a polar map ended "more cells than can be counted", or "grew past 4 GiB; report this".
TEST(Lattice, AWorldWithoutAnEndIsToldWhereToBeClipped) {
  const Grid all = globe(-180, 90, 1, 360, 180);
  std::string text;
  for (const char* crs : {"EPSG:3995", "EPSG:3031"}) {
    EXPECT_EQ(error_of([&] { frame_for(all.frame(), Crs::parse(crs)); }, &text), ErrorCode::BadArgument);
    EXPECT_NE(text.find("--area"), text.npos) << text;
    EXPECT_NE(text.find("box:"), text.npos) << text;
  }
  EXPECT_GT(frame_for(all.frame(), Crs::parse("EPSG:6933")).cols(), 100);
}

// One degree was walked as 359.
TEST(Lattice, SectionsCrossTheAntimeridian) {
  const Grid all = globe(-180, 90, 0.25, 1440, 720);
  const Section s = section(all, {{179.5, -17}, {-179.5, -17.5}}, {});
  EXPECT_NEAR(s.length().metres(), 120.1e3, 500);
  for (const SectionPoint& p : s.points) {
    ASSERT_FALSE(std::isnan(p.value)) << p.place.x;
    // Bilinear, also in the last half cell on either side of the cut.
    ASSERT_NEAR(p.value, static_cast<double>(told(p.place.x, p.place.y)), 0.02) << p.place.x;
  }
}

TEST(Lattice, MirroredAndRolledForEveryWindow) {
  const Grid g = rough_grid(utm_frame(37, 23), 4, 3);
  for (const auto& [rows, cols] : {std::pair{true, false}, {false, true}, {true, true}}) {
    const Grid m = mirrored(g, g.info(), rows, cols);
    expect_same_for_every_window(m, 6);
    for (std::int64_t r = 0; r < 23; ++r)
      for (std::int64_t c = 0; c < 37; ++c)
        ASSERT_TRUE(same_bits(m.at(c, r), g.at(cols ? 36 - c : c, rows ? 22 - r : r)));
  }
  const Grid m = rolled(g, g.info(), 11);
  expect_same_for_every_window(m, 7);
  for (std::int64_t c = 0; c < 37; ++c) ASSERT_TRUE(same_bits(m.at(c, 4), g.at((c + 11) % 37, 4)));
}

}  // namespace
}  // namespace katoptra
