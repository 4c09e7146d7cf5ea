#include <algorithm>
#include <atomic>
#include <limits>
#include <thread>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/memory.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/base/units.hpp"

#include "base/clock.hpp"
#include "base/scratch.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using testing::error_of;

TEST(Units, FeetAreExact) {
  EXPECT_EQ(Length::parse("1 ft").metres(), 0.3048);
  EXPECT_EQ(Length::parse("1ftUS").metres(), 1200.0 / 3937.0);
  EXPECT_EQ(Length::feet(1000).metres(), 304.8);
  EXPECT_EQ(Length::parse("0.5m"), Length::metres(0.5));
  EXPECT_EQ(Length::parse("2km"), 2000_m);
  EXPECT_DOUBLE_EQ(Length::parse("3nmi").metres(), 5556);
  EXPECT_EQ(Length::feet(7).in(LengthUnit::Foot), 7);
}

TEST(Units, BareNumbersNeedAUnit) {
  EXPECT_EQ(error_of([] { Length::parse("5"); }), ErrorCode::BadArgument);
  EXPECT_EQ(Length::parse("5", LengthUnit::Foot), Length::feet(5));
  for (const char* bad : {"", "m", "5 yd", "5mm2", "nan", "inf", "1e999m", "5,5m"})
    EXPECT_EQ(error_of([&] { Length::parse(bad, LengthUnit::Metre); }), ErrorCode::BadArgument) << bad;
}

TEST(Units, AnglesOnTheGlobe) {
  EXPECT_DOUBLE_EQ(parse_degrees("-37.55"), -37.55);
  EXPECT_DOUBLE_EQ(parse_degrees("37°33'S"), -37.55);
  EXPECT_DOUBLE_EQ(parse_degrees("8°30'S"), -8.5);
  EXPECT_DOUBLE_EQ(parse_degrees("31 3 36 W"), -31.06);
  EXPECT_DOUBLE_EQ(parse_degrees("0°0'36\"E"), 0.01);
  // -0 degrees and some minutes were read as north or east: the sign of zero was lost, and places were mirrored.
  EXPECT_DOUBLE_EQ(parse_degrees("-0°30'"), -0.5);
  EXPECT_DOUBLE_EQ(parse_degrees("-0 0 36"), -0.01);
  EXPECT_DOUBLE_EQ(parse_degrees("0°30'W"), -0.5);
  EXPECT_DOUBLE_EQ(parse_degrees("-31°3'36\""), -31.06);
  for (const char* bad : {"", "W", "-8°S", "8°75'", "1 2 3 4", "north"})
    EXPECT_EQ(error_of([&] { parse_degrees(bad); }), ErrorCode::BadArgument) << bad;
  EXPECT_DOUBLE_EQ(Angle::parse("100gon").degrees(), 90);
  EXPECT_DOUBLE_EQ(Angle::parse("30'").degrees(), 0.5);
}

TEST(Units, LengthsAndAreasForPeople) {
  for (const auto& [m, text] : {std::pair{0.0, "0 m"},
                                {0.305, "0.305 m"},
                                {0.5, "0.5 m"},
                                {1, "1 m"},
                                {2.5, "2.5 m"},
                                {30, "30 m"},
                                {30.87, "30.9 m"},
                                {999.4, "999 m"},
                                {999.6, "1 km"},
                                {2440, "2.44 km"},
                                {25000, "25 km"},
                                {1.2345e6, "1234 km"},
                                {-2500, "-2.5 km"},
                                {0.0004, "0.0004 m"}})
    EXPECT_EQ(format_length(Length::metres(m)), text);
  for (const auto& [m2, text] : {std::pair{3.14, "3.1 m2"},
                                 {1234.0, "1234 m2"},
                                 {23456.0, "23456 m2"},
                                 {2.345e6, "2.35 km2"},
                                 {2.345e7, "23.4 km2"},
                                 {1.977e9, "1977 km2"}})
    EXPECT_EQ(format_area(m2), text);
  // What a person reads is what was meant, to three digits, at any size.
  for (double m = 0.0011; m < 1e9; m *= 1.37) {
    const std::string t = format_length(Length::metres(m));
    EXPECT_EQ(t.find('e'), t.npos) << t;
    EXPECT_NEAR(Length::parse(t.ends_with(" km") ? t.substr(0, t.size() - 3) + "m" : t).metres() *
                    (t.ends_with(" km") ? 1000 : 1) / m,
                1, 0.006)
        << t;
  }
}

