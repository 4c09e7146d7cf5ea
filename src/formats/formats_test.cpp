// HGT, archives, lineage beside a grid, vector files.
#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>
#include <fstream>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "base/csv.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

std::string hgt_bytes() {
  std::string s(1201 * 1201 * 2, '\0');
  auto put = [&](std::size_t row, std::size_t col, std::int16_t v) {
    s[(row * 1201 + col) * 2] = static_cast<char>(static_cast<std::uint16_t>(v) >> 8);
    s[(row * 1201 + col) * 2 + 1] = static_cast<char>(v & 255);
  };
  put(0, 0, 1234);
  put(1200, 1200, -5);
  put(600, 7, -32768);
  return s;
}

// Columns came from the first feature and bindings were not cleared: rows carried values of other rows.
TEST(GeoPackage, EachFeatureHasItsOwnValuesAndNoOthers) {
  const TemporaryFolder folder;
  const Layer layer{
      .name = "l",
      .crs = Crs::wgs84(),
      .features = {{Point{1, 1}, {{"a", std::int64_t{1}}, {"b", std::string("x")}}},
                   {Point{2, 2}, {{"b", std::string("y")}}},
                   {Point{3, 3}, {{"c", 2.5}, {"a", 1.5}, {"fid", std::int64_t{7}}, {"B", std::string("z")}}},
                   {Point{4, 4}, {}}}};
  write_layer(layer, folder / "l.gpkg");
  const Layer back = read_layer(folder / "l.gpkg");
  ASSERT_EQ(back.features.size(), 4u);
  const auto value = [&](std::size_t i, const std::string& name) {
    std::string text = "-";
    for (const auto& [n, v] : back.features[i].properties)
      if (n == name)
        text = std::visit(
            [](const auto& x) {
              if constexpr (std::is_same_v<std::decay_t<decltype(x)>, std::string>)
                return x;
              else
                return fmt::format("{}", x);
            },
            v);
    return text;
  };
  EXPECT_EQ(value(0, "a") + value(0, "b") + value(0, "c"), "1x-");
  EXPECT_EQ(value(1, "a") + value(1, "b") + value(1, "c"), "-y-");
  EXPECT_EQ(value(2, "a") + value(2, "b") + value(2, "c"), "1.5-2.5");
  EXPECT_EQ(value(2, "fid_2") + value(2, "B_2"), "7z");
  EXPECT_EQ(value(3, "a") + value(3, "b"), "--");
}

TEST(Hgt, PlaceComesFromTheNameAndRowsFromTheNorth) {
  TemporaryFolder folder;
  write_text_file(folder / "S38W032.hgt", hgt_bytes());
  const Grid g = open_grid(folder / "S38W032.hgt");
  EXPECT_EQ(g.at(0, 0), 1234);
  EXPECT_EQ(g.at(1200, 1200), -5);
  EXPECT_TRUE(std::isnan(g.at(7, 600)));
  EXPECT_NEAR(g.frame().centre(0, 0).x, -32, 1e-12);
  EXPECT_NEAR(g.frame().centre(0, 0).y, -37, 1e-12);
  EXPECT_EQ(g.quantity().heights.name(), "EGM96 height");
  EXPECT_EQ(g.info().type, SampleType::Int16);
}

// North of 50 degrees there are half as many meridians; what was read so is written so.
TEST(Hgt, TilesOfTheNorthAreOblong) {
  TemporaryFolder folder;
  std::string bytes(1801 * 3601 * 2, '\0');
  for (std::size_t r = 0; r < 3601; ++r)
    for (std::size_t c = 0; c < 1801; ++c) {
      bytes[2 * (r * 1801 + c)] = static_cast<char>(r / 256);
      bytes[2 * (r * 1801 + c) + 1] = static_cast<char>(c % 251);
    }
  write_text_file(folder / "N60E010.hgt", bytes);
  const Grid g = open_grid(folder / "N60E010.hgt");
  EXPECT_EQ(g.frame().cols(), 1801);
  EXPECT_EQ(g.frame().rows(), 3601);
  EXPECT_NEAR(g.frame().cell().x, 2.0 / 3600, 1e-15);
  EXPECT_NEAR(g.frame().cell().y, 1.0 / 3600, 1e-15);
  EXPECT_NEAR(g.frame().centre(0, 0).x, 10, 1e-12);
  EXPECT_NEAR(g.frame().centre(1800, 3600).y, 60, 1e-12);
  EXPECT_EQ(g.at(7, 1030), 4 * 256 + 7);
  std::filesystem::create_directory(folder / "again");
  write_grid(g, folder / "again/N60E010.hgt");
  EXPECT_EQ(read_text_file(folder / "again/N60E010.hgt", 1 << 26), bytes);
}

