// A grid that is computed in square tiles, each kept in the block cache: for work that is costly beside a small window.
#pragma once
#include <functional>

#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

class CachedTiles {
 public:
  CachedTiles(const Window& all, std::int64_t tile)
      : all_(all), tile_(tile), cols_((all.cols + tile - 1) / tile), owner_(BlockCache::shared().new_owner()) {}
  ~CachedTiles() { BlockCache::shared().forget(owner_); }
  CachedTiles(const CachedTiles&) = delete;
  CachedTiles& operator=(const CachedTiles&) = delete;

  // Hands on each tile that touches the window of `out`, with the part of `out` that it fills: `make` computes the
  // bytes of a tile unless they are at hand, `fill` copies from them.
  void read(const BlockView& out, const std::function<BlockCache::Bytes(const Window& tile)>& make,
            const std::function<void(const BlockCache::Bytes& bytes, const Window& tile, const BlockView& part)>& fill)
      const {
    const Window& w = out.window;
    for (std::int64_t r = w.row / tile_; r * tile_ < w.row + w.rows; ++r)
      for (std::int64_t c = w.col / tile_; c * tile_ < w.col + w.cols; ++c) {
        const Window tile = Window{c * tile_, r * tile_, tile_, tile_}.intersected(all_);
        const auto bytes =
            BlockCache::shared().get(owner_, static_cast<std::uint64_t>(r * cols_ + c), [&] { return make(tile); });
        fill(*bytes, tile, out.part(tile.intersected(w)));
      }
  }

 private:
  Window all_;
  std::int64_t tile_, cols_;
  std::uint64_t owner_;
};

}  // namespace katoptra
