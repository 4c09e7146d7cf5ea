// A pass over a whole grid in bands of rows whose results are small enough to travel: several processes take bands as
// they become free (base/ranks.hpp), one alone does what map_bands does.
#pragma once
#include <functional>
#include <memory>

#include "katoptra/grid/grid.hpp"

#include "base/packed.hpp"
#include "base/ranks.hpp"

namespace katoptra {

struct BandPass {
  std::function<std::shared_ptr<void>(Block with_halo, const Window& band)> map;
  std::function<void(const std::shared_ptr<void>&)> reduce;
  std::function<void(const std::shared_ptr<void>&, Packer&)> pack;
  std::function<std::shared_ptr<void>(Unpacker&)> unpack;
};
void share_bands(const Grid& grid, Planes planes, std::int64_t halo, const RunOptions& options, const BandPass& pass);

// The same for results of one type, which names its fields (base/packed.hpp). `map` gives a pointer to one.
template <class Part, class Map, class Reduce>
void share_bands(const Grid& grid, Planes planes, std::int64_t halo, const RunOptions& options, const Map& map,
                 const Reduce& reduce) {
  const auto part = [](const std::shared_ptr<void>& p) -> Part& { return *static_cast<Part*>(p.get()); };
  share_bands(grid, planes, halo, options,
              BandPass{.map = [&](Block block, const Window& band) -> std::shared_ptr<void> {
                         return std::shared_ptr<Part>(map(std::move(block), band));
                       },
                       .reduce = [&](const std::shared_ptr<void>& p) { reduce(part(p)); },
                       .pack = [&](const std::shared_ptr<void>& p, Packer& to) { FieldPacker{to}(part(p)); },
                       .unpack = [](Unpacker& from) -> std::shared_ptr<void> {
                         auto p = std::make_shared<Part>();
                         FieldUnpacker{from}(*p);
                         return p;
                       }});
}

}  // namespace katoptra
