// A grid of which the same places are read several times, a little apart: what was read is kept, with a margin around.
#pragma once
#include <memory>
#include <mutex>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

class RememberedReads final : public GridSource {
 public:
  // Keeps `margin` cells around each window and no more than `room` bytes; beyond that it reads as the grid does. Of
  // values alone.
  RememberedReads(Grid grid, std::int64_t margin, std::size_t room)
      : grid_(std::move(grid)), margin_(margin), room_(room) {}

  const GridInfo& info() const override { return grid_.info(); }
  bool carries_uncertainty() const override { return grid_.carries_uncertainty(); }
  void read(const BlockView& out) const override;
  // Bytes that are kept.
  std::size_t kept() const;

 private:
  std::shared_ptr<const Block> around(const Window& w) const;
  bool has_room_for(const Window& w) const;  // and takes it

  Grid grid_;
  std::int64_t margin_;
  std::size_t room_;
  mutable std::mutex mutex_;
  mutable std::size_t bytes_ = 0;
  mutable std::vector<std::shared_ptr<const Block>> blocks_;
};

}  // namespace katoptra
