// Files that processes have in common, and what becomes of them where one does not see them.
#include "base/common_folder.hpp"

#include <csignal>
#include <cstdlib>
#include <gtest/gtest.h>
#include <sys/resource.h>

#include "katoptra/base/error.hpp"

#include "base/shared_parts.hpp"
#include "played_ranks.hpp"
#include "testing.hpp"

namespace katoptra {
namespace {

using namespace testing;
namespace fs = std::filesystem;

class CommonFolders : public ::testing::Test {
 protected:
  CommonFolders() {
    if (const char* was = std::getenv("TMPDIR")) before_ = was;
    ::setenv("TMPDIR", folder_.path().c_str(), 1);
  }
  ~CommonFolders() override {
    if (before_.empty())
      ::unsetenv("TMPDIR");
    else
      ::setenv("TMPDIR", before_.c_str(), 1);
  }
  bool nothing_is_left() const { return fs::is_empty(folder_.path()); }
  TemporaryFolder folder_;
  std::string before_;
};

void write(const ScratchFile& file, std::uint64_t at, std::vector<std::uint8_t> bytes) {
  ScratchFile::Turn turn(file);
  turn.write(at, bytes);
  turn.end();
}
std::vector<std::uint8_t> read(const ScratchFile& file, std::uint64_t at, std::size_t n) {
  std::vector<std::uint8_t> bytes(n);
  ScratchFile::Turn(file).read(at, bytes);
  return bytes;
}

TEST_F(CommonFolders, AloneThereIsNone) {
  EXPECT_EQ(CommonFolder::made({}, "a"), nullptr);
  const ScratchFile file("a");
  write(file, 3, {1, 2, 3});
  EXPECT_EQ(read(file, 4, 2), (std::vector<std::uint8_t>{2, 3}));
  EXPECT_TRUE(nothing_is_left());
  EXPECT_EQ(error_of([&] { read(file, 4, 20); }), ErrorCode::Io);
}

TEST_F(CommonFolders, FilesOfANameAreOneAndGoWithTheFolder) {
  {
    PlayedRanks ranks(true);
    const auto folder = CommonFolder::made({}, "a");
    ASSERT_TRUE(is_seen(folder));
    const ScratchFile one("a", folder, "level"), same("a", folder, "level"), other("a", folder, "label");
    write(one, 0, {1, 2, 3, 4});
    write(same, 2, {9});
    write(other, 0, {7});
    EXPECT_EQ(read(one, 0, 4), (std::vector<std::uint8_t>{1, 2, 9, 4}));
    EXPECT_EQ(read(other, 0, 1), (std::vector<std::uint8_t>{7}));
    EXPECT_EQ(error_of([&] { read(other, 0, 2); }), ErrorCode::Io);
    EXPECT_FALSE(nothing_is_left());
  }
  EXPECT_TRUE(nothing_is_left());
}

TEST_F(CommonFolders, AFolderOfTheSameNameWithAnotherMarkIsNotTheOne) {
  {
    PlayedRanks ranks(false);
    ranks.disk_is_elsewhere = true;
    const auto folder = CommonFolder::made({}, "a");
    ASSERT_NE(folder, nullptr);
    EXPECT_FALSE(is_seen(folder));
    const ScratchFile one("a", folder, "level"), other("a", folder, "level");
    write(one, 0, {1});
    EXPECT_EQ(error_of([&] { read(other, 0, 1); }), ErrorCode::Io);
    // It takes what is told, and makes everything for itself.
    int made = 0, taken = 0;
    share_written<int>(
        5, {.threads = 1}, folder,
        [&](std::size_t i) {
          ++made;
          return static_cast<int>(i);
        },
        [&](std::size_t i, int told) { taken += told == static_cast<int>(i); });
    EXPECT_EQ(taken, 5);
    EXPECT_EQ(ranks.listened, 1);
    EXPECT_EQ(made, 3 * 5);  // by the others, by one of them who is late, and here
  }
  EXPECT_TRUE(nothing_is_left());
}

TEST_F(CommonFolders, WithoutAFolderForTemporaryFilesTheErrorSaysSo) {
  ::setenv("TMPDIR", "/no/such/folder", 1);
  PlayedRanks ranks(true);
  std::string text;
  EXPECT_EQ(error_of([&] { CommonFolder::made({}, "ground.tif"); }, &text), ErrorCode::Io);
  EXPECT_NE(text.find("set TMPDIR"), text.npos) << text;
}

// The file named is the one it was wanted for, which nobody writes.
TEST_F(CommonFolders, WithoutRoomTheErrorSaysThatItIsATemporaryFile) {
  const auto before = std::signal(SIGXFSZ, SIG_IGN);
  rlimit limit{}, small{};
  ASSERT_EQ(::getrlimit(RLIMIT_FSIZE, &limit), 0);
  small = limit;
  small.rlim_cur = 100;
  ASSERT_EQ(::setrlimit(RLIMIT_FSIZE, &small), 0);
  const ScratchFile file("ground.tif");
  std::string written, made;
  EXPECT_EQ(error_of([&] { write(file, 99, {1, 2, 3}); }, &written), ErrorCode::Io);
  EXPECT_EQ(error_of([&] { ScratchFile::Turn(file).reach(200); }, &made), ErrorCode::Io);
  EXPECT_EQ(::setrlimit(RLIMIT_FSIZE, &limit), 0);
  std::signal(SIGXFSZ, before);
  for (const std::string& text : {written, made}) {
    EXPECT_NE(text.find("ground.tif: its temporary file"), text.npos) << text;
    EXPECT_NE(text.find("TMPDIR"), text.npos) << text;
  }
  write(file, 99, {1, 2, 3});
  EXPECT_EQ(read(file, 100, 2), (std::vector<std::uint8_t>{2, 3}));
}

}  // namespace
}  // namespace katoptra
