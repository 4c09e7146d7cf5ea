// HGT: square one-degree tiles of big-endian 16-bit heights at nodes, placed by their name; the first row is the north
// edge, and neighbours share their border nodes. Heights are metres above EGM96, by the convention of the format.
#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <utility>

#include "katoptra/base/error.hpp"

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

Frame tile_frame(Point corner, std::int64_t edge) {
  const double step = 1.0 / static_cast<double>(edge - 1);
  return NodeFrame{Crs::wgs84(), corner.x, corner.y + 1, {step, step}, edge, edge}.cells();
}

}  // namespace

bool is_hgt_name(const std::string& name) { return corner_from(name).has_value(); }

GridFile open_hgt(const Located& file) {
  const auto corner = corner_from(file.name);
  const std::shared_ptr<ByteSource> bytes = file.bytes;
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
  GridInfo info;
  info.frame = tile_frame(*corner, edge);
  info.quantity.heights = HeightReference::parse("EGM96");
  info.quantity.unit_known = true;
  const SampleRule rule{.type = SampleType::Int16, .hole = kHgtVoid};
  describe_samples(rule, info);
  out.facts.format = "HGT";
  out.facts.layout = "rows";
  out.facts.pixel_is_point = true;
  out.grid = grid_of_rows(std::move(info), rule, 64, [bytes, edge](std::int64_t first, std::int64_t rows) {
    BlockCache::Bytes out_rows(static_cast<std::size_t>(rows * edge * 2));
    bytes->read_exactly(static_cast<std::uint64_t>(first * edge * 2), out_rows);
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
  return tile_frame(*corner, spacing < Length::metres(62) ? 3601 : 1201);
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

class RoundedSource final : public GridSource {
 public:
  RoundedSource(Grid input, GridInfo info) : input_(std::move(input)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(r)[c] = std::nearbyint(out.row(r)[c]);
  }

 private:
  Grid input_;
  GridInfo info_;
};

// The grid as a tile can hold it; Refused, with the way out, when it cannot.
Grid fit_for_hgt(const Grid& grid, const std::filesystem::path& path) {
  const std::string file = path.string();
  const Quantity& q = grid.quantity();
  if (q.kind != QuantityKind::Height || q.unit != LengthUnit::Metre ||
      (q.heights.known() && !(q.heights == HeightReference::parse("EGM96"))))
    throw Error(ErrorCode::Refused,
                fmt::format("an HGT tile holds metres above EGM96, and these are {} in {} above {}", name_of(q.kind),
                            unit_name(q), q.heights.name()),
                file, "convert with --heights EGM96 --unit m, or choose another format");
  for (const Length spacing : {Length::metres(30), Length::metres(90)}) {
    const Frame tile = hgt_tile_frame(path, spacing);
    const auto window = grid.frame().window_of(tile);
    if (!window || window->intersected(grid.frame().window()).empty()) continue;
    const Grid part = cut(grid, *window);
    GridInfo info = part.info();
    const bool whole = is_integer(info.type);
    info.type = SampleType::Int16;
    info.file_void = kHgtVoid;
    if (whole) return relabelled(part, [&](GridInfo& i) { i = info; });
    info.notes.push_back("heights were rounded to whole metres, as HGT has them");
    return Grid(std::make_shared<RoundedSource>(part, std::move(info)));
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
