#include "shared_reading.hpp"

#include <algorithm>
#include <utility>

namespace katoptra {
namespace {

bool covers(const Window& outer, const Window& inner) {
  return inner.col >= outer.col && inner.row >= outer.row && inner.col + inner.cols <= outer.col + outer.cols &&
         inner.row + inner.rows <= outer.row + outer.rows;
}

// A surface without any relief, which remembers where it was read.
class Level final : public GridSource {
 public:
  explicit Level(GridInfo info) : info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    seen.push_back(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      std::fill_n(out.row(r), out.window.cols, 0.0f);
      if (out.origin) std::fill_n(out.origin_row(r), out.window.cols, Origin{});
    }
  }
  mutable std::vector<Window> seen;  // on one thread

 private:
  GridInfo info_;
};

}  // namespace

class SharedReading::Source final : public GridSource {
 public:
  explicit Source(Grid surface) : surface_(std::move(surface)) {}
  const GridInfo& info() const override { return surface_.info(); }
  bool carries_uncertainty() const override { return surface_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    if (const auto block = holding(out)) {
      const std::int64_t col = out.window.col - block->window().col, row = out.window.row - block->window().row;
      for (std::int64_t r = 0; r < out.window.rows; ++r) {
        std::copy_n(block->row(row + r) + col, out.window.cols, out.row(r));
        if (out.origin) std::copy_n(block->origin_row(row + r) + col, out.window.cols, out.origin_row(r));
        if (out.uncertainty)
          std::copy_n(block->uncertainty_row(row + r) + col, out.window.cols, out.uncertainty_row(r));
      }
      return;
    }
    surface_.read_into(out);
  }

  void reach(std::int64_t margin) { margin_ = std::max(margin_, margin); }

  std::shared_ptr<const Block> take(const Window& w, Planes planes) {
    // What looks at everything is better served by itself.
    constexpr std::int64_t kFarthest = 2048;
    const Window wide = w.grown(margin_ <= kFarthest ? margin_ : 0).intersected(surface_.frame().window());
    auto block = std::make_shared<const Block>(surface_.read(wide, planes));
    const std::unique_lock lock(mutex_);
    held_.push_back(block);
    return block;
  }
  void drop(const std::shared_ptr<const Block>& block) {
    const std::unique_lock lock(mutex_);
    held_.erase(std::find(held_.begin(), held_.end(), block));
  }

 private:
  std::shared_ptr<const Block> holding(const BlockView& out) const {
    const std::shared_lock lock(mutex_);
    for (const auto& block : held_)
      if (covers(block->window(), out.window) && (!out.origin || block->origin_row(0)) &&
          (!out.uncertainty || block->uncertainty_row(0)))
        return block;
    return nullptr;
  }

  Grid surface_;
  mutable std::shared_mutex mutex_;
  std::vector<std::shared_ptr<const Block>> held_;
  std::int64_t margin_ = 0;
};

SharedReading::SharedReading(const Grid& surface) : source_(std::make_shared<Source>(surface)), grid_(source_) {}

void SharedReading::learn(const std::function<Grid(const Grid&)>& make, const Window& w) {
  const auto level = std::make_shared<Level>(grid_.info());
  const Grid made = make(Grid(level));
  made.read(w);
  level->seen.clear();
  made.read(w);
  for (const Window& s : level->seen)
    source_->reach(
        std::max({w.col - s.col, w.row - s.row, s.col + s.cols - w.col - w.cols, s.row + s.rows - w.row - w.rows}));
}

std::unique_ptr<SharedReading::Hold> SharedReading::hold(const Window& w, Planes planes) {
  return std::make_unique<Hold>(source_, source_->take(w, planes));
}

SharedReading::Hold::Hold(std::shared_ptr<Source> source, std::shared_ptr<const Block> block)
    : source_(std::move(source)), block_(std::move(block)) {}
SharedReading::Hold::~Hold() { source_->drop(block_); }

}  // namespace katoptra
