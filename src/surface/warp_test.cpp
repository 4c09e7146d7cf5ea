// Every kernel against brute force, in projections that turn, fold and cut the globe.
#include "katoptra/grid/turn.hpp"
#include "katoptra/surface/reproject.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace katoptra::testing;

// Hills that go on smoothly across the antimeridian and over the poles, some 10 degrees wide.
double hills(double lon, double lat) {
  const double a = lon * M_PI / 180, b = lat * M_PI / 180;
  const double x = std::cos(b) * std::cos(a), y = std::cos(b) * std::sin(a), z = std::sin(b);
  return 500 * std::sin(9 * x + 2) * std::cos(7 * y - 1) + 300 * std::sin(8 * z + 3 * x) + 100 * y;
}

Grid globe(double cell, double west = -180) {
  const auto cols = static_cast<std::int64_t>(std::lround(360 / cell));
  return grid_from_function({Crs::wgs84(), west, 90, {cell, cell}, cols, cols / 2}, hills);
}

struct Place {
  const char* name;
  const char* crs;
  Bounds box;
};
constexpr Place kPlaces[] = {
    {"north pole", "EPSG:3995", {-3e6, -3e6, 3e6, 3e6}},
    {"south pole", "EPSG:3031", {-3e6, -3e6, 3e6, 3e6}},
    {"equal area, whole globe", "EPSG:6933", {-17e6, -7e6, 17e6, 7e6}},
    {"Mercator, whole globe", "EPSG:3857", {-20e6, -15e6, 20e6, 15e6}},
    {"UTM beside the antimeridian", "EPSG:32760", {-4e5, 6e6, 1.4e6, 9e6}},
    {"turned by 45 degrees",
     "+proj=omerc +lat_0=40 +lonc=20 +alpha=45 +gamma=0 +datum=WGS84 +type=crs",
     {-2e6, -2e6, 2e6, 2e6}},
    {"about a place at the antimeridian",
     "+proj=laea +lat_0=-17 +lon_0=180 +datum=WGS84 +type=crs",
     {-4e6, -4e6, 4e6, 4e6}},
    {"sinusoidal, with a rim", "+proj=sinu +lon_0=100 +datum=WGS84 +type=crs", {-2e7, -1e7, 2e7, 1e7}}};

// What lies over 40 x 40 places of an output cell, each taken from the source cell it lies in.
struct Brute {
  double mean = 0;
  int values = 0;
};
Brute brute(const Grid& in, const Block& cells, const Transform& there, const Frame& to, std::int64_t c,
            std::int64_t r) {
  constexpr int kSide = 40;
  std::vector<Point> p;
  for (int j = 0; j < kSide; ++j)
    for (int i = 0; i < kSide; ++i)
      p.push_back(to.centre(static_cast<double>(c) + (i + 0.5) / kSide - 0.5,
                            static_cast<double>(r) + (j + 0.5) / kSide - 0.5));
  const std::vector<Point> asked = p;
  there.forward(p);
  std::vector<Point> back = p;
  there.inverse(back);
  Brute b;
  for (std::size_t i = 0; i < p.size(); ++i) {
    const Point q = p[i];
    // Beyond the rim the inverse gives places elsewhere.
    if (!(std::hypot(back[i].x - asked[i].x, back[i].y - asked[i].y) < 0.01 * to.cell().x)) continue;
    const Frame& f = in.frame();
    auto col = static_cast<std::int64_t>(std::floor(f.col_at(q.x)));
    col = ((col % f.cols()) + f.cols()) % f.cols();
    const auto row = std::min(f.rows() - 1, static_cast<std::int64_t>(std::floor(f.row_at(q.y))));
    if (row < 0 || std::isnan(cells.at(col, row))) continue;
    b.mean += static_cast<double>(cells.at(col, row));
    ++b.values;
  }
  b.mean /= std::max(1, b.values);
  return b;
}

// The mean took one upright box for all cells of a patch: near a pole, at the antimeridian and in turned frames it
// averaged far too much, by 60 to 108 m of a relief of 550.
TEST(Warp, TheMeanIsThatOfEachCellsOwnFootprint) {
  const Grid in = globe(0.5);
  const Block cells = in.read(in.frame().window());
  for (const Place& place : kPlaces) {
    SCOPED_TRACE(place.name);
    const Crs crs = Crs::parse(place.crs);
    const Frame to = Frame::snapped(crs, place.box, {2e5, 2e5});
    const Grid out = reproject(in, to, Resampling::Mean);
    const Block b = out.read(to.window());
    const Transform there(crs, Crs::wgs84());
    double off = 0;
    int n = 0, rim = 0;
    for (std::int64_t r = 0; r < to.rows(); r += 3)
      for (std::int64_t c = 0; c < to.cols(); c += 3) {
        const Brute expected = brute(in, cells, there, to, c, r);
        const bool has = !std::isnan(b.at(c, r));
        if (has != (expected.values >= 800)) {
          // Beside the rim of a projection the share is known to a few of a hundred only.
          EXPECT_NEAR(expected.values, 800, 200) << c << ", " << r;
          ++rim;
          continue;
        }
        if (!has) continue;
        const double d = static_cast<double>(b.at(c, r)) - expected.mean;
        EXPECT_NEAR(d, 0, 8) << c << ", " << r;
        off += d * d;
        ++n;
      }
    ASSERT_GT(n, 12);
    EXPECT_LE(rim, 4);
    EXPECT_LT(std::sqrt(off / n), 0.8);
    expect_same_for_every_window(out, 11, 3);
  }
}

