#include "katoptra/base/progress.hpp"

#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {

void Progress::report(double done) {
  if (!callback_) return;
  std::lock_guard lock(mutex_);
  if (done <= last_) return;
  last_ = done;
  callback_(done);
}

void Progress::check() const {
  if (cancelled()) throw Error(ErrorCode::Cancelled, "stopped on request");
}

}  // namespace katoptra
