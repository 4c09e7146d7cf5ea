// Pictures by what they show: colours at known places, curves where their values are, nothing cut off at the edge.
#include <array>
#include <cairo.h>
#include <cmath>

#include "katoptra/check/statistics.hpp"
#include "katoptra/terrain/contours.hpp"
#include "katoptra/view/charts.hpp"
#include "katoptra/view/map.hpp"
#include "katoptra/view/palette.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;

// A PNG as Cairo reads it.
class PngPixels {
 public:
  explicit PngPixels(const Picture& p) {
    struct Bytes {
      const std::vector<std::uint8_t>* all;
      std::size_t at;
    } bytes{&p.bytes, 0};
    surface_ = cairo_image_surface_create_from_png_stream(
        [](void* self, unsigned char* data, unsigned int n) {
          auto& b = *static_cast<Bytes*>(self);
          if (b.at + n > b.all->size()) return CAIRO_STATUS_READ_ERROR;
          std::memcpy(data, b.all->data() + b.at, n);
          b.at += n;
          return CAIRO_STATUS_SUCCESS;
        },
        &bytes);
    EXPECT_EQ(cairo_surface_status(surface_), CAIRO_STATUS_SUCCESS);
  }
  ~PngPixels() { cairo_surface_destroy(surface_); }
  PngPixels(const PngPixels&) = delete;
  int width() const { return cairo_image_surface_get_width(surface_); }
  int height() const { return cairo_image_surface_get_height(surface_); }
  Colour at(int x, int y) const {
    const unsigned char* row =
        cairo_image_surface_get_data(surface_) + y * cairo_image_surface_get_stride(surface_) + 4 * x;
    return {row[2] / 255.0, row[1] / 255.0, row[0] / 255.0};
  }

 private:
  cairo_surface_t* surface_ = nullptr;
};

double apart(Colour a, Colour b) {
  return std::max({std::abs(a.red - b.red), std::abs(a.green - b.green), std::abs(a.blue - b.blue)});
}
double greyness(Colour c) { return std::max({c.red, c.green, c.blue}) - std::min({c.red, c.green, c.blue}); }

// Where the land of a map is: the place of a cell's centre on the sheet. The land is drawn at its own proportions.
struct LandSheet {
  double left = 96, top = 84, width, height;
  LandSheet(const Picture& p, const Frame& f)
      : width(p.width - 96.0 - 230.0), height(width * static_cast<double>(f.rows()) / static_cast<double>(f.cols())) {}
  std::pair<int, int> of(const Frame& f, double col, double row) const {
    return {static_cast<int>(left + (col + 0.5) / static_cast<double>(f.cols()) * width),
            static_cast<int>(top + (row + 0.5) / static_cast<double>(f.rows()) * height)};
  }
};

Grid halves(QuantityKind kind, float west, float east) {
  std::vector<float> v;
  for (int r = 0; r < 20; ++r)
    for (int c = 0; c < 40; ++c) v.push_back(c < 20 ? west : east);
  Quantity q = metres_above_egm2008();
  q.kind = kind;
  return grid_from_values(utm_frame(40, 20, 5), v, q);
}

TEST(Pictures, AMapHasTheColoursOfItsPalette) {
  const struct {
    QuantityKind kind;
    float west, east;
    Palette palette;
  } cases[] = {{QuantityKind::Height, 100, -50, Palette::land_and_sea(-50, 100)},
               {QuantityKind::Slope, 5, 40, Palette::plain(5, 40)},
               {QuantityKind::Shade, 40, 220, Palette::grey(0, 255)},
               {QuantityKind::Aspect, 90, 270, Palette::directions()}};
  for (const auto& k : cases) {
    const Grid g = halves(k.kind, k.west, k.east);
    const Picture p = draw_map(g, {.width = 900, .land = {.light = MapLight::None}, .overlays = {}});
    const PngPixels seen(p);
    const LandSheet sheet(p, g.frame());
    for (const auto& [col, value] : {std::pair{8.0, k.west}, {32.0, k.east}}) {
      const auto [x, y] = sheet.of(g.frame(), col, 10);
      const double grey = static_cast<double>(value) / 255;  // a shade is the grey it is
      const Colour wanted =
          k.kind == QuantityKind::Shade ? Colour{grey, grey, grey} : k.palette.at(static_cast<double>(value));
      EXPECT_LT(apart(seen.at(x, y), wanted), 0.01) << name_of(k.kind) << " " << value;
    }
  }
}

TEST(Pictures, DifferencesArePaleWhereThereIsNone) {
  const Grid g = halves(QuantityKind::Difference, 0, 2);
  const Picture p = draw_map(g, {.width = 900, .overlays = {}});
  const PngPixels seen(p);
  const LandSheet sheet(p, g.frame());
  const auto [x0, y] = sheet.of(g.frame(), 8, 10);
  const auto [x1, same] = sheet.of(g.frame(), 32, 10);
  EXPECT_LT(greyness(seen.at(x0, y)), 0.1);
  EXPECT_GT(greyness(seen.at(x1, same)), 0.15);
}

