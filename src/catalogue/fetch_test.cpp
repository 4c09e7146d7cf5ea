#include "katoptra/catalogue/fetch.hpp"

#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <map>
#include <random>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "fake_server.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

std::string hash_of(const std::string& text) {
  Sha256 sum;
  sum.add({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
  return "1220" + sum.hex();
}

std::string noise(std::size_t n, unsigned seed) {
  std::mt19937 random(seed);
  std::string s(n, '\0');
  for (char& c : s) c = static_cast<char>(random());
  return s;
}

FetchOptions into(const fs::path& folder, int tries = 1) {
  return {
      .folder = folder, .parallel = 1, .patience = {.tries = tries, .first = std::chrono::milliseconds(1)}, .say = {}};
}

std::size_t files_below(const fs::path& folder) {
  std::size_t n = 0;
  for (const auto& f : fs::recursive_directory_iterator(folder)) n += f.is_regular_file();
  return n;
}

// The one promise that everything else hangs on: stopped at any byte, the next run ends with the same file.
TEST(Fetch, StoppedAtAnyByteItGoesOn) {
  const std::string all = noise(300, 1);
  FakeServer server;
  server.put("http://s/a.bin", all);
  const ShortlistEntry entry{.path = "http://s/a.bin", .survey = "S", .checksum = hash_of(all), .bytes = all.size()};
  server.dead_after_cut = true;
  for (std::size_t at = 0; at < all.size(); ++at) {
    TemporaryFolder folder;
    server.answers.clear();
    server.cut_after = at;
    const FetchReport first = fetch_tiles({entry}, into(folder.path()));
    server.answers.clear();
    ASSERT_EQ(first.missing().size(), 1u) << at;
    ASSERT_FALSE(fs::exists(folder / "s/a.bin")) << "half a file has its name, cut at " << at;
    const std::uint64_t before = server.sent;
    const FetchReport second = fetch_tiles({entry}, into(folder.path()));
    ASSERT_TRUE(second.missing().empty()) << at << ": " << second.missing()[0]->problem;
    ASSERT_TRUE(read_text_file(folder / "s/a.bin") == all) << at;
    // Only what was missing moved.
    ASSERT_EQ(server.sent - before, all.size() - at) << at;
    ASSERT_EQ(second.tiles[0].outcome, at == 0 ? FetchOutcome::Fetched : FetchOutcome::Resumed);
    ASSERT_EQ(files_below(folder.path()), 4u)
        << "the file, its survey.toml, the list of what was brought, the shortlist";
  }
}

TEST(Fetch, CutsAreGoneOnWithInOneRun) {
  const std::string all = noise(50'000, 2);
  FakeServer server;
  server.put("http://s/a.bin", all);
  TemporaryFolder folder;
  server.cut_after = 12'345;
  const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path(), 3));
  EXPECT_TRUE(r.missing().empty());
  EXPECT_TRUE(read_text_file(folder / "s/a.bin") == all);
  EXPECT_EQ(server.sent, all.size());
}

TEST(Fetch, AnotherVersionStartsAgain) {
  FakeServer server;
  const std::string old = noise(5000, 3), fresh = noise(6000, 4);
  server.dead_after_cut = true;
  for (bool ranges : {true, false}) {
    TemporaryFolder folder;
    server.ranges = ranges;
    server.put("http://s/a.bin", old);
    server.cut_after = 3000;
    fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path()));
    server.put("http://s/a.bin", fresh);
    const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path()));
    EXPECT_TRUE(r.missing().empty());
    EXPECT_TRUE(read_text_file(folder / "s/a.bin") == fresh);
  }
}

