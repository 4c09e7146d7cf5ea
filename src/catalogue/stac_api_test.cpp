#include <nlohmann/json.hpp>
#include <set>

#include "katoptra/catalogue/find.hpp"

#include "fake_server.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
using nlohmann::json;

// A service in memory: five items, two a page, which writes down what it was asked.
class FakeApi {
 public:
  FakeApi() {
    server.handler = [this](const HttpRequest& q) -> std::optional<std::string> {
      if (q.url == "http://s/") return landing().dump();
      if (q.url == "http://s/collections")
        return json{{"collections",
                     {{{"id", "ground"},
                       {"type", "Collection"},
                       {"title", "Ground 2022"},
                       {"license", "CC0-1.0"},
                       {"extent", json::object()}},
                      {{"id", "sonar"},
                       {"type", "Collection"},
                       {"title", "Sonar 2019"},
                       {"license", "CC0-1.0"},
                       {"extent", json::object()}}}}}
            .dump();
      if (!q.url.starts_with("http://s/search")) return std::nullopt;
      const json body = q.method == "POST" ? json::parse(q.body) : json::object();
      bodies.push_back(body);
      urls.push_back(q.url);
      return page(q, body).dump();
    };
  }

  json landing() const {
    json j = {{"type", "Catalog"}, {"id", "s"}, {"stac_version", "1.0.0"}, {"conformsTo", conforms}};
    j["links"] = {{{"rel", "data"}, {"href", "collections"}},
                  {{"rel", "search"}, {"href", "search"}, {"method", "GET"}}};
    if (post) j["links"].push_back({{"rel", "search"}, {"href", "http://s/search"}, {"method", "POST"}});
    return j;
  }

  json page(const HttpRequest& q, const json& body) {
    const int from =
        q.method == "POST"
            ? body.value("token", 0)
            : (q.url.find("token=") == q.url.npos ? 0 : std::atoi(q.url.c_str() + q.url.find("token=") + 6));
    json j = {{"type", "FeatureCollection"}, {"features", json::array()}, {"links", json::array()}};
    for (int i = from; i < std::min(from + 2, 5); ++i) {
      const double w = -31 + 0.01 * i;
      j["features"].push_back(
          {{"type", "Feature"},
           {"id", "t" + std::to_string(i)},
           {"collection", "ground"},
           {"bbox", {w, -37.6, w + 0.01, -37.5}},
           {"geometry",
            {{"type", "Polygon"},
             {"coordinates", {{{w, -37.6}, {w + 0.01, -37.6}, {w + 0.01, -37.5}, {w, -37.5}, {w, -37.6}}}}}},
           {"properties", {{"datetime", "2022-01-01T00:00:00Z"}, {"gsd", 1}}},
           {"links", json::array()},
           {"assets", {{"data", {{"href", "files/t" + std::to_string(i) + ".tif"}, {"roles", {"data"}}}}}}});
    }
    if (from + 2 < 5 || endless) {
      json next = {{"rel", "next"}, {"href", next_host + "search"}};
      const int token = endless ? from : from + 2;
      if (q.method == "POST") {
        next["method"] = "POST";
        next["body"] = {{"token", token}};
        next["merge"] = merge;
        if (!merge) {
          next["body"] = body;
          next["body"]["token"] = token;
        }
      } else {
        next["href"] = next_host + "search?token=" + std::to_string(token);
      }
      j["links"].push_back(next);
    }
    return j;
  }

  FakeServer server;
  json conforms = {"https://api.stacspec.org/v1.0.0/core", "https://api.stacspec.org/v1.0.0/item-search"};
  bool post = true, merge = true, endless = false;
  std::string next_host = "http://s/";
  std::vector<json> bodies;
  std::vector<std::string> urls;
};

std::set<std::string> ids(const Catalogue& c) {
  std::set<std::string> out;
  for (const TileRecord& t : c.tiles) out.insert(t.id);
  return out;
}
const std::set<std::string> kAll = {"t0", "t1", "t2", "t3", "t4"};

TEST(StacApi, PagesAreFollowedByEveryMethod) {
  const Area area = Area::box({-31, -37.6, -30.9, -37.5});
  for (const auto& [post, merge] : {std::pair{true, true}, {true, false}, {false, false}}) {
    FakeApi api;
    api.post = post;
    api.merge = merge;
    const Catalogue c = read_catalogue("http://s/", {.area = &area});
    EXPECT_EQ(ids(c), kAll);
    EXPECT_EQ(api.urls.size(), 3u);
    EXPECT_EQ(c.tiles[0].survey, "Ground 2022");
    EXPECT_EQ(c.tiles[0].licence, "CC0-1.0");
    EXPECT_EQ(c.tiles[0].path, "http://s/files/t0.tif");
    if (post) {
      // What was asked holds on every page.
      EXPECT_TRUE(api.bodies[2].contains("intersects"));
      EXPECT_EQ(api.bodies[2]["token"], 4);
    } else {
      EXPECT_NE(api.urls[0].find("intersects="), std::string::npos);
    }
  }
}

