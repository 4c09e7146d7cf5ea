// Tiled gridded coverages of GeoPackage (OGC 17-066r1): tiles of a pyramid in an SQLite table, integers as 16-bit PNG,
// floats as TIFF. Values are sample x scale + offset, of the tile and then of the coverage. The finest level that has
// tiles is read; tiles that are not there are voids. A cell's value is that of its middle, or of its lower left corner
// where the coverage says "corner" (as OGC CDB has it, which that word is for).
#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <mutex>
#include <png.h>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/surface/clip.hpp"

#include "base/sqlite.hpp"
#include "base/text.hpp"
#include "formats/hdf5/container.hpp"
#include "formats/readers.hpp"
#include "formats/vector/geopackage.hpp"

namespace katoptra {
namespace {

using Head = std::span<const std::uint8_t>;
constexpr const char* kCoverages = "gpkg_2d_gridded_coverage_ancillary";
constexpr const char* kTiles = "gpkg_2d_gridded_tile_ancillary";
constexpr std::int64_t kWidestTile = 16'384;

bool has_table(const Sql& sql, const char* name) {
  SqlQuery q = sql.query("SELECT 1 FROM sqlite_master WHERE name = ?");
  return q.bind(1, std::string_view(name)).step();
}

std::unique_ptr<Sql> opened(const Located& file) {
  const std::string name = file.bytes->name();
  auto sql = !file.path.empty() && std::filesystem::is_regular_file(file.path)
                 ? std::make_unique<Sql>(file.path, Sql::Mode::ReadOnly, name)
                 : std::make_unique<Sql>(container_bytes(file), name);
  sql->run("PRAGMA trusted_schema = OFF");
  return sql;
}

// ---- tiles

struct SampleScale {
  double scale = 1, offset = 0;
  double of(double v) const { return v * scale + offset; }
};

[[noreturn]] void refuse_tile(const std::string& file, const std::string& why) {
  throw Error(ErrorCode::BadFile, "a tile of the coverage " + why, file, "get another copy");
}

// The samples of a grey PNG of 16 bits.
class PngTile {
 public:
  PngTile(std::string_view bytes, const std::string& file) : left_(bytes), file_(file) {
    png_ = png_create_read_struct(
        PNG_LIBPNG_VER_STRING, this,
        [](png_structp p, png_const_charp why) {
          refuse_tile(static_cast<const PngTile*>(png_get_error_ptr(p))->file_, fmt::format("is damaged: {}", why));
        },
        [](png_structp, png_const_charp) {});
    if (png_) info_ = png_create_info_struct(png_);
    if (!info_) {
      png_destroy_read_struct(&png_, nullptr, nullptr);
      throw Error(ErrorCode::TooLarge, "no memory for a tile", file_);
    }
  }
  PngTile(const PngTile&) = delete;
  PngTile& operator=(const PngTile&) = delete;
  ~PngTile() { png_destroy_read_struct(&png_, &info_, nullptr); }

  std::vector<std::uint16_t> samples(std::int64_t cols, std::int64_t rows) {
    png_set_read_fn(png_, this, [](png_structp p, png_bytep out, png_size_t n) {
      auto* self = static_cast<PngTile*>(png_get_io_ptr(p));
      if (n > self->left_.size()) png_error(p, "it ends early");
      std::memcpy(out, self->left_.data(), n);
      self->left_.remove_prefix(n);
    });
    png_set_user_limits(png_, static_cast<png_uint_32>(kWidestTile), static_cast<png_uint_32>(kWidestTile));
    png_read_info(png_, info_);
    if (png_get_image_width(png_, info_) != static_cast<png_uint_32>(cols) ||
        png_get_image_height(png_, info_) != static_cast<png_uint_32>(rows))
      refuse_tile(file_, fmt::format("is not {} x {} samples large", cols, rows));
    if (png_get_color_type(png_, info_) != PNG_COLOR_TYPE_GRAY || png_get_bit_depth(png_, info_) != 16)
      refuse_tile(file_, "is no PNG of grey samples of 16 bits");
    if (std::endian::native == std::endian::little) png_set_swap(png_);
    png_set_interlace_handling(png_);
    png_read_update_info(png_, info_);
    std::vector<std::uint16_t> out(static_cast<std::size_t>(cols * rows));
    std::vector<png_bytep> lines;
    for (std::int64_t r = 0; r < rows; ++r) lines.push_back(reinterpret_cast<png_bytep>(out.data() + r * cols));
    png_read_image(png_, lines.data());
    return out;
  }

