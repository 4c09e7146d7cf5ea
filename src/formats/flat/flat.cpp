// Flat binary with a header beside it: samples row by row without any structure, and a few lines of keywords in
// NAME.hdr that say how many, of which type and in which order. Two dialects share the name: one gives the centre of
// the upper left cell (ULXMAP, ULYMAP, XDIM, YDIM, LAYOUT, NBITS ...), the other the lower left corner as the ASCII
// grid does, with 32-bit floats.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/format.hpp"

#include "base/text.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "formats/text/text_scan.hpp"
#include "formats/tiff/tiff_codec.hpp"

namespace katoptra {
namespace {

using Keys = std::map<std::string, std::string>;

bool is_header(const std::string& text) {
  const Keys keys = keyword_lines(text);
  return keys.count("ncols") && keys.count("nrows");
}

struct Header {
  FileLattice lattice;
  SampleRule rule;
  bool big_endian = false;
  enum class Layout { Bil, Bip, Bsq } layout = Layout::Bil;
  std::int64_t bands = 1;
  // From a row (of all bands) to the next; and, where bands follow one another in a row, from one of them to the next.
  std::uint64_t skip = 0, row_bytes = 0, band_row_bytes = 0, band_gap = 0;
};

class HeaderReader {
 public:
  HeaderReader(const Keys& keys, const std::string& file) : keys_(keys), file_(file) {}
  bool has(const std::string& key) const { return keys_.count(key) != 0; }
  std::string text(const std::string& key, const std::string& otherwise) const {
    const auto found = keys_.find(key);
    return found == keys_.end() ? otherwise : found->second;
  }
  double number(const std::string& key, std::optional<double> otherwise = {}) const {
    const auto found = keys_.find(key);
    if (found == keys_.end() && otherwise) return *otherwise;
    double v = 0;
    if (found == keys_.end() || !parse_token(found->second, v) || !std::isfinite(v))
      throw Error(ErrorCode::BadFile,
                  found == keys_.end() ? fmt::format("its header lacks '{}'", key)
                                       : fmt::format("its header says {} = '{}'", key, found->second),
                  file_, "mend the .hdr file");
    return v;
  }
  std::int64_t count(const std::string& key, std::optional<double> otherwise, double most) const {
    const double v = number(key, otherwise);
    if (!(v >= 0 && v <= most) || v != std::floor(v))
      throw Error(ErrorCode::BadFile, fmt::format("its header claims {} = {}", key, v), file_, "mend the .hdr file");
    return static_cast<std::int64_t>(v);
  }

