#include "katoptra/formats/http.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <filesystem>
#include <numeric>
#include <random>
#include <thread>

#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "fake_server.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

TEST(Url, ReferencesAreResolvedAsRfc3986Says) {
  // The examples of its section 5.4.
  const std::string base = "http://a/b/c/d;p?q";
  const std::pair<const char*, const char*> cases[] = {{"g", "http://a/b/c/g"},
                                                       {"./g", "http://a/b/c/g"},
                                                       {"g/", "http://a/b/c/g/"},
                                                       {"/g", "http://a/g"},
                                                       {"//g", "http://g"},
                                                       {"?y", "http://a/b/c/d;p?y"},
                                                       {"g?y", "http://a/b/c/g?y"},
                                                       {"", "http://a/b/c/d;p?q"},
                                                       {".", "http://a/b/c/"},
                                                       {"./", "http://a/b/c/"},
                                                       {"..", "http://a/b/"},
                                                       {"../", "http://a/b/"},
                                                       {"../g", "http://a/b/g"},
                                                       {"../..", "http://a/"},
                                                       {"../../g", "http://a/g"},
                                                       {"../../../g", "http://a/g"},
                                                       {"/./g", "http://a/g"},
                                                       {"/../g", "http://a/g"},
                                                       {"g.", "http://a/b/c/g."},
                                                       {"..g", "http://a/b/c/..g"},
                                                       {"./../g", "http://a/b/g"},
                                                       {"./g/.", "http://a/b/c/g/"},
                                                       {"g/./h", "http://a/b/c/g/h"},
                                                       {"g/../h", "http://a/b/c/h"},
                                                       {"https://x/y", "https://x/y"},
                                                       {"file:///etc/passwd", "file:///etc/passwd"}};
  for (const auto& [reference, expected] : cases) EXPECT_EQ(resolve_url(base, reference), expected) << reference;
  EXPECT_EQ(resolve_url("/data/items/a.json", "../tiles/a.tif"), "/data/tiles/a.tif");
  EXPECT_EQ(resolve_url("/data/a.json", "C: drive.tif"), "/data/C: drive.tif");
}

TEST(Url, Parts) {
  EXPECT_EQ(host_of("http://User:pw@Host.Example:80/a"), "host.example");
  EXPECT_EQ(host_of("https://host:8443"), "host:8443");
  EXPECT_EQ(url_file_name("http://h/a/tile%20one.tif?key=1#x"), "tile one.tif");
  EXPECT_EQ(shown_url("http://me:secret@h/a?key=secret"), "http://h/a?...");
  EXPECT_TRUE(is_url("HTTPS://h"));
  EXPECT_FALSE(is_url("file:///etc/passwd"));
  for (const char* text : {"plain", "a b/ü%", "100%"}) EXPECT_EQ(percent_decoded(percent_encoded(text)), text);
}

TEST(Url, AKeyDoesNotLeaveHttps) {
  EXPECT_FALSE(key_may_follow("https://h/a", "http://h/a"));
  EXPECT_FALSE(key_may_follow("HTTPS://h/a", "Http://h:8080/a"));
  EXPECT_TRUE(key_may_follow("https://h/a", "https://h/b"));
  EXPECT_TRUE(key_may_follow("http://h/a", "https://h/b"));
  EXPECT_TRUE(key_may_follow("http://h/a", "http://h/b"));
}

TEST(Patience, GoesOnAfterTroubleAndKeepsToRetryAfter) {
  FakeServer server;
  server.put("http://s/a", "hello");
  server.answers = {503, 429, 0 /* cut */};
  server.retry_after = "0";
  EXPECT_EQ(send_patiently({.url = "http://s/a"}, {.tries = 5, .first = std::chrono::milliseconds(1)}).body, "hello");
  EXPECT_EQ(server.asked, 4);
  server.answers = {503, 503, 503};
  server.asked = 0;
  EXPECT_EQ(send_patiently({.url = "http://s/a"}, {.tries = 2, .first = std::chrono::milliseconds(1)}).status, 503);
  EXPECT_EQ(server.asked, 2);
  // A wait that nobody would sit through is told, not sat through.
  server.answers = {429};
  server.retry_after = "3000";
  const auto start = std::chrono::steady_clock::now();
  EXPECT_EQ(send_patiently({.url = "http://s/a"}).status, 429);
  EXPECT_LT(std::chrono::steady_clock::now() - start, std::chrono::seconds(5));
  // What is not there does not come by asking again.
  server.asked = 0;
  EXPECT_EQ(send_patiently({.url = "http://s/b"}).status, 404);
  EXPECT_EQ(server.asked, 1);
}

