#include "cluster.hpp"

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <deque>
#include <exception>
#include <fcntl.h>
#include <fmt/format.h>
#include <list>
#include <map>
#include <mpi.h>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <tbb/global_control.h>
#include <tbb/task_arena.h>
#include <thread>
#include <unistd.h>
#include <vector>
#include <zstd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/base/units.hpp"

#include "base/packed.hpp"
#include "base/scratch.hpp"

namespace katoptra {
namespace {

// What processes tell one another. `run` counts the works that were shared.
enum class Word : std::uint32_t {
  Want,    // to the first: this many numbers of a run of so many results
  Result,  // to the first: what was made for a number; another number is wanted in its place
  Left,    // to the first: does not help any more, and why
  Files,   // from the first: those that long pieces go into
  Make,    // from the first: a number
  Where,   // from the first: places of long pieces that you keep
  Drop,    // from the first: a number whose pieces are not needed, for another was done sooner
  Close,   // from the first: all pieces have their places
  Closed,  // to the first: all pieces are written
  Failed,  // to the first: could not be written, and why
  Placed,  // from the first, to all: a result that all place, in order
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

constexpr int kTag = 1;
// How long a process that waits sleeps before it looks again; and one that has nothing more to do.
constexpr auto kNap = std::chrono::milliseconds(1);
constexpr auto kSleep = std::chrono::milliseconds(20);
// Rows of tiles wait until they are whole: so much is kept whatever the budget.
constexpr std::size_t kAlwaysKept = std::size_t{64} << 20;

// The head goes behind the bytes, so that neither side has to move them.
std::vector<std::uint8_t> with_head(const Head& head, std::vector<std::uint8_t> bytes) {
  Packer p{std::move(bytes)};
  p.put(head);
  if (p.bytes.size() > 0x7FFFFFFF) throw Error(ErrorCode::TooLarge, "a result is too large to be sent");
  return std::move(p.bytes);
}

// For what is short: who sends waits, on a core of its own, until what is long is taken.
void send(int to, const Head& head, std::vector<std::uint8_t> bytes = {}) {
  const std::vector<std::uint8_t> all = with_head(head, std::move(bytes));
  MPI_Send(all.data(), static_cast<int>(all.size()), MPI_BYTE, to, kTag, MPI_COMM_WORLD);
}

// What all take over travels packed; tiles of files are that already.
std::vector<std::uint8_t> packed(const SharedWork& work, std::vector<std::uint8_t> bytes) {
  if (!work.to_all) return bytes;
  std::vector<std::uint8_t> out(ZSTD_compressBound(bytes.size()));
  const std::size_t n = ZSTD_compress(out.data(), out.size(), bytes.data(), bytes.size(), 1);
  if (ZSTD_isError(n)) throw Error(ErrorCode::TooLarge, "a result is too large to be packed");
  out.resize(n);
  return out;
}
std::shared_ptr<void> unpacked(const SharedWork& work, std::span<const std::uint8_t> bytes) {
  if (!work.to_all) return work.unpack(bytes);
  constexpr unsigned long long kMost = 1ull << 32;  // messages are smaller
  const unsigned long long size = ZSTD_getFrameContentSize(bytes.data(), bytes.size());
  std::vector<std::uint8_t> out(size <= kMost ? size : 0);
  if (size > kMost || ZSTD_decompress(out.data(), out.size(), bytes.data(), bytes.size()) != size)
    throw Error(ErrorCode::Io, "what another process sent is damaged");
  return work.unpack(out);
}

// Messages that are on their way: who sends does not wait for who is busy.
class Outbox {
 public:
  void send(int to, std::shared_ptr<const std::vector<std::uint8_t>> bytes) {
    sent_.push_back({std::move(bytes), MPI_REQUEST_NULL});
    Sent& s = sent_.back();
    MPI_Isend(s.bytes->data(), static_cast<int>(s.bytes->size()), MPI_BYTE, to, kTag, MPI_COMM_WORLD, &s.request);
    waiting_ += s.bytes->size();
  }
  // How many bytes have not arrived.
  std::size_t waiting() {
    std::erase_if(sent_, [&](Sent& s) {
      int done = 0;
      MPI_Test(&s.request, &done, MPI_STATUS_IGNORE);
      if (done) waiting_ -= s.bytes->size();
      return done != 0;
    });
    return waiting_;
  }