// Cells centred on the meridian where a globe is cut had become voids, and beside it half of the weights was missing.
TEST(Warp, KernelsReachAcrossTheCutOfAGlobe) {
  for (double west : {-180.0, 0.0, -90.25}) {
    const Grid in = globe(0.5, west);
    for (const Place& place : kPlaces) {
      SCOPED_TRACE(place.name);
      const Crs crs = Crs::parse(place.crs);
      const Frame to = Frame::snapped(crs, place.box, {1e5, 1e5});
      const Transform there(crs, Crs::wgs84());
      std::vector<Point> centres, on_globe;
      for (std::int64_t r = 0; r < to.rows(); r += 3)
        for (std::int64_t c = 0; c < to.cols(); c += 3)
          centres.push_back(to.centre(static_cast<double>(c), static_cast<double>(r)));
      on_globe = centres;
      there.forward(on_globe);
      std::vector<Point> back = on_globe;
      there.inverse(back);
      for (Resampling method : {Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic}) {
        const Grid out = reproject(in, to, method);
        const Block b = out.read(to.window());
        // Half a cell on the steepest hill, for nearest; what is left of the second and third derivative for the
        // others.
        const double close = method == Resampling::Nearest ? 60 : method == Resampling::Bilinear ? 2.5 : 0.6;
        std::size_t i = 0;
        for (std::int64_t r = 0; r < to.rows(); r += 3)
          for (std::int64_t c = 0; c < to.cols(); c += 3, ++i) {
            const Point p = on_globe[i];
            if (!(std::hypot(back[i].x - centres[i].x, back[i].y - centres[i].y) < 0.01 * to.cell().x)) {
              ASSERT_TRUE(std::isnan(b.at(c, r))) << "beyond the rim, " << c << ", " << r;
              continue;
            }
            if (std::abs(p.y) > 89) continue;  // the last half cell before a pole has one row only
            ASSERT_NEAR(static_cast<double>(b.at(c, r)), hills(p.x, p.y), close)
                << name_of(method) << " " << c << ", " << r << " at " << p.x << ", " << p.y;
          }
        expect_same_for_every_window(out, 6, 4);
      }
    }
    const Frame on_the_cut(Crs::wgs84(), west - 1, 10, {2, 2}, 181, 5);
    for (Resampling method : {Resampling::Nearest, Resampling::Bilinear, Resampling::Cubic, Resampling::Mean}) {
      const std::vector<float> all = all_values(reproject(in, on_the_cut, method));
      EXPECT_EQ(std::count_if(all.begin(), all.end(), [](float z) { return std::isnan(z); }), 0) << name_of(method);
    }
  }
}

// It wrote from a quarter of the cells where half is promised.
TEST(Warp, AMeanNeedsHalfOfItsCells) {
  std::vector<float> v(16 * 16, 5);
  for (std::size_t i = 0; i < v.size(); ++i)
    if (i % 16 < 8 && i / 16 % 4 != 0) v[i] = kVoid;  // a quarter is there
  for (std::size_t i = 0; i < v.size(); ++i)
    if (i % 16 >= 8 && i / 16 % 4 >= 2) v[i] = kVoid;  // half is there
  const Grid in = grid_from_values(utm_frame(16, 16), v);
  const std::vector<float> out = all_values(reproject(in, utm_frame(4, 4, 4), Resampling::Mean));
  for (std::size_t i = 0; i < 16; ++i) EXPECT_EQ(std::isnan(out[i]), i % 4 < 2) << i;
}

TEST(Warp, AMeanInATurnedFrameIsExactOnAPlane) {
  const Crs plane = Crs::parse("+proj=omerc +lat_0=-37.55 +lonc=-31 +alpha=30 +gamma=0 +datum=WGS84 +type=crs");
  const Grid in = grid_from_function(utm_frame(600, 600, 1, 676000, 5842600),
                                     [](double x, double y) { return 0.1 * (x - 676000) - 0.05 * (y - 5842000); });
  const Frame to = frame_for(in.frame(), plane, {.cell = 7_m});
  const Block b = reproject(in, to, Resampling::Mean).read(to.window());
  const Transform there(plane, in.frame().crs());
  std::int64_t n = 0;
  for (std::int64_t r = 0; r < to.rows(); ++r)
    for (std::int64_t c = 0; c < to.cols(); ++c) {
      const Point p = there.forward(to.centre(static_cast<double>(c), static_cast<double>(r)));
      if (!Bounds{676006, 5842006, 676594, 5842594}.contains(p)) continue;
      ASSERT_NEAR(static_cast<double>(b.at(c, r)), 0.1 * (p.x - 676000) - 0.05 * (p.y - 5842000), 2e-3);
      ++n;
    }
  EXPECT_GT(n, 5000);
}

// Only the unit was asked for, and every cell was resampled by half a cell.
TEST(Warp, AGridKeepsItsLatticeInItsOwnSystem) {
  const Frame odd(Crs::parse("EPSG:32725"), 676000.5, 5842000.25, {1.3, 1.3}, 40, 30);
  EXPECT_EQ(frame_for(odd, Crs::parse("EPSG:32725")), odd);
  const Area part = Area::box({676010, 5841970, 676020, 5841990}, odd.crs());
  const Frame some = frame_for(odd, odd.crs(), {.area = &part});
  ASSERT_TRUE(odd.window_of(some));
  EXPECT_TRUE(some.bounds().contains({676010, 5841970}) && some.bounds().contains({676020, 5841990}));
  EXPECT_LE(some.cols(), 9);
}

}  // namespace
}  // namespace katoptra