// A wrong address took a minute to be told: each way to open it waited six times.
TEST(Patience, IsShortWithAHostThatNeverAnswered) {
  const Patience quick{.tries = 6, .first = std::chrono::milliseconds(1)};
  FakeServer server;
  server.put("http://s/a", "hello");
  server.answers.assign(4, -1);
  EXPECT_EQ(error_of([&] { send_patiently({.url = "http://s/a"}, quick); }), ErrorCode::Network);
  EXPECT_EQ(server.asked, 3);
  EXPECT_EQ(error_of([&] { send_patiently({.url = "http://s/b"}, quick); }), ErrorCode::Network);
  EXPECT_EQ(server.asked, 4);
  // One that answered once is worth the whole patience; so is another host.
  EXPECT_EQ(send_patiently({.url = "http://s/a"}, quick).body, "hello");
  server.asked = 0;
  server.answers.assign(5, -1);
  EXPECT_EQ(send_patiently({.url = "http://s/a"}, quick).body, "hello");
  EXPECT_EQ(server.asked, 6);
  server.answers.assign(2, -1);
  EXPECT_EQ(send_patiently({.url = "http://t/a"}, quick).status, 404);
}

TEST(Patience, IsCancelled) {
  FakeServer server;
  server.put("http://s/a", "hello");
  server.answers.assign(100, 503);
  Progress progress;
  std::jthread later([&] {
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
    progress.cancel();
  });
  EXPECT_EQ(error_of([&] { send_patiently({.url = "http://s/a", .progress = &progress}); }), ErrorCode::Cancelled);
}

std::string noise(std::size_t n, unsigned seed) {
  std::mt19937 random(seed);
  std::string s(n, '\0');
  for (char& c : s) c = static_cast<char>(random());
  return s;
}

TEST(Remote, ReadsWhatIsAskedForAndNoMore) {
  FakeServer server;
  const std::string all = noise(3'000'001, 1);
  server.put("http://s/a.bin", all);
  const auto source = open_file("http://s/a.bin");
  EXPECT_EQ(source->size(), all.size());
  EXPECT_EQ(server.sent, kRemoteBlock);
  std::mt19937 random(2);
  for (int i = 0; i < 300; ++i) {
    const std::uint64_t at = random() % (all.size() + 10);
    std::vector<std::uint8_t> out(random() % 200'000);
    const std::size_t n = source->read_at(at, out);
    const std::size_t expected = at >= all.size() ? 0 : std::min<std::size_t>(out.size(), all.size() - at);
    ASSERT_EQ(n, expected);
    ASSERT_TRUE(std::equal(out.begin(), out.begin() + static_cast<std::ptrdiff_t>(n),
                           all.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(at, all.size())),
                           [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }));
  }
  // Every block came at most once.
  EXPECT_LE(server.sent, all.size());
}

TEST(Remote, NeighboursThatAreWantedSoonComeInOneRequest) {
  FakeServer server;
  server.put("http://s/a.bin", noise(20 * kRemoteBlock, 1));
  const auto source = open_url("http://s/a.bin");
  server.asked = 0;
  source->will_need(5 * kRemoteBlock, 8 * kRemoteBlock);
  std::vector<std::uint8_t> out(100);
  for (std::uint64_t b = 5; b < 13; ++b) source->read_at(b * kRemoteBlock, out);
  EXPECT_EQ(server.asked, 1);
}

