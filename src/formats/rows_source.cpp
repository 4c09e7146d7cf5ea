#include "rows_source.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

namespace katoptra {
namespace {

void mark_measured(const BlockView& out) {
  if (!out.origin) return;
  for (std::int64_t r = 0; r < out.window.rows; ++r)
    for (std::int64_t c = 0; c < out.window.cols; ++c)
      out.origin_row(r)[c] = std::isnan(out.row(r)[c]) ? 0 : origin_code(1, How::Measured);
}

class RowsSource final : public GridSource {
 public:
  RowsSource(GridInfo info, const SampleRule& rule, std::int64_t rows_per_block, DecodeRows decode)
      : info_(std::move(info)),
        rule_(rule),
        rows_per_block_(rows_per_block),
        decode_(std::move(decode)),
        owner_(BlockCache::shared().new_owner()) {}
  ~RowsSource() override { BlockCache::shared().forget(owner_); }
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const std::int64_t cols = info_.frame.cols(), bytes = bytes_per_sample(rule_.type);
    BlockCache::Entry data;
    std::int64_t held = -1;
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      const std::int64_t row = out.window.row + r, block = row / rows_per_block_;
      if (block != held)
        data = BlockCache::shared().get(owner_, static_cast<std::uint64_t>(block), [&] {
          const std::int64_t first = block * rows_per_block_;
          return decode_(first, std::min(rows_per_block_, info_.frame.rows() - first));
        });
      held = block;
      samples_to_floats(rule_, data->data() + ((row - block * rows_per_block_) * cols + out.window.col) * bytes, 1,
                        out.window.cols, out.row(r));
    }
    mark_measured(out);
  }

 private:
  GridInfo info_;
  SampleRule rule_;
  std::int64_t rows_per_block_;
  DecodeRows decode_;
  std::uint64_t owner_;
};

class MaskedSource final : public GridSource {
 public:
  MaskedSource(Grid input, Grid keep) : input_(std::move(input)), keep_(std::move(keep)) {}
  const GridInfo& info() const override { return input_.info(); }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Block keep = keep_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c)
        if (!(keep.at(c, r) != 0) || std::isnan(keep.at(c, r))) out.blank(c, r);
  }

 private:
  Grid input_, keep_;
};

}  // namespace

std::int64_t convenient_rows(std::int64_t cols, SampleType type) {
  return std::clamp<std::int64_t>((1 << 20) / (cols * bytes_per_sample(type)), 1, 1024);
}

std::int64_t rows_of_chunks(std::int64_t chunk, std::int64_t cols, SampleType type) {
  const std::int64_t rows = convenient_rows(cols, type);
  if (chunk <= 0 || chunk * cols * bytes_per_sample(type) >= (std::int64_t{64} << 20)) return rows;
  return std::max<std::int64_t>(1, (rows + chunk - 1) / chunk) * chunk;
}

void try_blocks(std::int64_t cols, std::int64_t rows, SampleType type, std::int64_t rows_per_block,
                const DecodeRows& decode) {
  constexpr std::int64_t kFew = std::int64_t{64} << 20;
  const std::int64_t blocks = (rows + rows_per_block - 1) / rows_per_block;
  const bool all = static_cast<double>(cols) * static_cast<double>(rows) * bytes_per_sample(type) <= kFew;
  const auto one = [&](std::int64_t b) {
    decode(b * rows_per_block, std::min(rows_per_block, rows - b * rows_per_block));
  };
  if (all) {
    for (std::int64_t b = 0; b < blocks; ++b) one(b);
    return;
  }
  for (std::int64_t b : {std::int64_t{0}, blocks / 2, blocks - 1}) one(b);
}

Grid grid_of_rows(GridInfo info, const SampleRule& rule, std::int64_t rows_per_block, DecodeRows decode) {
  return Grid(std::make_shared<RowsSource>(std::move(info), rule, rows_per_block, std::move(decode)));
}
Grid masked(const Grid& grid, const Grid& keep) { return Grid(std::make_shared<MaskedSource>(grid, keep)); }

}  // namespace katoptra
