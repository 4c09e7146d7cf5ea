#include "decoded_once.hpp"

#include <atomic>
#include <cstdlib>

#include "derived.hpp"
#include "point_testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Counts how often parts are read.
class Counted final : public Derived {
 public:
  explicit Counted(const PointCloud& in) : Derived(in) {}
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    ++reads;
    in_.read(i, fields, out);
  }
  mutable std::atomic<int> reads{0};
};

constexpr PointFields kBoth = PointFields::Return | PointFields::Class;

// Places on the lattice, beside it, without one; heights that are none.
PointBatch some_points(unsigned seed, std::size_t n) {
  Dice r(seed);
  PointBatch b;
  for (std::size_t i = 0; i < n; ++i) {
    const double step = seed % 3 == 0 ? 0.001 : seed % 3 == 1 ? 0.01 : 1e-9;
    b.x.push_back(static_cast<double>(r(2'000'000'000)) * step + 677000);
    b.y.push_back(static_cast<double>(r(2'000'000'000)) * step - 5842000);
    b.z.push_back(i % 50 == 7 ? std::nan("") : i % 50 == 8 ? -0.0 : static_cast<double>(r(1000)) * 0.001);
    b.return_number.push_back(static_cast<std::uint8_t>(1 + r(5)));
    b.return_count.push_back(static_cast<std::uint8_t>(5));
    b.classification.push_back(static_cast<std::uint8_t>(r(20)));
    b.intensity.push_back(static_cast<std::uint16_t>(r(60000)));
  }
  return b;
}

TEST(DecodedOnce, GivesTheSameBitsAndReadsEachPartOnce) {
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SCOPED_TRACE(seed);
    PointInfo info = point_info(6);
    info.lattice->step[0] = info.lattice->step[1] = 0.001;
    if (seed % 4 == 0) info.lattice.reset();
    const PointCloud plain = points_from_batch(some_points(seed, 1000), info, 130);
    const auto counted = std::make_shared<Counted>(plain);
    const PointCloud again = decoded_once(PointCloud(counted), kBoth);
    for (int pass = 0; pass < 3; ++pass)
      for (const PointFields fields : {kBoth, PointFields::Class, PointFields::None})
        for (std::size_t i = 0; i < plain.parts(); ++i)
          expect_same_points(again.read(i, fields), plain.read(i, fields));
    EXPECT_EQ(counted->reads, static_cast<int>(plain.parts()));
    // What does not wait is read anew.
    expect_same_points(again.read(0, PointFields::Intensity | kBoth), plain.read(0, PointFields::Intensity | kBoth));
    EXPECT_EQ(counted->reads, static_cast<int>(plain.parts()) + 1);
    // From many threads at once.
    const PointCloud fresh = decoded_once(plain, kBoth);
    for (int pass = 0; pass < 2; ++pass) {
      std::vector<double> all;
      for_each_batch(fresh, kBoth, {.threads = 4},
                     [&](const PointBatch& b) { all.insert(all.end(), b.x.begin(), b.x.end()); });
      EXPECT_EQ(all, some_points(seed, 1000).x);
    }
  }
}

TEST(DecodedOnce, WithoutTemporaryFilesEverythingIsReadAnew) {
  const char* before = std::getenv("TMPDIR");
  const std::string kept = before ? before : "";
  ::setenv("TMPDIR", "/nowhere/at/all", 1);
  const PointCloud plain = points_from_batch(some_points(3, 300), point_info(6), 100);
  const auto counted = std::make_shared<Counted>(plain);
  const PointCloud again = decoded_once(PointCloud(counted), kBoth);
  for (int pass = 0; pass < 2; ++pass)
    for (std::size_t i = 0; i < 3; ++i) expect_same_points(again.read(i, kBoth), plain.read(i, kBoth));
  if (before)
    ::setenv("TMPDIR", kept.c_str(), 1);
  else
    ::unsetenv("TMPDIR");
  EXPECT_EQ(counted->reads, 6);
}

TEST(DecodedOnce, OfFewPartsWithoutAny) {
  const PointCloud none = points_from_batch(PointBatch(), point_info(6), 100);
  const PointCloud again = decoded_once(none, kBoth);
  EXPECT_EQ(again.parts(), none.parts());
  for (std::size_t i = 0; i < none.parts(); ++i) EXPECT_EQ(again.read(i, kBoth).size(), 0U);
}

}  // namespace
}  // namespace katoptra