TEST(Hgt, NamesAndSizesThatCannotBe) {
  TemporaryFolder folder;
  write_text_file(folder / "island.hgt", hgt_bytes());
  EXPECT_EQ(error_of([&] { open_grid(folder / "island.hgt"); }), ErrorCode::BadFile);
  write_text_file(folder / "S38W032.hgt", hgt_bytes().substr(0, 1000));
  EXPECT_EQ(error_of([&] { open_grid(folder / "S38W032.hgt"); }), ErrorCode::BadFile);
  write_text_file(folder / "S99W032.hgt", hgt_bytes());
  EXPECT_EQ(error_of([&] { open_grid(folder / "S99W032.hgt"); }), ErrorCode::BadFile);
}

void zip(const fs::path& path, const std::vector<std::pair<std::string, std::string>>& entries) {
  archive* a = archive_write_new();
  archive_write_set_format_zip(a);
  archive_write_open_filename(a, path.c_str());
  for (const auto& [name, bytes] : entries) {
    archive_entry* e = archive_entry_new();
    archive_entry_set_pathname(e, name.c_str());
    archive_entry_set_size(e, static_cast<la_int64_t>(bytes.size()));
    archive_entry_set_filetype(e, AE_IFREG);
    archive_write_header(a, e);
    archive_write_data(a, bytes.data(), bytes.size());
    archive_entry_free(e);
  }
  archive_write_close(a);
  archive_write_free(a);
}

TEST(Archive, AGridInsideAZipIsReadInPlace) {
  TemporaryFolder folder;
  zip(folder / "tile.zip", {{"readme.txt", "hello"}, {"data/S38W032.hgt", hgt_bytes()}});
  EXPECT_EQ(open_grid(folder / "tile.zip").at(0, 0), 1234);
  EXPECT_EQ(folder.files(), 1u);
  zip(folder / "two.zip", {{"S38W032.hgt", hgt_bytes()}, {"S38W031.hgt", hgt_bytes()}});
  EXPECT_EQ(error_of([&] { open_grid(folder / "two.zip"); }), ErrorCode::Unsupported);
  zip(folder / "none.zip", {{"readme.txt", "hello"}});
  EXPECT_EQ(error_of([&] { open_grid(folder / "none.zip"); }), ErrorCode::BadFile);
}

TEST(Archive, DamageAndBombsAreErrors) {
  TemporaryFolder folder;
  zip(folder / "a.zip", {{"S38W032.hgt", hgt_bytes()}});
  fs::resize_file(folder / "a.zip", fs::file_size(folder / "a.zip") / 2);
  EXPECT_EQ(error_of([&] { open_grid(folder / "a.zip"); }), ErrorCode::BadFile);
}

TEST(Lineage, IsOpenedWithTheGridItWasWrittenWith) {
  TemporaryFolder folder;
  const Grid a = rough_grid(utm_frame(40, 30), 1, 3), b = rough_grid(utm_frame(40, 30, 1, 676020), 2, 0);
  write_grid(mosaic({relabelled(a, [](GridInfo& i) { i.sources[0].name = "a, the first"; }), b},
                    {.prefer = {Preference::Given}}),
             folder / "m.tif", {.lineage = true});
  const Grid back = open_grid(folder / "m.tif");
  ASSERT_EQ(back.info().sources.size(), 2u);
  EXPECT_EQ(back.info().sources[0].name, "a, the first");
  const Block block = back.read(back.frame().window(), Planes::ValuesAndOrigin);
  for (std::int64_t c : {0, 39, 40, 59}) {
    if (std::isnan(block.at(c, 5))) continue;
    EXPECT_EQ(source_of(block.origin_row(5)[c]), c < 40 ? 1u : 2u) << c;
    EXPECT_EQ(how_of(block.origin_row(5)[c]), How::Measured);
  }
}

// A lineage left over from an earlier file of the same name and size was once taken for that of the new one.
TEST(Lineage, OfAReplacedFileDoesNotStay) {
  TemporaryFolder folder;
  const Grid a = rough_grid(utm_frame(40, 30), 1, 0), b = rough_grid(utm_frame(40, 30, 1, 676020), 2, 0);
  write_grid(mosaic({a, b}), folder / "m.tif", {.lineage = true});
  write_grid(rough_grid(utm_frame(60, 30), 3, 0), folder / "m.tif", {.overwrite = true, .run = {}});
  EXPECT_EQ(open_grid(folder / "m.tif").info().sources.size(), 1u);
  EXPECT_EQ(folder.files(), 1u);
}

Layer sample_layer() {
  Polygon p = to_polygon({-31.02, -37.56, -31.0, -37.54});
  p.holes.push_back(to_polygon({-31.015, -37.555, -31.01, -37.55}).outer);
  return {.name = "things",
          .crs = Crs::wgs84(),
          .features = {{Point{-31.0123456789, -37.55},
                        {{"name", std::string("a \"point\", é")}, {"n", std::int64_t{3}}, {"x", 1.5}}},
                       {LineString{{-31, -37}, {-31.1, -37.2}},
                        {{"name", std::string("line")}, {"n", std::int64_t{4}}, {"x", 2.5}}},
                       {MultiPolygon{p}, {{"name", std::string("area")}, {"n", std::int64_t{5}}, {"x", -2.5}}}}};
}

