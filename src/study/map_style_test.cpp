// Styles of maps: what each layer does to the pixels, in which order, and what is said of those that are mistyped.
#include "katoptra/study/map_style.hpp"

#include <fmt/format.h>
#include <random>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/image_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
using Rgb = std::array<int, 3>;

class Styles : public ::testing::Test {
 protected:
  // A level surface, so that light changes nothing.
  Grid level(double z = 50) {
    return grid_from_function(
        utm_frame(64, 48), [=](double, double) { return z; }, metres_above_egm2008());
  }
  MapStyle style(const std::string& text) {
    write_text_file(folder_ / "style.toml", text, {.overwrite = true});
    return read_map_style(folder_ / "style.toml");
  }
  Pixels drawn(const Grid& g, const std::string& text, std::vector<std::string>* notes = nullptr) {
    ImageOptions o;
    apply(style(text), g, o, notes);
    return draw_image(g, o).rows(0, g.frame().rows());
  }
  static Rgb at(const Pixels& p, const Grid& g, std::int64_t col, std::int64_t row) {
    const auto i = static_cast<std::size_t>(row * g.frame().cols() + col) * 4;
    return {p[i], p[i + 1], p[i + 2]};
  }
  static int apart(const Rgb& a, const Rgb& b) {
    return std::max({std::abs(a[0] - b[0]), std::abs(a[1] - b[1]), std::abs(a[2] - b[2])});
  }
  // A picture of one colour over the western half of the surface, with its place beside it.
  void write_half(const Grid& g, const std::string& name, Rgb colour) {
    const Frame& f = g.frame();
    const PlacedImage image{.frame = f.sub({0, 0, f.cols() / 2, f.rows()}),
                            .name = "half",
                            .rows = [=](std::int64_t first, std::int64_t end) {
                              Pixels p;
                              for (std::int64_t i = 0; i < (end - first) * (f.cols() / 2); ++i)
                                for (const int v : {colour[0], colour[1], colour[2], 255})
                                  p.push_back(static_cast<std::uint8_t>(v));
                              return p;
                            }};
    write_image(image, folder_ / name, {.overwrite = true});
  }

  TemporaryFolder folder_;
};

TEST_F(Styles, LayersLieInTheirOrder) {
  const Grid g = level();
  const Rgb land = at(drawn(g, "# as it is"), g, 50, 20), red{200, 30, 40};
  write_half(g, "half.png", red);
  const std::string picture = "[[layer]]\nkind = \"picture\"\nfile = \"half.png\"\n",
                    ground = "[[layer]]\nkind = \"land\"\n";
  for (const auto& [text, west] : {std::pair{picture, red},
                                   {ground + picture, red},
                                   {picture + ground, land},
                                   {picture + ground + "opacity = 0\n", red}}) {
    const Pixels p = drawn(g, text);
    EXPECT_LE(apart(at(p, g, 10, 20), west), 1) << text;
    if (text.find("opacity") == std::string::npos) {
      EXPECT_LE(apart(at(p, g, 50, 20), land), 1) << text;
    }
  }
  // Half of each, and one that darkens.
  const Pixels half = drawn(g, picture + "opacity = 0.5\n"), dark = drawn(g, picture + "multiply = true\n");
  for (std::size_t i = 0; i < 3; ++i) {
    EXPECT_NEAR(at(half, g, 10, 20)[i], (red[i] + land[i]) / 2.0, 2);
    EXPECT_NEAR(at(dark, g, 10, 20)[i], red[i] * land[i] / 255.0, 2);
    EXPECT_EQ(at(dark, g, 50, 20)[i], at(half, g, 50, 20)[i]);
  }
}

