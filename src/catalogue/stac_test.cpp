#include "katoptra/catalogue/stac.hpp"

#include <filesystem>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <random>

#include "katoptra/catalogue/catalogue_file.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/orders.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "base/sqlite.hpp"
#include "fake_server.hpp"
#include "item_scan.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
using nlohmann::json;
namespace fs = std::filesystem;

std::string item(const std::string& id, const Bounds& b, const std::string& href, const std::string& more = "{}") {
  json j = {{"type", "Feature"},
            {"stac_version", "1.0.0"},
            {"id", id},
            {"bbox", {b.west, b.south, b.east, b.north}},
            {"links", json::array()}};
  j["geometry"] = {{"type", "Polygon"},
                   {"coordinates",
                    {{{b.west, b.south}, {b.east, b.south}, {b.east, b.north}, {b.west, b.north}, {b.west, b.south}}}}};
  j["properties"] = {{"datetime", "2022-03-14T10:00:00Z"}, {"gsd", 1.0}};
  j["assets"]["data"] = {{"href", href}, {"roles", {"data"}}, {"type", "image/tiff; application=geotiff"}};
  j.merge_patch(json::parse(more));
  return j.dump();
}

TileRecord only(const std::string& text, const ItemContext& context = {}) {
  auto tiles = tiles_of_item(text, context);
  EXPECT_EQ(tiles.size(), 1u);
  return tiles.at(0);
}

TEST(Stac, ATileComesBackAsItWent) {
  TileRecord t;
  t.path = "/data/ground/sheet_b2.tif";
  t.id = "sheet_b2";
  t.survey = "Ground 2022";
  t.format = "GeoTIFF";
  t.date = "2022-03-14";
  t.licence = "CC0-1.0";
  t.custodian = "Land Office";
  t.uncertainty = {.text = "0.05m+0.2m*slope", .confidence = 95, .reach = 3_m};
  t.access = Access::Restricted;
  t.frame = utm_frame(300, 200, 0.3, 676000.123456789, 5842000.1);
  t.quantity = metres_above_egm2008();
  t.quantity.unit = LengthUnit::UsFoot;
  t.type = SampleType::Int16;
  t.spacing = ground_spacing(*t.frame);
  t.bytes = 12345;
  t.checksum = "1220aa";
  t.problems = {"truncated"};
  const std::string text = item_of_tile(t, {.href = t.path.string()});
  const TileRecord b = only(text);
  EXPECT_EQ(b.path, t.path);
  EXPECT_EQ(b.id, t.id);
  EXPECT_EQ(b.survey, t.survey);
  EXPECT_EQ(b.date, t.date);
  EXPECT_EQ(b.licence, t.licence);
  EXPECT_EQ(b.custodian, t.custodian);
  EXPECT_EQ(b.access, t.access);
  EXPECT_EQ(*b.frame, *t.frame);
  EXPECT_EQ(b.quantity.heights, t.quantity.heights);
  EXPECT_EQ(b.quantity.unit, t.quantity.unit);
  EXPECT_EQ(b.type, t.type);
  EXPECT_EQ(b.bytes, t.bytes);
  EXPECT_EQ(b.checksum, t.checksum);
  EXPECT_EQ(b.problems, t.problems);
  // One across the antimeridian is cut there, and found again on either side.
  TileRecord across = t;
  across.problems.clear();
  across.access = Access::Open;
  across.frame = Frame(Crs::wgs84(), 179.5, -16, {0.001, 0.001}, 1000, 500);
  const json cut = json::parse(item_of_tile(across, {.href = "a.tif"}));
  EXPECT_EQ(cut["geometry"]["type"], "MultiPolygon");
  EXPECT_EQ(cut["bbox"][2], -179.5);
  for (const char* area :
       {"box:179.6,-16.4,179.9,-16.1", "box:-179.9,-16.4,-179.6,-16.1", "box:179.9,-16.4,-179.9,-16.1"})
    EXPECT_EQ(find_tiles({{only(cut.dump())}}, parse_area(area)).covered_fraction, 1) << area;
  // One without a place stays without.
  t.frame = t.frame->with_crs(Crs());
  const TileRecord lost = only(item_of_tile(t, {.href = "a.tif"}));
  EXPECT_FALSE(lost.placed());
  EXPECT_EQ(lost.frame->cols(), 300);
}

