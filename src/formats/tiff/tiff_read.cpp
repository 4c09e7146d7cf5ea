#include <algorithm>
#include <cassert>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <sstream>
#include <tiffio.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "base/pool.hpp"
#include "base/text.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "formats/samples.hpp"
#include "geokeys.hpp"
#include "tiff_codec.hpp"
#include "tiff_handle.hpp"

namespace katoptra {
namespace {

using tiff::Handle;
using tiff::kMostBlockBytes;

constexpr std::uint32_t kTagScale = 33550, kTagTies = 33922, kTagMatrix = 34264, kTagKeys = 34735,
                        kTagKeyDoubles = 34736, kTagKeyText = 34737;
// The widely used ASCII tags that declare the value of voids, and items (scale and offset among them) as XML.
constexpr std::uint32_t kTagVoid = 42113, kTagItems = 42112;
constexpr const char* kUncertainty = "uncertainty";

// How cells lie in the file.
struct Layout {
  std::int64_t cols = 0, rows = 0;              // the image
  std::int64_t block_cols = 0, block_rows = 0;  // a tile or strip
  std::int64_t blocks_across = 0, blocks_down = 0;
  bool tiled = false, native_order = true, separate = false;
  int compression = 1, predictor = 1, samples = 1;
  std::int64_t band = 0;
  SampleType type = SampleType::Float32;
  bool half = false;                           // stored as 16-bit floats
  std::vector<std::uint64_t> offsets, counts;  // of the band when bands are apart
  std::uint64_t first_block = 0;               // its number in the file
  std::uint16_t directory = 0;

