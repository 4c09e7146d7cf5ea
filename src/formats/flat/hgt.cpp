// HGT: one-degree tiles of big-endian 16-bit heights at nodes, placed by their name; the first row is the north edge,
// and neighbours share their border nodes. North of 50 degrees tiles of one second have half as many columns. Heights
// are metres above EGM96, by the convention of the format.
#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"

#include "formats/flat/whole_metres.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "formats/tiff/tiff_codec.hpp"
#include "formats/writers.hpp"

namespace katoptra {
namespace {

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

// Nodes of a tile.
struct TileNodes {
  std::int64_t cols = 0, rows = 0;
};
constexpr TileNodes kTileKinds[] = {{1201, 1201}, {3601, 3601}, {1801, 3601}};

Frame tile_frame(Point corner, const TileNodes& n) {
  return NodeFrame{Crs::wgs84(), corner.x,
                   corner.y + 1, {1.0 / static_cast<double>(n.cols - 1), 1.0 / static_cast<double>(n.rows - 1)},
                   n.cols,       n.rows}
      .cells();
}

}  // namespace

bool is_hgt_name(const std::string& name) { return corner_from(name).has_value(); }

GridFile open_hgt(const Located& file) {
  const auto corner = corner_from(file.name);
  const std::shared_ptr<ByteSource> bytes = file.bytes;
  if (!corner)
    throw Error(ErrorCode::BadFile, "an HGT tile is placed by its name, and this is none such as S38W032.hgt",
                bytes->name(), "give it the name it was published under");
  TileNodes nodes;
  for (const TileNodes& n : kTileKinds)
    if (bytes->size() == static_cast<std::uint64_t>(n.cols * n.rows * 2)) nodes = n;
  if (nodes.cols == 0)
    throw Error(
        ErrorCode::BadFile,
        fmt::format("an HGT tile has 1201 x 1201, 3601 x 3601 or 1801 x 3601 heights of two bytes, and this has "
                    "{} bytes",
                    bytes->size()),
        bytes->name(), "it is truncated or something else; fetch it again");
  GridFile out;
  GridInfo info;
  info.frame = tile_frame(*corner, nodes);
  info.quantity.heights = HeightReference::parse("EGM96");
  info.quantity.unit_known = true;
  const SampleRule rule{.type = SampleType::Int16, .hole = kHgtVoid};
  describe_samples(rule, info);
  out.facts.format = "HGT";
  out.facts.layout = "rows";
  out.facts.pixel_is_point = true;
  out.grid = grid_of_rows(std::move(info), rule, 64, [bytes, cols = nodes.cols](std::int64_t first, std::int64_t rows) {
    BlockCache::Bytes out_rows(static_cast<std::size_t>(rows * cols * 2), 0);
    bytes->read_exactly(static_cast<std::uint64_t>(first * cols * 2), out_rows);
    tiff::swap_samples(out_rows.data(), out_rows.size() / 2, 2);
    return out_rows;
  });
  return out;
}

Frame hgt_tile_frame(const std::filesystem::path& path, Length spacing) {
  const auto corner = corner_from(path.filename().string());
  if (!corner)
    throw Error(ErrorCode::BadArgument, "an HGT tile is placed by its name, and this is none such as S38W032.hgt",
                path.string(), "name it after its south-west corner");
  return tile_frame(*corner, spacing < Length::metres(62) ? kTileKinds[1] : kTileKinds[0]);
}

// ------------------------------------------------------------------------------------------------------- writing

namespace {

class HgtWriter final : public RowWriter {
 public:
  HgtWriter(const std::filesystem::path& path, const WriteOptions& options)
      : file_(path.string()), sink_(create_file(path, {.overwrite = options.overwrite})) {}
  std::vector<std::uint8_t> encode(const Block& rows) const override {
    const auto n = static_cast<std::size_t>(rows.window().cells());
    std::vector<std::uint8_t> out(n * 2);
    floats_to_samples(rows.row(0), n, {SampleType::Int16, kHgtVoid}, out.data(), file_);
    tiff::swap_samples(out.data(), n, 2);
    return out;
  }
  void place(const Window&, std::span<const std::uint8_t> bytes) override {
    sink_->write_at(at_, bytes);
    at_ += bytes.size();
  }
  void finish(WriteReport& report) override {
    sink_->commit();
    report.bytes = at_;
    report.format = "HGT";
  }

 private:
  std::string file_;
  std::unique_ptr<ByteSink> sink_;
  std::uint64_t at_ = 0;
};

// The grid as a tile can hold it; Refused, with the way out, when it cannot.
Grid fit_for_hgt(const Grid& grid, const std::filesystem::path& path) {
  const std::string file = path.string();
  require_metres_above(grid, HeightReference::parse("EGM96"), "an HGT tile", file);
  const auto corner = corner_from(path.filename().string());
  hgt_tile_frame(path, {});  // refuses a name that is none
  for (const TileNodes& nodes : kTileKinds) {
    const Frame tile = tile_frame(*corner, nodes);
    const auto window = grid.frame().window_of(tile);
    if (!window || window->intersected(grid.frame().window()).empty()) continue;
    return in_whole_metres(cut(grid, *window), kHgtVoid, "HGT");
  }
  throw Error(
      ErrorCode::Refused,
      "its cells are not those of the tile: an HGT tile has nodes every 1 or 3 seconds of longitude and latitude "
      "(WGS 84)",
      file, fmt::format("move it there: katoptra reproject IN -o {}", path.filename().string()));
}

}  // namespace

WriteReport write_hgt(const Grid& given, const std::filesystem::path& path, const WriteOptions& options) {
  const Grid grid = fit_for_hgt(given, path);
  const StoredAs as = stored_plainly(grid.info(), options, path.string());
  return write_rows(grid, path, options, as, std::make_unique<HgtWriter>(path, options));
}

}  // namespace katoptra
