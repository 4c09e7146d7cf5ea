// Owners of PROJ's objects, shared by the sources of this room.
#pragma once
#include <memory>
#include <proj.h>

#include "base/pool.hpp"

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

using PipelinePool = Pool<Pipeline>;

}  // namespace katoptra
