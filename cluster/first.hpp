// The first process of a cluster: hands out numbers, makes results as well, places all in order.
#pragma once
#include <algorithm>
#include <chrono>
#include <cstdint>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/base/units.hpp"

#include "base/packed.hpp"
#include "cluster.hpp"
#include "makers.hpp"
#include "messages.hpp"

namespace katoptra {

class Cluster::First {
  using Moment = std::chrono::steady_clock::time_point;

 public:
  explicit First(int size) : helpers_(static_cast<std::size_t>(size)) {
    for (std::size_t r = 1; r < helpers_.size(); ++r) helpers_[r].there = true;
  }

  void share(const SharedWork& work) {
    ++run_;
    Run run(work, static_cast<std::size_t>(helpers_.size()), work.to_all && is_heard());
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
    over_ = true;
    // Who is behind need not come after.
    for (std::size_t r = 1; r < helpers_.size(); ++r)
      if (helpers_[r].there) send(static_cast<int>(r), {.word = Word::Go});
    while (is_heard()) {
      for (std::size_t r = 1; r < helpers_.size(); ++r)
        if (std::exchange(helpers_[r].early, {})) send(static_cast<int>(r), {.word = Word::Go});
      if (auto m = inbox_.next())
        hear(std::move(*m), nullptr);
      else
        std::this_thread::sleep_for(kNap);
    }
    while (outbox_.waiting() > 0) std::this_thread::sleep_for(kNap);
    for (std::size_t r = 1; r < helpers_.size(); ++r) send(static_cast<int>(r), {.word = Word::Bye});
  }

 private:
  // Rows of tiles wait until they are whole: so much is kept whatever the budget.
  static constexpr std::size_t kAlwaysKept = std::size_t{64} << 20;

  struct Helping {
    bool there = false;
    bool follows = false;                  // this run, though perhaps it makes nothing of it
    std::size_t wants = 0;                 // numbers that it could take now
    std::map<std::size_t, Moment> makes;   // those that it was given, and when
    std::optional<Message> early;          // what it wants of a run that has not begun here
    std::uint64_t keeps = 0;               // bytes of pieces that have no place yet
    bool writes = false, closing = false;  // pieces, in this run; and has been told to end that
  };
  // What was sent stays packed until its turn comes.
  struct Waiting {
    std::shared_ptr<void> result;
    std::vector<std::uint8_t> bytes;  // that came, or that all are told
    bool came = false;
    int keeper = 0;          // who keeps its long pieces; 0: they are here
    std::uint64_t held = 0;  // bytes of those of the first, or of what is told
  };
  struct Run {
    // What all take is small, and some of it takes far longer to make than the rest: much may wait for that.
    Run(const SharedWork& w, std::size_t ranks, bool is_told)
        : work(w),
          window(std::max((w.to_all ? 32 : 1) * w.in_flight * ranks, 2 * w.row)),
          share((w.row + ranks - 1) / ranks),
          makers(w, is_told ? Makers::For::All : Makers::For::Itself),
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
    std::uint64_t kept_here = 0;           // bytes of what was made here and waits
    std::size_t made_here = 0, sent = 0;   // of those that wait: how many, and how many bytes
    std::vector<SharedFile> files;         // that long pieces go into; none: all travels
    std::map<std::uint64_t, int> keepers;  // of results that were placed
    Makers makers;
    std::size_t own;  // numbers that this process could take now
    // How long they took, from being given out.
    double seconds = 0;
    std::size_t timed = 0;
    std::map<std::size_t, Moment> own_since;
    void took(Moment since) {
      seconds += std::chrono::duration<double>(std::chrono::steady_clock::now() - since).count();
      ++timed;
    }
    bool is_late(Moment since) const {
      const double held = std::chrono::duration<double>(std::chrono::steady_clock::now() - since).count();
      return timed > 0 && held > 2 * seconds / static_cast<double>(timed);
    }
  };

