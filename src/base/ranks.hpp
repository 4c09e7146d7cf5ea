// Several processes that run the same program over the same input and share the making of its results. The first
// decides, places what was made and leaves files; the others follow it and make what they are asked for. Whoever cannot
// follow drops out: the first needs none of them. One process, the usual case, is alone.
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

// A file that is being written and that other processes may reach: where it lies meanwhile, and what stands at its
// beginning, by which they know it.
struct SharedFile {
  std::string path;
  std::vector<std::uint8_t> mark;
};

// What is long in a result need not travel when it ends in files that all processes reach: it stays with its maker, who
// writes it where the first process says.
struct LongPieces {
  struct Place {
    std::uint64_t number = 0, piece = 0;  // of which result, which of its pieces
    std::uint64_t file = 0, offset = 0, size = 0;
  };
  std::function<std::vector<SharedFile>()> files;  // in the first; one without a path: nothing can be kept back
  // As SharedWork::pack, with sizes in the place of pieces.
  std::function<std::vector<std::uint8_t>(const std::shared_ptr<void>& result)> pack;
  std::function<std::vector<Place>()> places;  // in the first: those that became known since it was asked last
  std::function<std::span<const std::uint8_t>(const std::shared_ptr<void>& result, std::uint64_t piece)> bytes;
  std::function<std::uint64_t(const std::shared_ptr<void>& result)> size;  // of all pieces together
};

// The work of parallel_ordered, with results that can go from one process to another.
struct SharedWork {
  std::size_t n = 0, in_flight = 1;
  // How many a process makes at once; 0: as many as it has threads. For results that are made on all threads.
  std::size_t at_once = 0;
  // How many stand in a row, with the next row below; 0: in no order that matters. Who made one makes those below it:
  // neighbours need much of the same.
  std::size_t row = 0;
  bool to_all = false;  // `place` runs in every process, with the same results in the same order
  bool listens = false;  // this process makes nothing of it
  RunOptions options;
  std::function<std::shared_ptr<void>(std::size_t)> make;
  std::function<void(std::size_t, std::shared_ptr<void>)> place;  // in the first process only, or in all
  std::function<std::vector<std::uint8_t>(const std::shared_ptr<void>& result)> pack;
  std::function<std::shared_ptr<void>(std::span<const std::uint8_t>)> unpack;
  std::optional<LongPieces> long_pieces = std::nullopt;
};

class Ranks {
 public:
  virtual ~Ranks() = default;
  virtual bool is_first() const = 0;
  virtual void share(const SharedWork& work) = 0;
};

// Something that holds for this thread while one lives.
template <class What>
class OnThisThread {
 public:
  OnThisThread() { ++depth_; }
  ~OnThisThread() { --depth_; }
  OnThisThread(const OnThisThread&) = delete;
  OnThisThread& operator=(const OnThisThread&) = delete;
  static bool now() { return depth_ > 0; }

 private:
  static inline thread_local int depth_ = 0;
};
// It works on a part of what was spread.
using WithinWork = OnThisThread<struct PartOfWork>;
// It makes files that are a result, whose maker leaves them, whichever process it is.
using LeavesFiles = OnThisThread<struct FilesAsResult>;

// For the whole process, until it ends; null: alone.
void use_ranks(Ranks* ranks);
// This process leaves no files here: another does.
bool only_helps();
// Cancelled where this process only helps: what is written there is not known to it.
void refuse_to_help(const std::string& where);

// Whether work that is shared now goes to several processes.
bool work_is_shared();
// As parallel_ordered, over all processes; by this one alone within work that is spread already.
void share_ordered(const SharedWork& work);

}  // namespace katoptra
