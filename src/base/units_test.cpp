// Numbers with units, there and back: whatever is printed is read as what it was.
#include "katoptra/base/units.hpp"

#include <cmath>
#include <fmt/format.h>

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// A number of any size that people write: up to nine decimals, and both signs.
double any_number(std::mt19937& random) {
  const int decimals = static_cast<int>(random() % 10);
  const double whole = static_cast<double>(random() % 1'000'000), part = static_cast<double>(random() % 1'000'000'000);
  const double n = whole + std::floor(part / 1e9 * std::pow(10, decimals)) / std::pow(10, decimals);
  return random() % 2 ? n : -n;
}

TEST(UnitsProperty, EachUnitIsReadAsItIsDefined) {
  const std::pair<const char*, double> units[] = {{"m", 1},         {"km", 1000},   {"cm", 0.01},
                                                  {"mm", 0.001},    {"ft", 0.3048}, {"ftUS", 1200.0 / 3937},
                                                  {"mi", 1609.344}, {"nmi", 1852}};
  std::mt19937 random(1);
  for (int turn = 0; turn < 400; ++turn) {
    const double n = any_number(random);
    for (const auto& [unit, metres] : units)
      for (const char* between : {"", " "}) {
        const std::string text = fmt::format("{:.9f}{}{}", n, between, unit);
        ASSERT_NEAR(Length::parse(text).metres(), n * metres, 1e-12 * std::abs(n * metres)) << text;
      }
    for (const LengthUnit unit : {LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot}) {
      ASSERT_EQ(Length::of(n, unit).in(unit), n) << fmt::format("{:.9f} {}", n, symbol(unit));
      ASSERT_EQ(Length::parse(fmt::format("{}", n), unit), Length::of(n, unit));
      ASSERT_EQ(Length::parse(fmt::format("{}{}", n, symbol(unit))).in(unit), n);
      ASSERT_EQ(parse_length_unit(symbol(unit)), unit);
    }
  }
}

TEST(UnitsProperty, WhatIsPrintedForPeopleIsReadBackToThreeDigits) {
  std::mt19937 random(2);
  for (int turn = 0; turn < 2000; ++turn) {
    const double metres = std::pow(10, -3 + 9.0 * static_cast<double>(random() % 100000) / 100000);
    const std::string text = format_length(Length::metres(metres));
    ASSERT_NEAR(Length::parse(text).metres(), metres, 0.0051 * metres) << text;
    ASSERT_EQ(text.find('e'), text.npos) << text;
    const std::string area = format_area(metres);
    const double unit = area.ends_with(" km2") ? 1e6 : area.ends_with(" ha") ? 1e4 : 1;
    const std::string number = area.substr(0, area.find(' '));
    if (metres > 1) {
      ASSERT_NEAR(*parse_number(number) * unit, metres, 0.051 * metres + 0.5) << area << " for " << metres;
    }

    const double bytes = metres;
    if (bytes >= 1) {
      ASSERT_NEAR(static_cast<double>(parse_bytes(format_bytes(bytes))), bytes, 0.06 * bytes + 1)
          << format_bytes(bytes);
    }
  }
}

TEST(UnitsProperty, DegreesMinutesAndSeconds) {
  std::mt19937 random(3);
  for (int turn = 0; turn < 2000; ++turn) {
    const int d = static_cast<int>(random() % 180), m = static_cast<int>(random() % 60);
    const double s = static_cast<double>(random() % 60000) / 1000;
    const double degrees = d + m / 60.0 + s / 3600;
    const bool negative = random() % 2;
    const char side = random() % 2 ? (negative ? 'W' : 'E') : (negative ? 'S' : 'N');
    if ((side == 'S' || side == 'N') && degrees > 90) continue;
    const double truth = negative ? -degrees : degrees;
    for (const std::string& text :
         {fmt::format("{}°{}'{:.3f}\"{}", d, m, s, side), fmt::format("{} {} {:.3f} {}", d, m, s, side),
          fmt::format("{:.12f}", truth), fmt::format("{}° {}' {:.3f}\" {}", d, m, s, side)})
      ASSERT_NEAR(parse_degrees(text), truth, 1e-9) << text;
    ASSERT_NEAR(Angle::parse(fmt::format("{:.9f}deg", truth)).degrees(), truth, 1e-9);
    ASSERT_NEAR(Angle::parse(fmt::format("{:.12f}rad", truth * M_PI / 180)).degrees(), truth, 1e-9);
    ASSERT_NEAR(Angle::parse(fmt::format("{:.9f}gon", truth / 0.9)).degrees(), truth, 1e-8);
    ASSERT_NEAR(Angle::radians(Angle::degrees(truth).radians()).degrees(), truth, 1e-10);
  }
}

// What is no number with a unit is refused, whatever it begins with.
TEST(UnitsProperty, NonsenseIsRefused) {
  for (const char* text : {"", " ", "m", "one m", "1 metre 2", "1,5m", "1e", "0x10m", "nan m", "inf", "1 m2", "--1m",
                           "1m1m", "1 parsec", "1\nm", "١m", "1e400m", "+-1m"})
    EXPECT_EQ(error_of([&] { (void)Length::parse(text); }), ErrorCode::BadArgument) << '\'' << text << '\'';
  for (const char* text : {"", "deg", "1 degree north", "1.2.3", "nan", "1e999deg"})
    EXPECT_EQ(error_of([&] { (void)Angle::parse(text); }), ErrorCode::BadArgument) << '\'' << text << '\'';
  for (const char* text : {"", "91 N", "361 E", "-400", "10 60 0 N", "10 0 60 N", "N", "10 N 20", "10X", "-10 S"})
    EXPECT_EQ(error_of([&] { (void)parse_degrees(text); }), ErrorCode::BadArgument) << '\'' << text << '\'';
  for (const char* text : {"", "M", "-1M", "1.5.2G", "1Q", "1e99G"})
    EXPECT_EQ(error_of([&] { (void)parse_bytes(text); }), ErrorCode::BadArgument) << '\'' << text << '\'';
}

}  // namespace
}  // namespace katoptra
