// Ramps of the user's own, and classes.
#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <limits>
#include <random>

#include "katoptra/view/classes.hpp"
#include "katoptra/view/palette.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

void expect_near(Colour a, Colour b) {
  EXPECT_NEAR(a.red, b.red, 0.006);
  EXPECT_NEAR(a.green, b.green, 0.006);
  EXPECT_NEAR(a.blue, b.blue, 0.006);
}

TEST(Ramp, GoesThroughItsColours) {
  const Palette p = parse_ramp("# mine\n-10 #1f3a5f\n\n0 214 230 236\n0 #5f7f4a\n100 250 245 230\n", "mine.txt");
  expect_near(p.at(-10), {0x1f / 255.0, 0x3a / 255.0, 0x5f / 255.0});
  expect_near(p.at(-500), p.at(-10));
  expect_near(p.at(100), {250 / 255.0, 245 / 255.0, 230 / 255.0});
  expect_near(p.at(-1e-9), {214 / 255.0, 230 / 255.0, 236 / 255.0});
  expect_near(p.at(1e-9), {0x5f / 255.0, 0x7f / 255.0, 0x4a / 255.0});
  EXPECT_NEAR(lightness_of(p.at(50)), (lightness_of(p.at(1e-9)) + lightness_of(p.at(100))) / 2, 0.01);
  EXPECT_EQ(p.lowest(), -10);
  EXPECT_EQ(p.highest(), 100);
}

TEST(Ramp, WhatIsNoneIsToldWithItsLine) {
  std::string text;
  for (const auto& [ramp, words] : {std::pair{"0 #000000\n5 #ffffff\n3 #888888\n", "line 3"},
                                    {"0 #000000\nhigh #ffffff\n", "line 2"},
                                    {"0 #00000\n1 #ffffff\n", "line 1"},
                                    {"0 #000000\n1 300 0 0\n", "line 2"},
                                    {"0 1 2\n1 #ffffff\n", "line 1"},
                                    {"0 #000000\n", "two colours"},
                                    {"", "two colours"}}) {
    EXPECT_EQ(error_of([&] { parse_ramp(ramp, "r.txt"); }, &text), ErrorCode::BadFile);
    EXPECT_NE(text.find(words), text.npos) << text;
  }
  std::mt19937 random(7);
  for (int n = 0; n < 300; ++n) {
    std::string bad = "0 #102030\n5 10 20 30\n9 #ffffff\n";
    for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(random());
    try {
      parse_ramp(bad, "r.txt");
    } catch (const Error&) {
    }
  }
}

TEST(Classes, HaveOneColourEach) {
  const Palette p = Palette::stepped(Palette::plain(0, 100), {10, 40, 70});
  for (const auto& [a, b] : {std::pair{1.0, 9.0}, {11.0, 39.0}, {41.0, 69.0}, {71.0, 99.0}})
    expect_near(p.at(a), p.at(b));
  EXPECT_GT(std::abs(lightness_of(p.at(9)) - lightness_of(p.at(11))), 0.03);
}

TEST(Classes, EqualAndQuantileAndGiven) {
  std::vector<double> z;
  for (int i = 0; i < 100; ++i) z.push_back(i * i);
  z.push_back(std::nan(""));
  EXPECT_EQ(class_breaks({.how = ClassesBy::Equal, .count = 3}, z), (std::vector<double>{9801 / 3.0, 9801 * 2 / 3.0}));
  EXPECT_EQ(class_breaks({.how = ClassesBy::Quantile, .count = 4}, z), (std::vector<double>{625, 2500, 5625}));
  EXPECT_EQ(class_breaks({.how = ClassesBy::Given, .given = {1, 5}}, z), (std::vector<double>{1, 5}));
  EXPECT_EQ(error_of([&] { class_breaks({.how = ClassesBy::Given, .given = {5, 1}}, z); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { class_breaks({.count = 1}, z); }), ErrorCode::BadArgument);
  EXPECT_TRUE(class_breaks({.how = ClassesBy::Quantile, .count = 5}, {3, 3, 3}).empty());
  EXPECT_TRUE(class_breaks({.how = ClassesBy::Natural, .count = 5}, {}).empty());
  EXPECT_EQ(parse_class_breaks("natural:6").count, 6);
  for (const char* bad : {"natural", "natural:1", "natural:99", "jolly:4", "equal:2.5", ""})
    EXPECT_EQ(error_of([&] { parse_class_breaks(bad); }), ErrorCode::BadArgument) << bad;
}

// Against every way to part a few values.
TEST(Classes, NaturalIsTheBestOfAll) {
  std::mt19937 random(std::random_device{}());
  for (int turn = 0; turn < 30; ++turn) {
    std::vector<double> z(11);
    for (double& v : z) v = static_cast<double>(random() % 60);
    std::sort(z.begin(), z.end());
    auto cost = [&](std::size_t a, std::size_t b) {
      double mean = 0, sum = 0;
      for (std::size_t i = a; i < b; ++i) mean += z[i] / static_cast<double>(b - a);
      for (std::size_t i = a; i < b; ++i) sum += (z[i] - mean) * (z[i] - mean);
      return sum;
    };
    double best = std::numeric_limits<double>::infinity();
    for (std::size_t i = 1; i < z.size(); ++i)
      for (std::size_t j = i + 1; j < z.size(); ++j) best = std::min(best, cost(0, i) + cost(i, j) + cost(j, z.size()));
    const auto breaks = class_breaks({.how = ClassesBy::Natural, .count = 3}, z);
    std::vector<std::size_t> cuts{0};
    for (const double b : breaks)
      cuts.push_back(static_cast<std::size_t>(std::lower_bound(z.begin(), z.end(), b) - z.begin()));
    cuts.push_back(z.size());
    double got = 0;
    for (std::size_t i = 1; i < cuts.size(); ++i)
      if (cuts[i] > cuts[i - 1]) got += cost(cuts[i - 1], cuts[i]);
    EXPECT_NEAR(got, best, 1e-6);
  }
}

}  // namespace
}  // namespace katoptra
