// Features through every format and back: places, heights, holes, properties with their types, what is missing.
#include <random>
#include <set>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "formats/vector/wkt.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

struct Can {
  const char* ending;
  bool areas, degrees, heights, types;
};
// Of each format: what it holds. Tables know a number from a text, and no more.
constexpr Can kFormats[] = {{".geojson", true, true, true, true}, {".gpkg", true, true, true, true},
                            {".shp", true, true, true, true},     {".kml", true, true, true, true},
                            {".kmz", true, true, true, true},     {".gpx", false, true, true, true},
                            {".dxf", true, false, true, true},    {".csv", true, true, true, false}};

std::vector<std::pair<std::string, Property>> some_properties(std::mt19937& random, int i) {
  std::vector<std::pair<std::string, Property>> p;
  if (random() % 3) p.emplace_back("area_m2", static_cast<double>(random() % 100000) / 7);
  if (random() % 3) p.emplace_back("share", static_cast<double>(random() % 1000) * 1e-7);
  if (random() % 3) p.emplace_back("number", static_cast<std::int64_t>(random() % 100000) - 50000);
  p.emplace_back("name", std::string(i % 2 ? "Kessa \"<&>\" Mündung" : "Annet"));
  return p;
}

LineString some_line(std::mt19937& random, const Crs& crs) {
  LineString line;
  Point p = crs.is_geographic() ? Point{-31, -37.5} : Point{677000, 5841000};
  const double step = crs.is_geographic() ? 1e-4 : 10;
  for (unsigned n = 2 + random() % 6; n > 0; --n) {
    p.x += step * (1 + static_cast<double>(random() % 100) / 50);
    p.y += step * (static_cast<double>(random() % 100) / 50 - 1);
    line.push_back(p);
  }
  return line;
}

// A square with a square hole, and another beside it.
MultiPolygon some_area(const Crs& crs) {
  const double s = crs.is_geographic() ? 1e-3 : 100;
  const Point o = crs.is_geographic() ? Point{-31, -37.5} : Point{677000, 5841000};
  const auto square = [&](double x, double y, double a) {
    return to_polygon(Bounds{o.x + x * s, o.y + y * s, o.x + (x + a) * s, o.y + (y + a) * s}).outer;
  };
  return {{square(0, 0, 3), {square(1, 1, 1)}}, {square(5, 0, 2), {}}};
}

void expect_same_places(const LineString& a, const LineString& b, double within) {
  ASSERT_EQ(a.size(), b.size());
  for (std::size_t i = 0; i < a.size(); ++i) {
    EXPECT_NEAR(a[i].x, b[i].x, within) << i;
    EXPECT_NEAR(a[i].y, b[i].y, within) << i;
  }
}

// What is in other coordinates is carried back before it is compared.
Layer in_crs(Layer l, const Crs& crs) {
  if (l.crs.same_place(crs)) return l;
  const Transform t(l.crs, crs);
  for (Feature& f : l.features) f = carried(std::move(f), t);
  l.crs = crs;
  return l;
}

void expect_same_properties(const Feature& a, const Feature& b, const Can& can) {
  for (const auto& [name, value] : a.properties) {
    const Property* back = property_of(b, name);
    ASSERT_TRUE(back) << name;
    if (can.types) {
      ASSERT_EQ(back->index(), value.index()) << name;
    }
    const auto number = [](const Property& p) {
      const auto* whole = std::get_if<std::int64_t>(&p);
      return whole ? static_cast<double>(*whole) : std::get<double>(p);
    };
    if (value.index() == 2)
      EXPECT_EQ(std::get<std::string>(*back), std::get<std::string>(value)) << name;
    else
      EXPECT_NEAR(number(*back), number(value), 1e-12 * std::abs(number(value)) + 1e-15) << name;
  }
  // What one feature has not is not that of another.
  for (const char* name : {"area_m2", "share", "number"})
    EXPECT_EQ(property_of(a, name) != nullptr, property_of(b, name) != nullptr) << name;
}

