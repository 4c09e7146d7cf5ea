// The table of products: what is true of every row, so that a new one is tested by being there.
#include "katoptra/terrain/products.hpp"

#include <set>

#include "katoptra/terrain/derivatives.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

TEST(Products, EveryRowMakesWhatItSays) {
  const Grid g = rough_grid(utm_frame(41, 37, 2), 3, 4);
  std::set<std::string> names;
  for (const Product& p : products()) {
    SCOPED_TRACE(p.name);
    EXPECT_TRUE(names.insert(p.name).second);
    EXPECT_EQ(product_named(p.name), &p);
    EXPECT_FALSE(p.help.empty());
    const Grid made = p.make(g, p.settings());
    EXPECT_EQ(made.quantity().kind, p.gives);
    EXPECT_EQ(made.frame(), g.frame());
    expect_same_for_every_window(made, 7);
    for (const Setting& s : p.options) {
      EXPECT_FALSE(s.help.empty());
      if (s.kind == SettingKind::Word) {
        EXPECT_NE(std::find(s.words.begin(), s.words.end(), s.otherwise), s.words.end());
      }

      EXPECT_EQ(error_of([&] { p.settings({{s.name, "nonsense"}}); }), ErrorCode::BadArgument) << s.name;
    }
    EXPECT_EQ(error_of([&] { p.settings({{"nonsense", "1"}}); }), ErrorCode::BadArgument);
  }
  EXPECT_EQ(product_named("nonsense"), nullptr);
}

void expect_equal(const std::vector<float>& a, const std::vector<float>& b) {
  ASSERT_EQ(a.size(), b.size());
  for (std::size_t i = 0; i < a.size(); ++i) ASSERT_TRUE(same_bits(a[i], b[i])) << i;
}

TEST(Products, SettingsReachTheFunction) {
  const Grid g = rough_grid(utm_frame(41, 37, 2), 3, 4);
  const auto make = [&](const char* name, const std::map<std::string, std::string>& given) {
    const Product& p = *product_named(name);
    return all_values(p.make(g, p.settings(given)));
  };
  expect_equal(make("slope", {{"as", "percent"}}), all_values(slope(g, SlopeAs::Percent)));
  expect_equal(
      make("hillshade", {{"azimuth", "300deg"}, {"altitude", "30deg"}, {"exaggerate", "2.5"}}),
      all_values(hillshade(g, {.azimuth = Angle::degrees(300), .altitude = Angle::degrees(30), .exaggeration = 2.5})));
  // What cannot be is refused before a cell is read.
  const Product& shade = *product_named("hillshade");
  EXPECT_EQ(error_of([&] { shade.make(g, shade.settings({{"altitude", "95deg"}})); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { shade.make(g, shade.settings({{"exaggerate", "0"}})); }), ErrorCode::BadArgument);
}

// In one word, as it is written at the prompt.
TEST(Products, CallsInOneWord) {
  const ProductCall plain = parse_product("slope");
  EXPECT_EQ(plain.product, product_named("slope"));
  EXPECT_EQ(plain.name, "slope");
  EXPECT_EQ(plain.settings.word("as"), "degrees");
  const ProductCall set = parse_product("slope:as=percent,window=9");
  EXPECT_EQ(set.name, "slope-percent-9");
  EXPECT_EQ(set.settings.word("as"), "percent");
  EXPECT_EQ(set.settings.window("window"), 9);
  EXPECT_EQ(parse_product("hillshade:azimuth=300.5deg").name, "hillshade-300.5deg");
  const ProductCall lengths = parse_product("position:radius=10m,50m,as=deviations");
  EXPECT_EQ(lengths.settings.lengths("radius").size(), 2u);
  EXPECT_EQ(lengths.settings.word("as"), "deviations");
  EXPECT_EQ(lengths.name, "position-10m_50m-deviations");
  for (const char* text :
       {"position:radius=10", "position:radius=10m,,20m", "position:radius=10m,", "position:inner=1m,2m", "", "slop",
        ":as=percent", "slope:", "slope:as", "slope:as=", "slope:=percent", "slope:as=percent,",
        "slope:as=percent,as=ratio", "slope:as=steep", "slope:kind=plan", "slope:window=x", "curvature:window=3.5",
        "slope as=percent", "slope:as=percent,,window=3"})
    EXPECT_EQ(error_of([&] { parse_product(text); }), ErrorCode::BadArgument) << text;
}

}  // namespace
}  // namespace katoptra