// Field by field what STAC 1.0.0 requires of an item and a collection, with types.
TEST(Stac, DocumentsHaveWhatTheSpecificationRequires) {
  TileRecord t;
  t.path = "a.tif";
  t.id = "a";
  t.survey = "S";
  t.frame = utm_frame(10, 10);
  t.spacing = ground_spacing(*t.frame);
  for (const std::string date : {"2022-03-14", ""}) {
    t.date = date;
    const json j = json::parse(
        item_of_tile(t, {.self = "http://h/i", .collection = "http://h/c", .collection_id = "s", .href = "a.tif"}));
    EXPECT_EQ(j["type"], "Feature");
    EXPECT_EQ(j["stac_version"], "1.0.0");
    EXPECT_TRUE(j["id"].is_string() && j["geometry"].is_object() && j["properties"].is_object() &&
                j["links"].is_array() && j["assets"].is_object());
    ASSERT_EQ(j["bbox"].size(), 4u);
    EXPECT_LT(j["bbox"][0], j["bbox"][2]);
    EXPECT_TRUE(j["properties"].contains("datetime"));
    if (date.empty()) {
      EXPECT_TRUE(j["properties"]["datetime"].is_null());
      EXPECT_TRUE(j["properties"]["start_datetime"].is_string() && j["properties"]["end_datetime"].is_string());
    }
    for (const json& l : j["links"]) EXPECT_TRUE(l["href"].is_string() && l["rel"].is_string());
    EXPECT_TRUE(j["assets"]["data"]["href"].is_string() && j["assets"]["data"]["roles"].is_array());
    for (const json& e : j["stac_extensions"]) EXPECT_TRUE(e.get<std::string>().starts_with("https://"));
    // Extensions: projection, raster, file.
    EXPECT_EQ(j["properties"]["proj:epsg"], 32725);
    EXPECT_EQ(j["properties"]["proj:shape"], json({10, 10}));
    EXPECT_GE(j["properties"]["proj:transform"].size(), 6u);
    EXPECT_TRUE(j["assets"]["data"]["file:size"].is_number_unsigned());
    EXPECT_EQ(j["assets"]["data"]["raster:bands"][0]["data_type"], "float32");
    // The outer ring runs counter-clockwise.
    const auto ring = j["geometry"]["coordinates"][0].get<std::vector<std::vector<double>>>();
    double twice = 0;
    for (std::size_t i = 0; i + 1 < ring.size(); ++i)
      twice += ring[i][0] * ring[i + 1][1] - ring[i + 1][0] * ring[i][1];
    EXPECT_GT(twice, 0);
    EXPECT_EQ(ring.front(), ring.back());
    const json c = json::parse(collection_of_survey("s", {&t}, {.self = "http://h/c"}));
    EXPECT_EQ(c["type"], "Collection");
    EXPECT_TRUE(c["id"].is_string() && c["description"].is_string() && !c["description"].get<std::string>().empty() &&
                c["license"].is_string() && c["links"].is_array());
    EXPECT_EQ(c["extent"]["spatial"]["bbox"][0].size(), 4u);
    EXPECT_EQ(c["extent"]["temporal"]["interval"][0].size(), 2u);
  }
}