TEST(Vectors, ComeBackFromEveryFormat) {
  TemporaryFolder folder;
  std::mt19937 random(5);
  for (const Can& can : kFormats)
    for (const bool degrees : {true, false})
      for (const int kind : {0, 1, 2}) {
        if ((degrees && !can.degrees) || (kind == 2 && !can.areas)) continue;
        const Crs crs = degrees ? Crs::wgs84() : Crs::parse("EPSG:32725");
        SCOPED_TRACE(::testing::Message() << can.ending << (degrees ? " degrees " : " metres ") << kind);
        Layer layer{.name = "things", .crs = crs, .features = {}, .unit = LengthUnit::Metre};
        for (int i = 0; i < 5; ++i) {
          Feature f{some_area(crs), some_properties(random, i), {}};
          const LineString line = some_line(random, crs);
          if (kind == 1) f.geometry = line;
          if (kind == 0) f.geometry = line[0];
          if (kind < 2)
            for (std::size_t k = 0; k < (kind == 0 ? 1 : line.size()); ++k)
              f.heights.push_back(static_cast<double>(random() % 10000) / 8);
          layer.features.push_back(std::move(f));
        }
        const fs::path path = folder / (std::string("a") + can.ending);
        write_layer(layer, path, {.overwrite = true});
        const Layer back = in_crs(read_layer(path, crs), crs);
        // A table of points has no column for heights.
        const bool heights = can.heights && !(kind == 0 && std::string(can.ending) == ".csv");
        const bool drawing = std::string(can.ending) == ".dxf";
        const double within = degrees ? 1e-8 : drawing ? 1e-6 : 2e-3;
        std::size_t k = 0;
        for (const Feature& f : layer.features) {
          ASSERT_LT(k, back.features.size());
          const Feature& b = back.features[k++];
          expect_same_properties(f, b, can);
          if (kind == 0)
            expect_same_places({std::get<Point>(f.geometry)}, {std::get<Point>(b.geometry)}, within);
          else if (kind == 1)
            expect_same_places(std::get<LineString>(f.geometry), std::get<LineString>(b.geometry), within);
          else if (drawing)  // rings by themselves: one after the other
            k += 2;
          else
            EXPECT_NEAR(planar_area(std::get<MultiPolygon>(b.geometry)),
                        planar_area(std::get<MultiPolygon>(f.geometry)),
                        1e-4 * planar_area(std::get<MultiPolygon>(f.geometry)));
          if (kind < 2 && heights) {
            ASSERT_EQ(b.heights.size(), f.heights.size());
            for (std::size_t i = 0; i < f.heights.size(); ++i) EXPECT_NEAR(b.heights[i], f.heights[i], 1e-3);
          }
        }
        EXPECT_EQ(k, back.features.size());
      }
}

TEST(Vectors, FeetBecomeWhatTheFormatIsIn) {
  TemporaryFolder folder;
  const Layer layer{.name = "contours",
                    .crs = Crs::parse("EPSG:32725"),
                    .features = {{LineString{{677000, 5841000}, {677400, 5841300}, {677800, 5841000}},
                                  {{"level", 100.0}, {"unit", std::string("ft")}, {"index", std::int64_t{1}}},
                                  {100.0}}},
                    .unit = LengthUnit::Foot};
  // Metres of the drawing, of KML and of GPX; the level says what it is in by itself.
  for (const char* ending : {".dxf", ".kml", ".gpx"}) {
    const fs::path path = folder / (std::string("a") + ending);
    write_layer(layer, path);
    const Layer back = read_layer(path);
    ASSERT_EQ(back.features.size(), 1u) << ending;
    EXPECT_NEAR(height_at(back.features[0], 1), 30.48, 1e-3) << ending;
    EXPECT_EQ(*property_of(back.features[0], "level"), Property(100.0)) << ending;
  }
  // A drawing in feet keeps them.
  Layer feet = layer;
  feet.crs = Crs::parse("EPSG:2225");
  const LayerReport report = write_layer(feet, folder / "f.dxf");
  EXPECT_EQ(report.beside, std::vector<fs::path>{folder / "f.prj"});
  EXPECT_NEAR(height_at(read_layer(folder / "f.dxf").features[0], 0), 100, 1e-3);
  EXPECT_TRUE(read_layer(folder / "f.dxf").crs.same_place(feet.crs));
}