// A service that answers ranges wrongly kept fetch going for ever: one part of 0.3 MB grew to 18 MB.
TEST(Fetch, WrongAnswersToRangesEnd) {
  const std::string all = noise(40'000, 9), other = noise(40'000, 10);
  using Twist = std::function<void(HttpResponse&, std::string&)>;
  const std::map<std::string, Twist> wrong = {
      {"another part",
       [&](HttpResponse& r, std::string& body) {
         r.headers["content-range"] = fmt::format("bytes 0-{}/{}", body.size() - 1, all.size());
       }},
      {"no range told", [](HttpResponse& r, std::string&) { r.headers.erase("content-range"); }},
      {"no size told",
       [&](HttpResponse& r, std::string&) {
         std::string& range = r.headers["content-range"];
         range = range.substr(0, range.find('/')) + "/*";
       }},
      {"nonsense", [](HttpResponse& r, std::string&) { r.headers["content-range"] = "bytes 9-1/x"; }},
      {"fewer bytes", [](HttpResponse&, std::string& body) { body.resize(body.size() / 2); }},
      {"more bytes", [](HttpResponse&, std::string& body) { body += body; }},
      {"another version, by its tag",
       [&](HttpResponse& r, std::string& body) {
         r.headers["etag"] = "\"other\"";
         body = other.substr(other.size() - body.size());
       }},
      {"another version, by its date", [&](HttpResponse& r, std::string& body) {
         r.headers["last-modified"] = "Sat, 01 Aug 2026 10:00:00 GMT";
         body = other.substr(other.size() - body.size());
       }}};
  for (const auto& [what, twist] : wrong) {
    SCOPED_TRACE(what);
    FakeServer server;
    server.put("http://s/a.bin", all);
    TemporaryFolder folder;
    server.cut_after = 15'000;
    server.twist = twist;
    const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path(), 4));
    EXPECT_LT(server.asked, 30);
    EXPECT_LT(server.sent, 12 * all.size());
    // Whole and right, or not at all: never two halves of two files.
    if (what == "another version, by its date") continue;  // the first answer told no date: nothing contradicts it
    if (r.missing().empty())
      EXPECT_TRUE(read_text_file(folder / "s/a.bin") == all);
    else
      EXPECT_FALSE(fs::exists(folder / "s/a.bin"));
  }
}

// A page that asks for a password was kept as a tile, when neither size nor checksum was known.
TEST(Fetch, WhatComesMustBeWhatItsNameSays) {
  FakeServer server;
  server.put("http://s/a.tif", "\n<!DOCTYPE html><html><body>Log in</body></html>");
  server.put("http://s/b.tif", std::string("\x1f\x8b\x08", 3) + noise(500, 1));
  server.put("http://s/c.bin", "<html>no</html>");
  TemporaryFolder folder;
  const FetchReport r = fetch_tiles({{.path = "http://s/a.tif", .survey = "S"},
                                     {.path = "http://s/b.tif", .survey = "S"},
                                     {.path = "http://s/c.bin", .survey = "S"}},
                                    into(folder.path()));
  ASSERT_EQ(r.missing().size(), 3u);
  EXPECT_NE(r.missing()[0]->problem.find("web page"), std::string::npos) << r.missing()[0]->problem;
  EXPECT_NE(r.missing()[1]->problem.find("not what its name says"), std::string::npos) << r.missing()[1]->problem;
  EXPECT_FALSE(fs::exists(folder / "s/a.tif"));
}

// Names and tags that are not UTF-8 ended the process, and so did any exception that was none of ours.
TEST(Fetch, NamesAndTagsNeedNotBeUtf8) {
  FakeServer server;
  const std::string all = noise(3000, 3);
  server.put("http://s/caf%E9.bin", all);
  server.twist = [](HttpResponse& r, std::string&) { r.headers["etag"] = "\"\xE9\xFF\""; };
  server.cut_after = 1000;
  TemporaryFolder folder;
  const FetchReport r = fetch_tiles({{.path = "http://s/caf%E9.bin", .survey = "S\xE9"}}, into(folder.path(), 3));
  EXPECT_TRUE(r.missing().empty()) << r.missing()[0]->problem;
  server.handler = [](const HttpRequest&) -> std::optional<std::string> { throw std::runtime_error("something else"); };
  const FetchReport odd = fetch_tiles({{.path = "http://s/odd.bin", .survey = "S", .bytes = 10}}, into(folder.path()));
  ASSERT_EQ(odd.missing().size(), 1u);
  EXPECT_NE(odd.missing()[0]->problem.find("something else"), std::string::npos);
}