  std::int64_t sample_bytes() const { return bytes_per_sample(type); }
  std::int64_t stored_bytes() const { return half ? 2 : sample_bytes(); }
  std::int64_t row_bytes() const { return block_cols * sample_bytes() * (separate ? 1 : samples); }
  std::int64_t stored_row_bytes() const { return block_cols * stored_bytes() * (separate ? 1 : samples); }
  // Rows that the block really holds: the last strip is shorter, tiles are always whole.
  std::int64_t rows_in(std::int64_t block_row) const {
    return tiled ? block_rows : std::min(block_rows, rows - block_row * block_rows);
  }
};

[[noreturn]] void unsupported(const std::string& what, const std::string& file) {
  throw Error(ErrorCode::Unsupported, what, file,
              "convert it to one value a cell, 8 to 64-bit integers or 32 or 64-bit floats");
}

SampleType sample_type(int bits, int format, const std::string& file) {
  const bool is_signed = format == SAMPLEFORMAT_INT, is_float = format == SAMPLEFORMAT_IEEEFP;
  if (format != SAMPLEFORMAT_UINT && format != SAMPLEFORMAT_VOID && !is_signed && !is_float)
    unsupported(fmt::format("has samples of TIFF format {}", format), file);
  if (is_float) {
    if (bits == 32) return SampleType::Float32;
    if (bits == 64) return SampleType::Float64;
    if (bits == 16) return SampleType::Float32;  // widened when blocks are decoded
    unsupported(fmt::format("has {}-bit floats", bits), file);
  }
  switch (bits) {
    case 8:
      return is_signed ? SampleType::Int8 : SampleType::UInt8;
    case 16:
      return is_signed ? SampleType::Int16 : SampleType::UInt16;
    case 32:
      return is_signed ? SampleType::Int32 : SampleType::UInt32;
    case 64:
      return is_signed ? SampleType::Int64 : SampleType::UInt64;
    default:
      unsupported(fmt::format("has {}-bit samples", bits), file);
  }
}

std::string method_name(int compression) {
  static const std::map<int, const char*> kNames = {
      {2, "CCITT run lengths"}, {3, "CCITT fax 3"},   {4, "CCITT fax 4"}, {6, "old JPEG"},       {7, "JPEG"},
      {34661, "JBIG"},          {34712, "JPEG 2000"}, {34887, "LERC"},    {34892, "lossy JPEG"}, {34925, "LZMA"},
      {34933, "PNG"},           {34934, "JPEG XR"},   {50001, "WebP"},    {50002, "JPEG XL"},    {52546, "JPEG XL"}};
  const auto name = kNames.find(compression);
  return name == kNames.end() ? fmt::format("TIFF method {}", compression)
                              : fmt::format("{} (TIFF method {})", name->second, compression);
}

Layout read_layout(const Handle& h, const OpenOptions& options, const std::string& file) {
  Layout l;
  TIFF* t = h.get();
  l.cols = h.field<std::uint32_t>(TIFFTAG_IMAGEWIDTH, 0);
  l.rows = h.field<std::uint32_t>(TIFFTAG_IMAGELENGTH, 0);
  if (l.cols == 0 || l.rows == 0 || l.cols > std::numeric_limits<std::int32_t>::max() ||
      l.rows > std::numeric_limits<std::int32_t>::max())
    throw Error(ErrorCode::BadFile, fmt::format("its header claims {} x {} cells", l.cols, l.rows), file,
                "it is damaged; fetch it again");
  l.samples = h.field<std::uint16_t>(TIFFTAG_SAMPLESPERPIXEL, 1);
  l.type = sample_type(h.field<std::uint16_t>(TIFFTAG_BITSPERSAMPLE, 1),
                       h.field<std::uint16_t>(TIFFTAG_SAMPLEFORMAT, SAMPLEFORMAT_UINT), file);
  l.half = !is_integer(l.type) && h.field<std::uint16_t>(TIFFTAG_BITSPERSAMPLE, 1) == 16;
  l.compression = h.field<std::uint16_t>(TIFFTAG_COMPRESSION, 1);
  l.separate = h.field<std::uint16_t>(TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG) == PLANARCONFIG_SEPARATE;
  if (!TIFFIsCODECConfigured(static_cast<std::uint16_t>(l.compression)))
    unsupported(fmt::format("is compressed by {}, which is not read here", method_name(l.compression)), file);
  if (l.compression == tiff::kLzw || tiff::codes_here(l.compression))
    l.predictor = h.field<std::uint16_t>(TIFFTAG_PREDICTOR, 1);
  if (l.predictor < 1 || l.predictor > 3) unsupported(fmt::format("uses TIFF predictor {}", l.predictor), file);
  l.native_order = !TIFFIsByteSwapped(t);
  l.tiled = TIFFIsTiled(t) != 0;
  if (l.tiled) {
    l.block_cols = h.field<std::uint32_t>(TIFFTAG_TILEWIDTH, 0);
    l.block_rows = h.field<std::uint32_t>(TIFFTAG_TILELENGTH, 0);
  } else {
    l.block_cols = l.cols;
    l.block_rows = std::min<std::int64_t>(l.rows, h.field<std::uint32_t>(TIFFTAG_ROWSPERSTRIP, 0xffffffffu));
  }
  const double bytes =
      static_cast<double>(l.block_cols) * static_cast<double>(l.block_rows) * bytes_per_sample(l.type) * l.samples;
  if (l.block_cols <= 0 || l.block_rows <= 0 || bytes > static_cast<double>(kMostBlockBytes))
    throw Error(ErrorCode::TooLarge,
                fmt::format("its {} of {} x {} cells cannot be held in memory", l.tiled ? "tiles" : "strips",
                            l.block_cols, l.block_rows),
                file, "it is damaged, or should be rewritten in tiles");
  l.blocks_across = (l.cols + l.block_cols - 1) / l.block_cols;
  l.blocks_down = (l.rows + l.block_rows - 1) / l.block_rows;
  l.band = band_from(options, l.samples, file);
  const auto blocks = static_cast<std::size_t>(l.blocks_across * l.blocks_down);
  if (l.separate) l.first_block = static_cast<std::uint64_t>(l.band) * blocks;
  const std::uint64_t* offsets = nullptr;
  const std::uint64_t* counts = nullptr;
  if (TIFFGetField(t, l.tiled ? TIFFTAG_TILEOFFSETS : TIFFTAG_STRIPOFFSETS, &offsets) &&
      TIFFGetField(t, l.tiled ? TIFFTAG_TILEBYTECOUNTS : TIFFTAG_STRIPBYTECOUNTS, &counts) && offsets && counts &&
      (l.tiled ? TIFFNumberOfTiles(t) : TIFFNumberOfStrips(t)) >= l.first_block + blocks) {
    l.offsets.assign(offsets + l.first_block, offsets + l.first_block + blocks);
    l.counts.assign(counts + l.first_block, counts + l.first_block + blocks);
  } else {
    throw Error(ErrorCode::BadFile, "its table of tiles is damaged: " + h.message("entries are missing"), file,
                "fetch it again");
  }
  return l;
}

// 16-bit floats as 32-bit ones, exactly.
BlockCache::Bytes widened(const BlockCache::Bytes& halves) {
  BlockCache::Bytes out(halves.size() * 2);
  for (std::size_t i = 0; i + 1 < halves.size(); i += 2) {
    std::uint16_t h = 0;
    std::memcpy(&h, &halves[i], 2);
    const float v = tiff::half_to_float(h);
    std::memcpy(&out[2 * i], &v, 4);
  }
  return out;
}

// ------------------------------------------------------------------------------------------------------ the source

class TiffSource final : public GridSource {
 public:
  // `overviews`: each with half the cells of the one before.
  TiffSource(std::shared_ptr<ByteSource> bytes, GridInfo info, const SampleRule& rule, Layout layout,
             std::vector<Layout> overviews)
      : bytes_(std::move(bytes)),
        info_(std::move(info)),
        rule_(rule),
        layout_(std::move(layout)),
        overviews_(std::move(overviews)),
        owner_(BlockCache::shared().new_owner()) {}
  ~TiffSource() override { BlockCache::shared().forget(owner_); }