TEST(Vectors, WhatAFormatDoesNotHoldIsSaid) {
  TemporaryFolder folder;
  const Crs utm = Crs::parse("EPSG:32725");
  const Layer areas{.name = "areas", .crs = utm, .features = {{some_area(utm), {}}}};
  Layer mixed = areas;
  mixed.features.push_back({Point{677000, 5841000}, {}});
  EXPECT_EQ(error_of([&] { write_layer(areas, folder / "a.gpx"); }), ErrorCode::Unsupported);
  EXPECT_EQ(error_of([&] { write_layer(areas, folder / "a.xyz"); }), ErrorCode::Unsupported);
  EXPECT_EQ(error_of([&] { write_layer(mixed, folder / "a.shp"); }), ErrorCode::Unsupported);
  EXPECT_EQ(error_of([&] { write_layer(areas, folder / "a.dwg"); }), ErrorCode::Unsupported);
  Layer nowhere = areas;
  nowhere.crs = {};
  for (const char* name : {"a.kml", "a.kmz", "a.geojson"})
    EXPECT_EQ(error_of([&] { write_layer(nowhere, folder / name); }), ErrorCode::Refused) << name;
  nowhere.features[0].geometry = LineString{{0, 0}, {1, 1}};
  EXPECT_EQ(error_of([&] { write_layer(nowhere, folder / "a.gpx"); }), ErrorCode::Refused);
  Layer degrees = areas;
  degrees.crs = Crs::wgs84();
  EXPECT_EQ(error_of([&] { write_layer(degrees, folder / "a.dxf"); }), ErrorCode::Refused);
  EXPECT_TRUE(fs::is_empty(folder.path())) << "nothing half written";
  // Nothing is replaced unasked, nor what belongs to another file.
  write_text_file(folder / "dem.prj", "of a grid");
  for (const char* name : {"dem.dxf", "dem.shp", "dem.csv"}) {
    EXPECT_EQ(error_of([&] { write_layer(areas, folder / name); }), ErrorCode::Io) << name;
    EXPECT_FALSE(fs::exists(folder / name));
  }
  EXPECT_EQ(read_text_file(folder / "dem.prj"), "of a grid");
  for (const Can& can : kFormats) {
    if (!can.areas) continue;
    const fs::path path = folder / (std::string("b") + can.ending);
    write_layer(areas, path);  // a .prj that says the same is there already
    EXPECT_EQ(error_of([&] { write_layer(areas, path); }), ErrorCode::Io) << can.ending;
  }
}

// Lines and areas that cross it, in a system that knows nothing of it: no part goes round the globe, nothing of them is
// lost, and a line is read as one again.
TEST(Vectors, AreCutAtTheAntimeridian) {
  TemporaryFolder folder;
  std::mt19937 random(std::random_device{}());
  const Crs zone = Crs::parse("EPSG:32601");
  auto pick = [&](double from, double to) { return from + (to - from) * static_cast<double>(random() % 10000) / 1e4; };
  for (int n = 0; n < 30; ++n) {
    Layer layer{.name = "across", .crs = zone, .features = {}};
    LineString line;
    std::vector<double> z;
    // The antimeridian lies at some 166 km east.
    for (int i = 0; i < 3 + n % 5; ++i) {
      line.push_back({pick(120e3, 210e3), pick(3e5, 6e6)});
      z.push_back(pick(0, 100));
    }
    layer.features.push_back({line, {}, z});
    const Point c{pick(150e3, 190e3), pick(3e5, 6e6)};
    layer.features.push_back(
        {MultiPolygon{{{c, {c.x + 40e3, c.y}, {c.x + 40e3, c.y + 30e3}, {c.x, c.y + 30e3}, c}, {}}}, {}});
    for (const char* name : {"a.kml", "a.geojson", "a.kmz"}) {
      write_layer(layer, folder / name, {.overwrite = true});
      const Layer back = read_layer(folder / name);
      std::vector<double> heights;
      double area = 0;
      for (const Feature& f : back.features) {
        auto within = [&](const LineString& l) {
          for (std::size_t i = 0; i < l.size(); ++i) {
            ASSERT_LE(std::abs(l[i].x), 180) << name;
            if (i > 0) {
              ASSERT_LE(std::abs(l[i].x - l[i - 1].x), 10) << name;
            }
          }
        };
        if (const auto* l = std::get_if<LineString>(&f.geometry)) {
          within(*l);
          ASSERT_EQ(f.heights.size(), l->size());
          heights.insert(heights.end(), f.heights.begin(), f.heights.end());
        } else {
          for (const Polygon& p : std::get<MultiPolygon>(f.geometry)) within(p.outer);
          area += Area(std::get<MultiPolygon>(f.geometry), back.crs).ground_area();
        }
      }
      EXPECT_NEAR(area / 1.2e9, 1, 0.01) << name;
      // Every height is there, in its order, with those of the cuts between.
      std::size_t at = 0;
      for (const double h : heights)
        if (at < z.size() && std::abs(h - z[at]) < 1e-3) ++at;
      EXPECT_EQ(at, z.size()) << name;
      const LineString again = read_line(folder / name, zone);
      ASSERT_GE(again.size(), line.size()) << name;
      std::size_t found = 0;
      for (const Point& p : again)
        if (found < line.size() && std::hypot(p.x - line[found].x, p.y - line[found].y) < 0.1) ++found;
      EXPECT_EQ(found, line.size()) << name;
    }
  }
}

