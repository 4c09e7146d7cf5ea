#include <algorithm>

#include "base/pool.hpp"
#include "formats/rows_source.hpp"
#include "tiff_handle.hpp"

namespace katoptra::tiff {
namespace {

// Decodes bands of a mask; every thread has a handle of its own.
class MaskRows {
 public:
  MaskRows(std::shared_ptr<ByteSource> bytes, std::uint16_t directory, const Frame& frame)
      : bytes_(std::move(bytes)), directory_(directory), cols_(frame.cols()), handles_(std::make_shared<Handles>()) {
    std::unique_ptr<Handle> h = open();
    bits_ = h->field<std::uint16_t>(TIFFTAG_BITSPERSAMPLE, 1);
    tiled_ = TIFFIsTiled(h->get()) != 0;
    block_cols_ = tiled_ ? h->field<std::uint32_t>(TIFFTAG_TILEWIDTH, 0) : cols_;
    block_rows_ =
        tiled_ ? h->field<std::uint32_t>(TIFFTAG_TILELENGTH, 0)
               : std::min<std::int64_t>(frame.rows(), h->field<std::uint32_t>(TIFFTAG_ROWSPERSTRIP, 0xffffffffu));
    inverted_ = h->field<std::uint16_t>(TIFFTAG_PHOTOMETRIC, 4) == PHOTOMETRIC_MINISWHITE;
    if ((bits_ != 1 && bits_ != 8) || h->field<std::uint16_t>(TIFFTAG_SAMPLESPERPIXEL, 1) != 1 || block_cols_ <= 0 ||
        block_rows_ <= 0 || block_cols_ > (1 << 20) || block_rows_ * row_bytes() > (1 << 28))
      throw Error(ErrorCode::Unsupported, "has a mask of an unusual kind", bytes_->name(),
                  "convert it to one with a void value");
    handles_->give(std::move(h));
  }
  std::int64_t block_rows() const { return block_rows_; }

  BlockCache::Bytes operator()(std::int64_t first, std::int64_t rows) const {
    BlockCache::Bytes out(static_cast<std::size_t>(rows * cols_), 0);
    std::vector<std::uint8_t> raw(static_cast<std::size_t>(block_rows_ * row_bytes()));
    const std::int64_t across = (cols_ + block_cols_ - 1) / block_cols_;
    std::unique_ptr<Handle> h = handles_->take([&] { return open(); });
    for (std::int64_t b = 0; b < across; ++b) {
      const auto index = static_cast<std::uint32_t>(first / block_rows_ * across + b);
      const auto size = static_cast<tmsize_t>((tiled_ ? block_rows_ : rows) * row_bytes());
      const tmsize_t got = tiled_ ? TIFFReadEncodedTile(h->get(), index, raw.data(), size)
                                  : TIFFReadEncodedStrip(h->get(), index, raw.data(), size);
      if (got != size) throw Error(ErrorCode::BadFile, "its mask ends early", bytes_->name(), "fetch it again");
      for (std::int64_t r = 0; r < rows; ++r)
        unpack(raw.data() + r * row_bytes(), b * block_cols_, out.data() + r * cols_);
    }
    handles_->give(std::move(h));
    return out;
  }

 private:
  using Handles = Pool<std::unique_ptr<Handle>>;
  std::int64_t row_bytes() const { return (block_cols_ * bits_ + 7) / 8; }
  std::unique_ptr<Handle> open() const {
    auto h = std::make_unique<Handle>(bytes_);
    if (!TIFFSetDirectory(h->get(), directory_))
      throw Error(ErrorCode::BadFile, "its mask cannot be read: " + h->message("damaged"), bytes_->name(),
                  "fetch it again");
    return h;
  }
  // A row of a block that begins at column `first`, into the row of the band.
  void unpack(const std::uint8_t* row, std::int64_t first, std::uint8_t* to) const {
    for (std::int64_t i = 0; i < std::min(block_cols_, cols_ - first); ++i) {
      const bool set = bits_ == 8 ? row[i] != 0 : (row[i / 8] >> (7 - i % 8) & 1) != 0;
      to[first + i] = set != inverted_ ? 1 : 0;
    }
  }

  std::shared_ptr<ByteSource> bytes_;
  std::uint16_t directory_;
  std::int64_t cols_, block_cols_ = 0, block_rows_ = 0;
  int bits_ = 1;
  bool tiled_ = false, inverted_ = false;
  std::shared_ptr<Handles> handles_;
};

}  // namespace

Grid open_mask(const std::shared_ptr<ByteSource>& bytes, std::uint16_t directory, const Frame& frame) {
  GridInfo info;
  info.frame = frame;
  MaskRows rows(bytes, directory, frame);
  const std::int64_t block_rows = rows.block_rows();
  return grid_of_rows(std::move(info), {.type = SampleType::UInt8, .hole = {}}, block_rows, std::move(rows));
}

}  // namespace katoptra::tiff