 private:
  struct Sent {
    std::shared_ptr<const std::vector<std::uint8_t>> bytes;
    MPI_Request request;
  };
  std::list<Sent> sent_;
  std::size_t waiting_ = 0;
};

std::optional<Message> received() {
  int there = 0, size = 0;
  MPI_Status status;
  MPI_Iprobe(MPI_ANY_SOURCE, kTag, MPI_COMM_WORLD, &there, &status);
  if (!there) return std::nullopt;
  MPI_Get_count(&status, MPI_BYTE, &size);
  Message m;
  m.bytes.resize(static_cast<std::size_t>(size));
  MPI_Recv(m.bytes.data(), size, MPI_BYTE, status.MPI_SOURCE, kTag, MPI_COMM_WORLD, MPI_STATUS_IGNORE);
  const std::size_t body = m.bytes.size() - std::min(m.bytes.size(), sizeof(Head));
  static_cast<Head&>(m) = Unpacker(std::span<const std::uint8_t>(m.bytes).subspan(body)).take<Head>();
  m.bytes.resize(body);
  m.from = status.MPI_SOURCE;
  return m;
}

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

std::vector<std::uint8_t> packed_files(const std::vector<SharedFile>& files) {
  Packer p;
  p.put(files.size());
  for (const SharedFile& f : files) {
    p.put(std::vector<char>(f.path.begin(), f.path.end()));
    p.put(f.mark);
  }
  return std::move(p.bytes);
}
std::vector<SharedFile> unpacked_files(std::span<const std::uint8_t> bytes) {
  Unpacker u(bytes);
  std::vector<SharedFile> files;
  for (auto n = u.take<std::size_t>(); n > 0; --n) {
    const auto path = u.take_all<char>();
    files.push_back({std::string(path.begin(), path.end()), u.take_all<std::uint8_t>()});
  }
  return files;
}

// Makes results on threads of its own, and keeps what is done until it is asked for.
class Makers {
 public:
  enum class For { Itself, Another, AnotherWithoutPieces };
  Makers(const SharedWork& work, For whom)
      : work_(work),
        for_(whom),
        at_once_(work.at_once > 0 ? static_cast<int>(work.at_once) : thread_count(work.options)),
        allow_(tbb::global_control::max_allowed_parallelism, static_cast<std::size_t>(thread_count(work.options)) + 1),
        // One place more, for the thread that talks: it does not make anything.
        arena_(at_once_ + 1, 1) {}
  ~Makers() { wait(); }
  Makers(const Makers&) = delete;
  Makers& operator=(const Makers&) = delete;

  struct Made {
    std::size_t number = 0;
    std::shared_ptr<void> result;  // for itself, or because its pieces stay
    std::vector<std::uint8_t> packed;
    std::exception_ptr error;
  };
  // Before anything is made.
  void keep_pieces() { for_ = For::AnotherWithoutPieces; }

