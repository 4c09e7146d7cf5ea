#include "disk_file.hpp"

#include <atomic>
#include <sys/resource.h>
#include <thread>

#include "katoptra/formats/grid_file.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

// Back to what it was, whatever a test does.
class MostOpen {
 public:
  explicit MostOpen(std::size_t files) : before_(DiskFile::set_most_open(files)) {}
  ~MostOpen() { DiskFile::set_most_open(before_); }

 private:
  std::size_t before_;
};

std::string text_of(std::size_t i) { return "file " + std::to_string(i) + " " + std::string(i % 7, 'x'); }

std::vector<std::shared_ptr<ByteSource>> files_in(const fs::path& folder, std::size_t n) {
  std::vector<std::shared_ptr<ByteSource>> out;
  for (std::size_t i = 0; i < n; ++i) {
    const fs::path path = folder / std::to_string(i);
    write_text_file(path, text_of(i));
    out.push_back(open_file(path));
  }
  return out;
}

TEST(DiskFile, MoreFilesThanMayBeOpenReadFromManyThreads) {
  const TemporaryFolder folder;
  const std::size_t before = DiskFile::open_now();
  const MostOpen few(before + 3);
  const auto files = files_in(folder.path(), 40);
  EXPECT_LE(DiskFile::open_now(), before + 3);
  std::vector<std::thread> threads;
  std::atomic<int> wrong{0};
  for (unsigned t = 0; t < 4; ++t)
    threads.emplace_back([&, t] {
      std::mt19937 random(t);
      for (int k = 0; k < 3000; ++k) {
        // Often the same few, so that threads meet at a file that is just being opened or closed.
        const std::size_t i = random() % (k % 2 ? 40 : 4);
        const std::string text = text_of(i);
        std::vector<std::uint8_t> bytes(text.size());
        if (files[i]->read_at(0, bytes) != text.size() || std::string(bytes.begin(), bytes.end()) != text) ++wrong;
        files[i]->will_need(0, text.size());
      }
    });
  for (std::thread& t : threads) t.join();
  EXPECT_EQ(wrong, 0);
  EXPECT_LE(DiskFile::open_now(), before + 3);
}

TEST(DiskFile, AnotherFileInItsPlaceIsToldWhenItIsOpenedAgain) {
  const TemporaryFolder folder;
  const MostOpen none(0);
  const auto files = files_in(folder.path(), 4);
  std::vector<std::uint8_t> bytes(4);
  EXPECT_EQ(files[0]->read_at(0, bytes), 4U);
  write_text_file(folder.path() / "other", text_of(0) + "more");
  fs::rename(folder.path() / "other", folder.path() / "0");
  std::string told;
  EXPECT_EQ(error_of([&] { files[0]->read_at(0, bytes); }, &told), ErrorCode::BadFile);
  EXPECT_NE(told.find("changed while it was read"), std::string::npos) << told;
  fs::remove(folder.path() / "1");
  EXPECT_EQ(error_of([&] { files[1]->read_at(0, bytes); }), ErrorCode::Io);
  std::ofstream(folder.path() / "2", std::ios::app) << "more";
  EXPECT_EQ(error_of([&] { files[2]->read_at(0, bytes); }), ErrorCode::BadFile);
  EXPECT_EQ(files[3]->read_at(0, bytes), 4U);
}

// So many descriptors more than are open now.
class OnlySoMany {
 public:
  explicit OnlySoMany(rlim_t more) {
    ::getrlimit(RLIMIT_NOFILE, &before_);
    const auto open = std::distance(fs::directory_iterator("/proc/self/fd"), fs::directory_iterator());
    const struct rlimit few = {static_cast<rlim_t>(open) + more, before_.rlim_max};
    ::setrlimit(RLIMIT_NOFILE, &few);
  }
  ~OnlySoMany() { ::setrlimit(RLIMIT_NOFILE, &before_); }

 private:
  struct rlimit before_ = {};
};

TEST(DiskFile, GivesUpIdleOnesWhenTheSystemRefuses) {
  const TemporaryFolder folder;
  const MostOpen many(4096);
  std::vector<std::shared_ptr<ByteSource>> files = files_in(folder.path(), 60);
  for (std::size_t i = 0; i < 60; ++i) files[i] = nullptr;
  const OnlySoMany few(20);
  for (std::size_t i = 0; i < 60; ++i) files[i] = open_file(folder.path() / std::to_string(i));
  for (std::size_t i = 0; i < 60; ++i) {
    std::vector<std::uint8_t> bytes(text_of(i).size());
    ASSERT_EQ(files[i]->read_at(0, bytes), bytes.size());
    ASSERT_EQ(std::string(bytes.begin(), bytes.end()), text_of(i));
  }
}

// With the usual 1,024 a mosaic of as many tiles could not be opened.
TEST(DiskFile, AMosaicOfMoreTilesThanTheSystemLetsBeOpen) {
  const TemporaryFolder folder;
  const std::int64_t n = 120;
  const auto path = [&](std::int64_t i) { return folder.path() / ("t" + std::to_string(i) + ".tif"); };
  for (std::int64_t i = 0; i < n; ++i)
    write_grid(grid_from_values(utm_frame(16, 16, 1, 676000 + 16 * static_cast<double>(i)),
                                std::vector<float>(256, static_cast<float>(i)), metres_above_egm2008()),
               path(i), {.tile = 16});
  const MostOpen half(DiskFile::open_now() + 15);
  const OnlySoMany few(30);
  std::vector<Grid> tiles;
  for (std::int64_t i = 0; i < n; ++i) tiles.push_back(open_grid(path(i)));
  const std::vector<float> read = all_values(mosaic(tiles));
  ASSERT_EQ(read.size(), static_cast<std::size_t>(256 * n));
  for (std::int64_t i = 0; i < n; ++i) ASSERT_EQ(read[static_cast<std::size_t>(16 * i + 5)], static_cast<float>(i));
}

}  // namespace
}  // namespace katoptra