  const GridInfo& info() const override { return info_; }

  std::shared_ptr<const GridSource> half() const override {
    if (overviews_.empty()) return nullptr;
    GridInfo info = info_;
    info.frame = half_frame(info.frame);
    return std::make_shared<TiffSource>(bytes_, std::move(info), rule_, overviews_[0],
                                        std::vector<Layout>(overviews_.begin() + 1, overviews_.end()));
  }

  void expect(const Window& w) const override {
    const Layout& l = layout_;
    if (w.empty()) return;
    for (std::int64_t br = w.row / l.block_rows; br <= (w.row + w.rows - 1) / l.block_rows; ++br)
      for (std::int64_t bc = w.col / l.block_cols; bc <= (w.col + w.cols - 1) / l.block_cols; ++bc) {
        const auto i = static_cast<std::size_t>(br * l.blocks_across + bc);
        bytes_->expect(l.offsets[i], l.counts[i]);
      }
  }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Layout& l = layout_;
    read_ahead(w);
    // What another thread is decoding is taken at the end.
    struct Elsewhere {
      std::int64_t row, col;
      std::shared_ptr<BlockCache::UnderWay> block;
    };
    std::vector<Elsewhere> elsewhere;
    for (std::int64_t br = w.row / l.block_rows; br <= (w.row + w.rows - 1) / l.block_rows; ++br)
      for (std::int64_t bc = w.col / l.block_cols; bc <= (w.col + w.cols - 1) / l.block_cols; ++bc)
        if (auto other = copy_block(br, bc, out, true)) elsewhere.push_back({br, bc, std::move(other)});
    for (const Elsewhere& e : elsewhere)
      if (const auto data = BlockCache::shared().wait_for(*e.block))
        copy_from(*data, e.row, e.col, out);
      else
        copy_block(e.row, e.col, out, false);
    if (!out.origin) return;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c)
        out.origin_row(r)[c] = std::isnan(out.row(r)[c]) ? 0 : origin_code(1, How::Measured);
  }

 private:
  // Tells the disk which blocks come next: those below the window, as runs over a grid go down.
  void read_ahead(const Window& w) const {
    const Layout& l = layout_;
    const std::int64_t below = (w.row + w.rows - 1) / l.block_rows + 1;
    if (below >= l.blocks_down) return;
    const auto first = static_cast<std::size_t>(below * l.blocks_across + w.col / l.block_cols),
               last = static_cast<std::size_t>(below * l.blocks_across + (w.col + w.cols - 1) / l.block_cols);
    const std::uint64_t from = l.offsets[first], to = l.offsets[last] + l.counts[last];
    constexpr std::uint64_t kMost = std::uint64_t{16} << 20;
    if (to > from && to - from <= kMost) bytes_->will_need(from, to - from);
  }

