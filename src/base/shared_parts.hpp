// Work in parts whose results every process needs: each is made by whichever process is free and told to all, which
// take them over in order, and so go on with the same.
#pragma once
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "katoptra/base/parallel.hpp"

#include "common_folder.hpp"
#include "packed.hpp"
#include "ranks.hpp"

namespace katoptra {

struct ShareHow {
  bool listens = false;              // this process makes nothing
  std::size_t row = 0, at_once = 0;  // as in SharedWork
};

// `make(i)` gives a Part by value, which names its fields (packed.hpp); `take(i, part)` gets them one after the other.
// Where work is shared, `make` may not change what it reads: the same number may be made twice, or elsewhere.
template <class Part, class Make, class Take>
void share_parts(std::size_t n, const RunOptions& run, const Make& make, const Take& take, ShareHow how = {}) {
  const auto part = [](const std::shared_ptr<void>& p) -> Part& { return *static_cast<Part*>(p.get()); };
  share_ordered({.n = n,
                 .in_flight = static_cast<std::size_t>(2 * thread_count(run)),
                 .at_once = how.at_once,
                 .row = how.row,
                 .to_all = true,
                 .listens = how.listens,
                 .options = run,
                 .make = [&](std::size_t i) -> std::shared_ptr<void> { return std::make_shared<Part>(make(i)); },
                 .place = [&](std::size_t i, const std::shared_ptr<void>& p) { take(i, part(p)); },
                 .pack =
                     [&](const std::shared_ptr<void>& p) {
                       Packer to;
                       FieldPacker{to}(part(p));
                       return std::move(to.bytes);
                     },
                 .unpack = [](std::span<const std::uint8_t> bytes) -> std::shared_ptr<void> {
                   Unpacker from(bytes);
                   auto p = std::make_shared<Part>();
                   FieldUnpacker{from}(*p);
                   return p;
                 }});
}

// The same where `make` also writes what is too much to be told into files of a common folder (null: of this process).
// A process that does not see the folder takes what the others tell, and makes its files by itself.
template <class Part, class Make, class Take>
void share_written(std::size_t n, const RunOptions& run, const std::shared_ptr<const CommonFolder>& folder,
                   const Make& make, const Take& take) {
  const bool apart = folder && !folder->is_seen();
  share_parts<Part>(n, run, make, take, {.listens = apart});
  if (apart) parallel_for(n, run, [&](std::size_t i) { make(i); });
}

}  // namespace katoptra