  // One more than are made at once, so that no thread waits for the next number; but none of those that take long, for
  // another process would wait for it.
  std::size_t wanted() const { return static_cast<std::size_t>(at_once_) + (work_.at_once > 0 ? 0 : 1); }
  void make(std::size_t number) {
    {
      std::lock_guard lock(mutex_);
      ++under_way_;
    }
    arena_.enqueue([this, number] {
      Made m{.number = number, .result = nullptr, .packed = {}, .error = nullptr};
      try {
        const WithinWork within;
        if (work_.options.progress) work_.options.progress->check();
        m.result = work_.make(number);
        if (for_ == For::AnotherWithoutPieces)
          m.packed = work_.long_pieces->pack(m.result);
        else if (for_ == For::Another)
          m.packed = packed(work_, work_.pack(std::exchange(m.result, nullptr)));
      } catch (...) {
        m.error = std::current_exception();
      }
      std::lock_guard lock(mutex_);
      done_.push_back(std::move(m));
      --under_way_;
      changed_.notify_all();
    });
  }
  std::optional<Made> taken() {
    std::lock_guard lock(mutex_);
    if (done_.empty()) return std::nullopt;
    Made m = std::move(done_.front());
    done_.pop_front();
    return m;
  }
  // Until something is done here, or a moment has passed.
  void nap() {
    std::unique_lock lock(mutex_);
    if (done_.empty()) changed_.wait_for(lock, kNap);
  }
  void wait() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return under_way_ == 0; });
  }

 private:
  const SharedWork& work_;
  For for_;
  int at_once_;
  tbb::global_control allow_;
  tbb::task_arena arena_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Made> done_;
  std::size_t under_way_ = 0;
};

std::string reason(const std::exception_ptr& error) {
  try {
    std::rethrow_exception(error);
  } catch (const std::exception& e) {
    return e.what();
  } catch (...) {
    return "unknown";
  }
}

}  // namespace

// ---- the first process

class Cluster::First {
  using Moment = std::chrono::steady_clock::time_point;

 public:
  explicit First(int size) : helpers_(static_cast<std::size_t>(size)) {
    for (std::size_t r = 1; r < helpers_.size(); ++r) helpers_[r].there = true;
  }

  void share(const SharedWork& work) {
    ++run_;
    Run run(work, static_cast<std::size_t>(helpers_.size()));
    // What came before this run was begun.
    for (std::size_t r = 1; r < helpers_.size(); ++r)
      if (auto early = std::exchange(helpers_[r].early, {})) hear(std::move(*early), &run);
    try {
      while (run.placed < work.n) step(run);
      await_pieces(run);
    } catch (...) {
      run.makers.wait();
      end_run();
      throw;
    }
    end_run();
  }

  std::string told() const {
    std::string s = fmt::format("{} processes: {} results made by the first, {} by others ({} sent)", helpers_.size(),
                                made_here_, made_elsewhere_, format_bytes(static_cast<double>(bytes_)));
    // How much of it one process could place in a second: beyond that many bytes a second more of them do not help.
    if (const double s_placing = std::chrono::duration<double>(placing_).count(); s_placing > 0)
      s += fmt::format("; {} written by others; placed at {} a second",
                       format_bytes(static_cast<double>(written_elsewhere_)),
                       format_bytes(static_cast<double>(placed_ + written_elsewhere_) / s_placing));
    for (const auto& [rank, why] : why_left_) s += fmt::format("; process {} left: {}", rank, why);
    return s;
  }

  // Until nobody helps any more.
  void leave() {
    while (std::any_of(helpers_.begin(), helpers_.end(), [](const Helping& h) { return h.there; })) {
      for (std::size_t r = 1; r < helpers_.size(); ++r)
        if (std::exchange(helpers_[r].early, {})) send(static_cast<int>(r), {.word = Word::Go});
      if (auto m = received())
        hear(std::move(*m), nullptr);
      else
        std::this_thread::sleep_for(kNap);
    }
    while (outbox_.waiting() > 0) std::this_thread::sleep_for(kNap);
    for (std::size_t r = 1; r < helpers_.size(); ++r) send(static_cast<int>(r), {.word = Word::Bye});
  }