TEST_F(Styles, PicturesOfEachFormComeBackWhereTheyWere) {
  const Grid g = level();
  const Rgb colour{20, 140, 220};
  for (const auto& [name, off] : {std::pair{"a.png", 0}, {"a.jpg", 6}, {"a.tif", 0}}) {
    write_half(g, name, colour);
    const std::vector<Grid> parts = open_picture(folder_ / name);
    ASSERT_GE(parts.size(), 3u) << name;
    EXPECT_TRUE(parts[0].frame().window_of(g.frame().sub({0, 0, 32, 48}))) << name;
    for (std::size_t i = 0; i < 3; ++i)
      EXPECT_NEAR(static_cast<double>(parts[i].at(5, 40)), colour[i], off) << name << " " << i;
  }
  // Nothing is guessed about a picture that does not say where it lies.
  std::filesystem::remove(folder_ / "a.prj");
  std::string said;
  EXPECT_EQ(error_of([&] { open_picture(folder_ / "a.png"); }, &said), ErrorCode::Refused);
  EXPECT_NE(said.find(".prj"), said.npos);
  EXPECT_EQ(open_picture(folder_ / "a.png", g.frame().crs())[0].frame().crs().epsg(), 32725);
  std::filesystem::remove(folder_ / "a.pgw");
  EXPECT_EQ(error_of([&] { open_picture(folder_ / "a.png", g.frame().crs()); }, &said), ErrorCode::Refused);
  EXPECT_NE(said.find(".pgw"), said.npos);
}

TEST_F(Styles, DamagedPicturesAreRefusedAndNothingElse) {
  const Grid g = level();
  std::mt19937 random(7);
  for (const char* name : {"a.png", "a.jpg"}) {
    write_half(g, name, {1, 2, 3});
    const std::string whole = read_text_file(folder_ / name);
    for (int i = 0; i < 300; ++i) {
      std::string bad = whole;
      for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(random());
      if (i % 4 == 0) bad.resize(random() % bad.size());
      write_text_file(folder_ / name, bad, {.overwrite = true});
      try {
        for (const Grid& part : open_picture(folder_ / name)) all_values(part);
      } catch (const Error& e) {
        EXPECT_TRUE(e.code() == ErrorCode::BadFile || e.code() == ErrorCode::TooLarge) << e.what();
      }
    }
  }
}

TEST_F(Styles, AGridLiesOverTheLandInItsOwnColours) {
  const Grid g = level();
  const Frame east = g.frame().sub({32, 0, 32, 48});
  Quantity slope;
  slope.kind = QuantityKind::Slope;
  write_grid(grid_from_function(
                 east, [](double x, double) { return x; }, slope),
             folder_ / "slope.tif");
  const Rgb land = at(drawn(g, "# as it is"), g, 10, 10);
  const Pixels p = drawn(g, "[[layer]]\nkind = \"grid\"\nfile = \"slope.tif\"\n");
  EXPECT_EQ(apart(at(p, g, 10, 10), land), 0);
  EXPECT_GT(apart(at(p, g, 40, 10), land), 20);
  EXPECT_GT(apart(at(p, g, 40, 10), at(p, g, 62, 10)), 20);
}

// Sure on the left, unsure on the right: as a map of the plane alone would have it.
TEST_F(Styles, HowSureTheSurfaceIsLiesOverIt) {
  const Grid bare = level();
  std::vector<float> u;
  for (std::int64_t i = 0; i < 64 * 48; ++i) u.push_back(i % 64 < 32 ? 0.1f : 0.8f);
  const Grid sure = with_uncertainty(bare, grid_from_values(bare.frame(), u, uncertainty_of(bare.quantity())));
  const Pixels p = drawn(sure, "[[layer]]\nkind = \"uncertainty\"\n");
  const Pixels alone = draw_image(uncertainty_of(sure)).rows(0, 48);
  for (const std::int64_t col : {10, 50}) EXPECT_EQ(at(p, sure, col, 20), at(alone, sure, col, 20));
  EXPECT_GT(apart(at(p, sure, 10, 20), at(p, sure, 50, 20)), 60);
  std::string said;
  EXPECT_EQ(error_of([&] { drawn(bare, "[[layer]]\nkind = \"uncertainty\"\n"); }, &said), ErrorCode::Refused);
  EXPECT_NE(said.find("how sure it is"), std::string::npos) << said;
}

