// Streams that run through voids, and triangles across them.
#include "surface/stream_beds.hpp"

#include <cmath>

#include "katoptra/geo/area.hpp"
#include "katoptra/surface/fill.hpp"
#include "katoptra/water/depressions.hpp"

#include "surface/rim_tin.hpp"
#include "surface/void_shape.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// A valley that falls to the east by 1 cm a metre, its stream at row 50 within banks of a third; a void across it.
double valley(double x, double y) { return 60 - 0.01 * (x - 676000) + std::abs(y - (5842000 - 50.5)) / 3; }
Grid valley_with_void(std::int64_t from = 40, std::int64_t to = 80) {
  const Frame f = utm_frame(140, 100);
  return grid_from_function(
      f,
      [=](double x, double y) {
        const double c = x - 676000, r = 5842000 - y;
        const bool gone = c > static_cast<double>(from) && c < static_cast<double>(to) && r > 35 && r < 66;
        return gone ? std::nan("") : valley(x, y);
      },
      metres_above_egm2008());
}
Layer stream_line(double row = 50.5) {
  return {.name = "streams",
          .crs = Crs::parse("EPSG:32725"),
          .features = {{LineString{{676000 - 30, 5842000 - row}, {676200, 5842000 - row}}, {}}}};
}

TEST(StreamBeds, AMembraneDamsAStreamThatItsLineLetsThrough) {
  const Grid g = valley_with_void();
  const auto deepest = [](const Grid& z) {
    double deep = 0;
    for (const Depression& d : depressions(z, {})) deep = std::max(deep, d.depth);
    return deep;
  };
  const Grid dammed = fill_voids(g, {.method = FillMethod::Membrane, .run = {}}).grid;
  EXPECT_GT(deepest(dammed), 0.3) << "what the option is for";
  const Layer line = stream_line();
  for (const FillMethod method :
       {FillMethod::Membrane, FillMethod::Usual, FillMethod::Smooth, FillMethod::Tin, FillMethod::Automatic}) {
    const FillResult r = fill_voids(g, {.method = method, .streams = &line, .run = {}});
    EXPECT_EQ(r.report.stream_crossings, 1);
    EXPECT_EQ(r.report.stream_cells, 40);
    double before = 1e9;
    for (std::int64_t c = 0; c < 140; ++c) {
      const double z = value_at(r.grid, c, 50);
      ASSERT_LE(z, before + 1e-6) << "at " << c;
      EXPECT_NEAR(z, valley(676000.5 + static_cast<double>(c), 5842000 - 50.5), 0.02);
      before = z;
    }
    EXPECT_LT(deepest(r.grid), 0.02) << static_cast<int>(method);
    expect_same_for_every_window(r.grid, 3);
  }
}

TEST(StreamBeds, ALineBesideTheStreamFindsItsBed) {
  // Two cells off: the bed begins and ends as low as the lowest cells beside the line.
  const Layer line = stream_line(52.5);
  const StreamBeds beds = with_stream_beds(valley_with_void(), line);
  EXPECT_EQ(beds.crossings, 1);
  EXPECT_NEAR(value_at(beds.grid, 60, 52), valley(676060.5, 5842000 - 50.5), 0.03);
}

TEST(StreamBeds, TributariesEndOnBedsAndOthersInVoidsAreLeft) {
  const Grid g = valley_with_void();
  Layer lines = stream_line();
  lines.features.insert(lines.features.begin(), {LineString{{676060.5, 5842000 - 10}, {676060.5, 5842000 - 50.5}}, {}});
  const StreamBeds both = with_stream_beds(g, lines);
  EXPECT_EQ(both.crossings, 2) << "the tributary comes first in the file, and its end is known later";
  double before = 1e9;
  for (std::int64_t r = 12; r <= 50; ++r) {
    ASSERT_LE(value_at(both.grid, 60, r), before + 1e-6);
    before = value_at(both.grid, 60, r);
  }
  lines.features.pop_back();
  EXPECT_EQ(with_stream_beds(g, lines).crossings, 0);
  // In another CRS, beyond the grid, and not at all.
  Layer degrees = stream_line();
  degrees.features[0] = carried(degrees.features[0], Transform(degrees.crs, Crs::wgs84()));
  degrees.crs = Crs::wgs84();
  EXPECT_EQ(with_stream_beds(g, degrees).cells, 40);
  Layer far = stream_line(5000);
  EXPECT_EQ(with_stream_beds(g, far).cells, 0);
  Layer points{.name = "p", .crs = g.frame().crs(), .features = {{Point{0, 0}, {}}}};
  EXPECT_EQ(error_of([&] { with_stream_beds(g, points); }), ErrorCode::BadArgument);
}

TEST(RimTin, IsExactOnPlanesAndStraightAcross) {
  // A narrow void between two edges, one 1 m higher: on each way across the height changes evenly.
  const Frame f = utm_frame(120, 40);
  const Grid g = grid_from_function(
      f,
      [](double x, double y) {
        const double c = x - 676000, r = 5842000 - y;
        return c > 20 && c < 100 && r > 15 && r < 24 ? std::nan("") : r < 20 ? 11.0 : 10.0;
      },
      metres_above_egm2008());
  const Grid closed = fill_voids(g, {.method = FillMethod::Tin, .run = {}}).grid;
  for (std::int64_t r = 15; r < 24; ++r)
    EXPECT_NEAR(value_at(closed, 60, r), 11 - (static_cast<double>(r) - 14) / 10, 1e-5) << r;
  EXPECT_EQ(closed.info().sources.back().name, "fill: triangles");
  for (const double aspect : {1.0, 0.6, 2.3}) {
    VoidShape shape;
    shape.aspect = aspect;
    std::vector<float> rim;
    for (std::int32_t r = 0; r < 12; ++r)
      for (std::int32_t c = 0; c < 30; ++c) {
        const bool edge = r == 0 || c == 0 || r == 11 || c == 29;
        (edge ? shape.rim : shape.cells).push_back({c, r});
        if (edge) rim.push_back(3 + 0.25F * static_cast<float>(c) - 0.5F * static_cast<float>(r));
      }
    const std::vector<float> z = tin_over(shape, rim);
    for (std::size_t i = 0; i < z.size(); ++i)
      EXPECT_NEAR(z[i], 3 + 0.25 * shape.cells[i].col - 0.5 * shape.cells[i].row, 2e-2);
  }
  // A rim of less than a triangle, and cells outside of all.
  VoidShape two;
  two.cells = {{1, 0}, {2, 0}};
  two.rim = {{0, 0}, {3, 0}};
  const std::vector<float> z = tin_over(two, {1.0F, 4.0F});
  EXPECT_GT(z[0], 1);
  EXPECT_LT(z[0], z[1]);
}

}  // namespace
}  // namespace katoptra
