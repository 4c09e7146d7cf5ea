// The ASCII grid: a few lines of keywords, then rows of numbers from north to south, in any arrangement of lines.
//
// Opening looks through the whole text once, on all cores: it counts the values, remembers where every block of rows
// begins, and finds out whether they are whole numbers. Rows are parsed when they are read.
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <utility>

#include "katoptra/base/error.hpp"

#include "base/text.hpp"
#include "formats/readers.hpp"
#include "formats/rows_source.hpp"
#include "text_scan.hpp"

namespace katoptra {
namespace {

struct AsciiHeader {
  std::map<std::string, std::string> keys;
  std::uint64_t bytes = 0;  // where values begin
};

// Keyword lines up to the first that begins like a number.
AsciiHeader read_header(const ByteSource& bytes) {
  constexpr std::size_t kMost = 4096;
  const std::string text = text_between(bytes, 0, std::min<std::uint64_t>(bytes.size(), kMost));
  AsciiHeader h;
  std::size_t at = text.starts_with("\xEF\xBB\xBF") ? 3 : 0;
  while (at < text.size()) {
    std::size_t begin = at;
    while (begin < text.size() && is_blank(text[begin])) ++begin;
    if (begin >= text.size() || !std::isalpha(static_cast<unsigned char>(text[begin])) ||
        lower_case(text.substr(begin, 3)) == "nan")
      break;
    const std::size_t line_end = std::min(text.find('\n', begin), text.size());
    std::size_t key_end = begin;
    while (key_end < line_end && !is_blank(text[key_end])) ++key_end;
    std::size_t value = key_end;
    while (value < line_end && is_blank(text[value])) ++value;
    std::size_t value_end = value;
    while (value_end < line_end && !is_blank(text[value_end])) ++value_end;
    h.keys[lower_case(text.substr(begin, key_end - begin))] = text.substr(value, value_end - value);
    at = std::min(line_end + 1, text.size());
  }
  h.bytes = at;
  return h;
}

double number(const AsciiHeader& h, const std::string& key, const std::string& file) {
  const auto found = h.keys.find(key);
  double v = 0;
  if (found == h.keys.end())
    throw Error(ErrorCode::BadFile, fmt::format("its header lacks '{}'", key), file, "an ASCII grid needs it");
  if (!parse_token(found->second, v) || !std::isfinite(v))
    throw Error(ErrorCode::BadFile, fmt::format("its header says {} = '{}'", key, found->second), file,
                "it should be a number");
  return v;
}

FileLattice lattice_of(const AsciiHeader& h, const std::string& file) {
  FileLattice l;
  const double cols = number(h, "ncols", file), rows = number(h, "nrows", file);
  constexpr double kMost = std::numeric_limits<std::int32_t>::max();
  if (!(cols >= 1 && rows >= 1 && cols <= kMost && rows <= kMost) || cols != std::floor(cols) ||
      rows != std::floor(rows))
    throw Error(ErrorCode::BadFile, fmt::format("its header claims {} x {} cells", cols, rows), file,
                "it is damaged; fetch it again");
  l.cols = static_cast<std::int64_t>(cols);
  l.rows = static_cast<std::int64_t>(rows);
  const bool two = h.keys.count("dx") && h.keys.count("dy");
  l.dx = number(h, two ? "dx" : "cellsize", file);
  l.dy = -number(h, two ? "dy" : "cellsize", file);
  if (!(l.dx > 0) || !(l.dy < 0))
    throw Error(ErrorCode::BadFile, "its cell size is not above zero", file, "mend the header");
  const bool x_centre = h.keys.count("xllcenter") != 0, y_centre = h.keys.count("yllcenter") != 0;
  const double x = number(h, x_centre ? "xllcenter" : "xllcorner", file),
               y = number(h, y_centre ? "yllcenter" : "yllcorner", file);
  l.x = x_centre ? x - l.dx / 2 : x;
  l.y = (y_centre ? y + l.dy / 2 : y) - l.dy * rows;
  return l;
}

struct Piece {
  std::uint64_t tokens = 0;
  bool fractions = false, comma = false;
  std::int64_t lowest = 0, highest = 0;
};

// What a piece of text holds. `before`: the character in front of it.
Piece look_through(std::string_view text, char before) {
  Piece p;
  bool in_token = !is_blank(before), negative = false;
  std::int64_t value = 0;
  auto end_token = [&] {
    p.lowest = std::min(p.lowest, negative ? -value : value);
    p.highest = std::max(p.highest, negative ? -value : value);
  };
  for (const char c : text) {
    if (is_blank(c)) {
      if (in_token) end_token();
      in_token = false;
      continue;
    }
    if (!in_token) {
      ++p.tokens;
      in_token = true;
      negative = c == '-';
      value = 0;
    }
    if (c >= '0' && c <= '9')
      value = std::min<std::int64_t>(value * 10 + (c - '0'), std::int64_t{1} << 40);
    else if (c == ',')
      p.comma = true;
    else if (c != '-' && c != '+')
      p.fractions = true;
  }
  if (in_token) end_token();
  return p;
}

struct Index {
  std::vector<std::uint64_t> offsets;  // of the first value of every block, and of the end
  std::uint64_t values = 0;
  SampleType type = SampleType::Float32;
};

Index index_of(const ByteSource& bytes, std::uint64_t from, std::int64_t cols, std::int64_t rows,
               std::int64_t rows_per_block) {
  std::vector<Piece> pieces(piece_count(bytes, from));
  const auto with_one_before = [&](std::uint64_t begin, std::uint64_t end) {
    return text_between(bytes, begin - (begin > 0), end);
  };
  for_each_piece(bytes, from, [&](std::size_t i, std::uint64_t begin, std::uint64_t end) {
    const std::string text = with_one_before(begin, end);
    const std::size_t skip = begin > 0;
    pieces[i] = look_through(std::string_view(text).substr(skip), i == 0 || !skip ? ' ' : text[0]);
  });
  Index index;
  std::vector<std::uint64_t> first(pieces.size());
  bool fractions = false;
  std::int64_t lowest = 0, highest = 0;
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    first[i] = index.values;
    index.values += pieces[i].tokens;
    fractions = fractions || pieces[i].fractions;
    lowest = std::min(lowest, pieces[i].lowest);
    highest = std::max(highest, pieces[i].highest);
    if (pieces[i].comma)
      throw Error(ErrorCode::BadFile, "has commas among its values", bytes.name(),
                  "an ASCII grid has blanks between values and points in fractions");
  }
  if (!fractions)
    index.type = lowest >= -32768 && highest <= 32767               ? SampleType::Int16
                 : lowest >= -2147483648LL && highest <= 2147483647 ? SampleType::Int32
                                                                    : SampleType::Float32;
  const auto per_block = static_cast<std::uint64_t>(cols) * static_cast<std::uint64_t>(rows_per_block);
  const std::int64_t blocks = (rows + rows_per_block - 1) / rows_per_block;
  index.offsets.assign(static_cast<std::size_t>(blocks) + 1, bytes.size());
  for_each_piece(bytes, from, [&](std::size_t i, std::uint64_t begin, std::uint64_t end) {
    std::uint64_t block = (first[i] + per_block - 1) / per_block;
    if (block * per_block >= first[i] + pieces[i].tokens || block >= static_cast<std::uint64_t>(blocks)) return;
    const std::string text = with_one_before(begin, end);
    std::size_t at = begin > 0;
    bool in_token = i > 0 && !is_blank(text[0]);
    std::uint64_t token = first[i];
    for (; at < text.size(); ++at) {
      const bool blank = is_blank(text[at]);
      if (!blank && !in_token) {
        if (token == block * per_block) {
          index.offsets[block] = begin + at - (begin > 0);
          if (++block >= static_cast<std::uint64_t>(blocks)) return;
        }
        ++token;
      }
      in_token = !blank;
    }
  });
  return index;
}

// Values of a block of rows, kept as 32-bit floats or, where all are whole, integers.
class AsciiRows {
 public:
  AsciiRows(std::shared_ptr<ByteSource> bytes, Index index, std::int64_t cols, std::int64_t rows_per_block)
      : bytes_(std::move(bytes)), index_(std::move(index)), cols_(cols), rows_per_block_(rows_per_block) {}

