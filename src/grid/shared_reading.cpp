#include "shared_reading.hpp"

#include <algorithm>
#include <utility>

namespace katoptra {
namespace {

bool covers(const Window& outer, const Window& inner) {
  return inner.col >= outer.col && inner.row >= outer.row && inner.col + inner.cols <= outer.col + outer.cols &&
         inner.row + inner.rows <= outer.row + outer.rows;
}

}  // namespace

class SharedReading::Source final : public GridSource {
 public:
  explicit Source(Grid surface) : surface_(std::move(surface)) {}
  const GridInfo& info() const override { return surface_.info(); }

  void read(const BlockView& out) const override {
    if (learning_) {
      seen_.push_back(out.window);
      for (std::int64_t r = 0; r < out.window.rows; ++r) {
        std::fill_n(out.row(r), out.window.cols, 0.0f);
        if (out.origin) std::fill_n(out.origin_row(r), out.window.cols, Origin{});
      }
      return;
    }
    if (const auto block = holding(out)) {
      const std::int64_t col = out.window.col - block->window().col, row = out.window.row - block->window().row;
      for (std::int64_t r = 0; r < out.window.rows; ++r) {
        std::copy_n(block->row(row + r) + col, out.window.cols, out.row(r));
        if (out.origin) std::copy_n(block->origin_row(row + r) + col, out.window.cols, out.origin_row(r));
      }
      return;
    }
    surface_.read_into(out);
  }

  void learn(const Grid& made, const Window& w) {
    learning_ = true;
    seen_.clear();
    try {
      made.read(w);
    } catch (...) {
      learning_ = false;
      throw;
    }
    learning_ = false;
    for (const Window& s : seen_)
      margin_ = std::max(
          {margin_, w.col - s.col, w.row - s.row, s.col + s.cols - w.col - w.cols, s.row + s.rows - w.row - w.rows});
  }

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
      if (covers(block->window(), out.window) && (!out.origin || block->origin_row(0))) return block;
    return nullptr;
  }

  Grid surface_;
  mutable std::shared_mutex mutex_;
  std::vector<std::shared_ptr<const Block>> held_;
  std::int64_t margin_ = 0;
  bool learning_ = false;  // on one thread, before any hold
  mutable std::vector<Window> seen_;
};

SharedReading::SharedReading(const Grid& surface) : source_(std::make_shared<Source>(surface)), grid_(source_) {}

void SharedReading::learn(const Grid& made, const Window& w) { source_->learn(made, w); }

std::unique_ptr<SharedReading::Hold> SharedReading::hold(const Window& w, Planes planes) {
  return std::make_unique<Hold>(source_, source_->take(w, planes));
}

SharedReading::Hold::Hold(std::shared_ptr<Source> source, std::shared_ptr<const Block> block)
    : source_(std::move(source)), block_(std::move(block)) {}
SharedReading::Hold::~Hold() { source_->drop(block_); }

}  // namespace katoptra
