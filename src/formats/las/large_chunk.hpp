// A chunk that is too large to be held: decoded once, in order, into a temporary file, as far as its points are asked
// for. Whoever asks for some that are not there yet takes part: layers are decoded side by side, on as many threads as
// ask.
#pragma once
#include <condition_variable>
#include <cstdint>
#include <exception>
#include <memory>
#include <mutex>
#include <span>
#include <vector>

#include "katoptra/formats/bytes.hpp"

#include "laz_chunk.hpp"

namespace katoptra::las {

// How many points so many bytes can hold at most: the coder cannot say less of one. And BadFile, without a file, where
// a chunk is said to hold more.
std::uint64_t most_points_in(std::uint64_t bytes);
void expect_plausible(std::uint64_t points, std::uint64_t bytes);

class LargeChunk {
 public:
  // `at`, `bytes`: where it stands in the file.
  LargeChunk(std::shared_ptr<const ByteSource> file, laz::LazFormat format, std::uint64_t at, std::uint64_t bytes,
             std::uint64_t points);
  ~LargeChunk();
  LargeChunk(const LargeChunk&) = delete;
  LargeChunk& operator=(const LargeChunk&) = delete;

  // Its records from one on. BadFile where it is damaged there or before: `good` is how many came whole. Io when the
  // temporary file has no room.
  void read(std::uint64_t from, std::size_t n, std::uint8_t* records, std::size_t& good);

 private:
  // Records that are being decoded: by the first group, then by the others.
  struct Round {
    std::size_t points = 0;
    std::vector<laz::PlaceStep> steps;
    std::vector<std::vector<std::uint8_t>> records;  // by group
  };
  static constexpr std::size_t kRounds = 4, kMostGroups = 4, kNone = ~std::size_t{0};

  void begin();
  Round& round(std::uint64_t i) { return rounds_[i % kRounds]; }
  std::uint64_t done_by_all() const;
  bool is_over() const { return failed_ || (ended_ && written_ == done_[0]); }
  std::size_t next_group() const;
  void help_until(std::unique_lock<std::mutex>& lock, std::uint64_t points);
  void decode(std::unique_lock<std::mutex>& lock, std::size_t group);
  void write(std::unique_lock<std::mutex>& lock);
  void end_by(const std::exception_ptr& error, std::uint64_t from);

  std::shared_ptr<const ByteSource> file_;
  laz::LazFormat format_;
  std::uint64_t at_, bytes_, points_;
  std::size_t length_, at_once_;

  std::mutex mutex_;
  std::condition_variable moved_;
  std::unique_ptr<laz::ChunkStream> stream_;
  int descriptor_ = -1;
  std::vector<Round> rounds_;
  std::vector<std::uint64_t> done_;  // by group: rounds
  std::vector<bool> busy_;           // by group
  bool writes_ = false;
  bool ended_ = false, failed_ = false;    // no round comes after those of the first group; nothing comes at all
  std::uint64_t written_ = 0, there_ = 0;  // rounds, and records
  std::exception_ptr damage_;              // what ended it
  std::uint64_t damaged_from_ = 0;         // the record that it tells of
};

}  // namespace katoptra::las