  BlockCache::Bytes operator()(std::int64_t first, std::int64_t rows) const {
    const auto block = static_cast<std::size_t>(first / rows_per_block_);
    const auto begin = index_.offsets[block], end = std::max(begin, index_.offsets[block + 1]);
    const std::string text = text_between(*bytes_, begin, end);
    const auto n = static_cast<std::size_t>(rows * cols_);
    if (n > text.size()) damaged(first, 0, "the file ends soon after it");
    BlockCache::Bytes out(n * static_cast<std::size_t>(bytes_per_sample(index_.type)), 0);
    std::size_t at = 0;
    for (std::size_t i = 0; i < n; ++i) {
      while (at < text.size() && is_blank(text[at])) ++at;
      std::size_t stop = at;
      while (stop < text.size() && !is_blank(text[stop])) ++stop;
      const auto place = static_cast<std::int64_t>(i);
      if (stop == at) damaged(first + place / cols_, place % cols_, "the file ends before it");
      double v = 0;
      if (!parse_token(std::string_view(text).substr(at, stop - at), v))
        damaged(first + place / cols_, place % cols_,
                fmt::format("'{}' is not a number", text.substr(at, std::min<std::size_t>(stop - at, 20))));
      put(out, i, v);
      at = stop;
    }
    return out;
  }

