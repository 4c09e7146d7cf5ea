#include "large_chunk.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <unistd.h>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/scratch.hpp"

namespace katoptra::las {

// All models at their surest take a hundredth of a bit a point.
std::uint64_t most_points_in(std::uint64_t bytes) { return 4096 * bytes; }

void expect_plausible(std::uint64_t points, std::uint64_t bytes) {
  if (points > most_points_in(bytes))
    throw Error(ErrorCode::BadFile, fmt::format("a chunk of {} bytes cannot hold {} points", bytes, points), {},
                "fetch the file again");
}

LargeChunk::LargeChunk(std::shared_ptr<const ByteSource> file, laz::LazFormat format, std::uint64_t at,
                       std::uint64_t bytes, std::uint64_t points)
    : file_(std::move(file)),
      format_(std::move(format)),
      at_(at),
      bytes_(bytes),
      points_(points),
      length_(static_cast<std::size_t>(format_.record_length())),
      at_once_(std::clamp<std::size_t>((1u << 20) / length_, 1, 20'000)) {}

LargeChunk::~LargeChunk() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

void LargeChunk::read(std::uint64_t from, std::size_t n, std::uint8_t* records, std::size_t& good) {
  std::unique_lock lock(mutex_);
  help_until(lock, from + n);
  good = static_cast<std::size_t>(std::min<std::uint64_t>(n, std::max(there_, from) - from));
  const std::exception_ptr damage = from + n > damaged_from_ ? damage_ : nullptr;
  lock.unlock();
  if (good > 0) read_descriptor(descriptor_, from * length_, {records, good * length_}, file_->name());
  if (damage) std::rethrow_exception(damage);
}

void LargeChunk::begin() {
  require_room(points_ * length_, file_->name());
  descriptor_ = open_unnamed_file(file_->name());
  stream_ = std::make_unique<laz::ChunkStream>(
      format_, points_,
      [this](std::uint64_t offset, std::span<std::uint8_t> out) {
        const std::uint64_t left = bytes_ - std::min(bytes_, offset);
        return file_->read_at(at_ + offset,
                              out.first(static_cast<std::size_t>(std::min<std::uint64_t>(left, out.size()))));
      },
      kMostGroups);
  done_.assign(stream_->groups(), 0);
  busy_.assign(stream_->groups(), false);
  rounds_.resize(kRounds);
  for (Round& r : rounds_) r.records.resize(stream_->groups());
}

std::uint64_t LargeChunk::done_by_all() const { return *std::min_element(done_.begin(), done_.end()); }

// The group that is furthest behind of those that can go on.
std::size_t LargeChunk::next_group() const {
  std::size_t next = kNone;
  const auto consider = [&](std::size_t g) {
    if (!busy_[g] && (next == kNone || done_[g] < done_[next])) next = g;
  };
  for (std::size_t g = 1; g < done_.size(); ++g)
    if (done_[g] < done_[0]) consider(g);
  if (!ended_ && done_[0] < written_ + kRounds) consider(0);
  return next;
}

void LargeChunk::help_until(std::unique_lock<std::mutex>& lock, std::uint64_t points) {
  try {
    if (!stream_ && !is_over()) begin();
    while (there_ < points && !is_over()) {
      if (!writes_ && written_ < done_by_all())
        write(lock);
      else if (const std::size_t g = next_group(); g != kNone)
        decode(lock, g);
      else
        moved_.wait(lock);
    }
  } catch (...) {
    if (!lock.owns_lock()) lock.lock();
    failed_ = true;
    end_by(std::current_exception(), there_);
  }
}

void LargeChunk::end_by(const std::exception_ptr& error, std::uint64_t from) {
  ended_ = true;
  if (!damage_) {
    damage_ = error;
    damaged_from_ = from;
  }
  moved_.notify_all();
}

void LargeChunk::decode(std::unique_lock<std::mutex>& lock, std::size_t group) {
  Round& r = round(done_[group]);
  const std::uint64_t first = done_[group] * at_once_;
  if (group == 0) r.points = static_cast<std::size_t>(std::min<std::uint64_t>(at_once_, points_ - first));
  busy_[group] = true;
  lock.unlock();
  std::size_t good = 0;
  std::exception_ptr error;
  try {
    r.records[group].resize(at_once_ * length_);
    stream_->next(group, r.points, r.records[group].data(), r.steps, &good);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::BadFile) throw;
    error = std::current_exception();
  }
  lock.lock();
  busy_[group] = false;
  if (error) {
    // Of the first group what came whole counts; the others say at the end that they missed something.
    end_by(error, group == 0 && good < r.points ? first + good : points_ - 1);
    if (group == 0) r.points = good;
  }
  ++done_[group];
  if (group == 0 && first + r.points == points_) ended_ = true;
  moved_.notify_all();
}

void LargeChunk::write(std::unique_lock<std::mutex>& lock) {
  Round& r = round(written_);
  writes_ = true;
  lock.unlock();
  std::vector<std::uint8_t>& records = r.records[0];
  for (std::size_t g = 1; g < r.records.size(); ++g) stream_->join(g, r.points, r.records[g].data(), records.data());
  write_descriptor(descriptor_, there_ * length_, {records.data(), r.points * length_}, file_->name());
  lock.lock();
  writes_ = false;
  ++written_;
  there_ += r.points;
  // Where it failed another thread may still be decoding.
  if (is_over() && !failed_) {
    stream_.reset();
    rounds_.clear();
  }
  moved_.notify_all();
}

}  // namespace katoptra::las
