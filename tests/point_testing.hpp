// Points for tests: fields of every kind that change in every way, the same for the same seed everywhere.
#pragma once
#include <cmath>
#include <cstdint>
#include <cstring>

#include "katoptra/points/points.hpp"

#include "testing.hpp"

namespace katoptra::testing {

// A generator whose numbers do not depend on the standard library.
class Dice {
 public:
  explicit Dice(std::uint64_t seed) : state_(seed * 0x9E3779B97F4A7C15u + 1) {}
  std::uint32_t operator()(std::uint32_t sides) {
    state_ ^= state_ << 13;
    state_ ^= state_ >> 7;
    state_ ^= state_ << 17;
    return static_cast<std::uint32_t>((state_ * 0x2545F4914F6CDD1Du) >> 33) % sides;
  }

 private:
  std::uint64_t state_;
};

inline PointInfo point_info(int format, int extra_bytes = 0) {
  PointInfo info;
  info.name = "points";
  info.crs = Crs::parse("EPSG:32725");
  info.quantity = metres_above_egm2008();
  info.record_format = format;
  info.extra_bytes = extra_bytes;
  info.time = PointTime::Standard;
  PointLattice lattice;
  lattice.origin[0] = 600000;
  lattice.origin[1] = 5000000;
  info.lattice = lattice;
  info.sources = {{.name = "points", .survey = "", .date = "2022-03-14"}};
  return info;
}

// As a scanner sends them: lines, returns, repeated and leaping times, now and then anything at all. `channels`: of
// several scanners; a channel other than zero never comes twice running.
inline PointBatch mixed_points(std::size_t n, int format, int extra_bytes, unsigned seed, bool channels = false) {
  Dice r(seed);
  PointBatch b;
  const bool wide = format >= 6;
  b.resize(n, PointFields::All, extra_bytes);
  if (format != 4 && format != 5 && format != 9 && format != 10) b.waveform.clear();
  double time = 1.2e8;
  std::uint32_t along = 0, channel = 0;
  for (std::size_t i = 0; i < n; ++i) {
    along = (along + 400) % 500000;
    const std::uint32_t x = 77000000 + along + r(1000),
                        y = 842000000 + static_cast<std::uint32_t>(i / 1250 * 500) + r(1000);
    b.x[i] = static_cast<double>(x) * 0.001 + 600000;
    b.y[i] = static_cast<double>(y) * 0.001 + 5000000;
    b.z[i] = (100000.0 + static_cast<double>((along / 64) % 8000) + r(100)) * 0.001;
    b.intensity[i] = static_cast<std::uint16_t>(r(5) == 0 ? r(65536) : 300 + r(50));
    std::uint32_t of = r(7) == 0 ? 1 + r(wide ? 8 : 5) : 1;
    if (r(200) == 0) of = r(wide ? 16 : 8);
    b.return_count[i] = static_cast<std::uint8_t>(of);
    b.return_number[i] = static_cast<std::uint8_t>(r(100) == 0 ? r(wide ? 16 : 8) : 1 + r(of ? of : 1));
    b.classification[i] = static_cast<std::uint8_t>(r(10) ? 2 : r(wide ? 200 : 20));
    b.flags[i] = static_cast<std::uint8_t>((r(50) == 0 ? r(8) : 0) | (r(2) ? kScanForward : 0) |
                                           (r(100) == 0 ? kEdgeOfLine : 0));
    if (wide && r(30) == 0) b.flags[i] |= kOverlap;
    if (wide && channels) {
      channel = channel ? 0 : r(4);
      b.flags[i] = static_cast<std::uint8_t>(b.flags[i] | channel << kChannelShift);
    }
    b.user[i] = static_cast<std::uint8_t>(r(20) == 0 ? r(256) : 0);
    const int rank = static_cast<int>(i / 1000 % 40) - 20;
    b.angle[i] = static_cast<std::int16_t>(wide ? (r(300) == 0 ? static_cast<int>(r(60000)) - 30000 : 100)
                                                : std::lround(rank / kAngleStep));
    b.source[i] = static_cast<std::uint16_t>(10 + i / 40000 + (r(500) == 0));
    if (r(3)) time += 2e-6 * (1 + (r(30) == 0));
    if (r(5000) == 0) time += 100;
    if (r(9000) == 0) time += 1e7;
    b.time[i] = r(70) == 0 ? time - 3000 : time;
    b.red[i] = static_cast<std::uint16_t>(r(9) == 0 ? r(65536) : r(256) * 256);
    b.green[i] = static_cast<std::uint16_t>(r(3) == 0 ? b.red[i] : b.red[i] + r(512));
    b.blue[i] = static_cast<std::uint16_t>(r(3) ? b.green[i] : r(65536));
    if (r(40) == 0) b.green[i] = b.blue[i] = b.red[i];
    b.infrared[i] = static_cast<std::uint16_t>(r(4) ? 100 : r(65536));
    for (int e = 0; e < extra_bytes; ++e)
      b.extra[i * static_cast<std::size_t>(extra_bytes) + static_cast<std::size_t>(e)] =
          static_cast<std::uint8_t>(r(static_cast<std::uint32_t>(e) * 60 + 2));
    for (std::size_t k = 0; k < b.waveform.size() / n; ++k)
      b.waveform[i * kWaveformBytes + k] = static_cast<std::uint8_t>(r(256));
  }
  // What the format has no room for.
  if (format == 0 || format == 2) b.time.clear();
  if (format < 2 || format == 4 || format == 6 || format == 9) {
    b.red.clear();
    b.green.clear();
    b.blue.clear();
  }
  if (format != 8 && format != 10) b.infrared.clear();
  if (extra_bytes == 0) b.extra.clear();
  return b;
}

inline PointBatch all_points(const PointCloud& cloud, PointFields fields = PointFields::All) {
  PointBatch all;
  for (std::size_t i = 0; i < cloud.parts(); ++i) all.append(cloud.read(i, fields));
  return all;
}

// To the last bit: places and times that are no numbers, and the sign of zero, too.
inline void expect_same_points(const PointBatch& a, const PointBatch& b) {
  const auto expect_same = [](const auto& of_a, const auto& of_b, const char* column) {
    ASSERT_EQ(of_a.size(), of_b.size()) << column;
    EXPECT_TRUE(of_a.empty() || std::memcmp(of_a.data(), of_b.data(), of_a.size() * sizeof(of_a[0])) == 0) << column;
  };
  expect_same(a.x, b.x, "x");
  expect_same(a.y, b.y, "y");
  expect_same(a.z, b.z, "z");
  expect_same(a.intensity, b.intensity, "intensity");
  expect_same(a.return_number, b.return_number, "return_number");
  expect_same(a.return_count, b.return_count, "return_count");
  expect_same(a.classification, b.classification, "classification");
  expect_same(a.flags, b.flags, "flags");
  expect_same(a.user, b.user, "user");
  expect_same(a.angle, b.angle, "angle");
  expect_same(a.source, b.source, "source");
  expect_same(a.time, b.time, "time");
  expect_same(a.red, b.red, "red");
  expect_same(a.green, b.green, "green");
  expect_same(a.blue, b.blue, "blue");
  expect_same(a.infrared, b.infrared, "infrared");
  expect_same(a.extra, b.extra, "extra");
  expect_same(a.waveform, b.waveform, "waveform");
}

}  // namespace katoptra::testing
