// HGT: square one-degree tiles of big-endian 16-bit heights at nodes, placed by their name; the first row is the north
// edge, and neighbours share their border nodes. Heights are metres above EGM96, by the convention of the format.
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/cache.hpp"

#include "tiff_read.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kRowsPerBlock = 64;
constexpr double kHgtVoid = -32768;

std::optional<Point> corner_from(const std::string& name) {
  if (name.size() < 7) return std::nullopt;
  const char ns = static_cast<char>(std::toupper(name[0])), ew = static_cast<char>(std::toupper(name[3]));
  for (int i : {1, 2, 4, 5, 6})
    if (name[static_cast<std::size_t>(i)] < '0' || name[static_cast<std::size_t>(i)] > '9') return std::nullopt;
  if ((ns != 'N' && ns != 'S') || (ew != 'E' && ew != 'W') || (name.size() > 7 && name[7] != '.')) return std::nullopt;
  const double lat = std::stoi(name.substr(1, 2)), lon = std::stoi(name.substr(4, 3));
  if (lat > 90 || lon > 180) return std::nullopt;
  return Point{ew == 'W' ? -lon : lon, ns == 'S' ? -lat : lat};
}

class HgtSource final : public GridSource {
 public:
  HgtSource(std::shared_ptr<ByteSource> bytes, GridInfo info)
      : bytes_(std::move(bytes)), info_(std::move(info)), owner_(BlockCache::shared().new_owner()) {}
  ~HgtSource() override { BlockCache::shared().forget(owner_); }
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const std::int64_t cols = info_.frame.cols();
    for (std::int64_t r = 0; r < out.window.rows; ++r) {
      const std::int64_t row = out.window.row + r, block = row / kRowsPerBlock;
      const auto data =
          BlockCache::shared().get(owner_, static_cast<std::uint64_t>(block), [&] { return rows_of(block); });
      const std::uint8_t* from = data->data() + ((row % kRowsPerBlock) * cols + out.window.col) * 2;
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const auto v = static_cast<std::int16_t>(from[2 * c] << 8 | from[2 * c + 1]);
        out.row(r)[c] = v == -32768 ? kVoid : static_cast<float>(v);
        if (out.origin) out.origin_row(r)[c] = v == -32768 ? 0 : origin_code(1, How::Measured);
      }
    }
  }

 private:
  BlockCache::Bytes rows_of(std::int64_t block) const {
    const std::int64_t first = block * kRowsPerBlock, rows = std::min(kRowsPerBlock, info_.frame.rows() - first);
    BlockCache::Bytes bytes(static_cast<std::size_t>(rows * info_.frame.cols() * 2));
    bytes_->read_exactly(static_cast<std::uint64_t>(first * info_.frame.cols() * 2), bytes);
    return bytes;
  }

  std::shared_ptr<ByteSource> bytes_;
  GridInfo info_;
  std::uint64_t owner_;
};

}  // namespace

bool is_hgt_name(const std::string& name) { return corner_from(name).has_value(); }

GridFile open_hgt(const std::shared_ptr<ByteSource>& bytes, const std::string& name) {
  const auto corner = corner_from(name);
  if (!corner)
    throw Error(ErrorCode::BadFile, "an HGT tile is placed by its name, and this is none such as S38W032.hgt",
                bytes->name(), "give it the name it was published under");
  std::int64_t edge = 0;
  for (std::int64_t n : {1201, 3601})
    if (bytes->size() == static_cast<std::uint64_t>(n * n * 2)) edge = n;
  if (!edge)
    throw Error(ErrorCode::BadFile,
                fmt::format("an HGT tile has 1201 x 1201 or 3601 x 3601 heights of two bytes, and this has {} bytes",
                            bytes->size()),
                bytes->name(), "it is truncated or something else; fetch it again");
  GridFile out;
  const double step = 1.0 / static_cast<double>(edge - 1);
  GridInfo info;
  info.frame = NodeFrame{Crs::wgs84(), corner->x, corner->y + 1, {step, step}, edge, edge}.cells();
  info.quantity.heights = HeightReference::parse("EGM96");
  info.quantity.unit_known = true;
  info.type = SampleType::Int16;
  info.file_void = kHgtVoid;
  out.facts.format = "HGT";
  out.facts.bytes = bytes->size();
  out.facts.compression = "none";
  out.facts.layout = "rows";
  out.facts.pixel_is_point = true;
  out.grid = Grid(std::make_shared<HgtSource>(bytes, std::move(info)));
  return out;
}

}  // namespace katoptra
