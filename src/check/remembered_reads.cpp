#include "remembered_reads.hpp"

#include <algorithm>

namespace katoptra {

std::shared_ptr<const Block> RememberedReads::around(const Window& w) const {
  const std::lock_guard lock(mutex_);
  const auto found = std::find_if(blocks_.begin(), blocks_.end(),
                                  [&](const auto& block) { return w.intersected(block->window()) == w; });
  return found == blocks_.end() ? nullptr : *found;
}

bool RememberedReads::has_room_for(const Window& w) const {
  const std::size_t bytes = static_cast<std::size_t>(w.cells()) * sizeof(float);
  const std::lock_guard lock(mutex_);
  if (bytes > room_ - bytes_) return false;
  bytes_ += bytes;
  return true;
}

void RememberedReads::read(const BlockView& out) const {
  std::shared_ptr<const Block> block = out.planes() == Planes::Values ? around(out.window) : nullptr;
  if (!block) {
    const Window wide = out.window.grown(margin_).intersected(info().frame.window());
    if (out.planes() != Planes::Values || !has_room_for(wide)) return grid_.read_into(out);
    block = std::make_shared<const Block>(grid_.read(wide));
    const std::lock_guard lock(mutex_);
    blocks_.push_back(block);
  }
  const Window& from = block->window();
  for (std::int64_t r = 0; r < out.window.rows; ++r)
    std::copy_n(block->row(out.window.row - from.row + r) + out.window.col - from.col, out.window.cols, out.row(r));
}

std::size_t RememberedReads::kept() const {
  const std::lock_guard lock(mutex_);
  return bytes_;
}

// ------------------------------------------------------------------------------------------------- kept in passing

void KeptInPassing::keep(const std::vector<Window>& places, std::size_t room) {
  for (const Window& place : places) {
    const Window w = place.intersected(info().frame.window());
    const std::size_t bytes = static_cast<std::size_t>(w.cells()) * sizeof(float);
    if (w.empty() || bytes > room) continue;
    room -= bytes;
    places_.push_back(std::make_unique<Place>(w));
  }
}

std::shared_ptr<const GridSource> KeptInPassing::half() const {
  const auto grid = grid_.half();
  return grid ? std::make_shared<KeptInPassing>(*grid) : nullptr;
}

void KeptInPassing::read(const BlockView& out) const {
  if (out.planes() == Planes::Values)
    for (const auto& place : places_)
      if (place->window.contains(out.window) && place->gives(out)) return;
  grid_.read_into(out);
  for (const auto& place : places_)
    if (const Window w = out.window.intersected(place->window); !w.empty() && w.cols == place->window.cols)
      place->take(out);
}

void KeptInPassing::Place::take(const BlockView& from) {
  const Window shared = from.window.intersected(window);
  const std::lock_guard lock(mutex);
  for (std::int64_t row = shared.row; row < shared.row + shared.rows; ++row) {
    const std::int64_t r = row - window.row;
    if (passed[static_cast<std::size_t>(r)]) continue;
    passed[static_cast<std::size_t>(r)] = true;
    --missing;
    std::copy_n(from.row(row - from.window.row) + window.col - from.window.col, window.cols,
                values.begin() + r * window.cols);
  }
}

bool KeptInPassing::Place::gives(const BlockView& out) {
  const std::lock_guard lock(mutex);
  if (missing > 0) return false;
  for (std::int64_t r = 0; r < out.window.rows; ++r)
    std::copy_n(values.begin() + (out.window.row + r - window.row) * window.cols + out.window.col - window.col,
                out.window.cols, out.row(r));
  return true;
}

}  // namespace katoptra