 private:
  std::string_view left_;
  const std::string& file_;
  png_structp png_ = nullptr;
  png_infop info_ = nullptr;
};

struct Pyramid {
  std::string table;
  std::int64_t zoom = 0, tile_cols = 0, tile_rows = 0;
  std::int64_t first_col = 0, last_col = 0, first_row = 0, last_row = 0;  // tiles that are there
  Frame frame;                                                            // of all of those
  bool integers = false;
  std::optional<double> hole;
  SampleScale scale;
};

class CoverageSource final : public GridSource {
 public:
  CoverageSource(std::unique_ptr<Sql> sql, Pyramid pyramid, GridInfo info)
      : sql_(std::move(sql)),
        pyramid_(std::move(pyramid)),
        info_(std::move(info)),
        scaled_tiles_(has_table(*sql_, kTiles)),
        owner_(BlockCache::shared().new_owner()) {}
  ~CoverageSource() override { BlockCache::shared().forget(owner_); }
  CoverageSource(const CoverageSource&) = delete;
  CoverageSource& operator=(const CoverageSource&) = delete;
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const std::int64_t wide = pyramid_.tile_cols, high = pyramid_.tile_rows;
    for (std::int64_t row = w.row / high; row * high < w.row + w.rows; ++row)
      for (std::int64_t col = w.col / wide; col * wide < w.col + w.cols; ++col)
        put(col, row, Window{col * wide, row * high, wide, high}.intersected(w), out);
  }

 private:
  void put(std::int64_t col, std::int64_t row, const Window& part, const BlockView& out) const {
    const std::int64_t across = pyramid_.last_col - pyramid_.first_col + 1;
    const BlockCache::Entry tile = BlockCache::shared().get(owner_, static_cast<std::uint64_t>(row * across + col),
                                                            [&] { return decoded(col, row); });
    const auto* values = reinterpret_cast<const float*>(tile->data());
    const BlockView to = out.part(part);
    for (std::int64_t r = 0; r < part.rows; ++r) {
      const std::int64_t at =
          (part.row + r - row * pyramid_.tile_rows) * pyramid_.tile_cols + part.col - col * pyramid_.tile_cols;
      for (std::int64_t c = 0; c < part.cols; ++c) {
        const float z = tile->empty() ? kVoid : values[at + c];
        to.row(r)[c] = z;
        if (to.origin) to.origin_row(r)[c] = std::isnan(z) ? 0 : origin_code(1, How::Measured);
      }
    }
  }

  struct Stored {
    std::string bytes;
    SampleScale scale;
  };
  // Nothing where there is no such tile. The database serves one thread at a time.
  std::optional<Stored> stored(std::int64_t col, std::int64_t row) const {
    const std::lock_guard lock(mutex_);
    SqlQuery q = sql_->query(
        fmt::format("SELECT id, tile_data FROM {} WHERE zoom_level = ? AND tile_column = ? AND tile_row = ?",
                    sql_name(pyramid_.table)));
    q.bind(1, pyramid_.zoom).bind(2, pyramid_.first_col + col).bind(3, pyramid_.first_row + row);
    if (!q.step()) return std::nullopt;
    Stored s{std::string(q.blob(1)), {}};
    if (!scaled_tiles_) return s;
    SqlQuery t = sql_->query(fmt::format("SELECT scale, offset FROM {} WHERE tpudt_name = ? AND tpudt_id = ?", kTiles));
    t.bind(1, std::string_view(pyramid_.table)).bind(2, q.integer(0));
    if (t.step()) s.scale = {t.real(0), t.real(1)};
    return s;
  }

