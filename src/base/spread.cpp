// Work spread over threads by oneTBB.
#ifndef KATOPTRA_CHECK_THREADS
#include <algorithm>
#include <tbb/global_control.h>
#include <tbb/info.h>
#include <tbb/parallel_for.h>
#include <tbb/parallel_pipeline.h>
#include <tbb/task_arena.h>
#include <utility>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"

#include "ranks.hpp"

namespace katoptra {

int thread_count(const RunOptions& options) {
  return options.threads > 0 ? options.threads : std::max(1, tbb::info::default_concurrency());
}

namespace {

// An arena of the wanted width; the scheduler may be asked for more threads than the machine has cores, for tests.
template <class Body>
void in_arena(const RunOptions& options, const Body& body) {
  const int threads = thread_count(options);
  tbb::global_control allow(tbb::global_control::max_allowed_parallelism,
                            static_cast<std::size_t>(std::max(threads, tbb::info::default_concurrency())));
  tbb::task_arena arena(threads);
  arena.execute(body);
}

}  // namespace

void parallel_for(std::size_t n, const RunOptions& options, const std::function<void(std::size_t)>& body) {
  in_arena(options, [&] {
    tbb::parallel_for(std::size_t{0}, n, [&](std::size_t i) {
      if (options.progress) options.progress->check();
      const WithinWork within;
      body(i);
    });
  });
}

void parallel_within(std::size_t n, const std::function<void(std::size_t)>& body) {
  // Of its own context: when the run around it fails elsewhere it is not cut short, for whoever waits for it takes it
  // that all of it was done.
  tbb::task_group_context own(tbb::task_group_context::isolated);
  tbb::this_task_arena::isolate([&] {
    tbb::parallel_for(
        std::size_t{0}, n,
        [&](std::size_t i) {
          const WithinWork within;
          body(i);
        },
        own);
  });
}

void parallel_ordered(std::size_t n, std::size_t in_flight, const RunOptions& options,
                      const std::function<std::shared_ptr<void>(std::size_t)>& make,
                      const std::function<void(std::size_t, std::shared_ptr<void>)>& place) {
  // Only numbers travel through the pipeline: after an error it drops what is in it without destroying it. Results wait
  // in slots of ours. At most `lanes` items are alive and they leave in order, so their numbers are neighbours.
  const std::size_t lanes = std::max<std::size_t>(1, in_flight);
  std::vector<std::shared_ptr<void>> slots(lanes);
  std::size_t next = 0;
  in_arena(options, [&] {
    tbb::parallel_pipeline(
        lanes, tbb::make_filter<void, std::size_t>(tbb::filter_mode::serial_in_order,
                                                   [&](tbb::flow_control& control) -> std::size_t {
                                                     if (next >= n) {
                                                       control.stop();
                                                       return 0;
                                                     }
                                                     return next++;
                                                   }) &
                   tbb::make_filter<std::size_t, std::size_t>(tbb::filter_mode::parallel,
                                                              [&](std::size_t i) {
                                                                if (options.progress) options.progress->check();
                                                                const WithinWork within;
                                                                slots[i % lanes] = make(i);
                                                                return i;
                                                              }) &
                   tbb::make_filter<std::size_t, void>(tbb::filter_mode::serial_in_order, [&](std::size_t i) {
                     place(i, std::move(slots[i % lanes]));
                     if (options.progress && !options.silent)
                       options.progress->report(static_cast<double>(i + 1) / static_cast<double>(n));
                   }));
  });
}

}  // namespace katoptra
#endif