 private:
  void put(BlockCache::Bytes& out, std::size_t i, double v) const {
    if (index_.type == SampleType::Int16)
      reinterpret_cast<std::int16_t*>(out.data())[i] = static_cast<std::int16_t>(v);
    else if (index_.type == SampleType::Int32)
      reinterpret_cast<std::int32_t*>(out.data())[i] = static_cast<std::int32_t>(v);
    else
      reinterpret_cast<float*>(out.data())[i] =
          std::abs(v) < kNoValueFrom ? static_cast<float>(v) : std::numeric_limits<float>::quiet_NaN();
  }
  [[noreturn]] void damaged(std::int64_t row, std::int64_t col, const std::string& why) const {
    throw Error(ErrorCode::BadFile, fmt::format("the value of row {}, column {} cannot be read: {}", row, col, why),
                bytes_->name(), "the file is truncated or damaged; fetch it again");
  }

  std::shared_ptr<ByteSource> bytes_;
  Index index_;
  std::int64_t cols_, rows_per_block_;
};

}  // namespace

bool is_ascii_grid(std::span<const std::uint8_t> head) {
  std::string text(reinterpret_cast<const char*>(head.data()), std::min<std::size_t>(head.size(), 256));
  if (text.starts_with("\xEF\xBB\xBF")) text = text.substr(3);
  text = lower_case(text.substr(std::min(text.find_first_not_of(" \t\r\n"), text.size())));
  return (text.starts_with("ncols") || text.starts_with("nrows")) && text.find("ncols") != text.npos &&
         text.find("nrows") != text.npos;
}

GridFile open_ascii_grid(const Located& file) {
  const std::string& name = file.bytes->name();
  const AsciiHeader header = read_header(*file.bytes);
  const FileLattice lattice = lattice_of(header, name);
  const std::int64_t rows_per_block = convenient_rows(lattice.cols, SampleType::Float32);
  // Every value takes at least a digit and a blank; a header that claims more than the file can hold is damaged.
  const auto wanted = static_cast<std::uint64_t>(lattice.cols) * static_cast<std::uint64_t>(lattice.rows);
  if (static_cast<std::uint64_t>(std::max(lattice.rows, lattice.cols)) > file.bytes->size())
    throw Error(ErrorCode::BadFile,
                fmt::format("its header claims {} x {} cells, and it has {} bytes", lattice.cols, lattice.rows,
                            file.bytes->size()),
                name, "it is truncated; fetch it again");
  Index index = index_of(*file.bytes, header.bytes, lattice.cols, lattice.rows, rows_per_block);

  GridFile out;
  out.facts.format = "ASCII grid";
  out.facts.layout = "rows of text";
  if (index.values < wanted)
    out.facts.problems.push_back(
        fmt::format("truncated: it has {} of the {} values that its header promises", index.values, wanted));
  if (index.values > wanted)
    out.facts.problems.push_back(
        fmt::format("has {} values, {} more than its header promises", index.values, index.values - wanted));
  SampleRule rule{.type = index.type, .hole = {}};
  if (header.keys.count("nodata_value")) {
    double v = 0;
    if (parse_token(header.keys.at("nodata_value"), v)) rule.hole = v;
  }
  GridInfo info;
  info.frame = lattice.frame();
  describe_samples(rule, info);
  out.grid = grid_of_rows(std::move(info), rule, rows_per_block,
                          AsciiRows(file.bytes, std::move(index), lattice.cols, rows_per_block));
  return out;
}

}  // namespace katoptra