TEST_F(Styles, LandAndSeaPartAtTheShore) {
  const Grid g = grid_from_function(
      utm_frame(64, 48), [](double x, double) { return x - 676030; }, metres_above_egm2008());
  auto blue = [](const Rgb& c) { return c[2] > c[1]; };
  // Cells 29 and 31 are 0.5 m below and 1.5 m above zero; at 10 m the shore is ten cells farther east.
  const Pixels zero = drawn(g, "# as it is"), ten = drawn(g, "[[layer]]\nkind = \"land\"\nshore = \"10m\"\n"),
               feet = drawn(g, "[[layer]]\nkind = \"land\"\nshore = \"32.8ft\"\n");
  for (const auto& [pixels, shore] : {std::pair{&zero, 30}, {&ten, 40}, {&feet, 40}})
    for (int col = 0; col < 64; ++col)
      EXPECT_EQ(blue(at(*pixels, g, col, 24)), col < shore) << col << " of shore " << shore;
}

TEST_F(Styles, ContoursOfAReferenceAreThoseOfTheSurface) {
  // The same ground above the ellipsoid, in feet, with another cell: its contours fall onto those of the surface.
  const Grid g = grid_from_function(
      utm_frame(80, 60), [](double x, double y) { return (x - 676000) + 0.3 * (5842000 - y); }, metres_above_egm2008());
  Quantity other;
  other.heights = HeightReference::parse("ellipsoid");
  other.unit = LengthUnit::Foot;
  other.unit_known = true;
  write_grid(grid_from_function(
                 utm_frame(50, 40, 2, 675990, 5842010),
                 [](double x, double y) { return ((x - 676000) + 0.3 * (5842000 - y) + 9.5) / 0.3048; }, other),
             folder_ / "chart.tif");
  const std::string layer = "[[layer]]\nkind = \"reference\"\nfile = \"chart.tif\"\nlevels = [\"40m\"]\n";
  StyleLayer l = style(layer + "shift = \"-9.5m\"\n").layers[0];
  const MapOverlay o = overlay_of(l, g, {});
  ASSERT_FALSE(o.layer.features.empty());
  for (const Feature& f : o.layer.features)
    for (const Point& p : std::get<LineString>(f.geometry))
      EXPECT_NEAR((p.x - 676000) + 0.3 * (5842000 - p.y), 40, 1e-3);
  // Without it they are refused, not drawn 9.5 m off.
  std::string said;
  l = style(layer).layers[0];
  EXPECT_EQ(error_of([&] { overlay_of(l, g, {}); }, &said), ErrorCode::MissingResource) << said;
  EXPECT_NE(said.find("shift"), said.npos) << said;
}

TEST_F(Styles, WaypointsBearTheHeightOfTheSurface) {
  const Grid g = grid_from_function(
      utm_frame(64, 48), [](double x, double) { return x - 676000; }, metres_above_egm2008());
  write_text_file(folder_ / "w.csv", "name,x,y\nmill,676010.5,5841990\n,676020.5,5841980\nfar,700000,5841980\n");
  const StyleLayer l = style("[[layer]]\nkind = \"waypoints\"\nfile = \"w.csv\"\nheights = true\n").layers[0];
  const MapOverlay o = overlay_of(l, g, {});
  std::vector<std::string> words;
  for (const Feature& f : o.layer.features) words.push_back(text_of(*property_of(f, o.look.words)));
  EXPECT_EQ(words, (std::vector<std::string>{"mill 10.5 m", "20.5 m", "far"}));
}

TEST_F(Styles, BreaksOfClassesMayHaveAUnit) {
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  EXPECT_EQ(error_of([&] { class_breaks_from("0,10,-2.5e1"); }), ErrorCode::BadArgument);  // they do not ascend
  EXPECT_EQ(class_breaks_from("0,10,25", feet).given, (std::vector<double>{0, 10, 25}));
  const ClassBreaks by = class_breaks_from("0,10, 25m", feet);
  ASSERT_EQ(by.given.size(), 3u);
  EXPECT_NEAR(by.given[1], 10 / 0.3048, 1e-9);
  EXPECT_NEAR(by.given[2], 25 / 0.3048, 1e-9);
  EXPECT_NEAR(class_breaks_from("3,6ft").given[1], 6 * 0.3048, 1e-9);
  EXPECT_EQ(class_breaks_from("natural:4").count, 4);
  for (const char* bad : {"", "a", "1,,2", "1,2x", "1m,2m,", "even:3"})
    EXPECT_EQ(error_of([&] { class_breaks_from(bad); }), ErrorCode::BadArgument) << bad;
}