 private:
  struct Helping {
    bool there = false;
    std::size_t wants = 0;                 // numbers that it could take now
    std::map<std::size_t, Moment> makes;   // those that it was given, and when
    std::optional<Message> early;          // what it wants of a run that has not begun here
    std::uint64_t keeps = 0;               // bytes of pieces that have no place yet
    bool writes = false, closing = false;  // pieces, in this run; and has been told to end that
  };
  // What was sent stays packed until its turn comes.
  struct Waiting {
    std::shared_ptr<void> result;
    std::vector<std::uint8_t> bytes;
    bool packed = false;
    int keeper = 0;            // who keeps its long pieces; 0: they are here
    std::uint64_t pieces = 0;  // bytes of those of the first
  };
  struct Run {
    Run(const SharedWork& w, std::size_t ranks)
        : work(w),
          window(std::max(w.in_flight * ranks, 2 * w.row)),
          share((w.row + ranks - 1) / ranks),
          makers(w, Makers::For::Itself),
          own(makers.wanted()) {
      if (w.long_pieces && ranks > 1) files = w.long_pieces->files();
      if (std::any_of(files.begin(), files.end(), [](const SharedFile& f) { return f.path.empty(); })) files.clear();
    }
    const SharedWork& work;
    std::size_t window;  // how far numbers are handed out beyond what was placed
    std::size_t share;   // of a row, for each process
    std::size_t next = 0, placed = 0;
    std::set<std::size_t> open;     // numbers within the window that nobody has
    std::set<std::size_t> again;    // numbers of helpers that left
    std::set<std::size_t> doubled;  // numbers of helpers that are made here as well
    std::map<std::size_t, Waiting> waiting;
    std::uint64_t kept_here = 0;           // bytes of long pieces of what was made here and waits
    std::size_t made_here = 0, sent = 0;   // of those that wait: how many, and how many bytes
    std::vector<SharedFile> files;         // that long pieces go into; none: all travels
    std::map<std::uint64_t, int> keepers;  // of results that were placed
    Makers makers;
    std::size_t own;  // numbers that this process could take now
    // How long others took, of results that are made on all threads: what takes long is made twice only where one is
    // much slower than they are.
    double seconds = 0;
    std::size_t timed = 0;
    std::map<std::size_t, Moment> own_since;
    void took(Moment since) {
      seconds += std::chrono::duration<double>(std::chrono::steady_clock::now() - since).count();
      ++timed;
    }
    bool is_late(Moment since) const {
      if (work.at_once == 0) return true;
      const double held = std::chrono::duration<double>(std::chrono::steady_clock::now() - since).count();
      return timed > 0 && held > 2 * seconds / static_cast<double>(timed);
    }
  };

  void step(Run& run) {
    bool moved = false;
    if (run.work.options.progress) run.work.options.progress->check();
    while (auto m = received()) {
      hear(std::move(*m), &run);
      moved = true;
    }
    while (auto made = run.makers.taken()) {
      if (made->error) std::rethrow_exception(made->error);
      if (const auto begun = run.own_since.extract(made->number)) run.took(begun.mapped());
      const std::uint64_t pieces = run.work.long_pieces ? run.work.long_pieces->size(made->result) : 0;
      if (keep(run, made->number, {std::move(made->result), {}, false, 0, pieces})) {
        ++run.made_here;
        run.kept_here += pieces;
      }
      ++made_here_;
      ++run.own;
      moved = true;
    }
    hand_out(run);
    // What all place waits until the slowest has room for it.
    while (!run.waiting.empty() && run.waiting.begin()->first == run.placed &&
           (!run.work.to_all || outbox_.waiting() <= run.work.options.memory / 4)) {
      Waiting w = std::move(run.waiting.begin()->second);
      run.waiting.erase(run.waiting.begin());
      if (run.work.to_all) tell_all(run, w);
      const auto began = std::chrono::steady_clock::now();
      run.work.place(run.placed, w.packed ? unpacked(run.work, w.bytes) : std::move(w.result));
      if (w.keeper > 0) run.keepers.emplace(run.placed, w.keeper);
      tell_places(run);
      if (w.packed) {
        run.sent -= w.bytes.size();
        placed_ += w.bytes.size();
        placing_ += std::chrono::steady_clock::now() - began;
      } else {
        --run.made_here;
        run.kept_here -= w.pieces;
      }
      ++run.placed;
      moved = true;
      if (run.work.options.progress && !run.work.options.silent)
        run.work.options.progress->report(static_cast<double>(run.placed) / static_cast<double>(run.work.n));
      hand_out(run);
    }
    if (!moved) run.makers.nap();
  }

