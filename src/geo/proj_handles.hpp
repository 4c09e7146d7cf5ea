// Owners of PROJ's objects, shared by the sources of this room.
#pragma once
#include <memory>
#include <mutex>
#include <proj.h>
#include <utility>
#include <vector>

namespace katoptra {

struct DestroyContext {
  void operator()(PJ_CONTEXT* c) const { proj_context_destroy(c); }
};
struct DestroyPj {
  void operator()(PJ* p) const { proj_destroy(p); }
};
using Context = std::unique_ptr<PJ_CONTEXT, DestroyContext>;
using Pj = std::unique_ptr<PJ, DestroyPj>;

// Quiet, and without network.
inline Context make_context() {
  Context c(proj_context_create());
  proj_log_level(c.get(), PJ_LOG_NONE);
  proj_context_set_enable_network(c.get(), 0);
  return c;
}

// One way through PROJ with the context that it belongs to; both serve one thread at a time.
struct Pipeline {
  Context context;
  Pj pj;
};

// Pipelines of one kind that wait for the next caller. Thread-safe.
class PipelinePool {
 public:
  template <class Make>
  Pipeline take(const Make& make) {
    {
      std::lock_guard lock(mutex_);
      if (!free_.empty()) {
        Pipeline p = std::move(free_.back());
        free_.pop_back();
        return p;
      }
    }
    return make();
  }
  void give(Pipeline p) {
    std::lock_guard lock(mutex_);
    free_.push_back(std::move(p));
  }

 private:
  std::mutex mutex_;
  std::vector<Pipeline> free_;
};

}  // namespace katoptra