TEST(Stac, WhatIsNotKnownHereIsKept) {
  const std::string text = item(
      "a", {10, 50, 11, 51}, "a.tif",
      R"({"properties": {"view:sun_azimuth": 12, "strange:thing": {"deep": [1, 2]}}, "stac_extensions": ["https://example.invalid/strange/v1/schema.json"]})");
  const TileRecord t = only(text, {.base = "/data/items/a.json"});
  EXPECT_EQ(t.path, "/data/items/a.tif");
  const json out = json::parse(item_of_tile(t, {.href = "b.tif"}));
  EXPECT_EQ(out["properties"]["view:sun_azimuth"], 12);
  EXPECT_EQ(out["properties"]["strange:thing"]["deep"], json({1, 2}));
  const auto e = out["stac_extensions"].get<std::vector<std::string>>();
  EXPECT_NE(std::find(e.begin(), e.end(), "https://example.invalid/strange/v1/schema.json"), e.end());
}

TEST(Stac, ExtensionsOfOthers) {
  const TileRecord points = only(item(
      "p", {10, 50, 10.01, 50.01}, "p.laz",
      R"({"properties": {"pc:count": 3000000, "pc:type": "lidar", "classification:classes": [{"value": 2}, {"value": 9}]}, "assets": {"data": {"type": "application/vnd.laszip"}}})"));
  EXPECT_EQ(points.kind, TileKind::Points);
  EXPECT_EQ(points.format, "LAZ");
  EXPECT_NEAR(points.density, 3e6 / Area::box({10, 50, 10.01, 50.01}).ground_area(), 1e-9);
  EXPECT_EQ(points.classes, (std::vector<int>{2, 9}));
  EXPECT_EQ(only(item("s", {10, 50, 11, 51}, "s.xyz", R"({"properties": {"pc:type": "sonar", "pc:density": 2}})")).kind,
            TileKind::Soundings);
  EXPECT_FALSE(
      only(item("d", {10, 50, 11, 51}, "d.tif", R"({"properties": {"deprecated": true}})")).superseded.empty());
  EXPECT_EQ(only(item("k", {10, 50, 11, 51}, "k.tif", R"({"assets": {"data": {"auth:refs": ["key"]}}})")).access,
            Access::Key);
  const TileRecord framed = only(item(
      "f", {10, 50, 11, 51}, "f.tif",
      R"({"properties": {"proj:code": "EPSG:25832", "proj:shape": [100, 200], "proj:transform": [2, 0, 500000, 0, -2, 5600000, 0, 0, 1]}})"));
  EXPECT_EQ(framed.frame->crs().epsg(), 25832);
  EXPECT_EQ(framed.frame->cols(), 200);
  // A turned lattice is no frame; its outline counts.
  EXPECT_FALSE(
      only(
          item(
              "r", {10, 50, 11, 51}, "r.tif",
              R"({"properties": {"proj:epsg": 25832, "proj:shape": [1, 1], "proj:transform": [2, 1, 500000, 1, -2, 5600000]}})"))
          .frame);
  // Thumbnails and metadata are no tiles; two files of data are two.
  EXPECT_EQ(
      tiles_of_item(
          item(
              "m", {10, 50, 11, 51}, "m.tif",
              R"({"assets": {"thumbnail": {"href": "m.png", "roles": ["thumbnail"]}, "points": {"href": "m.laz", "roles": ["data"]}}})"),
          {})
          .size(),
      2u);
}

// Nor by what it says of the uncertainty, which might be the name of a second grid.
TEST(Stac, ARemoteCatalogueStatesUncertaintiesAndNamesNoGrid) {
  const auto read = [](const std::string& properties) {
    std::string text = item("a", {10, 50, 11, 51}, "a.tif");
    text.replace(text.find("\"properties\":{") + 14, 0, properties + ",");
    return only(text, {.base = "http://h/c/item.json"}).uncertainty;
  };
  EXPECT_EQ(read(R"("katoptra:uncertainty":"0.1m","katoptra:error_reach_m":0)"),
            (StatedUncertainty{.text = "0.1m", .reach = 0_m}));
  for (const char* bad : {R"("katoptra:uncertainty":"/etc/passwd")", R"("katoptra:uncertainty":"band:2")",
                          R"("katoptra:uncertainty":"-1m")", R"("katoptra:uncertainty":5)",
                          R"("katoptra:confidence":12)", R"("katoptra:error_reach_m":-3)"})
    EXPECT_EQ(read(bad), StatedUncertainty()) << bad;
}

TEST(Stac, ARemoteCatalogueNamesNoFilesOfThisMachine) {
  const std::string base = "http://h/c/item.json";
  for (const char* href : {"file:///etc/passwd", "ftp://h/a.tif", "data:text/plain,hello", "C:/windows/a.tif"}) {
    const TileRecord t = only(item("a", {10, 50, 11, 51}, href), {.base = base});
    EXPECT_FALSE(t.untrusted.empty()) << href;
    EXPECT_FALSE(find_tiles({{t}}, Area::box({10, 50, 11, 51})).tiles.at(0).kept) << href;
  }
  // A rooted path is one of the server.
  EXPECT_EQ(only(item("a", {10, 50, 11, 51}, "/etc/passwd"), {.base = base}).path, "http://h/etc/passwd");
  const TileRecord other = only(item("a", {10, 50, 11, 51}, "http://other/a.tif"), {.base = base});
  EXPECT_NE(other.untrusted.find("--host other"), std::string::npos);
  EXPECT_TRUE(
      only(item("a", {10, 50, 11, 51}, "http://other/a.tif"), {.base = base, .hosts = {"other"}}).untrusted.empty());
}

TEST(Stac, DamagedItemsAreErrors) {
  for (const std::string& bad :
       {std::string("[]"), std::string("{"), std::string(R"({"type":"Feature"})"), std::string(100'000, '['),
        item("a", {10, 50, 11, 51}, "a.tif",
             R"({"geometry": {"type": "Polygon", "coordinates": [[["x", 1], [2, 3], [4, 5], [6, 7]]]}})")})
    EXPECT_EQ(error_of([&] { tiles_of_item(bad, {}); }), ErrorCode::BadFile) << bad.substr(0, 60);
}

TEST(Stac, AStaticCatalogueIsWalkedAndStaysOnItsHost) {
  FakeServer server;
  auto link = [](const char* rel, const char* href) { return json{{"rel", rel}, {"href", href}}; };
  server.put("http://h/catalog.json", json{{"type", "Catalog"},
                                           {"id", "c"},
                                           {"links",
                                            {link("child", "a/collection.json"), link("child", "far/collection.json"),
                                             link("child", "http://elsewhere/x.json"),
                                             link("child", "file:///etc/passwd"), link("child", "catalog.json")}}}
                                          .dump());
  const json extent = {{"spatial", {{"bbox", {{10, 50, 11, 51}}}}}};
  server.put("http://h/a/collection.json",
             json{{"type", "Collection"},
                  {"id", "a"},
                  {"title", "Survey A"},
                  {"license", "CC0-1.0"},
                  {"extent", extent},
                  {"links", {link("item", "one.json"), link("item", "gone.json"), link("root", "../catalog.json")}}}
                 .dump());
  server.put("http://h/far/collection.json", json{{"type", "Collection"},
                                                  {"id", "far"},
                                                  {"extent", {{"spatial", {{"bbox", {{100, 0, 101, 1}}}}}}},
                                                  {"links", {link("item", "never.json")}}}
                                                 .dump());
  server.put("http://h/a/one.json", item("one", {10, 50, 11, 51}, "../tiles/one.tif"));
  const Area area = Area::box({10.2, 50.2, 10.4, 50.4});
  const Catalogue c = read_catalogue("http://h/catalog.json", {.area = &area});
  ASSERT_EQ(c.tiles.size(), 1u);
  EXPECT_EQ(c.tiles[0].path, "http://h/tiles/one.tif");
  EXPECT_EQ(c.tiles[0].survey, "Survey A");
  EXPECT_EQ(c.tiles[0].licence, "CC0-1.0");
  for (const std::string& q : server.requests) {
    EXPECT_EQ(q.find("elsewhere"), std::string::npos);
    EXPECT_EQ(q.find("never"), std::string::npos) << "its extent lies far from the area";
  }
  std::string notes;
  for (const std::string& n : c.notes) notes += n + "\n";
  EXPECT_NE(notes.find("--host elsewhere"), std::string::npos);
  EXPECT_NE(notes.find("no web address"), std::string::npos);
  EXPECT_NE(notes.find("gone.json"), std::string::npos);
  // The same documents in a folder.
  TemporaryFolder folder;
  write_text_file(
      folder / "catalog.json",
      json{{"type", "Catalog"}, {"id", "c"}, {"stac_version", "1.0.0"}, {"links", {link("item", "one.json")}}}.dump());
  write_text_file(folder / "one.json", item("one", {10, 50, 11, 51}, "one.tif"));
  EXPECT_EQ(read_catalogue(folder.path().string()).tiles.at(0).path, folder / "one.tif");
}

// --------------------------------------------------------------------------------------------------- catalogue files

std::size_t tree_faults(const fs::path& path) {
  Sql sql(path);
  auto q = sql.query("SELECT rtreecheck('box')");
  q.step();
  return q.text(0) == "ok" ? 0 : 1;
}

TEST(CatalogueFile, FindsWhatLookingAtEveryBoxFinds) {
  // Sizes around the edges of the tree's nodes, and of what is inserted one by one.
  for (std::size_t n : {1u, 50u, 51u, 52u, 700u, 1999u, 2000u, 2601u, 2602u, 9000u}) {
    SCOPED_TRACE(n);
    TemporaryFolder folder;
    std::mt19937 random(static_cast<unsigned>(n));
    std::uniform_real_distribution<double> x(-180, 180), y(-85, 84), size(0, 5);
    std::vector<Bounds> boxes;
    std::string text = "{\"type\": \"FeatureCollection\", \"note\": \"a \\\"quoted\\\" ] } word\", \"features\": [";
    for (std::size_t i = 0; i < n; ++i) {
      const double w = x(random), s = y(random), dx = size(random);
      boxes.push_back({w, s, w + dx, s + size(random) / 5});
      Bounds told = boxes.back();
      if (told.east > 180) told.east -= 360;  // crosses the antimeridian
      text +=
          (i ? ",\n" : "") + item("t" + std::to_string(i), told, "t.tif", R"({"properties": {"odd": "a]}\\\"[{"}})");
    }
    text += "], \"links\": []}";
    write_text_file(folder / "items.json", text);
    CatalogueFile file(folder / "c.katalog");
    EXPECT_EQ(file.add_items(folder / "items.json").items, n);
    EXPECT_EQ(tree_faults(folder / "c.katalog"), 0u);
    for (int k = 0; k < 30; ++k) {
      const double w = x(random), s = y(random);
      const Bounds area_box{w, s, w + 3, s + 1};
      const Area area = Area::box(area_box);
      std::set<std::string> expected, found;
      for (std::size_t i = 0; i < n; ++i)
        for (double turn : {-360.0, 0.0, 360.0})
          if (Bounds{boxes[i].west + turn, boxes[i].south, boxes[i].east + turn, boxes[i].north}.intersects(area_box))
            expected.insert("t" + std::to_string(i));
      for (const TileRecord& t : file.search({.area = &area}).tiles) found.insert(t.id);
      for (const std::string& e : expected) EXPECT_TRUE(found.count(e)) << e;
      EXPECT_LE(found.size(), expected.size() + 1);  // boxes are rounded outwards to 32 bits
    }
    // Filled again, nothing is there twice.
    EXPECT_EQ(file.add_items(folder / "items.json").removed, n);
    EXPECT_EQ(file.size(), n);
    EXPECT_EQ(tree_faults(folder / "c.katalog"), 0u);
  }
}