TEST(StacApi, PagesThatGoInACircleEnd) {
  FakeApi api;
  api.endless = true;
  api.merge = false;
  EXPECT_LE(read_catalogue("http://s/").tiles.size(), 4u);
  EXPECT_LE(api.urls.size(), 3u);
}

TEST(StacApi, PagesOnAnotherHostAreRefused) {
  FakeApi api;
  api.next_host = "http://elsewhere/";
  EXPECT_EQ(error_of([] { read_catalogue("http://s/"); }), ErrorCode::Refused);
  for (const std::string& q : api.server.requests) EXPECT_EQ(q.find("elsewhere"), std::string::npos);
}

TEST(StacApi, TheQuestionSaysWhatIsWanted) {
  FakeApi api;
  const Area area = Area::box({-31, -37.6, -30.9, -37.5});
  const CatalogueQuery query{.area = &area,
                             .filter = {.from_year = 2016, .coarsest = Length::metres(1), .survey = "ground"}};
  read_catalogue("http://s/", query);
  json q = api.bodies.at(0);
  EXPECT_EQ(q["datetime"], "2016-01-01T00:00:00Z/..");
  EXPECT_EQ(q["collections"], json({"ground"}));
  EXPECT_EQ(q["intersects"]["type"], "Polygon");
  EXPECT_FALSE(q.contains("bbox"));
  // A filter only where the service declares it.
  EXPECT_FALSE(q.contains("filter"));
  api.conforms.push_back("https://api.stacspec.org/v1.0.0/item-search#filter");
  api.conforms.push_back("http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2");
  api.conforms.push_back("http://www.opengis.net/spec/cql2/1.0/conf/cql2-json");
  api.bodies.clear();
  read_catalogue("http://s/", query);
  q = api.bodies.at(0);
  EXPECT_EQ(q["filter-lang"], "cql2-json");
  EXPECT_EQ(q["filter"]["op"], "<=");
  EXPECT_EQ(q["filter"]["args"][0]["property"], "gsd");
  // Across the antimeridian, and with many corners: a box.
  api.bodies.clear();
  const Area across = parse_area("box:179.5,-17,-179.5,-16"), round = parse_area("circle:-31,-37.55,500m");
  read_catalogue("http://s/", {.area = &across});
  EXPECT_EQ(api.bodies.at(0)["bbox"], json({179.5, -17.0, -179.5, -16.0}));
  const Area many = Area(union_of({round.shape(), parse_area("circle:-31.1,-37.55,500m").shape()}), Crs::wgs84());
  api.bodies.clear();
  read_catalogue("http://s/", {.area = &many});
  EXPECT_TRUE(api.bodies.at(0).contains("bbox"));
}

TEST(StacApi, AServiceThatIsLargerThanAskedForIsRefused) {
  FakeApi api;
  EXPECT_EQ(error_of([] { read_catalogue("http://s/", {}, {.most_items = 3}); }), ErrorCode::TooLarge);
}

TEST(StacApi, AnswersThatAreNoneAreErrors) {
  FakeApi api;
  const auto good = api.server.handler;
  for (const char* bad : {"<html>", "{}", "{\"features\": 5}", "[]"}) {
    api.server.handler = [&](const HttpRequest& q) {
      return q.url.starts_with("http://s/search") ? std::optional<std::string>(bad) : good(q);
    };
    EXPECT_EQ(error_of([] { read_catalogue("http://s/"); }), ErrorCode::BadFile) << bad;
  }
  // One bad item among good ones is told, and the others come.
  api.server.handler = [&](const HttpRequest& q) -> std::optional<std::string> {
    auto text = good(q);
    if (text && q.url.starts_with("http://s/search")) {
      json j = json::parse(*text);
      j["features"].push_back({{"type", "Feature"}});
      return j.dump();
    }
    return text;
  };
  const Catalogue c = read_catalogue("http://s/");
  EXPECT_EQ(ids(c), kAll);
  EXPECT_FALSE(c.notes.empty());
}

}  // namespace
}  // namespace katoptra
