// Work spread over threads. This is the only place where it is, so that it could be spread otherwise.
//
//   parallel_for(rows, run, [&](std::size_t r) { shade_row(r); });
#pragma once
#include <cstddef>
#include <functional>
#include <memory>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

// Runs body(i) for i in [0, n) on the threads of `options`; rethrows the first error. Cancellation is checked between
// items.
void parallel_for(std::size_t n, const RunOptions& options, const std::function<void(std::size_t)>& body);

// The same inside a `make` or `place` of the run that is under way, on its threads; waits for nothing else meanwhile.
void parallel_within(std::size_t n, const std::function<void(std::size_t)>& body);

// Makers and one placer: make(i) runs on any thread, place(i, result) on one thread at a time and in order of i, with
// at most `in_flight` results alive. This is the only place where work is spread, so the makers could sit elsewhere.
// `make` returns an opaque result that is handed to `place`.
void parallel_ordered(std::size_t n, std::size_t in_flight, const RunOptions& options,
                      const std::function<std::shared_ptr<void>(std::size_t)>& make,
                      const std::function<void(std::size_t, std::shared_ptr<void>)>& place);

}  // namespace katoptra