  BlockCache::Bytes decoded(std::int64_t col, std::int64_t row) const {
    const auto tile = stored(col, row);
    if (!tile) return {};
    const auto n = static_cast<std::size_t>(pyramid_.tile_cols * pyramid_.tile_rows);
    BlockCache::Bytes bytes(n * sizeof(float), 0);
    auto* out = reinterpret_cast<float*>(bytes.data());
    const auto put = [&](std::size_t i, double sample) {
      const bool hole = std::isnan(sample) || (pyramid_.hole && sample == *pyramid_.hole);
      out[i] = hole ? kVoid : static_cast<float>(pyramid_.scale.of(tile->scale.of(sample)));
    };
    if (pyramid_.integers) {
      const auto samples = PngTile(tile->bytes, info_.name).samples(pyramid_.tile_cols, pyramid_.tile_rows);
      for (std::size_t i = 0; i < n; ++i) put(i, samples[i]);
    } else {
      const Block block = floats(tile->bytes);
      for (std::size_t i = 0; i < n; ++i) put(i, static_cast<double>(block.row(0)[i]));
    }
    return bytes;
  }
  Block floats(const std::string& tiff) const {
    if (!is_tiff(Head(reinterpret_cast<const std::uint8_t*>(tiff.data()), tiff.size())))
      refuse_tile(info_.name, "is no TIFF, in a coverage of floats");
    Located file{
        bytes_in_memory("tile.tif", std::vector<std::uint8_t>(tiff.begin(), tiff.end())), "tile.tif", {}, {}, {}, {}};
    // Where a tile lies its table says, and it says nothing itself.
    file.beside = [](const std::string& name) -> std::shared_ptr<ByteSource> {
      if (name != "tile.tfw") return nullptr;
      const std::string_view cells_of_one = "1\n0\n0\n-1\n0.5\n-0.5\n";
      return bytes_in_memory(name, {cells_of_one.begin(), cells_of_one.end()});
    };
    try {
      const Grid grid = open_tiff(file, {}).grid;
      if (grid.frame().cols() != pyramid_.tile_cols || grid.frame().rows() != pyramid_.tile_rows)
        refuse_tile(info_.name, fmt::format("is not {} x {} samples large", pyramid_.tile_cols, pyramid_.tile_rows));
      return grid.read(grid.frame().window());
    } catch (const Error& e) {
      throw e.within(info_.name);
    }
  }

