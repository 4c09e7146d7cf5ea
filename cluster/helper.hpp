// The other processes of a cluster: make what they are asked for, and write what stays with them.
#pragma once
#include <algorithm>
#include <cstdint>
#include <deque>
#include <exception>
#include <fcntl.h>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <thread>
#include <unistd.h>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

#include "base/packed.hpp"
#include "base/scratch.hpp"
#include "cluster.hpp"
#include "makers.hpp"
#include "messages.hpp"

namespace katoptra {

// Files of the first process that this one writes pieces of.
class ReachedFiles {
 public:
  ReachedFiles() = default;
  ~ReachedFiles() {
    for (const Reached& f : files_) ::close(f.descriptor);
  }
  ReachedFiles(const ReachedFiles&) = delete;
  ReachedFiles& operator=(const ReachedFiles&) = delete;

  // Whether all of them are here: another disk may have a folder of the same name.
  bool open(const std::vector<SharedFile>& files) {
    for (const SharedFile& f : files) {
      const int descriptor = ::open(f.path.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW);
      if (descriptor < 0) return false;
      files_.push_back({descriptor, f.path});
      std::vector<std::uint8_t> there(f.mark.size());
      if (read_descriptor(descriptor, 0, there, f.path) != there.size() || there != f.mark) return false;
    }
    return !files.empty();
  }
  void write(std::uint64_t file, std::uint64_t offset, std::span<const std::uint8_t> bytes) const {
    const Reached& f = files_.at(file);
    write_descriptor(f.descriptor, offset, bytes, f.path);
  }
  void close() {
    for (const Reached& f : std::exchange(files_, {}))
      if (::close(f.descriptor) != 0) throw Error(ErrorCode::Io, "cannot be written", f.path, "check the disk");
  }

 private:
  struct Reached {
    int descriptor;
    std::string path;
  };
  std::vector<Reached> files_;
};

class Cluster::Helper {
 public:
  void share(const SharedWork& work) {
    if (left_) throw Error(ErrorCode::Cancelled, "does not help any more");
    ++run_;
    Run run(work);
    send(0, {.word = Word::Want, .run = run_, .number = work.n, .count = work.listens ? 0 : run.makers.wanted()});
    try {
      help(run);
    } catch (...) {
      if (run.writes) tell_failed();
      throw;
    }
    if (run.is_out) std::rethrow_exception(run.error);
  }
  void leave(const std::string& why) {
    if (!std::exchange(left_, true)) send(0, {.word = Word::Left, .run = run_}, {why.begin(), why.end()});
  }
  // Until the first has nothing more to do: ending earlier would end the job. Without keeping a core busy.
  void wait() {
    while (true) {
      const auto m = inbox_.next();
      if (m && m->word == Word::Bye) return;
      if (!m) std::this_thread::sleep_for(kSleep);
    }
  }

 private:
  struct Kept {
    std::shared_ptr<void> result;
    std::uint64_t bytes = 0;  // that have no place yet
  };
  struct Run {
    explicit Run(const SharedWork& w) : work(w), makers(w, Makers::For::Another) {}
    const SharedWork& work;
    Makers makers;
    std::size_t placed = 0;
    ReachedFiles files;
    std::map<std::uint64_t, Kept> kept;  // by number
    bool writes = false;                 // is waited for until all that it kept is written
    std::exception_ptr error;            // what kept it from making a number; no more are made
    bool is_out = false;                 // and the first needs that number
  };

  void help(Run& run) {
    while (true) {
      bool moved = false;
      if (auto m = next_message()) {
        moved = true;
        if (m->run == run_ && !hear(*m, run)) break;
      }
      while (auto made = run.makers.taken()) {
        moved = true;
        tell(std::move(*made), run);
      }
      // Lets go of what has arrived, too.
      const bool sends = outbox_.waiting() > 0;
      run.makers.nap(moved, sends || inbox_.is_coming());
    }
  }

  // The next for this run. What belongs to one that has not begun here, for the first process was through with this one
  // before it asked, waits until then. That the first is done with all comes before anything else.
  std::optional<Message> next_message() {
    while (auto m = inbox_.next()) {
      if (m->word == Word::Go) throw Error(ErrorCode::Cancelled, "the first process does something else");
      if (m->run >= run_) came_.push_back(std::move(*m));
    }
    const auto due = std::find_if(came_.begin(), came_.end(), [&](const Message& m) { return m.run <= run_; });
    if (due == came_.end()) return std::nullopt;
    Message m = std::move(*due);
    came_.erase(due);
    return m;
  }

  // False: the run is over.
  bool hear(const Message& m, Run& run) {
    switch (m.word) {
      case Word::Files:
        if (run.files.open(unpacked_files(m.bytes))) run.makers.keep_pieces();
        break;
      case Word::Make:
        if (!run.error) run.makers.make(m.number);
        break;
      case Word::Where:
        for (Unpacker u(m.bytes); const auto& p : u.take_all<LongPieces::Place>()) write(p, run);
        break;
      case Word::Drop:
        run.kept.erase(m.number);
        break;
      case Word::Close:
        written([&] { run.files.close(); });
        send(0, {.word = Word::Closed, .run = run_});
        break;
      case Word::Placed:
        run.work.place(m.number, unpacked(run.work, m.bytes));
        ++run.placed;
        break;
      case Word::Out:  // who cannot go on making still writes what it keeps
        left_ = run.is_out = true;
        if (!run.writes) std::rethrow_exception(run.error);
        break;
      case Word::Done:
        if (run.work.to_all && run.placed < run.work.n)
          throw Error(ErrorCode::Cancelled, "the first process does something else");
        return false;
      default:
        break;
    }
    return true;
  }

  // A number that could not be made may be one that is not needed any more, and what it is made of gone because the
  // first process was through with it.
  void tell(Makers::Made made, Run& run) {
    if (made.error) {
      if (run.error) return;
      run.error = made.error;
      const std::string why = reason(made.error);
      send(0, {.word = Word::Stuck, .run = run_, .number = made.number}, {why.begin(), why.end()});
      return;
    }
    std::uint64_t stays = 0;
    if (made.result) {
      stays = run.work.long_pieces->size(made.result);
      run.writes = true;
      run.kept[made.number] = {std::move(made.result), stays};
    }
    outbox_.send(
        0, std::make_shared<const std::vector<std::uint8_t>>(with_head(
               {.word = Word::Result, .run = run_, .number = made.number, .count = stays}, std::move(made.packed))));
  }

  void write(const LongPieces::Place& p, Run& run) {
    const auto kept = run.kept.find(p.number);
    if (kept == run.kept.end()) throw Error(ErrorCode::Io, "a place was sent for what is not kept here");
    written([&] { run.files.write(p.file, p.offset, run.work.long_pieces->bytes(kept->second.result, p.piece)); });
    if ((kept->second.bytes -= p.size) == 0) run.kept.erase(kept);
  }
  template <class Write>
  void written(const Write& write) {
    try {
      write();
    } catch (const Error&) {
      tell_failed();
    }
  }
  // What went wrong, inside of a catch: the first process cannot go on without what this one keeps.
  void tell_failed() const {
    const std::string why = reason(std::current_exception());
    send(0, {.word = Word::Failed, .run = run_}, {why.begin(), why.end()});
  }

  std::uint64_t run_ = 0;
  bool left_ = false;
  std::deque<Message> came_;
  Inbox inbox_;
  Outbox outbox_;
};

}  // namespace katoptra