  void tell_all(const Run& run, const Waiting& w) {
    if (std::none_of(helpers_.begin(), helpers_.end(), [](const Helping& h) { return h.there; })) return;
    const auto bytes = std::make_shared<const std::vector<std::uint8_t>>(
        with_head({.word = Word::Placed, .run = run_, .number = run.placed},
                  w.packed ? w.bytes : packed(run.work, run.work.pack(w.result))));
    for (std::size_t r = 1; r < helpers_.size(); ++r)
      if (helpers_[r].there) outbox_.send(static_cast<int>(r), bytes);
  }

  // Those who keep pieces learn where to write them.
  void tell_places(Run& run) {
    if (run.keepers.empty()) return;
    std::map<int, std::vector<LongPieces::Place>> by_keeper;
    for (const LongPieces::Place& p : run.work.long_pieces->places()) {
      const auto keeper = run.keepers.find(p.number);
      if (keeper == run.keepers.end()) throw Error(ErrorCode::Io, "a piece that another process made was not sent");
      by_keeper[keeper->second].push_back(p);
      helpers_[static_cast<std::size_t>(keeper->second)].keeps -= p.size;
      written_elsewhere_ += p.size;
    }
    for (const auto& [rank, places] : by_keeper) {
      Packer p;
      p.put(places);
      send(rank, {.word = Word::Where, .run = run_}, std::move(p.bytes));
    }
  }
  // Until all that others keep is written.
  void await_pieces(Run& run) {
    for (std::size_t r = 1; r < helpers_.size(); ++r)
      if (helpers_[r].writes) {
        helpers_[r].closing = true;
        send(static_cast<int>(r), {.word = Word::Close, .run = run_});
      }
    while (std::any_of(helpers_.begin(), helpers_.end(), [](const Helping& h) { return h.closing; })) {
      if (run.work.options.progress) run.work.options.progress->check();
      if (auto m = received())
        hear(std::move(*m), &run);
      else
        std::this_thread::sleep_for(kNap);
    }
  }

  // The same number may have been made twice.
  static bool keep(Run& run, std::size_t number, Waiting result) {
    return number >= run.placed && run.waiting.try_emplace(number, std::move(result)).second;
  }