TEST(CatalogueFile, ItemsAreFoundAtEveryCutOfTheText) {
  // Texts that end in a backslash, before a quote that is none of theirs.
  std::string text =
      R"({"title": "C:\\", "note": "\\\"", "links": [{"a": "\\"}], "type": "FeatureCollection", "features": [)";
  std::vector<std::string> expected;
  for (int i = 0; i < 5; ++i) {
    expected.push_back(item("t" + std::to_string(i), {10, 50, 11, 51}, R"(a\"]}{[\\)"));
    text += (i ? " , " : "") + expected.back();
  }
  text += "] }";
  const auto source = bytes_in_memory("items", {text.begin(), text.end()});
  for (std::size_t batch = 1; batch < 700; batch += 3) {
    std::vector<std::string> found;
    for_each_item_batch(*source, batch, [&](auto, std::vector<std::string_view> items) {
      found.insert(found.end(), items.begin(), items.end());
    });
    ASSERT_EQ(found, expected) << "batches of " << batch;
  }
  for (const char* bad : {"[]", "{}", "{\"features\": 1}", "{\"features\": [1]}", "{\"features\": [{}",
                          "{\"features\": [{\"a\": \"", "", "{\"a\": [1, 2"}) {
    const std::string b = std::string(bad) + " ";
    const auto damaged = bytes_in_memory("items", {b.begin(), b.end()});
    EXPECT_EQ(error_of([&] { for_each_item_batch(*damaged, 10, [](auto, auto) {}); }), ErrorCode::BadFile) << bad;
  }
}