  std::unique_ptr<Sql> sql_;
  mutable std::mutex mutex_;
  Pyramid pyramid_;
  GridInfo info_;
  bool scaled_tiles_;
  std::uint64_t owner_;
};

// ---- what the tables say

[[noreturn]] void refuse_tables(const std::string& file, const std::string& why) {
  throw Error(ErrorCode::BadFile, why, file, "get another copy");
}

std::vector<std::string> coverages_of(const Sql& sql) {
  std::vector<std::string> names;
  SqlQuery q = sql.query(fmt::format("SELECT tile_matrix_set_name FROM {} ORDER BY id", kCoverages));
  while (q.step()) names.push_back(q.text(0));
  return names;
}

std::string chosen_coverage(const std::vector<std::string>& names, const OpenOptions& options,
                            const std::string& file) {
  if (names.empty()) refuse_tables(file, "holds no gridded coverage, though it has their table");
  if (std::find(names.begin(), names.end(), options.band) != names.end()) return options.band;
  return names[static_cast<std::size_t>(band_from(options, std::ssize(names), file))];
}

double positive(double v, const char* what, const std::string& file) {
  if (!(v > 0) || !std::isfinite(v)) refuse_tables(file, fmt::format("its {} is {:g}", what, v));
  return v;
}
std::int64_t counted(std::int64_t n, std::int64_t most, const char* what, const std::string& file) {
  if (n < 1 || n > most) refuse_tables(file, fmt::format("its {} is {}", what, n));
  return n;
}

// The finest level that has tiles, and where they lie.
Pyramid pyramid_of(const Sql& sql, const std::string& table, const std::string& file) {
  constexpr std::int64_t kMost = std::int64_t{1} << 31;
  Pyramid p{.table = table, .frame = {}, .hole = {}, .scale = {}};
  SqlQuery set = sql.query("SELECT srs_id, min_x, max_y FROM gpkg_tile_matrix_set WHERE table_name = ?");
  if (!set.bind(1, std::string_view(table)).step()) refuse_tables(file, "does not say where its coverage lies");
  SqlQuery used = sql.query(fmt::format(
      "SELECT zoom_level, min(tile_column), max(tile_column), min(tile_row), max(tile_row) FROM {0} WHERE zoom_level = "
      "(SELECT max(zoom_level) FROM {0})",
      sql_name(table)));
  if (!used.step() || used.type(0) == SQLITE_NULL) refuse_tables(file, "its coverage has no tiles");
  p.zoom = used.integer(0);
  SqlQuery matrix = sql.query(
      "SELECT matrix_width, matrix_height, tile_width, tile_height, pixel_x_size, pixel_y_size FROM gpkg_tile_matrix "
      "WHERE table_name = ? AND zoom_level = ?");
  if (!matrix.bind(1, std::string_view(table)).bind(2, p.zoom).step())
    refuse_tables(file, fmt::format("does not say how large tiles of level {} are", p.zoom));
  const std::int64_t wide = counted(matrix.integer(0), kMost, "number of columns of tiles", file),
                     high = counted(matrix.integer(1), kMost, "number of rows of tiles", file);
  p.tile_cols = counted(matrix.integer(2), kWidestTile, "width of tiles", file);
  p.tile_rows = counted(matrix.integer(3), kWidestTile, "height of tiles", file);
  const double x = positive(matrix.real(4), "width of a cell", file),
               y = positive(matrix.real(5), "height of a cell", file);
  p.first_col = std::clamp<std::int64_t>(used.integer(1), 0, wide - 1);
  p.last_col = std::clamp<std::int64_t>(used.integer(2), p.first_col, wide - 1);
  p.first_row = std::clamp<std::int64_t>(used.integer(3), 0, high - 1);
  p.last_row = std::clamp<std::int64_t>(used.integer(4), p.first_row, high - 1);
  p.frame = Frame(geopackage_crs(sql, set.integer(0)), set.real(1) + static_cast<double>(p.first_col * p.tile_cols) * x,
                  set.real(2) - static_cast<double>(p.first_row * p.tile_rows) * y, {x, y},
                  (p.last_col - p.first_col + 1) * p.tile_cols, (p.last_row - p.first_row + 1) * p.tile_rows);
  return p;
}

struct CoverageTerms {
  std::string encoding, unit, field, quantity;
};
// How samples become values, into the pyramid; and what they mean.
CoverageTerms terms_of(const Sql& sql, Pyramid& p, const std::string& file) {
  // Columns that a file may leave out are asked for by name.
  SqlQuery all = sql.query(fmt::format("SELECT * FROM {} WHERE tile_matrix_set_name = ?", kCoverages));
  all.bind(1, std::string_view(p.table)).step();
  CoverageTerms m;
  for (int i = 0; i < all.columns(); ++i) {
    const std::string name = all.column_name(i);
    if (all.type(i) == SQLITE_NULL) continue;
    if (name == "datatype") p.integers = lower_case(all.text(i)) == "integer";
    if (name == "datatype" && !p.integers && lower_case(all.text(i)) != "float")
      refuse_tables(file, fmt::format("its samples are '{}', neither integer nor float", all.text(i)));
    if (name == "scale") p.scale.scale = all.real(i);
    if (name == "offset") p.scale.offset = all.real(i);
    if (name == "data_null") p.hole = all.real(i);
    if (name == "grid_cell_encoding") m.encoding = lower_case(all.text(i));
    if (name == "uom") m.unit = all.text(i);
    if (name == "field_name") m.field = lower_case(all.text(i));
    if (name == "quantity_definition") m.quantity = lower_case(all.text(i));
  }
  if (!std::isfinite(p.scale.scale) || p.scale.scale == 0 || !std::isfinite(p.scale.offset))
    refuse_tables(file, "its scale or offset is no number that values can be made with");
  return m;
}

// Units are those of UCUM, or plain words.
std::string usual_unit(const std::string& unit) {
  if (unit == "[ft_i]") return "ft";
  if (unit == "[ft_us]") return "ftUS";
  return lower_case(unit) == "metre" || lower_case(unit) == "meter" ? "m" : unit;
}

// The part that the contents name, where they name one inside.
Window named_part(const Sql& sql, const Pyramid& p) {
  SqlQuery q = sql.query("SELECT min_x, min_y, max_x, max_y FROM gpkg_contents WHERE table_name = ?");
  const Window all = p.frame.window();
  if (!q.bind(1, std::string_view(p.table)).step()) return all;
  for (int i = 0; i < 4; ++i)
    if (q.type(i) == SQLITE_NULL) return all;
  const Bounds box{q.real(0), q.real(1), q.real(2), q.real(3)};
  if (box.empty() || !box.intersects(p.frame.bounds())) return all;
  const Window w = p.frame.window_of_centres(box).intersected(all);
  return w.empty() ? all : w;
}

// A value of a corner lies there: so does its cell.
void use_corners(GridInfo& info) {
  const Frame& f = info.frame;
  info.frame = Frame(f.crs(), f.west() - f.cell().x / 2, f.north() - f.cell().y / 2, f.cell(), f.cols(), f.rows());
  info.notes.push_back("its values are those of the lower left corners of its cells");
}

}  // namespace

