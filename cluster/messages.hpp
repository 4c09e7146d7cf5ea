// What processes of a cluster tell one another, and how it is sent. On the thread that talks to MPI.
#pragma once
#include <chrono>
#include <cstdint>
#include <exception>
#include <list>
#include <memory>
#include <mpi.h>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/ranks.hpp"

namespace katoptra {

// What processes tell one another. `run` counts the works that were shared.
enum class Word : std::uint32_t {
  Want,    // to the first: this many numbers of a run of so many results
  Result,  // to the first: what was made for a number; another number is wanted in its place
  Stuck,   // to the first: could not make a number, and why
  Left,    // to the first: does not help any more, and why
  Files,   // from the first: those that long pieces go into
  Make,    // from the first: a number
  Where,   // from the first: places of long pieces that you keep
  Drop,    // from the first: a number whose pieces are not needed, for another was done sooner
  Close,   // from the first: all pieces have their places
  Closed,  // to the first: all pieces are written
  Failed,  // to the first: could not be written, and why
  Placed,  // from the first, to all: a result that all place, in order
  Out,     // from the first, to who is stuck: the number is needed; leave
  Done,    // from the first: nothing is left of this run
  Go,      // from the first: its run is another one than yours; leave
  Bye,     // from the first, to all: the end
};

struct Head {
  Word word = Word::Done;
  std::uint64_t run = 0, number = 0;
  std::uint64_t count = 0;  // of a result: how many bytes of it stay with its maker
};
struct Message : Head {
  std::vector<std::uint8_t> bytes;
  int from = 0;
};

// How long a process that waits sleeps before it looks again, at first and at most (looking each millisecond took a
// twentieth of a core); while something long is on its way, which goes on when both sides look; and one that has
// nothing more to do.
inline constexpr auto kNap = std::chrono::microseconds(1000), kLongNap = std::chrono::microseconds(8000);
inline constexpr auto kNapOnItsWay = std::chrono::microseconds(200);
inline constexpr auto kSleep = std::chrono::milliseconds(20);

// The head goes behind the bytes, so that neither side has to move them.
std::vector<std::uint8_t> with_head(const Head& head, std::vector<std::uint8_t> bytes);
// For what is short: who sends waits, on a core of its own, until what is long is taken.
void send(int to, const Head& head, std::vector<std::uint8_t> bytes = {});

// What all take over travels packed; tiles of files are that already.
std::vector<std::uint8_t> packed(const SharedWork& work, std::vector<std::uint8_t> bytes);
std::shared_ptr<void> unpacked(const SharedWork& work, std::span<const std::uint8_t> bytes);

std::vector<std::uint8_t> packed_files(const std::vector<SharedFile>& files);
std::vector<SharedFile> unpacked_files(std::span<const std::uint8_t> bytes);

std::string reason(const std::exception_ptr& error);

// Messages that come. One that is long is not waited for: that took a tenth of a core from those who make.
class Inbox {
 public:
  std::optional<Message> next();
  // One has begun to come.
  bool is_coming() const { return request_ != MPI_REQUEST_NULL; }

 private:
  Message coming_;
  MPI_Request request_ = MPI_REQUEST_NULL;
};

// Messages that are on their way: who sends does not wait for who is busy.
class Outbox {
 public:
  void send(int to, std::shared_ptr<const std::vector<std::uint8_t>> bytes);
  // How many bytes have not arrived.
  std::size_t waiting();

 private:
  struct Sent {
    std::shared_ptr<const std::vector<std::uint8_t>> bytes;
    MPI_Request request;
  };
  std::list<Sent> sent_;
  std::size_t waiting_ = 0;
};

}  // namespace katoptra