  // The next number for a process, if one may be begun: what waits for its turn must find room.
  static std::optional<std::size_t> number(Run& run, std::size_t rank) {
    if (!run.again.empty()) return run.again.extract(run.again.begin()).value();
    while (run.next < run.work.n && run.next < run.placed + run.window) run.open.insert(run.next++);
    if (run.open.empty() || run.sent >= run.work.options.memory / 4) return std::nullopt;
    auto it = run.open.begin();
    if (run.work.row > 0)
      it = std::find_if(it, run.open.end(), [&](std::size_t i) { return i % run.work.row / run.share == rank; });
    // Rather one of another's than none: it may be slow.
    return run.open.extract(it == run.open.end() ? run.open.begin() : it).value();
  }
  // When there is none, one that a slow machine holds: whoever is done with it first, the bits are the same.
  std::optional<std::size_t> own_number(Run& run) {
    const bool room =
        run.work.long_pieces ? run.kept_here < run.work.options.memory / 4 : run.made_here < run.work.in_flight;
    if (!run.again.empty() || room)
      if (const auto i = number(run, 0)) return i;
    // What all wait for, and nobody has room to make.
    if (!run.open.empty() && *run.open.begin() == run.placed) return run.open.extract(run.open.begin()).value();
    std::optional<std::size_t> held;
    for (const Helping& h : helpers_)
      for (const auto& [i, since] : h.makes)
        if (!run.doubled.contains(i) && !run.waiting.contains(i) && (!held || i < *held) && run.is_late(since))
          held = i;
    if (held) run.doubled.insert(*held);
    return held;
  }
  // In turns, so that the first numbers, which are waited for first, do not all lie with one process.
  void hand_out(Run& run) {
    for (bool any = true; any;) {
      any = false;
      if (run.own > 0)
        if (const auto i = own_number(run)) {
          --run.own;
          run.own_since.emplace(*i, std::chrono::steady_clock::now());
          run.makers.make(*i);
          any = true;
        }
      for (std::size_t r = 1; r < helpers_.size(); ++r) {
        Helping& h = helpers_[r];
        if (h.wants == 0 || h.keeps > std::max(run.work.options.memory / 4, kAlwaysKept)) continue;
        const auto i = number(run, r);
        if (!i) return;
        --h.wants;
        h.makes.emplace(*i, std::chrono::steady_clock::now());
        send(static_cast<int>(r), {.word = Word::Make, .run = run_, .number = *i});
        any = true;
      }
    }
  }

  void hear(Message m, Run* run) {
    Helping& h = helpers_[static_cast<std::size_t>(m.from)];
    switch (m.word) {
      case Word::Want:
        if (m.run < run_ || (m.run == run_ && !run))  // all was made before it came
          send(m.from, {.word = Word::Done, .run = m.run});
        else if (m.run > run_)
          h.early = std::move(m);
        else if (m.number != run->work.n)
          send(m.from, {.word = Word::Go});
        else
          begin_helping(m, *run);
        break;
      case Word::Result:
        ++made_elsewhere_;
        bytes_ += m.bytes.size();
        if (!run || m.run != run_) break;  // it came when all had been made
        if (const auto made = h.makes.find(m.number); made != h.makes.end()) {
          run->took(made->second);
          h.makes.erase(made);
        }
        ++h.wants;
        if (m.count > 0) h.writes = true;
        if (const std::size_t size = m.bytes.size();
            keep(*run, m.number, {nullptr, std::move(m.bytes), true, m.count > 0 ? m.from : 0})) {
          run->sent += size;
          h.keeps += m.count;
        } else if (m.count > 0) {
          send(m.from, {.word = Word::Drop, .run = run_, .number = m.number});
        }
        break;
      case Word::Closed:
        if (run && m.run == run_) h.closing = false;
        break;
      case Word::Failed:
        if (run && m.run == run_)
          throw Error(ErrorCode::Io, std::string(m.bytes.begin(), m.bytes.end()), fmt::format("process {}", m.from));
        break;
      case Word::Left:
        h.there = false;
        if (!m.bytes.empty()) why_left_.emplace(m.from, std::string(m.bytes.begin(), m.bytes.end()));
        h.wants = 0;
        if (run)
          for (const auto& [i, since] : h.makes)
            if (!run->doubled.contains(i)) run->again.insert(i);
        h.makes.clear();
        break;
      default:
        break;
    }
  }

  void begin_helping(const Message& m, Run& run) {
    Helping& h = helpers_[static_cast<std::size_t>(m.from)];
    h.wants = m.count;
    if (!run.files.empty()) send(m.from, {.word = Word::Files, .run = run_}, packed_files(run.files));
  }

  void end_run() {
    for (std::size_t r = 1; r < helpers_.size(); ++r) {
      Helping& h = helpers_[r];
      // Those that have not come yet are told when they ask.
      if (h.wants > 0 || h.writes || !h.makes.empty()) send(static_cast<int>(r), {.word = Word::Done, .run = run_});
      h.wants = h.keeps = 0;
      h.writes = h.closing = false;
      h.makes.clear();
    }
  }