// What belongs to a tile travels with it, and so does what its catalogue says: feet were read as metres, with success.
TEST(Fetch, SidecarsAndFactsTravelAlong) {
  TemporaryFolder folder;
  Quantity feet = metres_above_egm2008();
  feet.unit = LengthUnit::Foot;
  const Grid g = grid_from_values(utm_frame(4, 3), std::vector<float>(12, 7), feet);
  fs::create_directories(folder / "from");
  FakeServer server;
  std::vector<ShortlistEntry> entries;
  for (const char* name : {"a.asc", "b.flt", "c.bil"}) {
    write_grid(g, folder / "from" / name);
    entries.push_back({.path = folder / "from" / name, .survey = "Local"});
  }
  for (const auto& f : fs::directory_iterator(folder / "from"))
    server.put("http://s/" + f.path().filename().string(), read_text_file(f.path()));
  for (const char* name : {"a.asc", "b.flt", "c.bil"})
    entries.push_back({.path = std::string("http://s/") + name, .survey = "Web"});
  const FetchReport r = fetch_tiles(entries, into(folder / "to"));
  ASSERT_TRUE(r.missing().empty()) << r.missing()[0]->problem;
  for (const FetchedTile& t : r.tiles) {
    const Grid back = open_grid(t.path);
    EXPECT_EQ(back.quantity().unit, LengthUnit::Foot) << t.path;
    EXPECT_TRUE(back.frame().crs()) << t.path;
    EXPECT_EQ(back.at(1, 1), 7) << t.path;
  }
  ShortlistEntry told{
      .path = folder / "from/a.asc", .survey = "T", .crs = "EPSG:32725", .heights = "EGM2008 height", .unit = "ft"};
  const FetchReport second = fetch_tiles({told}, into(folder / "again"));
  const auto list = read_shortlist(second.shortlist);
  ASSERT_EQ(list.size(), 1u);
  EXPECT_EQ(list[0].unit, "ft");
  EXPECT_EQ(list[0].crs, "EPSG:32725");
  EXPECT_EQ(list[0].heights, "EGM2008 height");
}

// Text of a catalogue reached the shortlist unescaped, and could add rows that name local files.
TEST(Fetch, TextOfACatalogueAddsNoRows) {
  FakeServer server;
  server.put("http://s/a.bin", noise(100, 1));
  TemporaryFolder folder;
  const std::string evil = "2020-01-01\n1,/etc/passwd,x,2020-01-01,0,,,,1,,,open,,,,,";
  const ShortlistEntry e{.path = "http://s/a.bin",
                         .survey = evil,
                         .date = evil,
                         .checksum = evil,
                         .licence = evil,
                         .custodian = evil,
                         .crs = evil,
                         .heights = evil,
                         .unit = evil};
  const FetchReport r = fetch_tiles({e}, into(folder.path()));
  const auto list = read_shortlist(r.shortlist);
  ASSERT_EQ(list.size(), 1u);
  EXPECT_EQ(list[0].path, r.tiles[0].path);
  EXPECT_EQ(list[0].date, "");
  EXPECT_EQ(list[0].checksum, "");
  EXPECT_EQ(list[0].unit, "");
  EXPECT_EQ(list[0].survey, evil);
}

TEST(Fetch, WithoutATagNothingIsTrusted) {
  FakeServer server;
  const std::string all = noise(5000, 5);
  server.tags = false;
  server.dead_after_cut = true;
  server.put("http://s/a.bin", all);
  TemporaryFolder folder;
  server.cut_after = 3000;
  fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path()));
  const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path()));
  EXPECT_EQ(r.tiles[0].moved, all.size());
  EXPECT_TRUE(read_text_file(folder / "s/a.bin") == all);
}

