#include "katoptra/base/progress.hpp"

#include <atomic>
#include <memory>
#include <mutex>

#include "katoptra/base/error.hpp"

namespace katoptra {

struct Progress::State {
  std::unique_ptr<Listener> listener;
  std::mutex mutex;
  double last = -1;
  std::atomic<bool> cancelled{false};
};

Progress::Progress() : Progress(nullptr) {}

Progress::Progress(Listener* listener) {
  std::unique_ptr<Listener> held(listener);
  state_ = new State;
  state_->listener = std::move(held);
}

Progress::~Progress() { delete state_; }

void Progress::report(double done) {
  if (!state_->listener) return;
  std::lock_guard lock(state_->mutex);
  if (done <= state_->last) return;
  state_->last = done;
  state_->listener->hear(done);
}

void Progress::cancel() { state_->cancelled.store(true, std::memory_order_relaxed); }

bool Progress::cancelled() const { return state_->cancelled.load(std::memory_order_relaxed); }

void Progress::check() const {
  if (cancelled()) throw Error(ErrorCode::Cancelled, "stopped on request");
}

}  // namespace katoptra