TEST(CatalogueFile, OpensOnlyWhatIsNewOrChanged) {
  TemporaryFolder folder;
  const fs::path data = folder / "data";
  fs::create_directories(data / "sub");
  for (const char* name : {"a.tif", "sub/b.tif", "c.asc"})
    write_grid(rough_grid(utm_frame(20, 20), 1), data / name, {.run = {}});
  write_text_file(data / "note.txt", "no tile");
  CatalogueFile file(folder / "c.katalog");
  CatalogueUpdate r = file.refresh_folder(data);
  EXPECT_EQ(r.items, 3u);
  r = file.refresh_folder(data);
  EXPECT_EQ(r.read, 0u);
  EXPECT_EQ(r.items, 3u);
  // One changed, one new, one gone; what lies beside a file changes it; a record changes all below it.
  write_grid(rough_grid(utm_frame(30, 30), 2), data / "a.tif", {.overwrite = true, .run = {}});
  write_grid(rough_grid(utm_frame(10, 10), 1), data / "d.tif", {.run = {}});
  fs::remove(data / "sub/b.tif");
  r = file.refresh_folder(data);
  EXPECT_EQ(r.read, 2u);
  EXPECT_EQ(r.removed, 1u);
  EXPECT_EQ(r.items, 3u);
  fs::remove(data / "c.prj");
  r = file.refresh_folder(data);
  EXPECT_GE(r.read, 1u);
  const Catalogue now = file.search();
  for (const TileRecord& t : now.tiles) {
    EXPECT_EQ(t.placed(), t.id != "c") << t.id;
    if (t.id == "a") {
      EXPECT_EQ(t.frame->cols(), 30);
    }
  }
  write_text_file(data / "survey.toml", "name = \"All\"\nkey = [\"a\"]\n");
  file.refresh_folder(data);
  for (const TileRecord& t : file.search().tiles) {
    EXPECT_EQ(t.survey, "All");
    EXPECT_EQ(t.access, t.id == "a" ? Access::Key : Access::Open);
  }
  EXPECT_EQ(tree_faults(folder / "c.katalog"), 0u);
}