TEST(Fetch, WhatIsHereIsLeftAlone) {
  FakeServer server;
  const std::string all = noise(5000, 6);
  server.put("http://s/a.bin", all);
  TemporaryFolder folder;
  const ShortlistEntry entry{.path = "http://s/a.bin", .survey = "S", .checksum = hash_of(all)};
  fetch_tiles({entry}, into(folder.path()));
  server.asked = 0;
  EXPECT_EQ(fetch_tiles({entry}, into(folder.path())).tiles[0].outcome, FetchOutcome::Here);
  EXPECT_EQ(server.asked, 0);
  EXPECT_EQ(plan_fetch({entry}, into(folder.path())).bytes, 0u);
  // A file that changed on the disk is brought again; one that somebody else put there is not touched.
  std::ofstream(folder / "s/a.bin", std::ios::app) << "x";
  EXPECT_EQ(fetch_tiles({entry}, into(folder.path())).tiles[0].outcome, FetchOutcome::Fetched);
  EXPECT_TRUE(read_text_file(folder / "s/a.bin") == all);
  fs::create_directories(folder / "t");
  write_text_file(folder / "t/a.bin", "mine");
  const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "T"}}, into(folder.path()));
  ASSERT_EQ(r.missing().size(), 1u);
  EXPECT_NE(r.missing()[0]->problem.find("something else"), std::string::npos);
  EXPECT_EQ(read_text_file(folder / "t/a.bin"), "mine");
}

TEST(Fetch, WrongContentIsNotKept) {
  FakeServer server;
  server.put("http://s/a.bin", noise(5000, 7));
  TemporaryFolder folder;
  FetchReport r =
      fetch_tiles({{.path = "http://s/a.bin", .survey = "S", .checksum = hash_of("else")}}, into(folder.path()));
  ASSERT_EQ(r.missing().size(), 1u);
  EXPECT_NE(r.missing()[0]->problem.find("checksum"), std::string::npos);
  EXPECT_EQ(files_below(folder.path()), 0u);
  // Not so long as its catalogue says, and no format that could vouch for itself.
  r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S", .bytes = 6000}}, into(folder.path()));
  EXPECT_EQ(r.missing().size(), 1u);
  EXPECT_EQ(files_below(folder.path()), 0u);
}

TEST(Fetch, AWholeFileVouchesForItselfAgainstALyingCatalogue) {
  FakeServer server;
  TemporaryFolder folder;
  write_grid(rough_grid(utm_frame(200, 200), 1), folder / "a.tif", {.run = {}});
  const std::string all = read_text_file(folder / "a.tif");
  server.put("http://s/a.tif", all);
  const ShortlistEntry entry{.path = "http://s/a.tif", .survey = "S", .bytes = all.size() + 1234};
  const FetchReport good = fetch_tiles({entry}, into(folder / "good"));
  ASSERT_TRUE(good.missing().empty());
  EXPECT_NE(good.tiles[0].note.find("nothing in it is missing"), std::string::npos);
  // The same, truncated by who serves it: its own header tells.
  server.put("http://s/a.tif", all.substr(0, all.size() * 2 / 3));
  const FetchReport bad =
      fetch_tiles({{.path = "http://s/a.tif", .survey = "S", .bytes = all.size()}}, into(folder / "bad"));
  EXPECT_EQ(bad.missing().size(), 1u);
  EXPECT_EQ(files_below(folder / "bad"), 0u);
}

TEST(Fetch, NamesCannotLeaveTheFolder) {
  FakeServer server;
  TemporaryFolder folder;
  const std::pair<const char*, const char*> hostile[] = {
      {"http://s/..%2F..%2Fevil.txt", "S"}, {"http://s/%2e%2e", "S"},    {"http://s/a%00b", "S"},
      {"http://s/.bashrc", "../../up"},     {"http://s/ok.txt", "/etc"}, {"http://s/C%3A%5Cx", ".."}};
  std::vector<ShortlistEntry> entries;
  for (const auto& [url, survey] : hostile) {
    server.put(url, "x");
    entries.push_back({.path = url, .survey = survey});
  }
  fs::create_directories(folder / "a/b");
  const FetchReport r = fetch_tiles(entries, into(folder / "a/b"));
  for (const FetchedTile& t : r.tiles) {
    EXPECT_EQ(t.path.lexically_normal(), t.path);
    EXPECT_TRUE(t.path.string().starts_with((folder / "a/b").string())) << t.path;
  }
  EXPECT_EQ(files_below(folder.path()), files_below(folder / "a/b"));
}