// What is expected comes with what is read before it, in whatever pieces and order it was told, and nothing else does.
TEST(Remote, WhatIsExpectedComesInFewRequests) {
  std::mt19937 random(6);
  for (int i = 0; i < 30; ++i) {
    FakeServer server;
    const std::uint64_t blocks = 40;
    const std::string all = noise(blocks * kRemoteBlock, 1);
    server.put("http://s/a.bin", all);
    const auto source = open_url("http://s/a.bin");
    std::vector<bool> wanted(blocks, false);
    for (int k = 0; k < 12; ++k) {
      const std::uint64_t first = 1 + random() % (blocks - 1), n = 1 + random() % 4, end = std::min(first + n, blocks);
      source->expect(first * kRemoteBlock + 5, (end - first) * kRemoteBlock - 10);
      std::fill(wanted.begin() + static_cast<std::ptrdiff_t>(first), wanted.begin() + static_cast<std::ptrdiff_t>(end),
                true);
    }
    int runs = 0;
    std::uint64_t bytes = 0;
    for (std::uint64_t b = 1; b < blocks; ++b) {
      runs += wanted[b] && !wanted[b - 1];
      bytes += wanted[b] ? kRemoteBlock : 0;
    }
    server.asked = 0;
    const auto before = server.sent.load();
    std::vector<std::uint8_t> out(100);
    for (std::uint64_t b = 1; b < blocks; ++b)
      if (wanted[b]) {
        source->read_at(b * kRemoteBlock + 7, out);
        EXPECT_EQ(out[3], static_cast<std::uint8_t>(all[b * kRemoteBlock + 10]));
      }
    EXPECT_EQ(server.asked, runs);
    EXPECT_EQ(server.sent - before, bytes);
  }
}