// Numbers that are no longitudes came to a loop without an end.
TEST(Vectors, WhatIsNoLongitudeIsWrittenAsItIs) {
  for (const double x : {1e9, 1e300, -1e300, std::nan("")}) {
    const Feature line{LineString{{0, 1}, {x, 2}, {170, 3}}, {}}, point{Point{x, 1}, {}},
        area{MultiPolygon{{{{0, 0}, {x, 0}, {x, 1}, {0, 1}, {0, 0}}, {}}}, {}};
    for (const Feature& f : {line, point, area}) EXPECT_EQ(cut_at_antimeridian(f).size(), 1u);
  }
}

TEST(Vectors, TracksKeepTheirTimesAndLinesTheirNames) {
  TemporaryFolder folder;
  write_text_file(
      folder / "t.gpx",
      "<gpx version=\"1.1\" xmlns=\"http://www.topografix.com/GPX/1/1\"><trk><name>walk</name><trkseg>"
      "<trkpt lat=\"1\" lon=\"2\"><time>2026-05-03T09:00:00Z</time></trkpt>"
      "<trkpt lat=\"1\" lon=\"3\"><time>2026-05-03T11:00:30+02:00</time></trkpt></trkseg>"
      "<trkseg><trkpt lat=\"5\" lon=\"2\"/><trkpt lat=\"5\" lon=\"3\"><time>2026-05-03T09:00:00Z</time></trkpt>"
      "</trkseg></trk><rte><rtept lat=\"7\" lon=\"2\"/><rtept lat=\"7\" lon=\"3\"/></rte></gpx>");
  const std::vector<NamedLine> lines = read_lines(folder / "t.gpx", Crs::wgs84());
  ASSERT_EQ(lines.size(), 3u);
  EXPECT_EQ(lines[0].name, "walk");
  ASSERT_EQ(lines[0].times.size(), 2u);
  EXPECT_EQ(lines[0].times[1] - lines[0].times[0], 30);
  EXPECT_TRUE(lines[1].times.empty());  // one of its points has none
  EXPECT_EQ(lines[2].name, "C");
  write_layer(read_layer(folder / "t.gpx"), folder / "again.gpx");
  EXPECT_EQ(read_lines(folder / "again.gpx", Crs::wgs84())[0].times, lines[0].times);
}

TEST(Vectors, BeyondTheAntimeridian) {
  TemporaryFolder folder;
  write_layer({.name = "way", .crs = Crs::wgs84(), .features = {{LineString{{179.5, 10}, {180.5, 10}}, {}}}},
              folder / "w.gpx");
  const Layer back = read_layer(folder / "w.gpx");
  EXPECT_NEAR(std::get<LineString>(back.features[0].geometry)[1].x, -179.5, 1e-8);
}