TEST(Pictures, AVoidIsNoLand) {
  std::vector<float> v(800, 50);
  for (int r = 5; r < 15; ++r)
    for (int c = 10; c < 30; ++c) v[static_cast<std::size_t>(r * 40 + c)] = kVoid;
  v[0] = 0;
  const Grid g = grid_from_values(utm_frame(40, 20, 5), v, metres_above_egm2008());
  const Picture p = draw_map(g, {.width = 900, .land = {.light = MapLight::None}, .overlays = {}});
  const PngPixels seen(p);
  const LandSheet sheet(p, g.frame());
  const Colour land = Palette::land_and_sea(0, 50).at(50);
  for (double col = 12; col < 28; col += 3) {
    const auto [x, y] = sheet.of(g.frame(), col, 10);
    EXPECT_GT(apart(seen.at(x, y), land), 0.05) << col;
  }
}

// The line of the contour at 25 m runs up the middle of a ramp from 0 to 50 m.
TEST(Pictures, ContoursAndLinesLieWhereTheyBelong) {
  const Frame f = utm_frame(50, 25, 4);
  const Grid g = grid_from_function(
      f, [&](double x, double) { return (x - f.west()) / f.bounds().width() * 50; }, metres_above_egm2008());
  const MapOptions plain{.width = 900, .land = {.light = MapLight::None}, .overlays = {}};
  MapOptions lined = plain;
  lined.overlays.push_back({contour_layer(contours(g, {.interval = Length::metres(50), .base = Length::metres(25)}), g),
                            OverlayStyle::Contours, ""});
  const Picture p = draw_map(g, plain), q = draw_map(g, lined);
  const PngPixels before(p), after(q);
  const LandSheet sheet(p, f);
  const auto [middle, y] = sheet.of(f, 24.5, 12);
  const auto changed = [&](int x) {
    double most = 0;
    for (int dx = -3; dx <= 3; ++dx) most = std::max(most, apart(before.at(x + dx, y), after.at(x + dx, y)));
    return most;
  };
  EXPECT_GT(changed(middle), 0.1);
  EXPECT_LT(changed(middle - 60), 0.01);
  EXPECT_LT(changed(middle + 60), 0.01);
}

// Nothing touches the edge of the sheet, however long the words are.
TEST(Pictures, NothingIsCutOffAtTheEdge) {
  std::string words = "A long title about the inlet, the footbridge, and what was measured there in many years";
  words += ", " + words;
  const Grid g = rough_grid(utm_frame(60, 45, 2), 7);
  Section s = section(g, {{676004, 5841990}, {676110, 5841920}});
  const Statistics st = statistics(g);
  std::vector<Picture> all;
  for (const int width : {640, 1280, 1600}) {
    all.push_back(draw_map(g, {.width = width, .title = words, .subtitle = words, .overlays = {}}));
    all.push_back(draw_section(s, {.width = width, .title = words}));
    all.push_back(draw_histogram({.counts = st.sketch.histogram(40, st.robust()),
                                  .from = st.robust().first,
                                  .to = st.robust().second,
                                  .value_title = "height (m)",
                                  .facts = words,
                                  .marks = {{st.percentiles[3], "median"}}},
                                 {.width = width, .title = words}));
    all.push_back(draw_rose(slope_by_aspect(g), {.width = width, .title = words}));
    all.push_back(draw_hypsometry(hypsometric_curve(g, 50), LengthUnit::Metre, {.width = width, .title = words}));
  }
  for (std::size_t i = 0; i < all.size(); ++i) {
    const PngPixels p(all[i]);
    const Colour paper = p.at(0, 0);
    int marked = 0;
    for (int x = 0; x < p.width(); ++x)
      for (const int y : {1, p.height() - 2}) marked += apart(p.at(x, y), paper) > 0.05;
    for (int y = 0; y < p.height(); ++y)
      for (const int x : {1, p.width() - 2}) marked += apart(p.at(x, y), paper) > 0.05;
    EXPECT_EQ(marked, 0) << "picture " << i;
  }
}

// The bars of a histogram are as high as its counts.
TEST(Pictures, BarsAreAsHighAsTheirCounts) {
  const Picture p = draw_histogram({.counts = {10, 40, 20, 0, 30}, .from = 0, .to = 5, .value_title = "height (m)"},
                                   {.width = 1280, .title = "bars"});
  const PngPixels seen(p);
  // A row of pixels low in the graph meets the bars; their colour is the one that is not grey.
  int bottom = 0, first = 0, last = 0;
  for (int y = seen.height() - 1; y > 0 && bottom == 0; --y) {
    int coloured = 0;
    for (int x = 0; x < seen.width(); ++x) coloured += greyness(seen.at(x, y)) > 0.05;
    if (coloured > seen.width() / 3) bottom = y;
  }
  ASSERT_GT(bottom, 0);
  for (int x = 0; x < seen.width(); ++x)
    if (greyness(seen.at(x, bottom)) > 0.05) {
      first = first ? first : x;
      last = x;
    }
  std::array<int, 5> high{};
  for (int i = 0; i < 5; ++i) {
    const int x = first + static_cast<int>((i + 0.5) / 5 * (last - first));
    for (int y = bottom; y > 0 && greyness(seen.at(x, y)) > 0.05; --y) ++high[static_cast<std::size_t>(i)];
  }
  EXPECT_LE(high[3], 2);
  for (const auto& [i, count] : {std::pair{0, 10.0}, {2, 20.0}, {4, 30.0}})
    EXPECT_NEAR(static_cast<double>(high[static_cast<std::size_t>(i)]) / high[1], count / 40, 0.02) << i;
}

}  // namespace
}  // namespace katoptra