TEST(VectorFile, RoundTripsInBothFormats) {
  TemporaryFolder folder;
  for (const char* name : {"a.geojson", "a.gpkg"}) {
    write_layer(sample_layer(), folder / name);
    const Layer back = read_layer(folder / name);
    ASSERT_EQ(back.features.size(), 3u) << name;
    EXPECT_NEAR(std::get<Point>(back.features[0].geometry).x, -31.0123456789, 5.1e-10);
    EXPECT_EQ(std::get<LineString>(back.features[1].geometry).size(), 2u);
    const auto& shape = std::get<MultiPolygon>(back.features[2].geometry);
    EXPECT_EQ(shape[0].holes.size(), 1u);
    EXPECT_NEAR(planar_area(shape), 0.0004 - 0.000025, 1e-12);
    for (const auto& [key, value] : back.features[0].properties) {
      if (key == "name") {
        EXPECT_EQ(value, Property(std::string("a \"point\", é")));
      }
      if (key == "n") {
        EXPECT_EQ(value, Property(std::int64_t{3}));
      }
      if (key == "x") {
        EXPECT_EQ(value, Property(1.5));
      }
    }
    EXPECT_TRUE(back.crs.same_place(Crs::wgs84()));
  }
}

TEST(VectorFile, GeoJsonIsAlwaysLongitudeAndLatitudeGeoPackageKeepsTheCrs) {
  TemporaryFolder folder;
  const Layer utm{.name = "p", .crs = Crs::parse("EPSG:32725"), .features = {{Point{676671.52, 5842231.82}, {}}}};
  write_layer(utm, folder / "p.geojson");
  EXPECT_NEAR(std::get<Point>(read_layer(folder / "p.geojson").features[0].geometry).x, -31, 1e-6);
  write_layer(utm, folder / "p.gpkg");
  const Layer back = read_layer(folder / "p.gpkg");
  EXPECT_EQ(back.crs.epsg(), 32725);
  EXPECT_EQ(std::get<Point>(back.features[0].geometry).x, 676671.52);
}

TEST(VectorFile, PointTables) {
  TemporaryFolder folder;
  write_text_file(folder / "a.csv", "name;easting;northing;z\nA;676000,5;5842000;1\n");
  EXPECT_EQ(error_of([&] { read_layer(folder / "a.csv", Crs::parse("EPSG:32725")); }), ErrorCode::BadFile);
  write_text_file(folder / "b.csv", "name;easting;northing;z\nA;676000.5;5842000;1\n");
  EXPECT_EQ(error_of([&] { read_layer(folder / "b.csv"); }), ErrorCode::Refused);
  const Layer l = read_layer(folder / "b.csv", Crs::parse("EPSG:32725"));
  EXPECT_EQ(std::get<Point>(l.features[0].geometry), (Point{676000.5, 5842000}));
  write_text_file(folder / "c.csv", "lat,lon\n-37.5,-31\n");
  EXPECT_EQ(std::get<Point>(read_layer(folder / "c.csv").features[0].geometry), (Point{-31, -37.5}));
}

TEST(VectorFile, NonsenseIsRefused) {
  TemporaryFolder folder;
  int n = 0;
  for (
      const char* bad :
      {"{", "[]", "{}", R"({"type":"FeatureCollection"})", R"({"type":"Polygon","coordinates":[[[0,0],[1,1]]]})",
       R"({"type":"Point","coordinates":["a",2]})",
       R"({"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Blob","coordinates":[]}}]})"}) {
    const auto path = folder / (std::to_string(n++) + ".geojson");
    write_text_file(path, bad);
    EXPECT_EQ(error_of([&] { read_layer(path); }), ErrorCode::BadFile) << bad;
  }
  write_text_file(folder / "text.gpkg", "not a database at all, really");
  EXPECT_EQ(error_of([&] { read_layer(folder / "text.gpkg"); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { read_layer(folder / "a.dwg"); }), ErrorCode::Unsupported);
  EXPECT_EQ(error_of([&] { read_area(folder / "nowhere.geojson"); }), ErrorCode::Io);
}

TEST(Csv, QuotesAsRfc4180) {
  const auto rows = parse_csv("a,\"b,\"\"c\"\"\nd\",e\r\n1,,3\n\n");
  ASSERT_EQ(rows.size(), 2u);
  EXPECT_EQ(rows[0][1], "b,\"c\"\nd");
  EXPECT_EQ(rows[1][1], "");
  EXPECT_EQ(parse_csv(csv_field("x, \"y\"") + ",z")[0][0], "x, \"y\"");
}

}  // namespace
}  // namespace katoptra