TEST(Fetch, ALinkInTheWayIsNotFollowed) {
  FakeServer server;
  server.put("http://s/a.bin", "new content");
  TemporaryFolder folder;
  fs::create_directories(folder / "out/s");
  write_text_file(folder / "precious", "old");
  fs::create_symlink(folder / "precious", folder / "out/s/.a.bin.part");
  EXPECT_EQ(fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder / "out")).missing().size(), 1u);
  EXPECT_EQ(read_text_file(folder / "precious"), "old");
}

TEST(Fetch, SameNamesStayApartAndLocalFilesAreCopied) {
  FakeServer server;
  server.put("http://s/x/a.bin", "one");
  server.put("http://s/y/a.bin", "two");
  TemporaryFolder folder;
  write_text_file(folder / "local.bin", "three");
  const FetchReport r = fetch_tiles({{.path = "http://s/x/a.bin", .survey = "S"},
                                     {.path = "http://s/y/a.bin", .survey = "S"},
                                     {.path = folder / "local.bin", .survey = "S"}},
                                    into(folder / "out"));
  EXPECT_TRUE(r.missing().empty());
  EXPECT_NE(r.tiles[0].path, r.tiles[1].path);
  EXPECT_EQ(read_text_file(r.tiles[1].path), "two");
  EXPECT_EQ(read_text_file(folder / "out/s/local.bin"), "three");
  // What was brought can be used as a shortlist.
  EXPECT_EQ(read_shortlist(r.shortlist).size(), 3u);
}

TEST(Fetch, RestrictedTilesAreNotAskedFor) {
  FakeServer server;
  TemporaryFolder folder;
  const FetchReport r = fetch_tiles(
      {{.path = "http://s/a.bin", .survey = "S", .custodian = "the Land Office", .access = Access::Restricted}},
      into(folder.path()));
  EXPECT_NE(r.missing().at(0)->problem.find("the Land Office"), std::string::npos);
  EXPECT_EQ(server.asked, 0);
}

TEST(Fetch, CancelledItKeepsWhatCame) {
  FakeServer server;
  const std::string all = noise(100'000, 8);
  server.put("http://s/a.bin", all);
  TemporaryFolder folder;
  Progress progress;
  FetchOptions o = into(folder.path());
  o.progress = &progress;
  o.say = [&](const FetchProgress& p) {
    if (p.moved > 0) progress.cancel();
  };
  EXPECT_EQ(error_of([&] { fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, o); }), ErrorCode::Cancelled);
  const FetchReport r = fetch_tiles({{.path = "http://s/a.bin", .survey = "S"}}, into(folder.path()));
  EXPECT_EQ(r.tiles[0].outcome, FetchOutcome::Resumed);
  EXPECT_TRUE(read_text_file(folder / "s/a.bin") == all);
}

TEST(Multihash, KnownAnswers) {
  TemporaryFolder folder;
  write_text_file(folder / "abc", "abc");
  // FIPS 180-4 examples.
  EXPECT_EQ(matches_multihash(folder / "abc", "1220ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"),
            true);
  EXPECT_EQ(matches_multihash(folder / "abc", "1114a9993e364706816aba3e25717850c26c9cd0d89d"), true);
  EXPECT_EQ(matches_multihash(folder / "abc", "1114a9993e364706816aba3e25717850c26c9cd0d89e"), false);
  EXPECT_EQ(matches_multihash(folder / "abc", "d50110900150983cd24fb0d6963f7d28e17f72"), std::nullopt);
  write_text_file(folder / "long", std::string(1'000'000, 'a'));
  EXPECT_EQ(matches_multihash(folder / "long", "111434aa973cd4c4daa4f61eeb2bdbad27316534016f"), true);
}

}  // namespace
}  // namespace katoptra
