// The uncertainty plane: where it comes from, that it is free for who does not ask, and what is refused.
#include "katoptra/grid/uncertainty.hpp"

#include <cmath>
#include <random>

#include "katoptra/grid/turn.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

std::vector<float> uncertainties(const Grid& g) {
  const Block b = g.read(g.frame().window(), Planes::ValuesAndUncertainty);
  return {b.uncertainty_row(0), b.uncertainty_row(0) + b.window().cells()};
}

Grid plane_of(const Frame& f, std::vector<float> values, LengthUnit unit = LengthUnit::Metre) {
  return grid_from_values(
      f, std::move(values),
      {.kind = QuantityKind::Uncertainty, .unit = unit, .unit_known = true, .other_unit = {}, .heights = {}});
}

TEST(Uncertainty, TextsAndWhatTheyMean) {
  EXPECT_EQ(parse_uncertainty("0.05m"), (UncertaintyModel{.constant = Length::metres(0.05)}));
  EXPECT_EQ(parse_uncertainty("0.5", LengthUnit::Foot).constant, Length::feet(0.5));
  EXPECT_EQ(parse_uncertainty("5cm + 20cm * slope"),
            (UncertaintyModel{.constant = Length::metres(0.05), .per_slope = 0.2}));
  EXPECT_EQ(parse_uncertainty("0.25m+0.0075*depth"),
            (UncertaintyModel{.constant = Length::metres(0.25), .per_depth = 0.0075}));
  EXPECT_EQ(parse_uncertainty("1e-2m"), (UncertaintyModel{.constant = Length::metres(0.01)}));
  EXPECT_EQ(parse_uncertainty("1e+1m+1e-2*depth"), (UncertaintyModel{.constant = 10_m, .per_depth = 0.01}));
  EXPECT_EQ(parse_uncertainty("0m+0.1m*slope").per_slope, 0.1);
  // An order of S-44 is what it allows at 95 %, here in ten metres.
  const Frame f = utm_frame(3, 3);
  for (const auto& [order, allowed] : {std::pair{"s44 exclusive", std::hypot(0.15, 0.075)},
                                       {"S-44 Special", std::hypot(0.25, 0.075)},
                                       {"s44 1a", std::hypot(0.5, 0.13)},
                                       {"s44  2", std::hypot(1, 0.23)}}) {
    const Grid floor = grid_from_values(f, std::vector<float>(9, -10), metres_above_egm2008());
    const Block b = with_uncertainty(floor, parse_uncertainty(order)).read(f.window(), Planes::ValuesAndUncertainty);
    EXPECT_NEAR(static_cast<double>(b.uncertainty_row(1)[1]) * kTwoSided95, allowed, allowed / 200) << order;
  }
  for (const char* bad : {"", "0.05", "0m", "-0.05m", "0.05m+", "0.05m+3", "0.05m+0.2m*aspect", "0.05m+-0.2m*slope",
                          "5 %", "nan m", "infm", "0.05m+x*depth", "0.1m+0.2m*slope+0.3*depth", "a.tif"}) {
    std::string text;
    EXPECT_EQ(error_of([&] { parse_uncertainty(bad); }, &text), ErrorCode::BadArgument) << bad;
    EXPECT_NE(text.find("0.05m+0.2m*slope"), std::string::npos) << text;
  }
}

TEST(Uncertainty, OfAModelIsInTheUnitOfTheHeights) {
  const Frame f = utm_frame(9, 7, 2);
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  // Rises by 0.3 ft for each foot east and 0.4 ft for each north: a slope of 0.5 on the ground.
  const double cell = 2 / 0.3048;
  std::vector<float> z;
  for (int r = 0; r < 7; ++r)
    for (int c = 0; c < 9; ++c) z.push_back(static_cast<float>(cell * (0.3 * c - 0.4 * r) - 90));
  const Grid g = with_uncertainty(grid_from_values(f, z, feet), {.constant = Length::feet(0.2), .per_slope = 0.6096});
  // One-sided at the rim, the same everywhere; the scale of UTM there is within a thousandth of 1, and a part in 512 is
  // rounded.
  for (const float u : uncertainties(g)) EXPECT_NEAR(u, 0.2 + 2 * 0.5, 5e-3);
  const Grid deep =
      with_uncertainty(grid_from_values(f, z, feet), {.constant = Length::feet(0.3), .per_depth = 0.01, .times = 0.5});
  const std::vector<float> d = uncertainties(deep);
  for (std::size_t i = 0; i < z.size(); ++i)
    EXPECT_NEAR(d[i], 0.5 * (z[i] < 0 ? std::hypot(0.3, 0.01 * static_cast<double>(z[i])) : 0.3), 1e-6);
}

