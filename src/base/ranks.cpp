#include "ranks.hpp"

#include <atomic>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"

namespace katoptra {
namespace {

std::atomic<Ranks*> g_ranks{nullptr};

}  // namespace

void use_ranks(Ranks* ranks) { g_ranks = ranks; }

bool only_helps() {
  const Ranks* r = g_ranks;
  return r && !r->is_first() && !LeavesFiles::now();
}

void refuse_to_help(const std::string& where) {
  if (only_helps()) throw Error(ErrorCode::Cancelled, "is left to the first process", where);
}

bool work_is_shared() { return g_ranks && !WithinWork::now(); }

void share_ordered(const SharedWork& work) {
  if (Ranks* r = g_ranks; r && !WithinWork::now())
    r->share(work);
  else if (work.at_once == 1)
    for (std::size_t i = 0; i < work.n; ++i) {
      if (work.options.progress) work.options.progress->check();
      work.place(i, work.make(i));
    }
  else
    parallel_ordered(work.n, work.in_flight, work.options, work.make, work.place);
}

}  // namespace katoptra
