// How a long operation tells how far it is and hears that it should stop.
//
//   Progress progress([](double done) { draw(done); });
//   std::thread([&] { wait_for_key(); progress.cancel(); });
//   write_grid(grid, "out.tif", {.run = {.progress = &progress}});      // throws Error(Cancelled)
//
// Thread-safe. The callback is called from worker threads, one call at a time, with values that never fall.
#pragma once
#include <utility>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

class Progress {
 public:
  // Nobody looks; it can be cancelled.
  Progress();
  // `callback` takes how much is done, from 0 to 1.
  template <class Callback>
  requires requires(Callback& callback) { callback(0.5); }
  explicit Progress(Callback callback) : Progress(new Calls<Callback>(std::move(callback))) {}
  ~Progress();
  Progress(const Progress&) = delete;
  Progress& operator=(const Progress&) = delete;

  void report(double done);
  void cancel();
  bool cancelled() const;
  // Throws Error(Cancelled) when cancel() was called.
  void check() const;

 private:
  // Held by hand: the standard's functions, locks and pointers would cost all who include this a second.
  struct Listener {
    virtual ~Listener() = default;
    virtual void hear(double done) = 0;
  };
  template <class Callback>
  struct Calls final : Listener {
    explicit Calls(Callback c) : callback(std::move(c)) {}
    void hear(double done) override { callback(done); }
    Callback callback;
  };
  struct State;
  explicit Progress(Listener* listener);
  State* state_;
};

}  // namespace katoptra
