// Random grids through every format with random options: what comes back is what went in, or it is said.
#include <algorithm>
#include <fmt/format.h>

#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

struct Lot {
  std::mt19937 random;
  int operator()(int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); }
  template <class T>
  const T& of(const std::vector<T>& all) {
    return all[static_cast<std::size_t>((*this)(static_cast<int>(all.size())))];
  }
  double between(double low, double high) { return low + (high - low) * (*this)(100001) / 100000.0; }
};

// A frame of an odd size somewhere, on round and on crooked coordinates.
// `with_edges`: the format tells its cells' width by itself, also of a single column.
Frame any_frame(Lot& lot, bool with_edges) {
  struct Place {
    const char* crs;
    double west, north, cell;
  };
  const std::vector<Place> places = {{"EPSG:32725", 676000, 5842000, 1},      {"EPSG:4326", -31.25, -37.5, 0.0001},
                                     {"EPSG:2264", 1500000, 600000, 3},       {"EPSG:3857", -3450000.5, -4510000.5, 4},
                                     {"EPSG:32661", 2000000, 2000000, 100},   {"EPSG:4326", 179.99, 89.5, 1.0 / 3600},
                                     {"EPSG:27700", 400000.25, 300000.75, 2}, {"EPSG:3031", -100000, 300000, 30}};
  const Place p = lot.of(places);
  const Crs crs = Crs::parse(p.crs);
  const double wide = with_edges && lot(4) == 0 ? 1.5 : 1;  // cells that are no squares
  return {crs, p.west, p.north, {p.cell * wide, p.cell}, 1 + lot(70), 1 + lot(70)};
}

// Values that a type holds, with voids; for floats such as come out of division.
std::vector<float> any_values(Lot& lot, const Frame& f, SampleType type) {
  std::vector<float> v(static_cast<std::size_t>(f.cols() * f.rows()));
  const bool unsigned_type = type == SampleType::UInt8 || type == SampleType::UInt16;
  for (float& z : v) {
    const double any = lot.between(unsigned_type ? 0 : -120, 120);
    z = static_cast<float>(type == SampleType::Float32 ? any / 3 : std::round(any) + 0.0);
    if (lot(9) == 0) z = kVoid;
  }
  v[static_cast<std::size_t>(lot(static_cast<int>(v.size())))] = 7;  // not all of it is void
  return v;
}

WriteOptions any_options(Lot& lot) {
  WriteOptions o{.overwrite = true};
  if (lot(3) == 0) o.void_value = lot.of(std::vector<double>{-9999, -32768, 200, 0.5});
  o.codec = lot.of(std::vector<Codec>{Codec::Automatic, Codec::None, Codec::Deflate, Codec::Zstd});
  o.predictor = lot.of(
      std::vector<Predictor>{Predictor::Automatic, Predictor::None, Predictor::Difference, Predictor::FloatingPoint});
  o.level = 1 + lot(9);
  o.overviews = lot(2) == 0;
  o.always_big = lot(2) == 0;
  o.tile = 16 * (1 + lot(5));
  if (lot(3) == 0) o.date = "2022-03-14";
  if (lot(3) == 0) o.survey = "Kessa Inlet, \"sonar\"";
  o.run = {.threads = 1 + lot(3), .memory = std::size_t{1} << (20 + lot(6))};
  return o;
}

std::string told(const WriteOptions& o) {
  return fmt::format("void {} codec {} predictor {} level {} overviews {} big {} tile {} threads {} memory {}",
                     o.void_value.value_or(0), static_cast<int>(o.codec), static_cast<int>(o.predictor), o.level,
                     o.overviews, o.always_big, o.tile, o.run.threads, o.run.memory);
}

// How a value may differ that a format keeps as text or in a narrower type.
double tolerance(const std::string& ending, double cell) {
  return ending == ".asc" || ending == ".xyz" || ending == ".txt" ? 1e-6 * cell : 1e-9 * cell;
}