  Window place_of(std::int64_t br, std::int64_t bc, const BlockView& out) const {
    const Layout& l = layout_;
    return Window{bc * l.block_cols, br * l.block_rows, l.block_cols, l.rows_in(br)}.intersected(out.window);
  }

  // With `may_be_late`, the block that another thread is decoding where that is so, and nothing copied.
  std::shared_ptr<BlockCache::UnderWay> copy_block(std::int64_t br, std::int64_t bc, const BlockView& out,
                                                   bool may_be_late) const {
    const Layout& l = layout_;
    const auto index = static_cast<std::uint64_t>(br * l.blocks_across + bc);
    // A block that the file leaves out: voids where a void value is declared, also one that the type cannot hold; else
    // zeros, as TIFF has it.
    if (rule_.hole && is_left_out(index)) {
      const Window place = place_of(br, bc, out);
      const BlockView to = out.part(place);
      for (std::int64_t r = 0; r < place.rows; ++r) std::fill_n(to.row(r), place.cols, kVoid);
      return nullptr;
    }
    const auto make = [&] { return decode(index, l.rows_in(br)); };
    std::shared_ptr<BlockCache::UnderWay> other;
    const auto data = may_be_late ? BlockCache::shared().get_unless_under_way(owner_, index, make, other)
                                  : BlockCache::shared().get(owner_, index, make);
    if (data) copy_from(*data, br, bc, out);
    return other;
  }

  void copy_from(const BlockCache::Bytes& data, std::int64_t br, std::int64_t bc, const BlockView& out) const {
    const Layout& l = layout_;
    const Window place = place_of(br, bc, out);
    const BlockView to = out.part(place);
    const std::int64_t step = l.separate ? 1 : l.samples, band = l.separate ? 0 : l.band;
    for (std::int64_t r = 0; r < place.rows; ++r) {
      const std::int64_t row = place.row + r - br * l.block_rows, col = place.col - bc * l.block_cols;
      samples_to_floats(rule_, data.data() + row * l.row_bytes() + (col * step + band) * l.sample_bytes(), step,
                        place.cols, to.row(r));
    }
  }

  BlockCache::Bytes decode(std::uint64_t index, std::int64_t rows) const {
    const Layout& l = layout_;
    refuse_implausible(index, l.stored_row_bytes() * rows);
    BlockCache::Bytes raw(static_cast<std::size_t>(l.stored_row_bytes() * rows));
    if (is_left_out(index))
      std::fill(raw.begin(), raw.end(), std::uint8_t{0});
    else if (tiff::codes_here(l.compression) && (l.samples == 1 || l.separate))
      decode_here(index, rows, raw);
    else
      decode_by_libtiff(index, raw);
    if (l.half) return widened(raw);
    return raw;
  }

  bool is_left_out(std::uint64_t index) const { return layout_.counts[index] == 0 && layout_.offsets[index] == 0; }

  // No method packs better than this: a header that promises more is damaged, and its memory is not even asked for.
  void refuse_implausible(std::uint64_t index, std::int64_t raw) const {
    const Layout& l = layout_;
    const double most = l.compression == tiff::kNone                                  ? 1
                        : l.compression == tiff::kZstd || tiff::models(l.compression) ? 50000
                                                                                      : 2000;
    if (l.offsets[index] != 0 && static_cast<double>(raw) > most * (static_cast<double>(l.counts[index]) + 64))
      damaged(index, fmt::format("its {} bytes cannot hold {}", l.counts[index], raw));
  }

  void decode_here(std::uint64_t index, std::int64_t rows, BlockCache::Bytes& raw) const {
    const Layout& l = layout_;
    if (l.counts[index] > kMostBlockBytes || l.offsets[index] > bytes_->size() ||
        l.counts[index] > bytes_->size() - l.offsets[index])
      damaged(index, "it lies beyond the end of the file");
    RawBytes packed(l.counts[index]);
    bytes_->read_exactly(l.offsets[index], packed);
    if (!tiff::decompress(packed, l.compression, raw)) damaged(index, "its compressed data are broken");
    const int bytes_per = static_cast<int>(l.stored_bytes());
    // The floating-point predictor stores bytes by significance, whatever the order of the file.
    if (!l.native_order && l.predictor != tiff::kFloatingPoint)
      tiff::swap_samples(raw.data(), raw.size() / static_cast<std::size_t>(bytes_per), bytes_per);
    if (l.predictor == tiff::kDifference) tiff::decode_difference(raw.data(), l.block_cols, rows, bytes_per);
    if (l.predictor == tiff::kFloatingPoint) tiff::decode_floating_point(raw.data(), l.block_cols, rows, bytes_per);
  }