  std::uint64_t run_ = 0;
  std::vector<Helping> helpers_;  // by rank; the first is not used
  Outbox outbox_;
  std::map<int, std::string> why_left_;  // by rank, of those that could not help any more
  std::uint64_t made_here_ = 0, made_elsewhere_ = 0, bytes_ = 0, placed_ = 0, written_elsewhere_ = 0;
  std::chrono::steady_clock::duration placing_{};
};

// ---- the others

class Cluster::Helper {
 public:
  void share(const SharedWork& work) {
    if (left_) throw Error(ErrorCode::Cancelled, "does not help any more");
    ++run_;
    Run run(work);
    send(0, {.word = Word::Want, .run = run_, .number = work.n, .count = run.makers.wanted()});
    try {
      help(run);
    } catch (...) {
      if (run.writes) tell_failed();
      throw;
    }
    if (run.error) std::rethrow_exception(run.error);
  }
  void leave(const std::string& why) {
    if (!std::exchange(left_, true)) send(0, {.word = Word::Left}, {why.begin(), why.end()});
  }
  // Until the first has nothing more to do: ending earlier would end the job. Without keeping a core busy.
  void wait() {
    while (true) {
      const auto m = received();
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
    std::exception_ptr error;
  };

  void help(Run& run) {
    while (true) {
      bool moved = false;
      if (auto m = received()) {
        moved = true;
        if (m->word == Word::Go) throw Error(ErrorCode::Cancelled, "the first process does something else");
        if (m->run == run_ && !hear(*m, run)) break;
      }
      while (auto made = run.makers.taken()) {
        moved = true;
        tell(std::move(*made), run);
      }
      outbox_.waiting();  // lets go of what has arrived
      if (!moved) run.makers.nap();
    }
  }

  // False: the run is over.
  bool hear(const Message& m, Run& run) {
    switch (m.word) {
      case Word::Files:
        if (run.files.open(unpacked_files(m.bytes))) run.makers.keep_pieces();
        break;
      case Word::Make:
        if (!left_) run.makers.make(m.number);
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
      case Word::Done:
        if (run.work.to_all && run.placed < run.work.n)
          throw Error(ErrorCode::Cancelled, "the first process does something else");
        return false;
      default:
        break;
    }
    return true;
  }

  // Who cannot go on making still writes what it keeps.
  void tell(Makers::Made made, Run& run) {
    if (made.error) {
      leave(reason(made.error));
      if (!run.writes) std::rethrow_exception(made.error);
      run.error = made.error;
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
  Outbox outbox_;
};

// ---- all of them

Cluster::Cluster(int& argc, char**& argv) {
  int provided = 0;
  MPI_Init_thread(&argc, &argv, MPI_THREAD_FUNNELED, &provided);
  if (size() == 1) return;
  if (rank() == 0)
    first_ = std::make_unique<First>(size());
  else
    helper_ = std::make_unique<Helper>();
  use_ranks(this);
}

Cluster::~Cluster() {
  use_ranks(nullptr);
  MPI_Finalize();
}

int Cluster::rank() const {
  int r = 0;
  MPI_Comm_rank(MPI_COMM_WORLD, &r);
  return r;
}

int Cluster::size() const {
  int n = 1;
  MPI_Comm_size(MPI_COMM_WORLD, &n);
  return n;
}

bool Cluster::is_first() const { return !helper_; }

void Cluster::share(const SharedWork& work) {
  if (first_)
    first_->share(work);
  else
    helper_->share(work);
}

std::string Cluster::told() const { return first_ ? first_->told() : "one process"; }

int Cluster::leave(int status, const std::string& why) {
  if (first_) first_->leave();
  if (!helper_) return status;
  helper_->leave(why);
  helper_->wait();
  return 0;
}

}  // namespace katoptra