  void step(Run& run) {
    bool moved = false;
    if (run.work.options.progress) run.work.options.progress->check();
    while (auto m = inbox_.next()) {
      hear(std::move(*m), &run);
      moved = true;
    }
    while (auto made = run.makers.taken()) {
      if (made->error) std::rethrow_exception(made->error);
      if (const auto begun = run.own_since.extract(made->number)) run.took(begun.mapped());
      const std::uint64_t held = run.work.long_pieces ? run.work.long_pieces->size(made->result) : made->size;
      if (keep(run, made->number, {std::move(made->result), std::move(made->packed), false, 0, held})) {
        ++run.made_here;
        run.kept_here += held;
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
      run.work.place(run.placed, w.came ? unpacked(run.work, w.bytes) : std::move(w.result));
      if (w.keeper > 0) run.keepers.emplace(run.placed, w.keeper);
      tell_places(run);
      if (w.came) {
        run.sent -= w.bytes.size();
        placed_ += w.bytes.size();
        placing_ += std::chrono::steady_clock::now() - began;
      } else {
        --run.made_here;
        run.kept_here -= w.held;
      }
      ++run.placed;
      moved = true;
      if (run.work.options.progress && !run.work.options.silent)
        run.work.options.progress->report(static_cast<double>(run.placed) / static_cast<double>(run.work.n));
      hand_out(run);
    }
    run.makers.nap(moved, inbox_.is_coming() || outbox_.waiting() > 0);
  }

  bool is_heard() const {
    return std::any_of(helpers_.begin(), helpers_.end(), [](const Helping& h) { return h.there; });
  }
  void tell_all(const Run& run, const Waiting& w) {
    if (!is_heard()) return;
    const auto bytes = std::make_shared<const std::vector<std::uint8_t>>(
        with_head({.word = Word::Placed, .run = run_, .number = run.placed}, w.bytes));
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
    // Without waiting: one of them may stand still.
    outbox_.waiting();
    for (const auto& [rank, places] : by_keeper) {
      Packer p;
      p.put(places);
      outbox_.send(rank, std::make_shared<const std::vector<std::uint8_t>>(
                             with_head({.word = Word::Where, .run = run_}, std::move(p.bytes))));
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
      if (auto m = inbox_.next())
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
  // When there is none, one that another process holds: whoever is done with it first, the bits are the same. While
  // there will be more to do only what is late, and what all wait for first; at the end, of what does not take long,
  // whatever is held, and first what was given out last, for it is begun last.
  std::optional<std::size_t> own_number(Run& run) {
    const bool room = run.work.long_pieces || run.work.to_all ? run.kept_here < run.work.options.memory / 4
                                                              : run.made_here < run.work.in_flight;
    if (!run.again.empty() || room)
      if (const auto i = number(run, 0)) return i;
    // What all wait for, and nobody has room to make.
    if (!run.open.empty() && *run.open.begin() == run.placed) return run.open.extract(run.open.begin()).value();
    const bool at_end = run.open.empty() && run.next == run.work.n && run.work.at_once == 0;
    std::optional<std::size_t> held;
    Moment given;
    for (const Helping& h : helpers_)
      for (const auto& [i, since] : h.makes)
        if (!run.doubled.contains(i) && !run.waiting.contains(i) && (at_end || run.is_late(since)))
          if (!held || (at_end ? since > given : i < *held)) {
            held = i;
            given = since;
          }
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
      case Word::Stuck:
        // Who is late finds that what it reads is gone, and goes on when it hears that all is made.
        if (!run || m.run != run_) break;
        send(m.from, {.word = Word::Out, .run = run_});
        left(m, run);
        break;
      case Word::Left:
        left(m, run);
        break;
      default:
        break;
    }
  }

  void left(const Message& m, Run* run) {
    Helping& h = helpers_[static_cast<std::size_t>(m.from)];
    h.there = false;
    // Whoever is late when the command is over may find that what it still reads is gone; that is no reason.
    if (!m.bytes.empty() && !(over_ && m.run > 0))
      why_left_.emplace(m.from, std::string(m.bytes.begin(), m.bytes.end()));
    h.wants = 0;
    if (run)
      for (const auto& [i, since] : h.makes)
        if (!run->doubled.contains(i)) run->again.insert(i);
    h.makes.clear();
  }

  void begin_helping(const Message& m, Run& run) {
    Helping& h = helpers_[static_cast<std::size_t>(m.from)];
    h.wants = m.count;
    h.follows = true;
    if (!run.files.empty()) send(m.from, {.word = Word::Files, .run = run_}, packed_files(run.files));
  }

  void end_run() {
    for (std::size_t r = 1; r < helpers_.size(); ++r) {
      Helping& h = helpers_[r];
      // Those that have not come yet are told when they ask.
      if (h.follows && (h.there || h.writes)) send(static_cast<int>(r), {.word = Word::Done, .run = run_});
      h.wants = h.keeps = 0;
      h.follows = h.writes = h.closing = false;
      h.makes.clear();
    }
  }

  std::uint64_t run_ = 0;
  bool over_ = false;             // the command is
  std::vector<Helping> helpers_;  // by rank; the first is not used
  Inbox inbox_;
  Outbox outbox_;
  std::map<int, std::string> why_left_;  // by rank, of those that could not help any more
  std::uint64_t made_here_ = 0, made_elsewhere_ = 0, bytes_ = 0, placed_ = 0, written_elsewhere_ = 0;
  std::chrono::steady_clock::duration placing_{};
};

}  // namespace katoptra