  void decode_by_libtiff(std::uint64_t index, BlockCache::Bytes& raw) const {
    std::unique_ptr<Handle> h = handles_.take([&] { return std::make_unique<Handle>(bytes_); });
    if (TIFFCurrentDirectory(h->get()) != layout_.directory) TIFFSetDirectory(h->get(), layout_.directory);
    const auto i = static_cast<std::uint32_t>(layout_.first_block + index);
    const auto n = static_cast<tmsize_t>(raw.size());
    const tmsize_t got = layout_.tiled ? TIFFReadEncodedTile(h->get(), i, raw.data(), n)
                                       : TIFFReadEncodedStrip(h->get(), i, raw.data(), n);
    if (got != n) damaged(index, h->message("it ends early"));
    handles_.give(std::move(h));
  }

  [[noreturn]] void damaged(std::uint64_t index, const std::string& why) const {
    const auto across = static_cast<std::uint64_t>(layout_.blocks_across);
    throw Error(ErrorCode::BadFile,
                fmt::format("{} {} (row {}, column {}) cannot be read: {}", layout_.tiled ? "tile" : "strip", index,
                            index / across, index % across, why),
                bytes_->name(), "the file is truncated or damaged; fetch it again");
  }

  std::shared_ptr<ByteSource> bytes_;
  GridInfo info_;
  SampleRule rule_;
  Layout layout_;
  std::vector<Layout> overviews_;
  std::uint64_t owner_;
  mutable Pool<std::unique_ptr<Handle>> handles_;
};

// -------------------------------------------------------------------------------------------------- header to facts

std::optional<FileLattice> world_file(const Located& file) {
  for (const std::string& extension : format_of("a.tif")->beside) {
    if (extension == ".prj" || extension == ".json") continue;
    if (const auto text = file.text_with_extension(extension))
      if (const auto lattice = lattice_of_world_file(*text, file.bytes->name())) return lattice;
  }
  return std::nullopt;
}

FileLattice read_lattice(const Handle& h, const Layout& l, const tiff::GeoFacts& geo, const Located& file,
                         FileFacts& facts) {
  FileLattice out;
  const std::string& name = file.bytes->name();
  const auto matrix = h.array<double>(kTagMatrix, TIFF_DOUBLE);
  const auto scale = h.array<double>(kTagScale, TIFF_DOUBLE);
  const auto ties = h.array<double>(kTagTies, TIFF_DOUBLE);
  if (matrix.size() >= 16) {
    out =
        lattice_of_terms({matrix[0], matrix[1], matrix[3], matrix[4], matrix[5], matrix[7]}, geo.pixel_is_point, name);
  } else if (scale.size() >= 2 && ties.size() >= 6) {
    // The scale of y counts down the rows; written below zero, it means rows from the south.
    out.dx = scale[0];
    out.dy = -scale[1];
    out.x = ties[3] - ties[0] * out.dx;
    out.y = ties[4] - ties[1] * out.dy;
  } else if (const auto world = world_file(file)) {
    out = *world;
    facts.beside.push_back("world file");
  } else {
    throw Error(ErrorCode::Unsupported,
                ties.size() > 6 ? "is placed by control points, not by a lattice"
                                : "does not say where it lies (neither cell size nor tie point)",
                name, "it is a plain picture; get the georeferenced file, or put its world file (.tfw) beside it");
  }
  if (!out.askew && (!std::isfinite(out.dx) || !std::isfinite(out.dy) || out.dx == 0 || out.dy == 0 ||
                     !std::isfinite(out.x) || !std::isfinite(out.y)))
    throw Error(ErrorCode::BadFile, fmt::format("its cells are {} x {}", out.dx, out.dy), name,
                "its header is damaged; fetch it again");
  out.crs = geo.crs;
  out.cols = l.cols;
  out.rows = l.rows;
  if (geo.pixel_is_point) out.centre = true;
  if (!out.askew && out.south_up()) facts.layout += ", south first";
  return out;
}