TEST(Units, Bytes) {
  EXPECT_EQ(parse_bytes("512M"), std::size_t{512} << 20);
  EXPECT_EQ(parse_bytes("2GiB"), std::size_t{2} << 30);
  EXPECT_EQ(parse_bytes("17"), 17u);
  EXPECT_EQ(error_of([] { parse_bytes("-1M"); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { parse_bytes("lots"); }), ErrorCode::BadArgument);
}

TEST(Error, SaysWhatWhereAndWhatToDoOnOneLine) {
  const Error e(ErrorCode::BadFile, "ends\nearly", "a.tif", "fetch it again");
  EXPECT_STREQ(e.what(), "a.tif: ends early; fetch it again");
  EXPECT_STREQ(e.within("mosaic").what(), "mosaic: a.tif: ends early; fetch it again");
}

std::string sum_of(const std::string& text, std::size_t piece) {
  Sha256 s;
  for (std::size_t i = 0; i < text.size(); i += piece) {
    const std::string part = text.substr(i, piece);
    s.add(std::span(reinterpret_cast<const std::uint8_t*>(part.data()), part.size()));
  }
  return s.hex();
}

// Vectors of FIPS 180-4.
TEST(Checksum, KnownVectors) {
  EXPECT_EQ(Sha256().hex(), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
  EXPECT_EQ(sum_of("abc", 1), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
  for (std::size_t piece : {1u, 7u, 64u, 1000u})
    EXPECT_EQ(sum_of("abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq", piece),
              "248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1");
  EXPECT_EQ(sum_of(std::string(1000000, 'a'), 977), "cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0");
}

TEST(Parallel, ResultsArePlacedInOrderForEveryThreadCount) {
  for (int threads : {1, 2, 5}) {
    std::vector<std::size_t> placed;
    std::atomic<int> alive{0}, most{0};
    parallel_ordered(
        200, 6, {.threads = threads},
        [&](std::size_t i) -> std::shared_ptr<void> {
          const int now = ++alive;
          for (int seen = most; now > seen && !most.compare_exchange_weak(seen, now);) {
          }
          return std::make_shared<std::size_t>(i);
        },
        [&](std::size_t i, std::shared_ptr<void> r) {
          EXPECT_EQ(*static_cast<std::size_t*>(r.get()), i);
          placed.push_back(i);
          --alive;
        });
    ASSERT_EQ(placed.size(), 200u);
    EXPECT_TRUE(std::is_sorted(placed.begin(), placed.end()));
    EXPECT_LE(most, 6);
  }
}

TEST(Parallel, TheFirstErrorComesThrough) {
  auto run = [] {
    parallel_ordered(
        50, 4, {.threads = 2},
        [](std::size_t i) -> std::shared_ptr<void> {
          if (i == 17) throw Error(ErrorCode::BadFile, "tile 17");
          return std::make_shared<int>(0);
        },
        [](std::size_t, std::shared_ptr<void>) {});
  };
  EXPECT_EQ(error_of(run), ErrorCode::BadFile);
}

TEST(Parallel, CancellationStopsTheWork) {
  Progress progress;
  std::atomic<int> made{0};
  auto run = [&] {
    parallel_ordered(
        1000, 4, {.threads = 2, .progress = &progress},
        [&](std::size_t i) -> std::shared_ptr<void> {
          if (i == 10) progress.cancel();
          ++made;
          return std::make_shared<int>(0);
        },
        [](std::size_t, std::shared_ptr<void>) {});
  };
  EXPECT_EQ(error_of(run), ErrorCode::Cancelled);
  EXPECT_LT(made, 100);
}

TEST(Progress, NeverFallsAndReachesTheEnd) {
  std::vector<double> seen;
  Progress progress([&](double d) { seen.push_back(d); });
  parallel_ordered(
      20, 4, {.threads = 2, .progress = &progress},
      [](std::size_t) -> std::shared_ptr<void> { return std::make_shared<int>(0); },
      [](std::size_t, std::shared_ptr<void>) {});
  EXPECT_TRUE(std::is_sorted(seen.begin(), seen.end()));
  EXPECT_EQ(seen.back(), 1.0);
}

TEST(Clock, TimesAreSecondsSince1970) {
  EXPECT_EQ(seconds_of("1970-01-01T00:00Z"), 0);
  EXPECT_EQ(seconds_of("2000-01-01T12:00:00Z"), 946728000);
  EXPECT_EQ(seconds_of("2026-06-21T07:30-02:00"), *seconds_of("2026-06-21T09:30Z"));
  EXPECT_NEAR(*seconds_of("2026-06-21T09:30:15.25Z") - *seconds_of("2026-06-21T09:30Z"), 15.25, 1e-6);
  for (const char* bad : {"", "2026-06-21", "2026-06-21T09:30", "2026-13-01T00:00Z", "2026-02-29T00:00Z",
                          "2026-06-21T24:00Z", "2026-06-21T09:30:15.Z", "2026-06-21T09:30Zx", "26-06-21T09:30Z"})
    EXPECT_FALSE(seconds_of(bad)) << bad;
  // Each day of four centuries, and back.
  for (double t = -3e9; t < 7e9; t += 86400 * 31.37) EXPECT_NEAR(*seconds_of(time_text(t)), t, 0.51);
}

TEST(Scratch, RoomForTemporaryFilesIsAskedForBeforeItIsTaken) {
  require_room(4096, "a void");
  try {
    require_room(std::uint64_t{1} << 60, "a void");
    FAIL() << "nobody has an exabyte";
  } catch (const Error& e) {
    EXPECT_EQ(e.code(), ErrorCode::Io);
    EXPECT_NE(std::string(e.what()).find("a void: takes 1099511627777 MiB of temporary files"), std::string::npos)
        << e.what();
    EXPECT_NE(e.advice().find("TMPDIR"), std::string::npos);
  }
}

TEST(Memory, WhatIsGivenBackComesAgain) {
  // On a thread of its own, which has kept nothing yet.
  std::thread([] {
    for (std::size_t n : {std::size_t{1}, std::size_t{16383}, std::size_t{16384}, std::size_t{300000}}) {
      std::uint8_t* first = nullptr;
      {
        RawBytes a(n);
        first = a.data();
        EXPECT_EQ(reinterpret_cast<std::uintptr_t>(first) % alignof(double), 0u);
        std::fill(a.begin(), a.end(), std::uint8_t{7});
      }
      // Half of it is enough for the same memory, and zeros are zeros in it, too.
      const RawBytes b(n - n / 4, 0);
      if (n >= 20000) {
        EXPECT_EQ(b.data(), first);
      }
      EXPECT_EQ(std::count(b.begin(), b.end(), 0), static_cast<std::ptrdiff_t>(b.size()));
      // What another thread made can be given back here, and after its end.
      RawBytes c;
      std::thread([&] { c.assign(n, 9); }).join();
      EXPECT_EQ(c.back(), 9);
    }
  }).join();
  EXPECT_THROW(RawBytes(std::numeric_limits<std::ptrdiff_t>::max() - 8), std::exception);
}

}  // namespace
}  // namespace katoptra