TEST(Remote, ManyThreadsSeeTheSameBytes) {
  FakeServer server;
  const std::string all = noise(30 * kRemoteBlock + 17, 3);
  server.put("http://s/a.bin", all);
  const auto source = open_url("http://s/a.bin");
  std::atomic<int> wrong{0};
  parallel_for(64, {.threads = 8}, [&](std::size_t i) {
    std::vector<std::uint8_t> out(100'000);
    const std::uint64_t at = i * 20'011;
    const std::size_t n = source->read_at(at, out);
    for (std::size_t k = 0; k < n; ++k) wrong += out[k] != static_cast<std::uint8_t>(all[at + k]);
  });
  EXPECT_EQ(wrong, 0);
  EXPECT_LE(server.sent, all.size());
}

TEST(Remote, ServersThatMisbehave) {
  FakeServer server;
  const std::string all = noise(200'000, 4);
  server.put("http://s/a.bin", all);
  std::vector<std::uint8_t> out(all.size());
  {
    server.ranges = false;
    const auto whole = open_url("http://s/a.bin");
    EXPECT_EQ(whole->size(), all.size());
    EXPECT_EQ(whole->read_at(0, out), all.size());
    server.ranges = true;
  }
  const auto source = open_url("http://s/a.bin");
  server.short_by = 10;  // a part that is too short, and does not say so
  server.short_times = 2;
  EXPECT_EQ(source->read_at(0, out), all.size());
  const auto other = open_url("http://s/a.bin");
  server.put("http://s/a.bin", noise(200'000, 5));
  EXPECT_EQ(error_of([&] { other->read_at(100'000, out); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { open_url("http://s/none"); }), ErrorCode::Io);
  server.put("http://s/empty", "");
  EXPECT_EQ(error_of([&] { open_url("http://s/empty"); }), ErrorCode::BadFile);
  EXPECT_EQ(error_of([&] { make_http_client()->send({.url = "file:///etc/passwd"}); }), ErrorCode::BadArgument);
}

TEST(Remote, GridsAreOpenedInPlace) {
  FakeServer server;
  TemporaryFolder folder;
  const Grid g = rough_grid(utm_frame(1500, 1200), 1);
  write_grid(g, folder / "a.tif", {.run = {}});
  server.put("http://s/x/a.tif", read_text_file(folder / "a.tif"));
  const Grid remote = open_grid("http://s/x/a.tif");
  EXPECT_EQ(remote.info().name, "a.tif");
  const Window corner{700, 600, 10, 10};
  const Block a = remote.read(corner), b = open_grid(folder / "a.tif").read(corner);
  for (std::int64_t r = 0; r < 10; ++r)
    for (std::int64_t c = 0; c < 10; ++c) EXPECT_EQ(a.row(r)[c], b.row(r)[c]);
  EXPECT_LT(server.sent, fs::file_size(folder / "a.tif") / 2);
  // Text formats find what lies beside them.
  write_grid(rough_grid(utm_frame(20, 20), 1), folder / "b.asc", {.run = {}});
  server.put("http://s/x/b.asc", read_text_file(folder / "b.asc"));
  server.put("http://s/x/b.prj", read_text_file(folder / "b.prj"));
  EXPECT_EQ(open_grid("http://s/x/b.asc").frame().crs().epsg(), 32725);
}

// ------------------------------------------------------------------------------------------------------- unpacking

struct Entry {
  std::string name, content;
  int type = AE_IFREG;
};
std::string archive_of(const std::vector<Entry>& entries, bool tar = false) {
  std::vector<char> buffer(1 << 22);
  std::size_t used = 0;
  archive* a = archive_write_new();
  tar ? archive_write_set_format_pax_restricted(a) : archive_write_set_format_zip(a);
  archive_write_open_memory(a, buffer.data(), buffer.size(), &used);
  for (const Entry& e : entries) {
    archive_entry* h = archive_entry_new();
    archive_entry_set_pathname(h, e.name.c_str());
    archive_entry_set_filetype(h, static_cast<unsigned>(e.type));
    archive_entry_set_perm(h, 0644);
    if (e.type == AE_IFLNK)
      archive_entry_set_symlink(h, e.content.c_str());
    else
      archive_entry_set_size(h, static_cast<la_int64_t>(e.content.size()));
    archive_write_header(a, h);
    if (e.type == AE_IFREG) archive_write_data(a, e.content.data(), e.content.size());
    archive_entry_free(h);
  }
  archive_write_close(a);
  archive_write_free(a);
  return {buffer.data(), used};
}

TEST(Unpack, ArchivesWithinArchives) {
  TemporaryFolder folder;
  const std::string inner = archive_of({{"tile.txt", "inner"}});
  write_text_file(folder / "a.zip",
                  archive_of({{"one.txt", "1"}, {"deep/er/two.txt", "22"}, {"more/inner.zip", inner}}));
  const auto files = unpack_into(folder / "a.zip", folder / "a");
  EXPECT_EQ(files.size(), 3u);
  EXPECT_EQ(read_text_file(folder / "a/deep/er/two.txt"), "22");
  EXPECT_EQ(read_text_file(folder / "a/more/inner.zip/tile.txt"), "inner");
  EXPECT_EQ(error_of([&] { unpack_into(folder / "a.zip", folder / "a"); }), ErrorCode::Io);
}

TEST(Unpack, NothingIsWrittenOutside) {
  const Entry hostile[] = {
      {"../evil.txt", "x"}, {"a/../../evil.txt", "x"}, {"/tmp/katoptra-evil.txt", "x"}, {"a\\..\\evil.txt", "x"}};
  for (bool tar : {false, true})
    for (const Entry& e : hostile) {
      TemporaryFolder folder;
      fs::create_directories(folder / "in");
      write_text_file(folder / "in/a.zip", archive_of({{"good.txt", "1"}, e}, tar));
      EXPECT_EQ(error_of([&] { unpack_into(folder / "in/a.zip", folder / "in/out"); }), ErrorCode::BadFile) << e.name;
      // Neither the bad entry nor a half of the good ones stays.
      EXPECT_FALSE(fs::exists(folder / "in/out")) << e.name;
      std::size_t files = 0;
      for (const auto& f : fs::recursive_directory_iterator(folder.path())) files += f.is_regular_file();
      EXPECT_EQ(files, 1u) << e.name;
      EXPECT_FALSE(fs::exists("/tmp/katoptra-evil.txt"));
    }
}

TEST(Unpack, LinksAreNotMade) {
  TemporaryFolder folder;
  fs::create_directories(folder / "secret");
  write_text_file(folder / "a.tar",
                  archive_of({{"link", (folder / "secret").string(), AE_IFLNK}, {"good.txt", "1"}}, true));
  unpack_into(folder / "a.tar", folder / "out");
  EXPECT_FALSE(fs::exists(fs::symlink_status(folder / "out/link")));
  EXPECT_EQ(read_text_file(folder / "out/good.txt"), "1");
  EXPECT_TRUE(fs::is_empty(folder / "secret"));
}

}  // namespace
}  // namespace katoptra