// What the XML tag says in that role ("scale", "offset", "description") of a band; empty when nothing.
std::string read_item(const std::string& xml, const std::string& role, std::int64_t band) {
  for (std::size_t at = xml.find("<Item"); at != xml.npos; at = xml.find("<Item", at + 1)) {
    const std::size_t open = xml.find('>', at), close = open == xml.npos ? open : xml.find('<', open);
    if (close == xml.npos) break;
    const std::string tag = xml.substr(at, open - at), text = xml.substr(open + 1, close - open - 1);
    const auto sample = tag.find("sample=\"");
    const bool ours = sample == tag.npos ||
                      tag.compare(sample + 8, std::to_string(band).size() + 1, std::to_string(band) + "\"") == 0;
    if (ours && tag.find("role=\"" + role + "\"") != tag.npos) return text;
  }
  return {};
}
double read_item(const std::string& xml, const std::string& role, std::int64_t band, double otherwise) {
  return parse_number(read_item(xml, role, band)).value_or(otherwise);
}

std::optional<double> read_void(const Handle& h) {
  std::string text = h.text(kTagVoid);
  while (!text.empty() && (text.back() == ' ' || text.back() == '\0')) text.pop_back();
  if (text.empty()) return std::nullopt;
  if (text == "nan" || text == "NaN" || text == "-nan") return std::numeric_limits<double>::quiet_NaN();
  return parse_number(text);
}

// Our own files say in their description what the numbers mean: "key=value; key=value".
std::string described(const std::string& text, const std::string& key) {
  if (!text.starts_with("Katoptra")) return {};
  const auto at = text.find("; " + key + "=");
  if (at == text.npos) return {};
  const auto begin = at + key.size() + 3;
  return text.substr(begin, text.find(';', begin) - begin);
}

// "2022:06:01 12:00:00" to "2022-06-01"
std::string iso_date(const char* tag) {
  std::string d = tag ? tag : "";
  if (d.size() < 10) return {};
  d = d.substr(0, 10);
  for (std::size_t i = 0; i < d.size(); ++i) {
    if (i == 4 || i == 7)
      d[i] = '-';
    else if (d[i] < '0' || d[i] > '9')
      return {};
  }
  return d;
}

std::string codec_name(int compression) {
  switch (compression) {
    case tiff::kNone:
      return "none";
    case tiff::kLzw:
      return "LZW";
    case tiff::kDeflate:
    case tiff::kOldDeflate:
      return "deflate";
    case tiff::kZstd:
      return "ZSTD";
    case COMPRESSION_PACKBITS:
      return "packbits";
    default:
      return fmt::format("TIFF method {}", compression);
  }
}

void read_damage(const Layout& l, std::uint64_t size, FileFacts& facts) {
  std::size_t beyond = 0;
  for (std::size_t i = 0; i < l.offsets.size(); ++i)
    if (l.offsets[i] > size || l.counts[i] > size - l.offsets[i]) ++beyond;
  if (beyond > 0)
    facts.problems.push_back(fmt::format("truncated: {} of its {} {} lie beyond the end of the file", beyond,
                                         l.offsets.size(), l.tiled ? "tiles" : "strips"));
}

