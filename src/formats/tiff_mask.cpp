#include <algorithm>
#include <mutex>

#include "rows_source.hpp"
#include "tiff_handle.hpp"

namespace katoptra::tiff {

Grid open_mask(const std::shared_ptr<ByteSource>& bytes, std::uint16_t directory, const Frame& frame) {
  const std::string& name = bytes->name();
  const auto open = [bytes, directory, name] {
    auto h = std::make_shared<Handle>(bytes);
    if (!TIFFSetDirectory(h->get(), directory))
      throw Error(ErrorCode::BadFile, "its mask cannot be read: " + h->message("damaged"), name, "fetch it again");
    return h;
  };
  const auto first = open();
  const auto bits = first->field<std::uint16_t>(TIFFTAG_BITSPERSAMPLE, 1);
  const bool tiled = TIFFIsTiled(first->get()) != 0;
  const std::int64_t cols = frame.cols(), rows = frame.rows();
  const std::int64_t block_cols = tiled ? first->field<std::uint32_t>(TIFFTAG_TILEWIDTH, 0) : cols,
                     block_rows = tiled ? first->field<std::uint32_t>(TIFFTAG_TILELENGTH, 0)
                                        : std::min<std::int64_t>(
                                              rows, first->field<std::uint32_t>(TIFFTAG_ROWSPERSTRIP, 0xffffffffu));
  if ((bits != 1 && bits != 8) || first->field<std::uint16_t>(TIFFTAG_SAMPLESPERPIXEL, 1) != 1 || block_cols <= 0 ||
      block_rows <= 0 || block_cols > (1 << 20) || block_rows * ((block_cols * bits + 7) / 8) > (1 << 28))
    throw Error(ErrorCode::Unsupported, "has a mask of an unusual kind", name, "convert it to one with a void value");
  GridInfo info;
  info.frame = frame;
  const std::int64_t row_bytes = (block_cols * bits + 7) / 8;
  const bool inverted = first->field<std::uint16_t>(TIFFTAG_PHOTOMETRIC, 4) == PHOTOMETRIC_MINISWHITE;
  auto lock = std::make_shared<std::mutex>();
  return grid_of_rows(info, {.type = SampleType::UInt8, .hole = {}}, block_rows,
                      [=](std::int64_t from, std::int64_t n) {
                        const std::lock_guard guard(*lock);
                        BlockCache::Bytes out(static_cast<std::size_t>(n * cols));
                        std::vector<std::uint8_t> raw(static_cast<std::size_t>(block_rows * row_bytes));
                        const std::int64_t across = (cols + block_cols - 1) / block_cols, band = from / block_rows;
                        for (std::int64_t b = 0; b < across; ++b) {
                          const auto index = static_cast<std::uint32_t>(band * across + b);
                          const auto size = static_cast<tmsize_t>((tiled ? block_rows : n) * row_bytes);
                          const tmsize_t got = tiled ? TIFFReadEncodedTile(first->get(), index, raw.data(), size)
                                                     : TIFFReadEncodedStrip(first->get(), index, raw.data(), size);
                          if (got != size)
                            throw Error(ErrorCode::BadFile, "its mask ends early", name, "fetch it again");
                          for (std::int64_t r = 0; r < n; ++r)
                            for (std::int64_t c = b * block_cols; c < std::min(cols, (b + 1) * block_cols); ++c) {
                              const std::int64_t i = c - b * block_cols;
                              const std::uint8_t* row = raw.data() + r * row_bytes;
                              const bool set = bits == 8 ? row[i] != 0 : (row[i / 8] >> (7 - i % 8) & 1) != 0;
                              out[static_cast<std::size_t>(r * cols + c)] = set != inverted ? 1 : 0;
                            }
                        }
                        return out;
                      });
}

}  // namespace katoptra::tiff
