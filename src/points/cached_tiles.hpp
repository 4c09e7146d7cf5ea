// A grid that is computed in square tiles, each kept in the block cache: for work that is costly beside a small window.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <utility>

#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/grid.hpp"

#include "base/heaps.hpp"
#include "base/shared_parts.hpp"
#include "grid/planes.hpp"

namespace katoptra {

class CachedTiles {
 public:
  // The bytes of a tile; none: it is void.
  using Make = std::function<BlockCache::Bytes(const Window& tile)>;
  CachedTiles(const Window& all, std::int64_t tile)
      : all_(all),
        tile_(tile),
        cols_((all.cols + tile - 1) / tile),
        rows_((all.rows + tile - 1) / tile),
        owner_(BlockCache::shared().new_owner()) {}
  ~CachedTiles() { BlockCache::shared().forget(owner_); }
  CachedTiles(const CachedTiles&) = delete;
  CachedTiles& operator=(const CachedTiles&) = delete;

  // Where work is shared: all tiles are made now, each by one of the processes, which leaves it in a folder that they
  // have in common. Who does not see that folder goes on making what it is asked for. Before anything is read.
  // `wanted_for`: the file in an Error.
  void make_together(const RunOptions& run, const std::string& wanted_for, const Make& make) {
    if (!work_is_shared()) return;
    auto made = std::make_unique<Heaps<std::uint8_t>>(0, wanted_for, CommonFolder::made(run, wanted_for));
    using Written = Heaps<std::uint8_t>::Written;
    share_parts<Written>(
        static_cast<std::size_t>(cols_ * rows_), run,
        [&](std::size_t i) {
          const BlockCache::Bytes bytes = make(tile(static_cast<std::int64_t>(i)));
          return bytes.empty() ? Written() : made->write(i, bytes);
        },
        [&](std::size_t, const Written& w) {
          if (made->is_shared()) made->add(w);
        },
        {.listens = !made->is_shared()});
    if (made->is_shared()) made_ = std::move(made);
  }

  bool is_made() const { return made_ != nullptr; }

  // Hands on each tile that touches the window of `out`, with the part of `out` that it fills: `make` computes the
  // bytes of a tile unless they are at hand, `fill` copies from them.
  void read(const BlockView& out, const Make& make,
            const std::function<void(const BlockCache::Bytes& bytes, const Window& tile, const BlockView& part)>& fill)
      const {
    const Window& w = out.window;
    for (std::int64_t r = w.row / tile_; r * tile_ < w.row + w.rows; ++r)
      for (std::int64_t c = w.col / tile_; c * tile_ < w.col + w.cols; ++c) {
        const std::int64_t i = r * cols_ + c;
        const auto bytes = BlockCache::shared().get(owner_, static_cast<std::uint64_t>(i),
                                                    [&] { return made_ ? read_back(i) : make(tile(i)); });
        const BlockView part = out.part(tile(i).intersected(w));
        if (bytes->empty())
          make_void(part);
        else
          fill(*bytes, tile(i), part);
      }
  }

 private:
  Window tile(std::int64_t i) const {
    return Window{i % cols_ * tile_, i / cols_ * tile_, tile_, tile_}.intersected(all_);
  }
  BlockCache::Bytes read_back(std::int64_t i) const {
    BlockCache::Bytes bytes;
    made_->read(static_cast<std::uint64_t>(i), bytes);
    return bytes;
  }

  Window all_;
  std::int64_t tile_, cols_, rows_;
  std::uint64_t owner_;
  std::unique_ptr<const Heaps<std::uint8_t>> made_;  // null: tiles are made when they are asked for
};

}  // namespace katoptra