TEST_F(Styles, WhatIsMistypedIsToldWithItsLine) {
  const struct {
    std::string text;
    int line;
    const char* said;
  } cases[] = {{"titel = \"x\"", 1, "'titel' is not known"},
               {"title = 5", 1, "must be text"},
               {"title = \"x\"\n[[layer]]\nkind = \"sontours\"", 3, "no layer of a map"},
               {"[[layer]]\nlabel = \"x\"", 1, "no kind"},
               {"[[layer]]\nkind = \"contours\"\ninterwal = \"5m\"", 3, "'interwal' is not known"},
               {"[[layer]]\nkind = \"contours\"", 2, "interval or levels"},
               {"[[layer]]\nkind = \"contours\"\ninterval = \"5m\"\nlevels = [\"1m\"]", 3, "leave one"},
               {"[[layer]]\nkind = \"contours\"\nlevels = [\"1\"]", 3, "unit"},
               {"[[layer]]\nkind = \"lines\"", 2, "needs a file"},
               {"[[layer]]\nkind = \"lines\"\nfile = \"a\"\ncolour = \"red\"", 4, "#rrggbb"},
               {"[[layer]]\nkind = \"lines\"\nfile = \"a\"\nwidth = -1", 4, "out of range"},
               {"[[layer]]\nkind = \"areas\"\nfile = \"a\"\nfill = 1.5", 4, "out of range"},
               {"[[layer]]\nkind = \"land\"\nlight = \"moon\"", 3, "hillshade, sky or none"},
               {"[[layer]]\nkind = \"land\"\nclasses = \"5,2\"", 3, "ascend"},
               {"[[layer]]\nkind = \"land\"\n[[layer]]\nkind = \"land\"", 1, "twice"},
               {"[[layer]]\nkind = \"spots\"", 2, "radius"},
               {"graticule = \"nowhere\"", 1, "not a coordinate reference system"},
               {"page = \"A9\"", 1, "no size of paper"},
               {"scale = \"1:5000\"", 1, "page"},
               {"dpi = 5000", 1, "50 to 600"},
               {"[layer]\nkind = \"land\"", 1, "no list of tables"},
               {"title = \"x", 1, "mend"}};
  for (const auto& c : cases) {
    std::string said;
    EXPECT_EQ(error_of([&] { style(c.text); }, &said), ErrorCode::BadFile) << c.text;
    EXPECT_NE(said.find(fmt::format("style.toml line {}", c.line)), said.npos) << c.text << ": " << said;
    EXPECT_NE(said.find(c.said), said.npos) << c.text << ": " << said;
    EXPECT_EQ(said.find('\n'), said.npos) << said;
  }
}

TEST_F(Styles, WhatWasToBeDrawnLiesBetweenGroundAndLines) {
  const Grid g = level();
  write_half(g, "half.png", {9, 9, 9});
  MapOptions o;
  o.overlays = {{.layer = {.name = "given"}, .style = OverlayStyle::Area}};
  apply(style("[[layer]]\nkind = \"picture\"\nfile = \"half.png\"\n[[layer]]\nkind = \"land\"\n[[layer]]\nkind = "
              "\"light\"\n[[layer]]\nkind = \"contours\"\ninterval = \"5m\"\n"),
        g, o);
  std::vector<OverlayStyle> order;
  for (const MapOverlay& l : o.overlays) order.push_back(l.style);
  EXPECT_EQ(order, (std::vector{OverlayStyle::Raster, OverlayStyle::Land, OverlayStyle::Raster, OverlayStyle::Area,
                                OverlayStyle::Contours}));
}

}  // namespace
}  // namespace katoptra