 private:
  const Keys& keys_;
  const std::string& file_;
};

SampleType type_of(const HeaderReader& h, const std::string& file) {
  // The corner dialect has no NBITS: it is always 32-bit floats.
  const bool corners = !h.has("nbits") && (h.has("xllcorner") || h.has("xllcenter"));
  const std::int64_t bits = h.count("nbits", corners ? 32 : 8, 64);
  const std::string kind = h.text("pixeltype", corners ? "float" : "unsignedint");
  const bool is_float = kind.starts_with("float"), is_signed = kind.starts_with("signed");
  if (is_float && bits == 32) return SampleType::Float32;
  if (is_float && bits == 64) return SampleType::Float64;
  if (!is_float) switch (bits) {
      case 8:
        return is_signed ? SampleType::Int8 : SampleType::UInt8;
      case 16:
        // Sixteen bits without a word about their sign are heights, and heights are signed.
        return is_signed || !h.has("pixeltype") ? SampleType::Int16 : SampleType::UInt16;
      case 32:
        return is_signed || !h.has("pixeltype") ? SampleType::Int32 : SampleType::UInt32;
      default:
        break;
    }
  throw Error(ErrorCode::Unsupported, fmt::format("has {}-bit samples of kind '{}'", bits, kind), file,
              "convert it to 8 to 32-bit integers or 32 or 64-bit floats");
}

void read_place(const HeaderReader& h, const std::string& file, Header& out) {
  FileLattice& l = out.lattice;
  constexpr double kMost = std::numeric_limits<std::int32_t>::max();
  l.cols = h.count("ncols", {}, kMost);
  l.rows = h.count("nrows", {}, kMost);
  if (l.cols == 0 || l.rows == 0)
    throw Error(ErrorCode::BadFile, "its header claims no cells", file, "mend the .hdr file");
  const auto rows = static_cast<double>(l.rows);
  if (h.has("ulxmap") || h.has("xdim")) {
    l.dx = h.number("xdim");
    l.dy = -h.number("ydim");
    l.x = h.number("ulxmap");
    l.y = h.number("ulymap");
    l.centre = true;
  } else {
    l.dx = h.number("cellsize");
    l.dy = -l.dx;
    l.x = h.has("xllcenter") ? h.number("xllcenter") - l.dx / 2 : h.number("xllcorner");
    l.y = (h.has("yllcenter") ? h.number("yllcenter") + l.dy / 2 : h.number("yllcorner")) - l.dy * rows;
  }
  if (!(l.dx > 0) || !(l.dy < 0))
    throw Error(ErrorCode::BadFile, "its cell size is not above zero", file, "mend the .hdr file");
}

Header read_header(const std::string& text, const std::string& file) {
  const Keys keys = keyword_lines(text);
  const HeaderReader h(keys, file);
  Header out;
  read_place(h, file, out);
  out.rule.type = type_of(h, file);
  for (const char* key : {"nodata", "nodata_value"})
    if (h.has(key)) out.rule.hole = h.number(key);
  const std::string order = h.text("byteorder", "i");
  out.big_endian = order == "m" || order.starts_with("msb") || order.starts_with("big");
  const std::string layout = h.text("layout", "bil");
  if (layout != "bil" && layout != "bip" && layout != "bsq")
    throw Error(ErrorCode::Unsupported, fmt::format("its header asks for the layout '{}'", layout), file,
                "BIL, BIP and BSQ are read");
  out.layout = layout == "bip" ? Header::Layout::Bip : layout == "bsq" ? Header::Layout::Bsq : Header::Layout::Bil;
  out.bands = std::max<std::int64_t>(1, h.count("nbands", 1, 65535));
  constexpr double kFar = 1e15;
  out.skip = static_cast<std::uint64_t>(h.count("skipbytes", 0, kFar));
  out.band_gap = static_cast<std::uint64_t>(h.count("bandgapbytes", 0, kFar));
  const auto band_row =
      static_cast<std::uint64_t>(out.lattice.cols) * static_cast<std::uint64_t>(bytes_per_sample(out.rule.type));
  // A length that is shorter than what it must hold would make rows of one another; zero says nothing.
  const auto length = [&](const char* key, std::uint64_t needed) {
    const auto told = static_cast<std::uint64_t>(h.count(key, 0, kFar));
    if (told != 0 && told < needed)
      throw Error(ErrorCode::BadFile,
                  fmt::format("its header gives {} = {}, and {} bytes are needed", key, told, needed), file,
                  "mend the .hdr file");
    return std::max(told, needed);
  };
  const auto bands = static_cast<std::uint64_t>(out.bands);
  out.band_row_bytes = out.layout == Header::Layout::Bip ? band_row : length("bandrowbytes", band_row);
  out.row_bytes = length("totalrowbytes", out.layout == Header::Layout::Bsq   ? out.band_row_bytes
                                          : out.layout == Header::Layout::Bip ? band_row * bands
                                                                              : out.band_row_bytes * bands);
  return out;
}

class FlatRows {
 public:
  FlatRows(std::shared_ptr<ByteSource> bytes, const Header& header, std::int64_t band)
      : bytes_(std::move(bytes)), h_(header), band_(static_cast<std::uint64_t>(band)) {}

  // Where a row of the band begins.
  std::uint64_t place(std::int64_t row) const {
    const auto r = static_cast<std::uint64_t>(row), size = sample_bytes();
    switch (h_.layout) {
      case Header::Layout::Bip:
        return h_.skip + r * h_.row_bytes + band_ * size;
      case Header::Layout::Bsq:
        return h_.skip + band_ * (static_cast<std::uint64_t>(h_.lattice.rows) * h_.row_bytes + h_.band_gap) +
               r * h_.row_bytes;
      case Header::Layout::Bil:
        break;
    }
    return h_.skip + r * h_.row_bytes + band_ * h_.band_row_bytes;
  }
  std::uint64_t end() const { return place(h_.lattice.rows - 1) + span(); }

