// What runs oblique to rows and columns: the sums it is found by, steps and ripples that are planted, and what is none.
#include <complex>
#include <numbers>

#include "check/check_testing.hpp"
#include "fourier.hpp"
#include "line_sums.hpp"

namespace katoptra {
namespace {

using namespace testing;

constexpr std::size_t kN = LineSums::kEdge;

TEST(LineSums, EveryCellIsOnOneLineOfEachShiftAndNearIt) {
  std::vector<float> values(kN * kN);
  std::mt19937 random(1);
  LineSums sums;
  for (int i = 0; i < 40; ++i) {
    const std::size_t row = random() % kN, col = random() % kN;
    values[row * kN + col] = 1;
    const LineTurn turn = kLineTurns[i % 4];
    sums.sum(values.data(), turn);
    values[row * kN + col] = 0;
    const auto down = static_cast<double>(turn.transposed ? col : row);
    const auto side = static_cast<double>(turn.transposed ? row : col),
               across = turn.mirrored ? static_cast<double>(kN - 1) - side : side;
    for (std::size_t s = 0; s < kN; ++s) {
      std::vector<double> lines;
      for (std::size_t x = 0; x < LineSums::kWidth; ++x)
        if (sums.of_shift(s)[x] != 0) lines.push_back(static_cast<double>(x) - static_cast<double>(kN));
      ASSERT_EQ(lines.size(), 1u) << "shift " << s;
      // Götz & Druck: a line of log2 N halvings keeps within log2(N) / 6 of the straight one.
      EXPECT_NEAR(lines[0] + static_cast<double>(s) * down / static_cast<double>(kN - 1), across, 7.0 / 6 + 1e-9);
    }
  }
}

TEST(LineSums, AreSums) {
  std::mt19937 random(2);
  std::vector<float> values(kN * kN);
  double total = 0;
  for (float& v : values) total += static_cast<double>(v = static_cast<float>(random() % 100));
  LineSums sums;
  sums.sum(values.data(), {});
  for (std::size_t s = 0; s < kN; ++s) {
    double all = 0;
    for (std::size_t x = 0; x < LineSums::kWidth; ++x) all += static_cast<double>(sums.of_shift(s)[x]);
    EXPECT_EQ(all, total) << s;
  }
  for (std::size_t c = 0; c < kN; ++c) {
    float column = 0;
    for (std::size_t r = 0; r < kN; ++r) column += values[r * kN + c];
    EXPECT_EQ(sums.of_shift(0)[kN + c], column);
  }
}

TEST(Fourier, AgreesWithTheSum) {
  std::mt19937 random(3);
  std::normal_distribution<double> any;
  std::vector<std::complex<double>> x(64), y;
  for (auto& v : x) v = {any(random), any(random)};
  y = x;
  fourier_transform<64>(y.data());
  for (std::size_t k = 0; k < 64; ++k) {
    std::complex<double> sum = 0;
    for (std::size_t i = 0; i < 64; ++i)
      sum += x[i] * std::polar(1.0, -2 * std::numbers::pi * static_cast<double>(k * i % 64) / 64);
    EXPECT_LT(std::abs(y[k] - sum), 1e-12);
  }
}

// ---- planted

template <class Change>
CheckReport with(const Frame& f, Change change, const Quantity& q = metres_above_egm2008()) {
  auto v = hills(f, 41);
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c) {
      float& z = v[static_cast<std::size_t>(r * f.cols() + c)];
      z = static_cast<float>((static_cast<double>(z) + change(static_cast<double>(c), static_cast<double>(r))) /
                             metres_per(q.unit));
    }
  return check(grid_of(f, v, q));
}

TEST(Oblique, AStepIsMeasuredAndPlaced) {
  const Frame f = utm_frame(701, 643);
  for (const double degrees : {8.0, 30.0, 45.0, 71.0, 100.0, 135.0, 163.0}) {
    const double a = degrees * std::numbers::pi / 180, e = std::cos(a), s = std::sin(a);
    const CheckReport r = with(f, [&](double c, double row) {
      return (c - 350) * -s + (row - 320) * e > 0 ? 0.15 : 0;  // higher on one side of the line
    });
    const Finding* k = found(r, "step");
    ASSERT_TRUE(k) << degrees;
    EXPECT_EQ(r.findings.size(), 1u) << degrees << ": " << r.findings.back().message;
    EXPECT_NEAR(*k->measure, 0.15, 0.02) << degrees;
    // Rows run south: what is added lies towards (-s, e).
    const char* higher = degrees < 22 || degrees > 158 ? (degrees < 90 ? "south" : "north")
                         : degrees < 68                ? "south-west"
                         : degrees < 112               ? "west"
                                                       : "north-west";
    EXPECT_NE(k->message.find(std::string("to the ") + higher + " lies"), std::string::npos) << k->message;
    EXPECT_GE(k->place.size(), 8u);
    for (const double along : {-230.0, 0.0, 230.0})
      EXPECT_TRUE(contains(k->place, f.centre(350 + along * e, 320 + along * s))) << degrees << " at " << along;
    EXPECT_LT(planar_area(k->place), 8 * 1000);
  }
}

TEST(Oblique, AStepInFeetAndBetweenVoids) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const CheckReport r = with(
      utm_frame(640, 700),
      [](double c, double row) {
        if (std::hypot(c - 320, row - 300) < 30) return std::nan("");
        return row > 100 + 0.7 * c ? -0.2 : 0;
      },
      feet);
  ASSERT_TRUE(found(r, "step"));
  EXPECT_NEAR(*found(r, "step")->measure, 0.2 / 0.3048, 0.06);
  EXPECT_EQ(found(r, "step")->unit, "ft");
}