bool is_coverage(const Located& file, Head head) {
  constexpr std::string_view kMagic("SQLite format 3\0", 16);
  if (head.size() < kMagic.size() || std::memcmp(head.data(), kMagic.data(), kMagic.size()) != 0) return false;
  try {
    return has_table(*opened(file), kCoverages);
  } catch (const Error&) {
    return false;
  }
}

GridFile open_coverage(const Located& file, const OpenOptions& options) {
  const std::string name = file.bytes->name();
  std::unique_ptr<Sql> sql = opened(file);
  GridFile out;
  const std::vector<std::string> names = coverages_of(*sql);
  Pyramid p = pyramid_of(*sql, chosen_coverage(names, options, name), name);
  const CoverageTerms m = terms_of(*sql, p, name);
  if (names.size() > 1) out.facts.bands = names;
  out.facts.band = names.size() > 1 ? p.table : "";
  out.facts.format = "GeoPackage coverage";
  out.facts.layout = fmt::format("tiles {} x {}, level {}, {}", p.tile_cols, p.tile_rows, p.zoom,
                                 p.integers ? "16-bit samples" : "floats");
  GridInfo info;
  info.name = file.name;
  info.frame = p.frame.with_crs(p.frame.crs().with_heights({}));
  Quantity& q = info.quantity;
  q.heights = p.frame.crs().heights();
  if (m.encoding.find("corner") != m.encoding.npos) use_corners(info);
  const bool plain = p.integers && p.scale.scale == 1 && p.scale.offset == 0 && !has_table(*sql, kTiles);
  info.type = plain ? SampleType::UInt16 : SampleType::Float32;
  if (plain) info.file_void = p.hole;
  const std::string unit = usual_unit(m.unit);
  if (!unit.empty()) use_unit(q, unit);
  const Window part = named_part(*sql, p);
  const bool depths = m.field == "depth" || m.quantity == "depth";
  Grid grid(std::make_shared<CoverageSource>(std::move(sql), std::move(p), std::move(info)));
  if (part != grid.frame().window()) grid = cut(grid, part);
  out.grid = depths ? depths_as_heights(grid) : grid;
  out.facts.depths_turned = depths;
  return out;
}

}  // namespace katoptra
