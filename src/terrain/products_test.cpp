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

}  // namespace
}  // namespace katoptra
