#include "grid/cell_areas.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace katoptra::testing;

// The area of a cell by a sum over many small pieces of it.
double by_pieces(const Frame& f, std::int64_t c, std::int64_t r) {
  constexpr int kSide = 24;
  std::vector<Point> p;
  for (int j = 0; j < kSide; ++j)
    for (int i = 0; i < kSide; ++i)
      p.push_back(
          f.centre(static_cast<double>(c) + (i + 0.5) / kSide - 0.5, static_cast<double>(r) + (j + 0.5) / kSide - 0.5));
  std::vector<double> area(p.size());
  GroundRuler(f.crs()).areas(p, area);
  double sum = 0;
  for (double a : area) sum += a;
  return sum / kSide / kSide * f.cell().x * f.cell().y;
}

// Scales were interpolated every 256 cells whatever the cell: right for small ones, 1.2e-4 off at 1 km in UTM, 2e-3 in
// polar systems, and 147 % for a cell at the pole.
TEST(CellAreas, HoldForEveryCellSize) {
  const struct {
    const char* crs;
    double west, north, cell;
    std::int64_t cols, rows;
  } cases[] = {{"EPSG:32725", 676000, 5842000, 1, 700, 20},
               {"EPSG:32725", 200000, 5842000, 1000, 600, 40},
               {"EPSG:32725", 100000, 9842000, 30, 20000, 3},
               {"EPSG:3995", -4000000, 4000000, 25000, 320, 320},
               {"EPSG:3031", -3000, 3000, 1000, 7, 7},
               {"EPSG:3857", -5000000, 9000000, 20000, 500, 600},
               {"EPSG:6933", -17000000, 7000000, 100000, 340, 140},
               {"EPSG:2263", 900000, 300000, 5000, 300, 30}};
  for (const auto& k : cases) {
    SCOPED_TRACE(k.crs + std::string(" at ") + std::to_string(k.cell));
    const Frame f(Crs::parse(k.crs), k.west, k.north, {k.cell, k.cell}, k.cols, k.rows);
    const CellAreas areas(f);
    for (std::int64_t r = 0; r < k.rows; r += std::max<std::int64_t>(1, k.rows / 7)) {
      const CellAreas::Row row = areas.row(r);
      for (std::int64_t c = 0; c < k.cols; c += std::max<std::int64_t>(1, k.cols / 13)) {
        const double exact = by_pieces(f, c, r);
        ASSERT_NEAR(row.at(c) / exact, 1, 1e-6) << c << ", " << r;
      }
      EXPECT_GT(row.at(k.cols - 1), 0);
    }
  }
}

TEST(CellAreas, OfDegreesAddUpToTheGlobe) {
  for (double cell : {0.25, 1.0, 5.0, 45.0}) {
    const auto n = static_cast<std::int64_t>(std::lround(360 / cell));
    const Frame f(Crs::wgs84(), -180, 90, {cell, cell}, n, n / 2);
    const CellAreas areas(f);
    double sum = 0;
    for (std::int64_t r = 0; r < f.rows(); ++r) sum += areas.row(r).at(n - 1) * static_cast<double>(n);
    EXPECT_NEAR(sum / 510065621724088.44, 1, 1e-11) << cell;
  }
}

}  // namespace
}  // namespace katoptra