TEST(CatalogueFile, KeptFoldersGiveTheSameAsOpenedOnes) {
  TemporaryFolder folder;
  const fs::path demo = KATOPTRA_DEMO_DATA;
  const Area area = parse_area("circle:-30.9889,-37.5550,400m");
  const Shortlist fresh = find_tiles(read_catalogue(demo.string(), {.area = &area}), area);
  for (int turn = 0; turn < 2; ++turn) {
    const Shortlist kept = find_tiles(read_catalogue(demo.string(), {.area = &area}, {.cache = folder.path()}), area);
    EXPECT_EQ(shortlist_csv(kept), shortlist_csv(fresh));
  }
  // A cache that cannot be kept costs time, not the answer.
  write_text_file(folder / "file", "x");
  const Catalogue c = read_catalogue(demo.string(), {.area = &area}, {.cache = folder / "file"});
  EXPECT_EQ(shortlist_csv(find_tiles(c, area)), shortlist_csv(fresh));
  EXPECT_EQ(c.notes.size(), 1u);
}

TEST(CatalogueFile, IsNotTakenForAnotherDatabase) {
  TemporaryFolder folder;
  Sql(folder / "other.db").run("CREATE TABLE t(a)");
  EXPECT_EQ(error_of([&] { CatalogueFile c(folder / "other.db"); }), ErrorCode::BadFile);
  write_text_file(folder / "text.katalog", std::string(2000, 'x'));
  EXPECT_EQ(error_of([&] { CatalogueFile c(folder / "text.katalog"); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { OrderBook b(folder / "other.db"); }), ErrorCode::BadFile);
  EXPECT_FALSE(CatalogueFile::is_one(folder / "other.db"));
  { CatalogueFile c(folder / "c.katalog"); }
  EXPECT_TRUE(CatalogueFile::is_one(folder / "c.katalog"));
  // A filling that fails leaves what was there.
  CatalogueFile c(folder / "c.katalog");
  write_text_file(folder / "good.json", "{\"features\": [" + item("a", {10, 50, 11, 51}, "a.tif") + "]}");
  c.add_items(folder / "good.json");
  write_text_file(folder / "good.json",
                  "{\"features\": [" + item("a", {10, 50, 11, 51}, "a.tif") + ", {\"type\": \"Feature\"}]}",
                  {.overwrite = true});
  EXPECT_EQ(error_of([&] { c.add_items(folder / "good.json"); }), ErrorCode::BadFile);
  EXPECT_EQ(c.size(), 1u);
}

TEST(Demand, CountsHowOftenASpotWasAskedFor) {
  Order a, b, c;
  a.area = {to_polygon(Bounds{0, 0, 10, 10})};
  b.area = {to_polygon(Bounds{5, 0, 10, 10})};
  const Grid g = demand_grid({a, b, c}, 110);
  auto at = [&](double x, double y) {
    const auto col = static_cast<std::int64_t>(g.frame().col_at(x)),
               row = static_cast<std::int64_t>(g.frame().row_at(y));
    return g.read({col, row, 1, 1}).at(0, 0);
  };
  EXPECT_EQ(at(2, 5), 1);
  EXPECT_EQ(at(7, 5), 2);
  EXPECT_TRUE(std::isnan(at(10.4, 5)));
  EXPECT_EQ(error_of([&] { demand_grid({c}); }), ErrorCode::Refused);
}

}  // namespace
}  // namespace katoptra