// What follows the first image in the file.
struct Others {
  int overviews = 0;
  std::vector<Layout> halves;         // those of them that have half the cells of the one before
  std::optional<std::uint16_t> mask;  // the directory of a mask as large as the image
};
// One that is damaged is none: values are in the image itself.
std::optional<Layout> overview_of(const Handle& h, const Layout& l, const OpenOptions& options,
                                  const std::string& file) {
  try {
    Layout o = read_layout(h, options, file);
    o.directory = TIFFCurrentDirectory(h.get());
    const bool half = o.cols == (l.cols + 1) / 2 && o.rows == (l.rows + 1) / 2;
    return half && o.type == l.type && o.samples == l.samples ? std::optional(std::move(o)) : std::nullopt;
  } catch (const Error&) {
    return std::nullopt;
  }
}
Others read_others(const Handle& h, const Layout& l, const OpenOptions& options, const std::string& file) {
  Others o;
  bool goes_on = true;
  for (int i = 0; i < 64 && TIFFReadDirectory(h.get()); ++i) {
    const auto type = h.field<std::uint32_t>(TIFFTAG_SUBFILETYPE, 0);
    if (type & FILETYPE_MASK) {
      const bool same = h.field<std::uint32_t>(TIFFTAG_IMAGEWIDTH, 0) == l.cols &&
                        h.field<std::uint32_t>(TIFFTAG_IMAGELENGTH, 0) == l.rows;
      if (same && !(type & FILETYPE_REDUCEDIMAGE)) o.mask = TIFFCurrentDirectory(h.get());
    } else if (type & FILETYPE_REDUCEDIMAGE) {
      ++o.overviews;
      auto next = goes_on ? overview_of(h, o.halves.empty() ? l : o.halves.back(), options, file) : std::nullopt;
      goes_on = next.has_value();
      if (next) o.halves.push_back(std::move(*next));
    }
  }
  return o;
}

Quantity read_quantity(const tiff::GeoFacts& geo, const std::string& description) {
  Quantity q;
  const std::string kind = described(description, "quantity");
  if (!kind.empty()) q.kind = quantity_kind_from(kind);
  q.heights = geo.heights;
  if (geo.height_unit) q.unit = *geo.height_unit;
  q.unit_known = geo.height_unit.has_value();
  if (q.kind != QuantityKind::Height) use_unit(q, described(description, "unit"));
  q.surface = surface_kind_from(described(description, "surface"));
  return q;
}

}  // namespace

std::string tiff_library_version() {
  const std::string text = TIFFGetVersion();
  return text.substr(0, text.find('\n'));
}

bool is_tiff(std::span<const std::uint8_t> head) {
  for (const char* magic : {"II*\0", "MM\0*", "II+\0", "MM\0+"})
    if (head.size() >= 4 && std::memcmp(head.data(), magic, 4) == 0) return true;
  return false;
}

namespace {

SampleRule sample_rule(const Handle& h, const Layout& l, const std::string& items) {
  return {.type = l.type,
          .hole = read_void(h),
          .scale = read_item(items, "scale", l.band, 1),
          .offset = read_item(items, "offset", l.band, 0)};
}

// The bands of a file that has several: our own files name them, of others the uncertainty goes by its name and the
// rest by numbers.
std::vector<std::string> band_names(int samples, const std::string& description, const std::string& items) {
  std::vector<std::string> names;
  if (samples < 2) return names;
  const std::string told = description.starts_with("Katoptra ") ? described(description, "bands") : "";
  if (const auto comma = told.find(", "); samples == 2 && comma != told.npos)
    return {told.substr(0, comma), told.substr(comma + 2)};
  for (int b = 0; b < samples; ++b)
    names.push_back(b > 0 && lower_case(read_item(items, "description", b)) == kUncertainty ? kUncertainty
                                                                                            : std::to_string(b + 1));
  return names;
}

// A band that was asked for by its name, by its number.
OpenOptions with_band_number(OpenOptions options, const std::vector<std::string>& names) {
  const auto found = std::find(names.begin(), names.end(), options.band);
  if (found != names.end()) options.band = std::to_string(found - names.begin() + 1);
  return options;
}

std::optional<Length> read_error_reach(const std::string& description) {
  const std::string text = described(description, "error reach");
  try {
    if (!text.empty()) return Length::parse(text);
  } catch (const Error&) {
  }
  return std::nullopt;
}

// Another band of the same file, as the uncertainty of the first.
Grid plane_of(const std::shared_ptr<ByteSource>& bytes, const GridInfo& of, std::int64_t band, const std::string& items,
              const OpenOptions& options) {
  const Handle h(bytes);
  OpenOptions o = options;
  o.band = std::to_string(band + 1);
  Layout layout = read_layout(h, o, bytes->name());
  const SampleRule rule = sample_rule(h, layout, items);
  GridInfo info;
  info.frame = of.frame;
  info.name = bytes->name();
  info.quantity = uncertainty_of(of.quantity);
  describe_samples(rule, info);
  Others others = read_others(h, layout, o, bytes->name());
  return Grid(std::make_shared<TiffSource>(bytes, info, rule, std::move(layout), std::move(others.halves)));
}

}  // namespace