TEST(Oblique, SameForEveryBandHeight) {
  const Frame f = utm_frame(530, 601);
  auto v = hills(f, 43);
  for (std::int64_t r = 0; r < f.rows(); ++r)
    for (std::int64_t c = 0; c < f.cols(); ++c)
      v[static_cast<std::size_t>(r * f.cols() + c)] += static_cast<float>(
          (r > c ? 0.2 : 0) + 0.04 * std::sin(static_cast<double>(c) * 0.6 + static_cast<double>(r) * 0.9));
  const Grid g = grid_of(f, v);
  const CheckReport expected = check(g, {.run = {.threads = 1}});
  for (const char* code : {"step", "ripple"}) EXPECT_TRUE(found(expected, code)) << code;
  for (int block : {1, 2, 7, 64}) {
    const CheckReport got = check(g, {.run = {.threads = 3, .block = block}});
    ASSERT_EQ(got.findings.size(), expected.findings.size()) << block;
    for (std::size_t i = 0; i < got.findings.size(); ++i)
      EXPECT_EQ(got.findings[i].message, expected.findings[i].message);
  }
}

// What is straight in the ground and no mark of a survey.
TEST(Oblique, ScarpsBanksAndShortWallsAreNoSteps) {
  const Frame f = utm_frame(701, 643);
  const auto off = [](double c, double row) { return (row - 320) * 0.8 - (c - 350) * 0.6; };
  EXPECT_FALSE(found(with(f, [&](double c, double r) { return 8 * std::tanh(off(c, r) / 5); }), "step")) << "a scarp";
  EXPECT_FALSE(found(with(f, [&](double c, double r) { return std::abs(off(c, r)) < 3 ? 0.5 : 0; }), "step"))
      << "a dike";
  EXPECT_FALSE(found(with(f, [&](double c, double r) { return std::clamp(off(c, r), -6.0, 6.0) * 0.15; }), "step"))
      << "an embankment";
  EXPECT_FALSE(found(with(f,
                          [&](double c, double r) {
                            const double along = (r - 320) * 0.6 + (c - 350) * 0.8, up = off(c, r);
                            return std::abs(along) < 150 && up > 0 ? std::max(0.0, 0.4 - up / 200) : 0;
                          }),
                     "step"))
      << "a wall of 300 cells";
}

TEST(Oblique, ARippleHasADirectionAndALength) {
  const Frame f = utm_frame(640, 600);
  for (const double bearing : {20.0, 65.0, 115.0, 160.0}) {
    const double b = bearing * std::numbers::pi / 180;
    const CheckReport r = with(f, [&](double c, double row) {
      return 0.03 * std::sin(2 * std::numbers::pi * (c * std::sin(b) - row * std::cos(b)) / 6.4);
    });
    const Finding* k = found(r, "ripple");
    ASSERT_TRUE(k) << bearing;
    EXPECT_NEAR(*k->measure, 0.03, 0.004);
    double told = 0, length = 0;
    ASSERT_EQ(std::sscanf(k->message.c_str(), "a regular ripple across %lf degrees, every %lf cells", &told, &length),
              2)
        << k->message;
    EXPECT_NEAR(told, bearing, 2.5);
    EXPECT_NEAR(length, 6.4, 0.25);
    EXPECT_EQ(r.findings.size(), 1u) << bearing << ": " << r.findings.back().message;
  }
}

TEST(Oblique, ARoundedPlaneIsStillAPlane) {
  const Frame f = utm_frame(300, 300);
  for (const double step : {0.01, 0.001}) {
    auto v = hills(f, 42);
    for (std::int64_t r = 0; r < 300; ++r)
      for (std::int64_t c = 0; c < 300; ++c) {
        float& z = v[static_cast<std::size_t>(r * 300 + c)];
        if (r >= 100 && r < 150 && c >= 90 && c < 140) z = static_cast<float>(50 + 0.213 * c - 0.104 * r);
        z = static_cast<float>(std::round(static_cast<double>(z) / step) * step);
      }
    const CheckReport r = check(grid_of(f, v));
    ASSERT_TRUE(found(r, "plane")) << step;
    EXPECT_EQ(found(r, "plane")->place.size(), 1u);
    EXPECT_TRUE(contains(found(r, "plane")->place, f.centre(115, 125)));
  }
}

}  // namespace
}  // namespace katoptra
