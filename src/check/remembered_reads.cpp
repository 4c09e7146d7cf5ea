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

}  // namespace katoptra
