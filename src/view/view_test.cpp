#include <algorithm>

#include "katoptra/view/map.hpp"
#include "katoptra/view/palette.hpp"

#include "canvas.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// Equal steps of height are equal steps of lightness, on land and in the sea.
TEST(Palette, LightnessGrowsEvenlyOnBothSidesOfTheShore) {
  const Palette p = Palette::land_and_sea(-60, 400);
  auto even = [&](double from, double to) {
    const double whole = lightness_of(p.at(to)) - lightness_of(p.at(from));
    EXPECT_GT(whole, 0.35);
    for (int i = 0; i < 20; ++i) {
      const double a = lightness_of(p.at(from + (to - from) * i / 20)),
                   b = lightness_of(p.at(from + (to - from) * (i + 1) / 20));
      EXPECT_NEAR((b - a) * 20, whole, 0.12 * whole) << i;
    }
  };
  even(1e-6, 400);
  even(-60, 0);
}

TEST(Palette, LandAndSeaMeetAtZeroAndNowhereElse) {
  const Palette p = Palette::land_and_sea(-60, 400);
  auto apart = [&](double a, double b) {
    return std::hypot(p.at(a).red - p.at(b).red,
                      std::hypot(p.at(a).green - p.at(b).green, p.at(a).blue - p.at(b).blue));
  };
  EXPECT_GT(apart(-0.01, 0.01), 0.3);
  for (double z = -59; z < 399; z += 1)
    if (z < -1 || z > 0) {
      EXPECT_LT(apart(z, z + 0.5), 0.03) << z;
    }
  // The sea at zero of a grid from orbit is water; a hair below zero is as pale.
  EXPECT_GT(Palette::land_and_sea(0, 400).at(0).blue, Palette::land_and_sea(0, 400).at(0).red);
  EXPECT_NEAR(Palette::land_and_sea(-0.3, 400).at(-0.3).blue, Palette::land_and_sea(-0.3, 400).at(0).blue, 0.02);
  // Only land, only sea.
  EXPECT_GT(Palette::land_and_sea(100, 200).at(100).green, Palette::land_and_sea(100, 200).at(100).blue);
  EXPECT_GT(Palette::land_and_sea(-200, -100).at(-150).blue, Palette::land_and_sea(-200, -100).at(-150).red);
  EXPECT_EQ(Palette::land_and_sea(0, 0).at(0).red, Palette::land_and_sea(0, 0).at(0).red);
}

TEST(Axis, StepsAndLabels) {
  EXPECT_EQ(axis_step(95, 10), 10);
  EXPECT_EQ(axis_step(0.4, 4), 0.1);
  EXPECT_EQ(axis_label(5842000, 500), "5\u2009842\u2009000");
  EXPECT_EQ(axis_label(-12.5, 0.5), "\u221212.5");
  EXPECT_EQ(axis_label(-1e-12, 0.1), "0.0");
  EXPECT_EQ(axis_label(2000, 500), "2000");
}

std::string head(const Picture& p) {
  return {p.bytes.begin(), p.bytes.begin() + std::min<std::ptrdiff_t>(8, static_cast<std::ptrdiff_t>(p.bytes.size()))};
}

TEST(Map, EveryFormatAndTheSameBytesEachTime) {
  const Grid g = rough_grid(utm_frame(80, 60), 1);
  for (auto [format, magic] : {std::pair{PictureFormat::Png, "\x89PNG"}, std::pair{PictureFormat::Pdf, "%PDF"},
                               std::pair{PictureFormat::Svg, "<?xml"}}) {
    const Picture a = draw_map(g, {.format = format, .width = 700, .overlays = {}}),
                  b = draw_map(g, {.format = format, .width = 700, .overlays = {}});
    EXPECT_EQ(head(a).substr(0, std::string(magic).size()), magic);
    if (format != PictureFormat::Svg) {
      EXPECT_EQ(a.bytes, b.bytes) << magic;
    }  // cairo numbers the parts of an SVG through the whole process
    EXPECT_EQ(a.width, 700);
  }
}

TEST(Map, EveryQuantityAndAGridWithoutACrs) {
  for (QuantityKind kind : {QuantityKind::Height, QuantityKind::Slope, QuantityKind::Aspect, QuantityKind::Shade,
                            QuantityKind::Code, QuantityKind::Unknown}) {
    Quantity q;
    q.kind = kind;
    EXPECT_GT(
        draw_map(grid_from_values(utm_frame(3, 2), {1, 2, 3, 4, 5, 6}, q), {.width = 600, .overlays = {}}).bytes.size(),
        1000u);
  }
  EXPECT_GT(draw_map(grid_from_values(utm_frame(3, 2).with_crs(Crs()), {1, 2, 3, 4, 5, kVoid}),
                     {.width = 600, .overlays = {}})
                .bytes.size(),
            1000u);
  EXPECT_GT(draw_map(grid_from_values(utm_frame(2, 1), {kVoid, kVoid}), {.width = 600, .overlays = {}}).bytes.size(),
            1000u);
}

TEST(Graph, VoidsOnlyAndOnePoint) {
  Section s;
  s.points = {{0, {0, 0}, std::nan("")}, {10, {1, 1}, std::nan("")}};
  EXPECT_GE(draw_section(s).width, 1280);
  s.points.resize(1);
  EXPECT_EQ(error_of([&] { draw_section(s); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([] { picture_format_for("a.bmp"); }), ErrorCode::Unsupported);
}

// A colour of its own for each class of every quantity that has classes, alike with no other.
TEST(Palette, EachClassHasAColour) {
  int kinds = 0;
  for (int k = 0; k <= static_cast<int>(QuantityKind::Wetness); ++k) {
    const auto kind = static_cast<QuantityKind>(k);
    const auto classes = classes_of(kind);
    EXPECT_EQ(colouring_of(kind) == Colouring::Classes, !classes.empty()) << name_of(kind);
    if (classes.empty()) continue;
    ++kinds;
    const Palette p = Palette::classes(kind);
    EXPECT_EQ(p.highest(), static_cast<double>(classes.size())) << name_of(kind);
    for (std::size_t a = 1; a <= classes.size(); ++a)
      for (std::size_t b = 1; b < a; ++b) {
        const Colour x = p.at(static_cast<double>(a)), y = p.at(static_cast<double>(b));
        EXPECT_GT(std::abs(x.red - y.red) + std::abs(x.green - y.green) + std::abs(x.blue - y.blue), 0.05)
            << name_of(kind) << " " << a << " " << b;
      }
  }
  EXPECT_EQ(kinds, 5);
}

}  // namespace
}  // namespace katoptra
