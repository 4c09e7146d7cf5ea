// Grids of which the same places are read more than once, so that they are decoded once.
#pragma once
#include <memory>
#include <mutex>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// What was read is kept, with a margin around, for places that are read several times, a little apart.
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

// A grid that is read from end to end first, in bands or windows, and then again here and there: the places that will
// be wanted are kept as they pass.
class KeptInPassing final : public GridSource {
 public:
  explicit KeptInPassing(Grid grid) : grid_(std::move(grid)) {}

  // From now on, the values of these places, as far as they lie in the frame and fit into `room` bytes, the first
  // first. Before any reading, and once.
  void keep(const std::vector<Window>& places, std::size_t room);
  // What was kept is dropped; not while anybody reads.
  void forget() { places_.clear(); }

  const GridInfo& info() const override { return grid_.info(); }
  bool carries_uncertainty() const override { return grid_.carries_uncertainty(); }
  void expect(const Window& w) const override { grid_.expect(w); }
  std::shared_ptr<const GridSource> half() const override;
  void read(const BlockView& out) const override;

 private:
  // A place is whole when each of its rows has passed, from end to end.
  struct Place {
    explicit Place(const Window& w)
        : window(w), values(static_cast<std::size_t>(w.cells())), passed(static_cast<std::size_t>(w.rows)) {}
    Window window;
    std::mutex mutex;
    std::vector<float> values;
    std::vector<bool> passed;
    std::int64_t missing = window.rows;
    void take(const BlockView& from);
    bool gives(const BlockView& out);
  };

  Grid grid_;
  std::vector<std::unique_ptr<Place>> places_;
};

}  // namespace katoptra
