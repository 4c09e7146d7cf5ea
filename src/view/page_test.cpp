#include "katoptra/view/page.hpp"

#include <cmath>
#include <nlohmann/json.hpp>

#include "katoptra/view/viewer.hpp"

#include "testing.hpp"
#include "view/html_page.hpp"
#include "view/land.hpp"
#include "view/plane_bytes.hpp"
#include "view/web.hpp"

namespace katoptra {
namespace {

using nlohmann::json;
using testing::error_of;

json part(const std::string& html, const std::string& id) {
  const std::string mark = "id=\"" + id + "\">";
  const auto at = html.find(mark) + mark.size();
  return json::parse(html.substr(at, html.find("</script>", at) - at));
}

Grid hills(std::int64_t cols, std::int64_t rows, const char* crs = "EPSG:32725", double cell = 2) {
  std::vector<float> z;
  for (std::int64_t r = 0; r < rows; ++r)
    for (std::int64_t c = 0; c < cols; ++c)
      z.push_back(
          static_cast<float>(20 * std::sin(static_cast<double>(c) / 9) + 15 * std::cos(static_cast<double>(r) / 7)));
  return grid_from_values(
      Frame(Crs::parse(crs), crs[5] == '4' ? -31 : 500000, crs[5] == '4' ? -37 : 5800000, {cell, cell}, cols, rows), z);
}

// A module is found by its name among these.
std::string_view two_modules(std::string_view name) {
  if (name == "a/main.js")
    return "// what it is\nimport { twice as double, half } from '../b.js';\n\nexport const kOne = 1;\n  // "
           "inner\nfunction f() {\n  return double(kOne) + half(2);\n}\nf();\n";
  if (name == "b.js")
    return "export function twice(x) {\n  return 2 * x;\n}\nexport async function half(x) {\n  return x / "
           "2;\n}\nexport class Third {}\n";
  if (name == "loop.js") return "import { x } from './loop.js';\n";
  if (name == "star.js") return "import * as all from './b.js';\n";
  if (name == "default.js") return "export default 5;\n";
  return {};
}

TEST(WebModules, AreJoinedInTheOrderTheyNeedOneAnother) {
  EXPECT_EQ(
      joined_modules("a/main.js", two_modules),
      "const $b_js = (() => {\nfunction twice(x) {\nreturn 2 * x;\n}\nasync function half(x) {\nreturn x / "
      "2;\n}\nclass "
      "Third {}\nreturn {twice, half, Third};\n})();\nconst $a_main_js = (() => {\nconst { twice: double, half } = "
      "$b_js;\nconst kOne = 1;\nfunction f() {\nreturn double(kOne) + half(2);\n}\nf();\nreturn {kOne};\n})();\n");
  for (const char* name : {"loop.js", "star.js", "default.js"})
    EXPECT_EQ(error_of([&] { joined_modules(name, two_modules); }), ErrorCode::BadFile) << name;
}

TEST(WebModules, EveryPageFindsItsOwn) {
  for (const char* entry : {"view/main.js", "coverage/main.js", "report/main.js"}) {
    const std::string script = joined_modules(entry);
    EXPECT_GT(script.size(), 10'000u);
    // Without what could end an element, or begin another.
    EXPECT_EQ(script.find("</script"), script.npos);
    EXPECT_EQ(script.find("<!--"), script.npos);
    EXPECT_EQ(script.find("\nimport "), script.npos);
    EXPECT_EQ(script.find("\nexport "), script.npos);
    EXPECT_LT(script.size() + web_part("three.js").size() + web_part("style.css").size(), 1'000'000u);
  }
  for (const WebPart& p : web_parts()) EXPECT_FALSE(p.name.ends_with("_test.js")) << p.name;
}

TEST(HtmlPage, NothingInItsDataEndsAnElement) {
  HtmlPage page("</title><script>x</script>", "coverage/main.js");
  page.json("facts", {{"a", "</script><!--<b>&\"'\xE2\x80\xAE"}, {"b", "not UTF-8: \xFF\xFE"}});
  const std::string html = page.html();
  EXPECT_EQ(part(html, "facts")["a"], "</script><!--<b>&\"'\xE2\x80\xAE");
  EXPECT_EQ(html.find("<script>x"), html.npos);
  EXPECT_EQ(html.find("<!--"), html.npos);
  EXPECT_NE(html.find("script-src 'sha256-"), html.npos);
  EXPECT_NE(html.find("connect-src 'none'"), html.npos);
  EXPECT_EQ(html.find("unsafe"), html.npos);
  const HtmlPage served("x", "coverage/main.js", Reaches::ItsServer);
  EXPECT_NE(served.policy(true).find("connect-src 'self'"), std::string::npos);
}

TEST(PlaneBytes, AreTheSameForEveryNumberOfThreadsAndSmall) {
  const Grid g = hills(700, 300);
  const Block all = g.read(g.frame().window());
  const std::vector<float> z(all.row(0), all.row(0) + 700 * 300);
  const PlaneBytes one = plane_bytes(z, 700, 300, 0.001, {.threads = 1}),
                   many = plane_bytes(z, 700, 300, 0.001, {.threads = 5});
  EXPECT_EQ(one.bytes, many.bytes);
  EXPECT_EQ(one.lengths.size(), 6u);
  EXPECT_LT(one.bytes.size(), z.size() * 2);
  // All void, and one value: next to nothing.
  EXPECT_LT(plane_bytes(std::vector<float>(70'000, kVoid), 700, 100, 1, {}).bytes.size(), 200u);
  EXPECT_LT(plane_bytes(std::vector<float>(70'000, 5), 700, 100, 1, {}).bytes.size(), 200u);
}

TEST(SurfacePage, SaysWhereItsCellsLieAndHowFineItsNumbersAre) {
  const Page p = surface_page({.title = "Hills", .surfaces = {{"hills", hills(90, 70)}}});
  EXPECT_EQ(p.times, 1);
  EXPECT_EQ(p.step, 0.001);
  const json facts = part(p.html, "facts");
  EXPECT_EQ(facts["frame"]["crs"], "EPSG:32725");
  EXPECT_EQ(facts["frame"]["cols"], 90);
  // The scale of the projection is in the ground distances: 0.9996 on the middle meridian.
  EXPECT_NEAR(facts["frame"]["ground"]["x"][0].get<double>(), 2 / 0.9996, 1e-4);
  EXPECT_NEAR(facts["frame"]["globe"]["lon"][0].get<double>(), -33, 1e-6);
  EXPECT_EQ(facts["surfaces"][0]["label"], "hills");
  EXPECT_EQ(facts["planes"][0]["ramp"]["above"].get<std::string>().size(), 6u * 128);
  EXPECT_TRUE(facts["drapes"].empty()) << "one source is no lineage";
  const Page degrees = surface_page({.surfaces = {{"", hills(90, 70, "EPSG:4326", 1.0 / 3600)}}});
  const json there = part(degrees.html, "facts")["frame"];
  EXPECT_TRUE(there["degrees"].get<bool>());
  EXPECT_NEAR(there["ground"]["x"][0].get<double>(), 111320 * std::cos(37 * 3.14159265 / 180) / 3600, 0.2);
}

TEST(SurfacePage, FeetAreToldInFeetAndWholeNumbersExactly) {
  const auto feet = [](GridInfo& i) { i.quantity.unit = LengthUnit::Foot; };
  const Page p = surface_page({.surfaces = {{"a", relabelled(hills(40, 30), feet)}, {"b", hills(40, 30)}}});
  const json facts = part(p.html, "facts");
  EXPECT_EQ(p.step, 0.002);
  EXPECT_EQ(facts["surfaces"][0]["metres"], 0.3048);
  EXPECT_EQ(facts["surfaces"][1]["metres"], 0.3048) << "both in the unit of the first";
  const Frame f(Crs::parse("EPSG:32725"), 500000, 5800000, {1, 1}, 3, 2);
  const Grid whole = grid_from_values(f, {1, 2, 3, 4, 5, kVoid}, {}, SampleType::Int16);
  EXPECT_EQ(surface_page({.surfaces = {{"w", whole}}}).step, 1);
}

TEST(SurfacePage, LargerThanItMayBeItHasLargerCells) {
  const Page p = surface_page({.surfaces = {{"hills", hills(200, 150)}}, .most_cells = 5000});
  EXPECT_EQ(p.times, 3);
  EXPECT_EQ(p.frame.cols(), 67);
  EXPECT_EQ(p.frame.rows(), 50);
  EXPECT_EQ(part(p.html, "facts")["surfaces"][0]["cols"], 200);
}

// Longitudes are told between nodes: across the antimeridian they go on counting, around a pole there are none.
TEST(SurfacePage, LongitudesAcrossTheAntimeridianAndAroundAPole) {
  const auto frame_of = [](const char* crs, double west, double north, double cell) {
    const Frame f(Crs::parse(crs), west, north, {cell, cell}, 40, 30);
    return part(surface_page({.surfaces = {{"s", grid_from_values(f, std::vector<float>(1200, 5))}}}).html,
                "facts")["frame"];
  };
  const json over = frame_of("EPSG:32701", 140000, 8000000, 2000);  // zone 1: 180 W is at 178 W's left
  double least = 1e9, most = -1e9;
  for (const json& lon : over["globe"]["lon"]) {
    least = std::min(least, lon.get<double>());
    most = std::max(most, lon.get<double>());
  }
  EXPECT_LT(most - least, 2);
  EXPECT_TRUE((least < -180) != (most > 180)) << least << " to " << most;
  const json pole = frame_of("EPSG:3031", -40000, 30000, 2000);
  EXPECT_FALSE(pole.contains("globe"));
  for (const json& x : pole["ground"]["x"]) EXPECT_TRUE(x.is_number());
  // A frame that reaches beyond its projection is still measured.
  for (const json& x : frame_of("EPSG:3395", -30e6, 25e6, 1.5e6)["ground"]["x"]) EXPECT_TRUE(x.is_number());
}

// Read in strips where what lies below is much: the same means for every window, void where nothing is known.
TEST(Coarser, AreTheMeansOfWhatIsThereWhateverTheWindow) {
  const Frame f(Crs::parse("EPSG:32725"), 500000, 5800000, {1, 1}, 2600, 700);
  const Grid g = grid_from_function(f, [](double x, double y) {
    const double v = std::sin(x / 37) * 9 + std::cos(y / 11);
    return std::fmod(x + 3 * y, 17) < 2 || x > 502500 ? std::nan("") : v;
  });
  for (const std::int64_t by : {2, 7, 100}) {
    const Grid c = coarser(g, by);
    EXPECT_EQ(c.frame().cols(), (2600 + by - 1) / by);
    const Block whole = c.read(c.frame().window()), cells = g.read(f.window());
    for (std::int64_t r = 0; r < c.frame().rows(); r += 3)
      for (std::int64_t k = 0; k < c.frame().cols(); k += 5) {
        double sum = 0;
        int n = 0;
        for (std::int64_t y = r * by; y < std::min<std::int64_t>(700, (r + 1) * by); ++y)
          for (std::int64_t x = k * by; x < std::min<std::int64_t>(2600, (k + 1) * by); ++x)
            if (!std::isnan(cells.at(x, y))) sum += static_cast<double>(cells.at(x, y)), ++n;
        if (n == 0)
          EXPECT_TRUE(std::isnan(whole.at(k, r)));
        else
          EXPECT_NEAR(whole.at(k, r), sum / n, 1e-4);
      }
    testing::expect_same_for_every_window(c, static_cast<unsigned>(by));
  }
}

TEST(SurfacePage, WhatIsNoSurfaceIsRefused) {
  EXPECT_EQ(error_of([] { surface_page({}); }), ErrorCode::BadArgument);
  const Grid steep = relabelled(hills(9, 9), [](GridInfo& i) { i.quantity.kind = QuantityKind::Slope; });
  EXPECT_EQ(error_of([&] { surface_page({.surfaces = {{"s", steep}}}); }), ErrorCode::Refused);
  const Grid nothing =
      grid_from_values(Frame(Crs::parse("EPSG:32725"), 0, 0, {1, 1}, 2, 2), std::vector<float>(4, kVoid));
  EXPECT_EQ(error_of([&] { surface_page({.surfaces = {{"n", nothing}}}); }), ErrorCode::Refused);
  const Grid row = grid_from_values(Frame(Crs::parse("EPSG:32725"), 0, 0, {1, 1}, 9, 1), std::vector<float>(9, 3));
  EXPECT_EQ(error_of([&] { surface_page({.surfaces = {{"r", row}}}); }), ErrorCode::Refused);
  const auto above = [](const char* name) {
    return [name](GridInfo& i) { i.quantity.heights = HeightReference::parse(name); };
  };
  const Grid a = relabelled(hills(9, 9), above("EGM96")), b = relabelled(hills(9, 9), above("EGM2008"));
  EXPECT_EQ(error_of([&] { surface_page({.surfaces = {{"a", a}, {"b", b}}}); }), ErrorCode::Refused);
  const Grid lost = relabelled(hills(9, 9), [](GridInfo& i) { i.frame = i.frame.with_crs({}); });
  EXPECT_EQ(error_of([&] { surface_page({.surfaces = {{"a", hills(9, 9)}, {"l", lost}}}); }), ErrorCode::Refused);
  EXPECT_NO_THROW(surface_page({.surfaces = {{"l", lost}}}));
}

// A surface that knows overviews, each a thousandth lower than the one before, so that it can be told which was read.
class WithOverviews final : public GridSource {
 public:
  WithOverviews(Grid grid, int levels) : grid_(std::move(grid)), levels_(levels) {}
  const GridInfo& info() const override { return grid_.info(); }
  void read(const BlockView& out) const override { grid_.read_into(out); }
  std::shared_ptr<const GridSource> half() const override {
    if (levels_ == 0) return nullptr;
    const Frame f = half_frame(grid_.frame());
    std::vector<float> z(static_cast<std::size_t>(f.cols() * f.rows()), static_cast<float>(levels_));
    return std::make_shared<WithOverviews>(grid_from_values(f, z), levels_ - 1);
  }

 private:
  Grid grid_;
  int levels_;
};

TEST(SurfaceViewer, ItsPartsAreTheSurfaceAtEachLevel) {
  const Grid whole = hills(500, 300);
  const SurfaceViewer v({.title = "x", .surfaces = {{"hills", whole}}, .most_cells = 5000});
  EXPECT_EQ(v.level(), 3);  // 8 x 8 cells in one: 63 x 38
  EXPECT_EQ(part(v.html(), "live")["level"], 3);
  EXPECT_EQ(part(v.html(), "facts")["surfaces"][0]["times"], 8);
  const json finest = json::parse(v.window(0, {100, 50, 40, 30}));
  EXPECT_EQ(finest["frame"]["cols"], 40);
  EXPECT_EQ(finest["frame"]["west"], 500000 + 200);
  EXPECT_EQ(finest["frame"]["north"], 5800000 - 100);
  EXPECT_EQ(json::parse(v.window(2, {100, 50, 25, 25}))["frame"]["cell"][0], 8);
  EXPECT_EQ(v.points(0, {0, 0, 10, 10}), "null");
  for (const Window& w : {Window{0, 0, 0, 5}, {-1, 0, 5, 5}, {499, 0, 2, 1}, {0, 299, 1, 2}})
    EXPECT_EQ(error_of([&] { v.window(0, w); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { v.window(-1, {0, 0, 1, 1}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { v.window(60, {0, 0, 1, 1}); }), ErrorCode::BadArgument);
  EXPECT_EQ(error_of([&] { v.window(0, {0, 0, kMostWindowSide + 1, 1}); }), ErrorCode::TooLarge);
}

TEST(SurfaceViewer, OverviewsAreReadWhereThereAreAnyAndBoundsHoldWhereThereAreNone) {
  const Frame wide(Crs::parse("EPSG:32725"), 500000, 5800000, {1, 1}, 40'000, 40'000);
  const Grid plane = grid_from_function(wide, [](double x, double) { return x / 1000; });
  const Grid known(std::make_shared<WithOverviews>(plane, 6));
  const SurfaceViewer v({.surfaces = {{"", known}}, .most_cells = 1'000'000});
  EXPECT_EQ(v.level(), 6);
  EXPECT_NO_THROW(v.window(5, {0, 0, 1024, 1024}));
  // From 2^level cells each way for each cell.
  const SurfaceViewer none(
      {.surfaces = {{"", Grid(std::make_shared<WithOverviews>(
                             grid_from_function(Frame(Crs::parse("EPSG:32725"), 500000, 5800000, {1, 1}, 9000, 9000),
                                                [](double x, double) { return x / 1000; }),
                             0))}},
       .most_cells = 1000});
  EXPECT_EQ(error_of([&] { none.window(4, {0, 0, 563, 563}); }), ErrorCode::TooLarge);
  EXPECT_NO_THROW(none.window(4, {0, 0, 400, 400}));
}

TEST(SurfaceViewer, PointsOfAPart) {
  PointBatch b;
  for (int i = 0; i < 1000; ++i) {
    b.x.push_back(500000 + i);
    b.y.push_back(5800000 - 100.5);
    b.z.push_back(i * 0.01);
    b.classification.push_back(static_cast<std::uint8_t>(i % 2 + 1));
  }
  PointInfo info{.name = "line", .crs = Crs::parse("EPSG:32725"), .fields = PointFields::Class, .count = 1000};
  info.bounds = {500000, 5799899, 500999, 5799900};
  const SurfaceViewer v(
      {.surfaces = {{"hills", hills(500, 300)}}, .points = points_from_batch(b, info), .most_points = 100});
  const json facts = part(v.html(), "facts")["points"];
  EXPECT_EQ(facts["there"], 1000);
  EXPECT_EQ(facts["shown"], 100);
  EXPECT_TRUE(part(v.html(), "live")["points"].get<bool>());
  // Chosen evenly: about as many of each class as there are.
  for (const json& k : facts["classes"]) EXPECT_NEAR(k["points"].get<int>(), 50, 20);
  const json all = json::parse(v.points(0, {50, 40, 100, 30}));  // x from 100 to 300
  EXPECT_NEAR(all["points"]["shown"].get<int>(), 200, 1);
  EXPECT_EQ(all["points"]["classes"].size(), 2u);
  EXPECT_EQ(v.points(0, {50, 100, 100, 30}), "null");
  // From far away fewer points do, when there are as many as can be shown; near by it is all of them.
  const PointCloud whole = points_from_batch(b, info);
  PointBatch some;
  for (std::size_t i = 0; i < b.size(); i += 4) {
    some.x.push_back(b.x[i]);
    some.y.push_back(b.y[i]);
    some.z.push_back(b.z[i]);
    some.classification.push_back(b.classification[i]);
  }
  PointInfo less = info;
  less.count = 250;
  const SurfaceViewer far({.surfaces = {{"hills", hills(500, 300)}},
                           .points = whole,
                           .fewer_points = {points_from_batch(some, less)},
                           .most_points = 500});
  EXPECT_EQ(part(far.html(), "facts")["points"]["there"], 250);
  EXPECT_EQ(part(far.html(), "live")["all_points"], 1000);
  EXPECT_EQ(json::parse(far.points(0, {50, 40, 100, 30}))["points"]["shown"], all["points"]["shown"]);
}

// As many as may be, no fewer, at every size around the bound, the same for every number of threads.
TEST(SurfacePage, OfTooManyPointsAsManyAsMayBeAreShown) {
  for (const int there : {1, 99, 100, 101, 125, 126, 127, 199, 5000}) {
    PointBatch b;
    for (int i = 0; i < there; ++i) {
      b.x.push_back(500000 + i % 900 + 0.5);
      b.y.push_back(5800000 - i % 500 - 0.5);
      b.z.push_back(i);
    }
    PointInfo info{.name = "some", .crs = Crs::parse("EPSG:32725"), .count = static_cast<std::uint64_t>(there)};
    info.bounds = {500000, 5799400, 501000, 5800000};
    const auto page = [&](int threads) {
      return surface_page({.surfaces = {{"hills", hills(500, 300)}},
                           .points = points_from_batch(b, info, 64),
                           .most_points = 100,
                           .run = {.threads = threads}});
    };
    const Page one = page(1);
    EXPECT_EQ(one.points, std::min(there, 100)) << there;
    EXPECT_EQ(one.points_there, there);
    EXPECT_EQ(one.html, page(4).html);
  }
}

}  // namespace
}  // namespace katoptra