GridFile open_tiff(const Located& located, const OpenOptions& given) {
  const std::shared_ptr<ByteSource>& bytes = located.bytes;
  const std::string& file = bytes->name();
  GridFile out;
  FileFacts& facts = out.facts;
  Handle h(bytes);
  const char* description = nullptr;
  if (TIFFGetField(h.get(), TIFFTAG_IMAGEDESCRIPTION, &description) && description) facts.description = description;
  const std::string items = h.text(kTagItems);
  facts.bands = band_names(h.field<std::uint16_t>(TIFFTAG_SAMPLESPERPIXEL, 1), facts.description, items);
  const OpenOptions options = with_band_number(given, facts.bands);
  Layout layout = read_layout(h, options, file);
  if (!facts.bands.empty()) facts.band = facts.bands[static_cast<std::size_t>(layout.band)];
  tiff::GeoTags tags;
  tags.directory = h.array<std::uint16_t>(kTagKeys, TIFF_SHORT);
  tags.doubles = h.array<double>(kTagKeyDoubles, TIFF_DOUBLE);
  const auto text = h.array<char>(kTagKeyText, TIFF_ASCII);
  tags.text.assign(text.begin(), text.end());
  const tiff::GeoFacts geo = tiff::read_geo_tags(tags);

  const char* date = nullptr;
  if (TIFFGetField(h.get(), TIFFTAG_DATETIME, &date)) facts.date = iso_date(date);
  facts.survey = described(facts.description, "survey");
  facts.ours = facts.description.starts_with("Katoptra ");
  if (facts.ours)
    facts.joined =
        static_cast<int>(std::clamp(parse_number(described(facts.description, "sources")).value_or(0), 0.0, 1e6));
  facts.crs_name = geo.crs_name;
  facts.pixel_is_point = geo.pixel_is_point;
  facts.format = "GeoTIFF";
  facts.compression =
      codec_name(layout.compression) + (layout.predictor > 1 ? fmt::format(", predictor {}", layout.predictor) : "");
  facts.problems = geo.notes;
  read_damage(layout, bytes->size(), facts);

  GridInfo info;
  const SampleRule rule = sample_rule(h, layout, items);
  describe_samples(rule, info);
  info.quantity = read_quantity(geo, facts.description);
  const auto uncertain = std::find(facts.bands.begin(), facts.bands.end(), kUncertainty);
  const std::int64_t band = layout.band, second = uncertain - facts.bands.begin();
  const bool has_uncertainty = uncertain != facts.bands.end();
  if (has_uncertainty) info.error_reach = read_error_reach(facts.description);
  if (has_uncertainty && band == second) info.quantity = uncertainty_of(info.quantity);
  const bool header_first = !layout.offsets.empty() && [&] {
    toff_t directory = TIFFCurrentDirOffset(h.get());
    return directory < *std::min_element(layout.offsets.begin(), layout.offsets.end());
  }();
  std::string south;
  const FileLattice lattice = read_lattice(h, layout, geo, located, facts);
  info.frame = lattice.frame();
  std::swap(south, facts.layout);
  Others others = read_others(h, layout, options, file);
  facts.layout = fmt::format("{} {} x {}, {} overviews{}{}{}", layout.tiled ? "tiles" : "strips", layout.block_cols,
                             layout.block_rows, others.overviews,
                             layout.tiled && header_first && others.overviews > 0 ? ", header first" : "",
                             others.mask ? ", a mask" : "", south);
  Grid grid(std::make_shared<TiffSource>(bytes, info, rule, std::move(layout), std::move(others.halves)));
  if (has_uncertainty && band != second) {
    grid = with_uncertainty(grid, plane_of(bytes, info, second, items, options));
  }
  if (others.mask) grid = masked(grid, tiff::open_mask(bytes, *others.mask, info.frame));
  out.grid = turned(grid, lattice);
  return out;
}

}  // namespace katoptra