TEST(RoundTrips, RandomGridsThroughEveryFormatWithRandomOptions) {
  TemporaryFolder folder;
  std::vector<std::string> endings;
  for (const Format& f : formats())
    if (f.holds(Holds::Grids, Use::Written) && f.holds(Holds::Grids, Use::Read) && !f.heights_only)
      endings.insert(endings.end(), f.endings.begin(), f.endings.end());
  ASSERT_GE(endings.size(), 10u);
  int written = 0, refused = 0;
  for (unsigned seed = 1; seed <= 130; ++seed) {
    Lot lot{std::mt19937(seed)};
    const std::string ending = endings[seed % endings.size()];
    const Frame frame = any_frame(lot, ending != ".xyz" && ending != ".txt");
    const SampleType type = lot.of(std::vector<SampleType>{SampleType::Float32, SampleType::Float32, SampleType::Int16,
                                                           SampleType::UInt8, SampleType::Int32});
    Quantity q = metres_above_egm2008();
    q.unit = lot.of(std::vector<LengthUnit>{LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot});
    const std::vector<float> before = any_values(lot, frame, type);
    const Grid g = grid_from_values(frame, before, q, type);
    const WriteOptions o = any_options(lot);
    SCOPED_TRACE(fmt::format("seed {} {} {} {}x{} {}: {}", seed, ending, frame.crs().code(), frame.cols(), frame.rows(),
                             name_of(type), told(o)));
    const fs::path path = folder / ("g" + ending);
    WriteReport report;
    try {
      report = write_grid(g, path, o);
    } catch (const Error& e) {
      // A void value that the type does not hold or that is a height, cells that are no squares, a codec that a
      // predictor does not go with: refused in words, and nothing is left.
      EXPECT_TRUE(e.code() == ErrorCode::BadArgument || e.code() == ErrorCode::Unsupported) << e.what();
      EXPECT_FALSE(e.advice().empty()) << e.what();
      EXPECT_EQ(folder.files(), 0u) << e.what();
      ++refused;
      continue;
    }
    ++written;
    const Grid back = open_grid(path);
    ASSERT_EQ(back.frame().cols() * back.frame().rows() >= 1, true);
    EXPECT_TRUE(back.frame().crs().same_place(frame.crs())) << back.frame().crs().name();
    const std::optional<Window> where = frame.window_of(back.frame());
    ASSERT_TRUE(where) << back.frame().west() - frame.west() << " " << back.frame().north() - frame.north();
    EXPECT_NEAR(back.frame().west(), frame.west() + static_cast<double>(where->col) * frame.cell().x,
                tolerance(ending, frame.cell().x) + 1e-12 * std::abs(frame.west()));
    const Block after = back.read(Window{-where->col, -where->row, frame.cols(), frame.rows()});
    std::int64_t voids = 0;
    for (std::int64_t r = 0; r < frame.rows(); ++r)
      for (std::int64_t c = 0; c < frame.cols(); ++c) {
        const float z = before[static_cast<std::size_t>(r * frame.cols() + c)];
        voids += std::isnan(z);
        ASSERT_TRUE(same_bits(z, after.at(c, r))) << z << " became " << after.at(c, r) << " at " << c << ", " << r;
      }
    EXPECT_EQ(report.voids, voids);
    EXPECT_EQ(back.quantity().unit, q.unit);
    EXPECT_EQ(back.quantity().heights, q.heights);
    expect_same_for_every_window(back, seed, 6);
    for (const auto& left : fs::directory_iterator(folder.path())) fs::remove(left);
  }
  EXPECT_GT(written, 90);
  EXPECT_GT(refused, 3);
}

// Lineage goes along: each cell knows the source that it had.
TEST(RoundTrips, LineageComesBackCellByCell) {
  TemporaryFolder folder;
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SCOPED_TRACE(seed);
    Lot lot{std::mt19937(seed)};
    const Frame frame = utm_frame(1 + lot(60), 1 + lot(60));
    const Grid g = grid_from_values(frame, any_values(lot, frame, SampleType::Float32), metres_above_egm2008());
    const fs::path path = folder / fmt::format("g{}.tif", seed);
    write_grid(g, path, {.lineage = true, .tile = 16 * (1 + lot(4)), .run = {}});
    const Grid back = open_grid(path);
    const Block before = g.read(frame.window(), Planes::ValuesAndOrigin),
                after = back.read(frame.window(), Planes::ValuesAndOrigin);
    for (std::int64_t r = 0; r < frame.rows(); ++r)
      for (std::int64_t c = 0; c < frame.cols(); ++c) {
        ASSERT_TRUE(same_bits(before.at(c, r), after.at(c, r)));
        ASSERT_EQ(after.origin_row(r)[c] == 0, std::isnan(after.at(c, r))) << c << ", " << r;
      }
  }
}

}  // namespace
}  // namespace katoptra