TEST(Uncertainty, OfASecondGridIsBroughtToTheUnit) {
  const Frame f = utm_frame(3, 2);
  const Grid heights = grid_from_values(f, {1, 2, kVoid, 4, 5, 6}, metres_above_egm2008());
  const Grid g = with_uncertainty(heights, plane_of(f, {1, 2, 3, kVoid, 0, 6}, LengthUnit::Foot), 0.5);
  const std::vector<float> u = uncertainties(g);
  EXPECT_FLOAT_EQ(u[0], 0.1524f);
  EXPECT_TRUE(std::isnan(u[2])) << "nothing is known of what is not there";
  EXPECT_TRUE(std::isnan(u[3]));
  EXPECT_EQ(u[4], 0.0f);
  const std::vector<float> feet = uncertainties(in_unit(g, LengthUnit::Foot));
  EXPECT_NEAR(feet[0], 0.5f, 1e-6f);
  EXPECT_EQ(uncertainties(depths_as_heights(g))[0], u[0]) << "a sign turns no uncertainty";
}

TEST(Uncertainty, WhatDoesNotBelongIsRefused) {
  const Frame f = utm_frame(3, 2);
  const Grid heights = grid_from_values(f, {1, 2, 3, 4, 5, 6}, metres_above_egm2008());
  std::string text;
  EXPECT_EQ(error_of(
                [&] {
                  with_uncertainty(heights, plane_of(utm_frame(3, 2, 2), {1, 1, 1, 1, 1, 1}));
                },
                &text),
            ErrorCode::Refused);
  EXPECT_NE(text.find("reproject --onto"), std::string::npos) << text;
  EXPECT_EQ(error_of(
                [&] {
                  with_uncertainty(heights, plane_of(utm_frame(2, 2), {1, 1, 1, 1}));
                },
                &text),
            ErrorCode::Refused);
  EXPECT_NE(text.find("2 x 2 cells of uncertainty for 3 x 2"), std::string::npos) << text;
  EXPECT_EQ(error_of(
                [&] {
                  with_uncertainty(heights, plane_of(utm_frame(3, 2, 1, 676003), {1, 1, 1, 1, 1, 1}));
                },
                &text),
            ErrorCode::Refused);
  EXPECT_NE(text.find("lies elsewhere"), std::string::npos) << text;
  const Grid degrees = grid_from_values(f, {1, 1, 1, 1, 1, 1}, {.kind = QuantityKind::Slope, .other_unit = "degree"});
  EXPECT_EQ(error_of([&] { with_uncertainty(heights, degrees); }), ErrorCode::Refused);
  EXPECT_EQ(error_of([&] { with_uncertainty(degrees, {.constant = 1_m}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { with_uncertainty(heights, UncertaintyModel{.constant = Length::metres(-1)}); }),
            ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { with_error_reach(heights, Length::metres(-1)); }), ErrorCode::BadArgument);
  for (const float wrong : {-0.1f, std::numeric_limits<float>::infinity()}) {
    const Grid g = with_uncertainty(heights, plane_of(f, {1, 1, 1, 1, wrong, 1}));
    EXPECT_NO_THROW(g.read({0, 0, 3, 2})) << "who does not ask is not troubled";
    EXPECT_EQ(error_of([&] { g.read({0, 0, 3, 2}, Planes::All); }, &text), ErrorCode::BadFile);
    EXPECT_NE(text.find("column 1, row 1"), std::string::npos) << text;
  }
}

TEST(Uncertainty, IsReadOnlyByWhoAsks) {
  // A plane that must not be read.
  class Forbidden final : public GridSource {
   public:
    explicit Forbidden(const Frame& f) {
      info_.frame = f;
      info_.quantity = {.kind = QuantityKind::Uncertainty};
    }
    const GridInfo& info() const override { return info_; }
    void read(const BlockView&) const override { throw Error(ErrorCode::Io, "was read"); }

   private:
    GridInfo info_;
  };
  const Frame f = utm_frame(8, 8);
  const Grid g = with_uncertainty(rough_grid(f, 1), Grid(std::make_shared<Forbidden>(f)));
  const Grid turned = mirrored(in_unit(g, LengthUnit::Foot), g.info(), true, true);
  EXPECT_TRUE(turned.carries_uncertainty());
  EXPECT_NO_THROW(turned.read({0, 0, 8, 8}, Planes::ValuesAndOrigin));
  EXPECT_EQ(error_of([&] { turned.read({0, 0, 8, 8}, Planes::ValuesAndUncertainty); }), ErrorCode::Io);
  EXPECT_FALSE(without_uncertainty(turned).carries_uncertainty());
}

// An operation that knows nothing of uncertainties cannot pass on one that is no longer true.
TEST(Uncertainty, IsDroppedByWhoDoesNotKnowIt) {
  class Doubled final : public GridSource {
   public:
    explicit Doubled(Grid in) : in_(std::move(in)) {}
    const GridInfo& info() const override { return in_.info(); }
    void read(const BlockView& out) const override {
      EXPECT_EQ(out.uncertainty, nullptr);
      in_.read_into(out);
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(0)[c] *= 2;
    }

   private:
    Grid in_;
  };
  const Grid g = with_uncertainty(rough_grid(utm_frame(5, 1), 1, 0), {.constant = 1_m});
  const Grid doubled{std::make_shared<Doubled>(g)};
  EXPECT_FALSE(doubled.carries_uncertainty());
  for (const float u : uncertainties(doubled)) EXPECT_TRUE(std::isnan(u));
  // Also beyond the edge.
  const Block b = g.read({-2, 0, 9, 1}, Planes::All);
  for (const int c : {0, 1, 7, 8}) EXPECT_TRUE(std::isnan(b.uncertainty_row(0)[c]));
  EXPECT_EQ(b.uncertainty_row(0)[2], 1.0f);
}

TEST(Uncertainty, AloneIsAGridOfItsOwn) {
  const Frame f = utm_frame(40, 30);
  const Grid g = with_uncertainty(rough_grid(f, 3), {.constant = 1_m, .per_slope = 1});
  const Grid alone = uncertainty_of(g);
  EXPECT_EQ(alone.quantity().kind, QuantityKind::Uncertainty);
  EXPECT_EQ(unit_name(alone.quantity()), "m");
  const std::vector<float> a = all_values(alone), b = uncertainties(g);
  for (std::size_t i = 0; i < a.size(); ++i) EXPECT_TRUE(same_bits(a[i], b[i]));
  expect_same_for_every_window(alone, 5);
  expect_same_for_every_window(g, 6);
  expect_same_for_every_window(with_uncertainty(rough_grid(f, 3), alone), 7);
}

TEST(Uncertainty, TheReachOfManyIsTheLongestThatIsKnown) {
  const Grid plain = rough_grid(utm_frame(4, 4), 1), sure = with_uncertainty(plain, {.constant = 1_m});
  const auto reach = [](const std::vector<Grid>& g) { return common_reach(g); };
  EXPECT_EQ(reach({plain}), std::nullopt);
  EXPECT_EQ(reach({sure}), std::nullopt);
  EXPECT_EQ(reach({with_error_reach(sure, 0_m)}), Length());
  EXPECT_EQ(reach({with_error_reach(sure, 0_m), plain, with_error_reach(sure, 3_m)}), 3_m);
  EXPECT_EQ(reach({with_error_reach(sure, 3_m), sure}), std::nullopt);
}

}  // namespace
}  // namespace katoptra