  BlockCache::Bytes operator()(std::int64_t first, std::int64_t rows) const {
    const std::size_t size = sample_bytes(), cols = static_cast<std::size_t>(h_.lattice.cols);
    if (end() > bytes_->size() && place(first + rows - 1) + span() > bytes_->size())
      throw Error(ErrorCode::BadFile, fmt::format("row {} lies beyond the end of the file", first + rows - 1),
                  bytes_->name(), "the file is truncated; fetch it again");
    BlockCache::Bytes out(static_cast<std::size_t>(rows) * cols * size, 0);
    BlockCache::Bytes row(span(), 0);
    for (std::int64_t r = 0; r < rows; ++r) {
      std::uint8_t* to = out.data() + static_cast<std::size_t>(r) * cols * size;
      if (h_.layout != Header::Layout::Bip) {
        bytes_->read_exactly(place(first + r), std::span(to, cols * size));
        continue;
      }
      bytes_->read_exactly(place(first + r), row);
      const std::size_t step = size * static_cast<std::size_t>(h_.bands);
      for (std::size_t c = 0; c < cols; ++c) std::copy_n(row.data() + c * step, size, to + c * size);
    }
    if (h_.big_endian) tiff::swap_samples(out.data(), out.size() / size, static_cast<int>(size));
    return out;
  }

 private:
  std::size_t sample_bytes() const { return static_cast<std::size_t>(bytes_per_sample(h_.rule.type)); }
  // Bytes from the first sample of a row of the band to its last.
  std::size_t span() const {
    const auto cols = static_cast<std::size_t>(h_.lattice.cols);
    if (h_.layout != Header::Layout::Bip) return cols * sample_bytes();
    return ((cols - 1) * static_cast<std::size_t>(h_.bands) + 1) * sample_bytes();
  }

  std::shared_ptr<ByteSource> bytes_;
  Header h_;
  std::uint64_t band_;
};

bool lies_beside(const Format& f, const std::string& ending) {
  return std::find(f.beside.begin(), f.beside.end(), ending) != f.beside.end();
}

// The data when the header itself was named.
std::shared_ptr<ByteSource> data_of(const Located& file) {
  std::vector<std::string> endings;
  for (const Format& f : formats())
    if (lies_beside(f, ".hdr")) endings.insert(endings.end(), f.endings.begin(), f.endings.end());
  // And those that say nothing of what a file holds.
  for (const char* e : {".bin", ".dem", ".img"}) endings.emplace_back(e);
  for (const std::string& e : endings)
    if (auto found = file.with_extension(e)) return found;
  throw Error(ErrorCode::BadFile, "is a header, and the data that belong to it are not beside it", file.bytes->name(),
              "put both into one folder");
}

}  // namespace

bool is_flat(const Located& file) {
  const std::string ext = lower_case(std::filesystem::path(file.name).extension().string());
  if (ext == ".hdr") return file.bytes->size() < 65536 && is_header(read_text(*file.bytes));
  // What else may lie beside the header: what goes with a format, and what people write and draw.
  if (std::any_of(formats().begin(), formats().end(), [&](const Format& f) { return lies_beside(f, ext); }))
    return false;
  for (const char* other : {".txt", ".xml", ".stx", ".clr", ".csv", ".md", ".png", ".pdf"})
    if (ext == other) return false;
  const auto text = file.text_with_extension(".hdr");
  return text && is_header(*text);
}

GridFile open_flat(const Located& file, const OpenOptions& options) {
  const bool header_named = lower_case(std::filesystem::path(file.name).extension().string()) == ".hdr";
  const std::string text = header_named ? read_text(*file.bytes) : file.text_with_extension(".hdr").value_or("");
  const std::shared_ptr<ByteSource> data = header_named ? data_of(file) : file.bytes;
  const Header h = read_header(text, data->name());
  const std::int64_t band = band_from(options, h.bands, data->name());
  const FlatRows rows(data, h, band);
  GridFile out;
  out.facts.format = "flat binary";
  out.facts.layout = fmt::format("{}, {}",
                                 h.layout == Header::Layout::Bip   ? "BIP"
                                 : h.layout == Header::Layout::Bsq ? "BSQ"
                                                                   : "BIL",
                                 h.big_endian ? "most significant byte first" : "least significant byte first");
  if (bytes_per_sample(h.rule.type) == 1) out.facts.layout = out.facts.layout.substr(0, 3);
  for (std::int64_t b = 0; h.bands > 1 && b < h.bands; ++b) out.facts.bands.push_back(std::to_string(b + 1));
  if (rows.end() > data->size())
    out.facts.problems.push_back(
        fmt::format("truncated: {} of the {} bytes that its header promises", data->size(), rows.end()));
  GridInfo info;
  info.frame = h.lattice.frame();
  describe_samples(h.rule, info);
  out.grid = grid_of_rows(std::move(info), h.rule, convenient_rows(h.lattice.cols, h.rule.type), rows);
  return out;
}

}  // namespace katoptra