TEST(Vectors, NamesThatAShapefileShortensAreTold) {
  TemporaryFolder folder;
  Feature f{Point{677000, 5841000}, {}};
  for (const char* name : {"upstream_area_m2", "upstream_area_ha", "UPSTREAM_AREA", "short"})
    f.properties.emplace_back(name, 1.5);
  f.properties.emplace_back("text", std::string(300, 'x'));
  const LayerReport report =
      write_layer({.name = "p", .crs = Crs::parse("EPSG:32725"), .features = {f}}, folder / "p.shp");
  EXPECT_EQ(report.notes.size(), 4u);
  EXPECT_EQ(report.beside.size(), 4u);
  const Layer back = read_layer(folder / "p.shp");
  ASSERT_EQ(back.features.size(), 1u);
  std::set<std::string> names;
  for (const auto& [name, value] : back.features[0].properties) names.insert(name);
  EXPECT_EQ(names, (std::set<std::string>{"upstream_a", "upstream_2", "UPSTREAM_3", "short", "text"}));
  EXPECT_EQ(std::get<std::string>(back.features[0].properties.back().second).size(), 254u);
}

TEST(Vectors, WellKnownTextOfEveryShape) {
  const auto kinds = [](const char* text) { return features_of_wkt(text, "here"); };
  EXPECT_EQ(kinds("POINT(1 2)").size(), 1u);
  EXPECT_EQ(kinds("SRID=4326;point z (1 2 3)")[0].heights, std::vector<double>{3});
  EXPECT_EQ(kinds("POINT M (1 2 3)")[0].heights.size(), 0u);
  EXPECT_EQ(kinds("LINESTRING ZM (1 2 3 4, 5 6 7 8)")[0].heights, (std::vector<double>{3, 7}));
  EXPECT_EQ(kinds("MULTIPOINT (1 2, (3 4))").size(), 2u);
  EXPECT_EQ(kinds("MULTILINESTRING ((1 2, 3 4), (5 6, 7 8))").size(), 2u);
  EXPECT_EQ(
      std::get<MultiPolygon>(kinds("POLYGON ((0 0, 9 0, 9 9, 0 0), (5 1, 8 1, 8 4, 5 1))")[0].geometry)[0].holes.size(),
      1u);
  EXPECT_EQ(kinds("GEOMETRYCOLLECTION (POINT (1 2), LINESTRING (1 2, 3 4))").size(), 2u);
  EXPECT_EQ(kinds("LINESTRING EMPTY").size(), 0u);
  for (const char* bad : {"", "POINT", "POINT (1)", "POINT (1 x)", "CIRCLE (1 2)", "LINESTRING (1 2, 3 4",
                          "POLYGON ((0 0, 1 1))", "POINT (1 2) POINT (1 2)"})
    EXPECT_EQ(error_of([&] { kinds(bad); }), ErrorCode::BadFile) << bad;
}

// Cut anywhere, a file is an error or what it says, never a crash.
TEST(Vectors, CutAnywhere) {
  TemporaryFolder folder;
  const Crs utm = Crs::parse("EPSG:32725");
  const Layer layer{.name = "areas", .crs = utm, .features = {{some_area(utm), {{"name", std::string("a")}}}}};
  for (const char* ending : {".dxf", ".kml", ".kmz", ".shp", ".csv"}) {
    const fs::path whole = folder / (std::string("whole") + ending), cut = folder / (std::string("cut") + ending);
    write_layer(layer, whole);
    const auto bytes = read_text_file(whole);
    for (const char* beside : {".dbf", ".shx", ".prj"}) {
      std::error_code ec;
      fs::copy_file(fs::path(whole).replace_extension(beside), fs::path(cut).replace_extension(beside),
                    fs::copy_options::overwrite_existing, ec);
    }
    for (std::size_t n = 1; n < bytes.size(); n += 1 + bytes.size() / 97) {
      write_text_file(cut, bytes.substr(0, n), {.overwrite = true});
      try {
        read_layer(cut, utm);
      } catch (const Error& e) {
        EXPECT_FALSE(e.problem().empty());
      }
    }
  }
}

}  // namespace
}  // namespace katoptra
