// GeoTIFF writing: our own layout of the file, so that the header stands first, tiles are coded on every core and
// overviews are made in the same pass.
//
// Order in the file: header, one directory a level (full size first), their tables, then tiles, row by row, with each
// row of tiles of an overview behind those that it was made of. One maker makes a square of them: two by two tiles (of
// a large file four by four), and the overviews that they become; its lower rows wait for the end of the row of
// squares, or until too much waits, as of the widest surfaces. The size of the directories is known from the frame, so
// their place is kept free and filled in at the end.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/version.hpp"

#include "base/packed.hpp"
#include "base/shared_parts.hpp"
#include "formats/format_row.hpp"
#include "formats/lineage_file.hpp"
#include "formats/writers.hpp"
#include "geokeys.hpp"
#include "grid/shared_reading.hpp"
#include "tiff_codec.hpp"
#include "tiff_layout.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using tiff::Tag, tiff::longs, tiff::shorts, tiff::text;

struct Level {
  std::int64_t cols = 0, rows = 0, across = 0, down = 0;
  // Of the tiles of the values, then of those of the uncertainty: planes are apart in the file, so that who asks for
  // values alone reads nothing else.
  std::vector<std::uint64_t> offsets, counts;
  // One row of tiles of this overview, of each plane, while its cells arrive from the level above; of overviews that
  // squares do not hold.
  struct Strip {
    std::vector<float> cells;
    std::int64_t row = 0;
  };
  std::vector<Strip> strips;
};

// How tiles are packed.
struct Coding {
  int compression = tiff::kDeflate, predictor = tiff::kNoPredictor, level = 3;
};

std::vector<std::uint8_t> packed_tile(const float* values, std::int64_t edge, const StoredAs& as, const Coding& coding,
                                      const std::string& file) {
  const auto n = static_cast<std::size_t>(edge * edge);
  const int bytes_per = bytes_per_sample(as.type);
  const std::size_t size = n * static_cast<std::size_t>(bytes_per);
  const auto raw = std::make_unique_for_overwrite<std::uint8_t[]>(size);
  floats_to_samples(values, n, as, raw.get(), file);
  if (coding.predictor == tiff::kDifference) tiff::encode_difference(raw.get(), edge, edge, bytes_per);
  if (coding.predictor == tiff::kFloatingPoint) tiff::encode_floating_point(raw.get(), edge, edge, bytes_per);
  return tiff::compress({raw.get(), size}, coding.compression, coding.level);
}

int compression_of(Codec codec) {
  return codec == Codec::Zstd ? tiff::kZstd : codec == Codec::None ? tiff::kNone : tiff::kDeflate;
}

// What the options ask for; where they leave it open, what is right without a trial.
Coding coding_without_trial(const WriteOptions& options, SampleType type) {
  Coding c{.compression = compression_of(options.codec), .level = options.level};
  if (c.compression == tiff::kNone || options.predictor == Predictor::None) return c;
  c.predictor =
      is_integer(type) || options.predictor == Predictor::Difference ? tiff::kDifference : tiff::kFloatingPoint;
  return c;
}

// Means have all the digits that values had been rounded of, and overviews are made to be looked at: quickly, then.
Coding for_overviews(Coding c, SampleType type) {
  if (c.predictor != tiff::kNoPredictor && !is_integer(type)) c.predictor = tiff::kFloatingPoint;
  c.level = std::min(c.level, 1);
  return c;
}

// One file under way. encode() is pure and runs anywhere; place() runs in order.
class TiffWriter {
 public:
  TiffWriter(const fs::path& path, const GridInfo& info, const WriteOptions& options, const Coding& coding,
             bool categories, bool uncertain = false)
      : coding_(coding),
        overview_coding_(for_overviews(coding, info.type)),
        path_(path),
        options_(options),
        info_(info),
        target_(stored_as(info, options.void_value, path.string())),
        categories_(categories),
        planes_(uncertain ? 2 : 1),
        geo_tags_(tiff::write_geo_tags(info.frame.crs(), info.quantity, info.frame.bounds())),
        sink_(create_file(path, {.overwrite = options.overwrite})) {
    // Directions wrap around and codes are names: their overviews pick a cell instead of averaging.
    categories_ = categories_ || is_coded(info.quantity.kind) || info.quantity.kind == QuantityKind::Aspect;
    make_levels();
    // Whole tiles of all levels, each at most a little larger than plain: what is packed no better must fit, too.
    double raw = 0;
    for (const Level& l : levels_) {
      const double tiles = static_cast<double>(l.across) * static_cast<double>(l.down);
      raw += planes_ * tiles * (1.01 * static_cast<double>(edge() * edge()) * bytes_per_sample(target_.type) + 64);
    }
    big_ = options.always_big || raw > 4.0e9;
    end_ = directories().size();
  }

  const StoredAs& target() const { return target_; }
  // False: GeoTIFF has no terms for the CRS, which must be told beside the file.
  bool tells_crs() const { return geo_tags_.complete; }
  Window tile_window(std::size_t index) const {
    const auto i = static_cast<std::int64_t>(index);
    return {i % levels_[0].across * edge(), i / levels_[0].across * edge(), edge(), edge()};
  }

  std::size_t squares() const {
    const Level& l = levels_[deep_];
    return static_cast<std::size_t>(l.across * l.down);
  }
  std::size_t squares_across() const { return static_cast<std::size_t>(levels_[deep_].across); }
  // The tiles of a level that lie in a square, row by row.
  std::vector<std::size_t> tiles_of(std::size_t square, std::size_t which = 0) const {
    const Level& l = levels_[which];
    const std::int64_t side = std::int64_t{1} << (deep_ - which), n = levels_[deep_].across,
                       col = static_cast<std::int64_t>(square) % n * side,
                       row = static_cast<std::int64_t>(square) / n * side;
    std::vector<std::size_t> tiles;
    for (std::int64_t r = row; r < std::min(row + side, l.down); ++r)
      for (std::int64_t c = col; c < std::min(col + side, l.across); ++c)
        tiles.push_back(static_cast<std::size_t>(r * l.across + c));
    return tiles;
  }

  // A tile as it stands in the file. Of one that another process keeps and writes only its size is known here.
  struct Packed {
    std::vector<std::uint8_t> bytes;
    std::uint64_t size = 0;
  };
  // That, and the tile halved for the next level: a quarter of a tile.
  struct Tile {
    Packed packed;
    std::vector<float> half;
  };
  // `values`: one whole tile, voids beyond the frame.
  Tile tile(const float* values) const { return tile_of(0, values); }

  // The tiles of all levels of a square, and half of the one that it ends in.
  struct Square {
    std::vector<Packed> tiles;
    std::vector<float> half;
  };
  // `tiles`: those of the square at full size.
  Square square(std::size_t index, std::vector<Tile> tiles) const {
    Square s;
    for (std::size_t which = 0;; ++which) {
      for (Tile& t : tiles) s.tiles.push_back(std::move(t.packed));
      if (which == deep_) break;
      tiles = overviews_of(index, which, tiles);
    }
    s.half = std::move(tiles[0].half);
    return s;
  }

  // `plane`: 0 for values, 1 for their uncertainty.
  void place(std::size_t plane, std::size_t index, Square s) {
    const std::int64_t across = levels_[deep_].across, i = static_cast<std::int64_t>(index);
    std::size_t next = 0;
    for (std::size_t which = 0; which <= deep_; ++which)
      for (const std::size_t t : tiles_of(index, which)) {
        const auto row = static_cast<std::int64_t>(t) / levels_[which].across;
        if (which == 0 && row % (std::int64_t{1} << deep_) == 0) {
          put(levels_[0], plane, t, s.tiles.at(next), {index, next});
          ++next;
          continue;
        }
        held_bytes_ += s.tiles.at(next).size;
        held_[{which, row}].push_back({plane, t, std::move(s.tiles[next]), {index, next}});
        ++next;
      }
    if (held_bytes_ > kMostHeld || (i % across == across - 1 && plane + 1 == planes_)) put_held();
    if (deep_ + 1 < levels_.size()) paste(deep_ + 1, plane, i % across, i / across, s.half);
  }

  std::optional<ByteSink::Meeting> meet() { return sink_->meet(); }
  // Where tiles belong that others keep, of those that were placed since this was asked last.
  struct Elsewhere {
    std::size_t square, plane, tile;
    std::uint64_t offset, size;
  };
  std::vector<Elsewhere> taken_elsewhere() { return std::exchange(elsewhere_, {}); }

  std::string compression_name() const {
    const std::string codec = coding_.compression == tiff::kZstd   ? "ZSTD"
                              : coding_.compression == tiff::kNone ? "none"
                                                                   : "deflate";
    return coding_.predictor > 1 ? fmt::format("{}, predictor {}", codec, coding_.predictor) : codec;
  }

  std::uint64_t finish() {
    sink_->write_at(0, directories());
    sink_->commit();
    return end_;
  }

 private:
  std::int64_t edge() const { return options_.tile; }
  void make_levels() {
    std::int64_t cols = info_.frame.cols(), rows = info_.frame.rows();
    for (;;) {
      Level l{.cols = cols,
              .rows = rows,
              .across = (cols + edge() - 1) / edge(),
              .down = (rows + edge() - 1) / edge(),
              .offsets = {},
              .counts = {},
              .strips = {}};
      const auto n = static_cast<std::size_t>(l.across * l.down);
      l.offsets.assign(planes_ * n, 0);
      l.counts.assign(planes_ * n, 0);
      levels_.push_back(std::move(l));
      if (!options_.overviews || (cols <= edge() && rows <= edge())) break;
      cols = (cols + 1) / 2;
      rows = (rows + 1) / 2;
    }
    // Of what one maker leaves over, the one writer makes the rest: a sixteenth is too much where many make.
    constexpr std::int64_t kManyTiles = 4096;
    deep_ = std::min<std::size_t>(levels_.size() - 1, levels_[0].across * levels_[0].down >= kManyTiles ? 2 : 1);
    for (std::size_t which = deep_ + 1; which < levels_.size(); ++which) {
      Level& l = levels_[which];
      l.strips.assign(planes_, {std::vector<float>(static_cast<std::size_t>(l.across * edge() * edge()), kVoid)});
    }
  }

  Tile tile_of(std::size_t which, const float* values) const {
    Tile t;
    t.packed.bytes = packed_tile(values, edge(), target_, which == 0 ? coding_ : overview_coding_, path_.string());
    t.packed.size = t.packed.bytes.size();
    if (which + 1 < levels_.size()) t.half = halved(values);
    return t;
  }

  std::vector<float> halved(const float* values) const {
    const std::int64_t half = edge() / 2;
    std::vector<float> out(static_cast<std::size_t>(half * half));
    for (std::int64_t r = 0; r < half; ++r)
      for (std::int64_t c = 0; c < half; ++c) {
        const float* p = values + 2 * r * edge() + 2 * c;
        out[static_cast<std::size_t>(r * half + c)] =
            categories_ ? p[0] : mean_of(p[0], p[1], p[edge()], p[edge() + 1]);
      }
    return out;
  }

  // Puts the quarter that tile (col, row) of the level above became where it belongs; `stride`: cells in a row.
  void put_quarter(const std::vector<float>& half, std::int64_t col, std::int64_t row, float* cells,
                   std::int64_t stride) const {
    const std::int64_t h = edge() / 2;
    float* to = cells + row * h * stride + col * h;
    for (std::int64_t r = 0; r < h; ++r) std::copy_n(half.data() + r * h, h, to + r * stride);
  }

  // What the tiles of a square at one level become at the next.
  std::vector<Tile> overviews_of(std::size_t square, std::size_t which, const std::vector<Tile>& tiles) const {
    const std::vector<std::size_t> from = tiles_of(square, which), to = tiles_of(square, which + 1);
    const auto place = [&](std::size_t level, std::size_t tile) {
      const auto t = static_cast<std::int64_t>(tile);
      return std::pair{t % levels_[level].across, t / levels_[level].across};
    };
    std::vector<Tile> out(to.size());
    parallel_within(to.size(), [&](std::size_t i) {
      const auto [col, row] = place(which + 1, to[i]);
      std::vector<float> cells(static_cast<std::size_t>(edge() * edge()), kVoid);
      for (std::size_t j = 0; j < from.size(); ++j)
        if (const auto [c, r] = place(which, from[j]); c / 2 == col && r / 2 == row)
          put_quarter(tiles[j].half, c % 2, r % 2, cells.data(), edge());
      out[i] = tile_of(which + 1, cells.data());
    });
    return out;
  }

  static float mean_of(float a, float b, float c, float d) {
    float sum = 0;
    int n = 0;
    for (float v : {a, b, c, d})
      if (!std::isnan(v)) {
        sum += v;
        ++n;
      }
    return n ? sum / static_cast<float>(n) : kVoid;
  }

  // Which tile of which square it is.
  struct Piece {
    std::size_t square, tile;
  };
  void put(Level& level, std::size_t plane, std::size_t index, const Packed& packed, const Piece& piece) {
    index += plane * static_cast<std::size_t>(level.across * level.down);
    end_ += end_ & 1;  // TIFF wants data at even places
    if (packed.bytes.empty())
      elsewhere_.push_back({piece.square, plane, piece.tile, end_, packed.size});
    else
      sink_->write_at(end_, packed.bytes);
    level.offsets[index] = end_;
    level.counts[index] = packed.size;
    end_ += packed.size;
    if (!big_ && end_ > 0xFFFFFFF0u)
      throw Error(ErrorCode::TooLarge, "grew past 4 GiB", path_.string(), "report this: the size was misjudged");
  }

  void put_held() {
    for (const auto& [level_row, tiles] : held_)
      for (const Held& h : tiles) put(levels_[level_row.first], h.plane, h.tile, h.packed, h.piece);
    held_.clear();
    held_bytes_ = 0;
  }

  // Puts the quarter that tile (col, row) of the level above became into this level; writes the row of tiles when
  // whole.
  void paste(std::size_t which, std::size_t plane, std::int64_t col, std::int64_t row, const std::vector<float>& half) {
    Level& l = levels_[which];
    Level::Strip& strip = l.strips[plane];
    const std::int64_t stride = l.across * edge();
    put_quarter(half, col, row % 2, strip.cells.data(), stride);
    const Level& above = levels_[which - 1];
    if (col + 1 < above.across || (row % 2 == 0 && row + 1 < above.down)) return;
    // A few at a time: a row of them all is as large as the row of tiles itself.
    constexpr std::int64_t kAtOnce = 16;
    for (std::int64_t first = 0; first < l.across; first += kAtOnce) {
      std::vector<Tile> finished(static_cast<std::size_t>(std::min(kAtOnce, l.across - first)));
      parallel_within(finished.size(), [&](std::size_t i) {
        const std::int64_t t = first + static_cast<std::int64_t>(i);
        std::vector<float> cells(static_cast<std::size_t>(edge() * edge()));
        for (std::int64_t r = 0; r < edge(); ++r)
          std::copy_n(strip.cells.data() + r * stride + t * edge(), edge(), cells.data() + r * edge());
        finished[i] = tile_of(which, cells.data());
      });
      for (std::size_t i = 0; i < finished.size(); ++i) {
        const std::int64_t t = first + static_cast<std::int64_t>(i);
        put(l, plane, static_cast<std::size_t>(strip.row * l.across + t), finished[i].packed, {});
        if (which + 1 < levels_.size()) paste(which + 1, plane, t, strip.row, finished[i].half);
      }
    }
    ++strip.row;
    std::fill(strip.cells.begin(), strip.cells.end(), kVoid);
  }

  // "1 flat, 2 summit": commas within a name would end it.
  static std::string class_list(std::span<const char* const> names) {
    std::string s;
    for (std::size_t i = 0; i < names.size(); ++i) {
      std::string name = names[i];
      std::replace(name.begin(), name.end(), ',', ' ');
      s += fmt::format("{}{} {}", i ? ", " : "", i + 1, name);
    }
    return s;
  }

  std::string description() const {
    const Quantity& q = info_.quantity;
    std::string s = fmt::format("Katoptra {}; quantity={}; unit={}", KATOPTRA_VERSION, name_of(q.kind), unit_name(q));
    if (q.kind == QuantityKind::Height) s += "; heights=" + q.heights.name();
    if (const auto classes = classes_of(q.kind); !classes.empty()) s += "; classes=" + class_list(classes);
    if (q.surface != SurfaceKind::Unknown) s += std::string("; surface=") + name_of(q.surface);
    if (!options_.survey.empty()) s += "; survey=" + options_.survey;
    // What was made of several files is no survey: a search of its folder must not take it for one.
    const auto sources = std::count_if(info_.sources.begin(), info_.sources.end(),
                                       [](const SourceRecord& r) { return !r.name.starts_with("fill: "); });
    if (sources > 1) s += fmt::format("; sources={}", sources);
    if (planes_ == 2) s += fmt::format("; bands={}, uncertainty", name_of(q.kind));
    if (planes_ == 2 && info_.error_reach) s += fmt::format("; error reach={:.9g} m", info_.error_reach->metres());
    return s;
  }
  // The same value for each plane.
  std::vector<std::uint16_t> each(int value) const {
    return std::vector<std::uint16_t>(planes_, static_cast<std::uint16_t>(value));
  }

  std::vector<Tag> tags(std::size_t which) const {
    const Level& l = levels_[which];
    const int format = target_.type == SampleType::Float32 || target_.type == SampleType::Float64 ? 3
                       : lowest_of(target_.type) < 0                                              ? 2
                                                                                                  : 1;
    std::vector<Tag> t;
    t.push_back(longs(254, {which == 0 ? 0u : 1u}, false));
    t.push_back(longs(256, {static_cast<std::uint64_t>(l.cols)}, false));
    t.push_back(longs(257, {static_cast<std::uint64_t>(l.rows)}, false));
    t.push_back(shorts(258, each(8 * bytes_per_sample(target_.type))));
    t.push_back(shorts(259, {static_cast<std::uint16_t>(coding_.compression)}));
    t.push_back(shorts(262, {1}));
    if (which == 0) t.push_back(text(270, description()));
    t.push_back(shorts(277, {static_cast<std::uint16_t>(planes_)}));
    t.push_back(shorts(284, {static_cast<std::uint16_t>(planes_)}));  // 2: apart
    if (which == 0 && options_.date.size() == 10)
      t.push_back(text(306, fmt::format("{}:{}:{} 00:00:00", options_.date.substr(0, 4), options_.date.substr(5, 2),
                                        options_.date.substr(8, 2))));
    t.push_back(shorts(317, {static_cast<std::uint16_t>((which == 0 ? coding_ : overview_coding_).predictor)}));
    t.push_back(longs(322, {static_cast<std::uint64_t>(edge())}, false));
    t.push_back(longs(323, {static_cast<std::uint64_t>(edge())}, false));
    t.push_back(longs(324, l.offsets, big_));
    t.push_back(longs(325, l.counts, false));
    if (planes_ == 2) t.push_back(shorts(338, {0}));
    t.push_back(shorts(339, each(format)));
    if (which == 0) tiff::append_place(t, info_.frame, geo_tags_);
    t.push_back(text(42113, std::isnan(target_.void_value) ? "nan" : fmt::format("{}", target_.void_value)));
    return t;
  }

  // The head of the file; always the same size for the same frame and options.
  std::vector<std::uint8_t> directories() const {
    std::vector<std::vector<Tag>> all;
    for (std::size_t which = 0; which < levels_.size(); ++which) all.push_back(tags(which));
    return tiff::head_of(all, big_);
  }

  Coding coding_, overview_coding_;
  fs::path path_;
  WriteOptions options_;
  GridInfo info_;
  StoredAs target_;
  bool categories_, big_ = false;
  std::size_t planes_;
  tiff::GeoTags geo_tags_;
  std::unique_ptr<ByteSink> sink_;
  std::vector<Level> levels_;
  std::size_t deep_ = 0;  // how many levels a square goes down
  // Lower rows of squares, by level and row.
  struct Held {
    std::size_t plane, tile;
    Packed packed;
    Piece piece;
  };
  static constexpr std::size_t kMostHeld = std::size_t{24} << 20;
  std::map<std::pair<std::size_t, std::int64_t>, std::vector<Held>> held_;
  std::size_t held_bytes_ = 0;
  std::vector<Elsewhere> elsewhere_;
  std::uint64_t end_ = 0;
};

// ------------------------------------------------------------------------------------------------------- write_grid

// The codes of the origin plane as a grid of numbers, for the writer.
GridInfo lineage_info(const GridInfo& info) {
  GridInfo codes = info;
  codes.quantity = {.kind = QuantityKind::Code, .other_unit = {}, .heights = {}};
  const std::size_t most = (info.sources.size() + 1) * 8;
  codes.type = most <= 256 ? SampleType::UInt8 : most <= 65536 ? SampleType::UInt16 : SampleType::UInt32;
  codes.file_void = 0;
  return codes;
}

// Tiles that were read for the trial are not read again.
using TrialTiles = std::map<std::size_t, Block>;

// A few tiles, spread over the grid, by their numbers.
std::map<std::size_t, Window> trial_windows(const Frame& frame, const WriteOptions& options) {
  constexpr std::int64_t kTiles = 4;
  const std::int64_t edge = options.tile, across = (frame.cols() + edge - 1) / edge,
                     n = across * ((frame.rows() + edge - 1) / edge);
  std::map<std::size_t, Window> windows;
  for (std::int64_t k = 0; k < std::min(n, kTiles); ++k) {
    const std::int64_t i = (2 * k + 1) * n / (2 * std::min(n, kTiles));
    windows.emplace(static_cast<std::size_t>(i), Window{i % across * edge, i / across * edge, edge, edge});
  }
  return windows;
}

// Packs a few tiles, spread over the grid, in every way that is open and takes what comes out smallest. The choice
// depends on the grid alone, so the same bytes come out on every machine.
Coding tried_coding(const Grid& grid, const WriteOptions& options, const std::string& file, Planes planes,
                    TrialTiles& tiles) {
  const StoredAs as = stored_as(grid.info(), options.void_value, file);
  Coding best = coding_without_trial(options, as.type);
  if (options.codec == Codec::None || (options.codec != Codec::Automatic && options.predictor != Predictor::Automatic))
    return best;
  for (const auto& [i, w] : trial_windows(grid.frame(), options)) tiles.emplace(i, grid.read(w, planes));
  std::vector<Coding> ways{best};
  if (options.predictor == Predictor::Automatic)
    for (int p : {tiff::kDifference, tiff::kNoPredictor})
      if (p != best.predictor) ways.push_back({.compression = best.compression, .predictor = p, .level = best.level});
  std::vector<const Block*> blocks;
  for (const auto& [i, block] : tiles) blocks.push_back(&block);
  std::vector<std::size_t> sizes(ways.size());
  RunOptions quiet = options.run;
  quiet.silent = true;
  share_parts<std::size_t>(
      ways.size() * blocks.size(), quiet,
      [&](std::size_t i) {
        return packed_tile(blocks[i / ways.size()]->row(0), options.tile, as, ways[i % ways.size()], file).size();
      },
      [&](std::size_t i, std::size_t size) { sizes[i % ways.size()] += size; });
  const std::size_t smallest = *std::min_element(sizes.begin(), sizes.end());
  // A way that is hardly smaller is not worth leaving the usual one.
  constexpr double kWorthIt = 0.97;
  if (static_cast<double>(smallest) < kWorthIt * static_cast<double>(sizes[0]))
    best = ways[static_cast<std::size_t>(std::min_element(sizes.begin(), sizes.end()) - sizes.begin())];
  const double raw =
      static_cast<double>(tiles.size()) * static_cast<double>(options.tile) * options.tile * bytes_per_sample(as.type);
  if (options.codec == Codec::Automatic && static_cast<double>(smallest) > kWorthIt * raw)
    best = {.compression = tiff::kNone, .predictor = tiff::kNoPredictor};
  return best;
}

struct TileMeasure {
  std::int64_t cells = 0, voids = 0, by_how[8] = {};
  Sureness sureness;
  float lowest = std::numeric_limits<float>::infinity(), highest = -std::numeric_limits<float>::infinity();
  void add(const TileMeasure& other) {
    cells += other.cells;
    voids += other.voids;
    for (int h = 0; h < 8; ++h) by_how[h] += other.by_how[h];
    sureness.add(other.sureness);
    lowest = std::min(lowest, other.lowest);
    highest = std::max(highest, other.highest);
  }
};

// What is made of values, of their uncertainty and of the codes of their origin; those that are not written are empty.
template <class Of>
struct Planewise {
  Of values, uncertainty, codes;
};
struct MadeTile : Planewise<TiffWriter::Tile> {
  TileMeasure measure;
};
struct Made : Planewise<TiffWriter::Square> {
  TileMeasure measure;
  std::array<const TiffWriter::Square*, 3> squares() const { return {&values, &uncertainty, &codes}; }
};

// Which piece of a result: of the square of so many an output, in the order of Made::squares, this tile.
constexpr int kTileBits = 32;
std::uint64_t piece_of(std::size_t square, std::size_t tile) { return (std::uint64_t{square} << kTileBits) | tile; }

// Cells on their way to another process: packed at once, for a network is slower than that.
void pack_cells(std::span<const float> cells, Packer& to) {
  const auto* from = reinterpret_cast<const std::uint8_t*>(cells.data());
  std::vector<std::uint8_t> bytes(from, from + cells.size_bytes());
  to.put(cells.size());
  if (cells.empty()) return;
  tiff::encode_floating_point(bytes.data(), static_cast<std::int64_t>(cells.size()), 1, sizeof(float));
  to.put(tiff::compress(bytes, tiff::kZstd, 1));
}

std::vector<float> unpacked_cells(Unpacker& from) {
  constexpr std::size_t kMostTileCells = std::size_t{1} << 24;  // of the largest tile that is written
  const auto n = from.take<std::size_t>();
  if (n == 0) return {};
  const auto packed = from.take_all<std::uint8_t>();
  if (n > kMostTileCells) throw Error(ErrorCode::Io, "what another process sent is no tile");
  std::vector<float> cells(n);
  const std::span bytes(reinterpret_cast<std::uint8_t*>(cells.data()), n * sizeof(float));
  if (!tiff::decompress(packed, tiff::kZstd, bytes)) throw Error(ErrorCode::Io, "what another process sent is damaged");
  tiff::decode_floating_point(bytes.data(), static_cast<std::int64_t>(n), 1, sizeof(float));
  return cells;
}

// As it travels; without its tiles, when they stay here.
void pack(const Made& m, bool tiles_stay, Packer& to) {
  for (const TiffWriter::Square* s : m.squares()) {
    to.put(s->tiles.size());
    for (const TiffWriter::Packed& tile : s->tiles) {
      to.put(tile.size);
      to.put(tiles_stay ? std::vector<std::uint8_t>() : tile.bytes);
    }
    pack_cells(s->half, to);
  }
  to.put(m.measure);
}

std::shared_ptr<Made> unpack(Unpacker& from) {
  auto m = std::make_shared<Made>();
  for (auto* s : {&m->values, &m->uncertainty, &m->codes}) {
    for (auto n = from.take<std::size_t>(); n > 0; --n) {
      const auto size = from.take<std::uint64_t>();
      s->tiles.push_back({from.take_all<std::uint8_t>(), size});
    }
    s->half = unpacked_cells(from);
  }
  m->measure = from.take<TileMeasure>();
  return m;
}

void measure(const Block& block, const Window& inside, TileMeasure& m) {
  m.cells = inside.cells();
  for (std::int64_t r = 0; r < inside.rows; ++r) {
    const float* row = block.row(r);
    for (std::int64_t c = 0; c < inside.cols; ++c) {
      if (std::isnan(row[c])) {
        ++m.voids;
        continue;
      }
      m.lowest = std::min(m.lowest, row[c]);
      m.highest = std::max(m.highest, row[c]);
    }
    if (const float* u = block.uncertainty_row(r))
      for (std::int64_t c = 0; c < inside.cols; ++c) m.sureness.add(u[c]);
    if (const Origin* origin = block.origin_row(r))
      for (std::int64_t c = 0; c < inside.cols; ++c) ++m.by_how[origin[c] % 8];
  }
}

// Everything about one tile: measured, packed, halved; with its lineage when that is written.
MadeTile make_tile(const Block& block, const Window& inside, const TiffWriter& writer, const TiffWriter* lineage) {
  MadeTile made;
  measure(block, inside, made.measure);
  made.values = writer.tile(block.row(0));
  if (const float* u = block.uncertainty_row(0)) made.uncertainty = writer.tile(u);
  if (!lineage) return made;
  std::vector<float> codes(static_cast<std::size_t>(block.window().cells()));
  const Origin* from = block.origin_row(0);
  std::transform(from, from + codes.size(), codes.begin(), [](Origin o) { return o ? static_cast<float>(o) : kVoid; });
  made.codes = lineage->tile(codes.data());
  return made;
}

// The origin plane as values.
class CodesSource final : public GridSource {
 public:
  explicit CodesSource(Grid input) : input_(std::move(input)), info_(lineage_info(input_.info())) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Block block = input_.read(out.window, Planes::ValuesAndOrigin);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const Origin o = block.origin_row(r)[c];
        out.row(r)[c] = o ? static_cast<float>(o) : kVoid;
      }
  }

 private:
  Grid input_;
  GridInfo info_;
};

}  // namespace

void write_lineage(const Grid& grid, const fs::path& path, const WriteOptions& options, WriteReport& report) {
  WriteOptions o = options;
  o.lineage = o.uncertainty = false;
  o.void_value.reset();
  o.predictor = Predictor::Difference;
  if (o.codec == Codec::Automatic) o.codec = Codec::Deflate;
  write_tiff(Grid(std::make_shared<CodesSource>(grid)), path, o);
  // Counted from the file: computing the cells once more would cost more.
  for_each_band(open_grid(path), Planes::Values, options.run, [&](const Block& b) {
    for (std::int64_t i = 0; i < b.window().cells(); ++i)
      ++report.by_how[std::isnan(b.row(0)[i]) ? 0 : static_cast<Origin>(b.row(0)[i]) % 8];
  });
}

namespace {

void require_possible(const fs::path& path, const WriteOptions& options) {
  if (options.tile < 16 || options.tile > 4096 || options.tile % 16)
    throw Error(ErrorCode::BadArgument, fmt::format("tiles of {} cells are not possible", options.tile), path.string(),
                "take a multiple of 16 up to 4096");
  const int most = options.codec == Codec::Zstd ? 22 : 12;
  if (options.level < 1 || options.level > most)
    throw Error(ErrorCode::BadArgument, fmt::format("there is no level {} of this codec", options.level), path.string(),
                fmt::format("take 1 to {}", most));
}

// A grid on its way into a file: tiles are made anywhere and placed in order.
class TiffOutput {
 public:
  TiffOutput(const Grid& grid, const fs::path& path, const WriteOptions& options)
      : grid_(grid),
        path_(path),
        options_(options),
        planes_(planes_with(options.lineage, options.uncertainty && grid.carries_uncertainty())),
        writer_(path, grid.info(), options, tried_coding(grid, options, path.string(), planes_, trial_), false,
                has_uncertainty(planes_)) {
    report_.path = path;
    report_.info = grid.info();
    if (!options.lineage) return;
    report_.lineage_path = lineage_path_for(path);
    WriteOptions o = options;
    o.void_value.reset();
    const GridInfo codes = lineage_info(grid.info());
    lineage_ = std::make_unique<TiffWriter>(report_.lineage_path, codes, o, coding_without_trial(o, codes.type), true);
  }

  std::size_t squares() const { return writer_.squares(); }
  std::size_t squares_across() const { return writer_.squares_across(); }
  std::vector<std::size_t> tiles_of(std::size_t square) const { return writer_.tiles_of(square); }
  Window tile_window(std::size_t tile) const { return writer_.tile_window(tile); }
  // It was read for the trial and is not read again.
  bool has_read(std::size_t tile) const { return trial_.contains(tile); }

  MadeTile make(std::size_t tile) const {
    if (options_.run.progress) options_.run.progress->check();
    const Window w = writer_.tile_window(tile), inside = w.intersected(grid_.frame().window());
    if (const auto known = trial_.find(tile); known != trial_.end())
      return make_tile(known->second, inside, writer_, lineage_.get());
    return make_tile(grid_.read(w, planes_), inside, writer_, lineage_.get());
  }

  // Of all its tiles, in their order.
  std::shared_ptr<Made> joined(std::size_t square, std::vector<MadeTile> tiles) const {
    auto made = std::make_shared<Made>();
    const auto all_of = [&](TiffWriter::Tile Planewise<TiffWriter::Tile>::*which) {
      std::vector<TiffWriter::Tile> of;
      for (MadeTile& t : tiles) of.push_back(std::move(t.*which));
      return of;
    };
    made->values = writer_.square(square, all_of(&MadeTile::values));
    if (has_uncertainty(planes_)) made->uncertainty = writer_.square(square, all_of(&MadeTile::uncertainty));
    if (lineage_) made->codes = lineage_->square(square, all_of(&MadeTile::codes));
    for (const MadeTile& t : tiles) made->measure.add(t.measure);
    return made;
  }

  void place(std::size_t square, const std::shared_ptr<Made>& made) {
    Made& m = *made;
    writer_.place(0, square, std::move(m.values));
    if (has_uncertainty(planes_)) writer_.place(1, square, std::move(m.uncertainty));
    if (lineage_) lineage_->place(0, square, std::move(m.codes));
    measured_.add(m.measure);
  }

  // Files that others may reach.
  void share_files(std::vector<SharedFile>& files) {
    for (TiffWriter* w : writers()) {
      const auto m = w->meet();
      files.push_back(m ? SharedFile{m->path.string(), m->mark} : SharedFile{});
    }
  }
  // `which`: of how many outputs it is.
  void take_places(std::size_t which, std::vector<LongPieces::Place>& all) {
    const std::vector<TiffWriter*> files = writers();
    for (std::size_t f = 0; f < files.size(); ++f)
      for (const TiffWriter::Elsewhere& e : files[f]->taken_elsewhere())
        all.push_back({.number = e.square,
                       .piece = piece_of(3 * which + (f == 1 ? 2 : e.plane), e.tile),
                       .file = files.size() * which + f,
                       .offset = e.offset,
                       .size = e.size});
  }

  WriteReport finish() {
    const TileMeasure& m = measured_;
    report_.cells = m.cells;
    report_.voids = m.voids;
    std::copy(std::begin(m.by_how), std::end(m.by_how), report_.by_how);
    report_.lowest = m.lowest <= m.highest ? static_cast<double>(m.lowest) : std::nan("");
    report_.highest = m.lowest <= m.highest ? static_cast<double>(m.highest) : std::nan("");
    report_.uncertainty = m.sureness.told();
    report_.type = writer_.target().type;
    if (report_.type != report_.info.type)
      report_.info.notes.push_back(fmt::format("{} values without a void value: written as {}, which has room for one",
                                               name_of(report_.info.type), name_of(report_.type)));
    report_.void_value = writer_.target().void_value;
    if (lineage_) {
      lineage_->finish();
      write_lineage_table(path_, grid_.info(), options_.overwrite);
    }
    if (!writer_.tells_crs()) {
      const fs::path prj = fs::path(path_).replace_extension(".prj");
      write_text_file(prj, grid_.frame().crs().file_wkt() + "\n", {.overwrite = options_.overwrite});
      report_.beside.push_back(prj);
      report_.info.notes.push_back(
          fmt::format("GeoTIFF has no terms for its CRS ({}): that is told in {}, which must stay beside it",
                      grid_.frame().crs().name(), prj.filename().string()));
    }
    report_.bytes = writer_.finish();
    report_.format = "GeoTIFF";
    report_.compression = writer_.compression_name();
    return std::move(report_);
  }

 private:
  std::vector<TiffWriter*> writers() {
    return lineage_ ? std::vector{&writer_, lineage_.get()} : std::vector{&writer_};
  }

  Grid grid_;
  fs::path path_;
  WriteOptions options_;
  Planes planes_;
  TrialTiles trial_;
  TiffWriter writer_;
  std::unique_ptr<TiffWriter> lineage_;
  WriteReport report_;
  TileMeasure measured_;
};

// How many squares may be made or wait for their turn: some tiles a thread, and one square more than threads.
std::size_t squares_in_flight(const WriteOptions& options, std::size_t files, std::size_t tiles) {
  // Packed no better than plain, with their overviews.
  const double bytes = 16.0 / 3 * options.tile * options.tile * static_cast<double>(tiles * files);
  const auto threads = static_cast<std::size_t>(thread_count(options.run));
  return std::clamp<std::size_t>(static_cast<std::size_t>(static_cast<double>(options.run.memory) / 4 / bytes), 1,
                                 std::max(threads + 1, 8 * threads / tiles));
}

// Files of the same cells, made together.
class TiffOutputs {
 public:
  using Hold = std::function<std::shared_ptr<void>(const Window& tile)>;
  // `hold`: keeps what a tile of each is made of, while it lives.
  TiffOutputs(std::vector<std::unique_ptr<TiffOutput>> outputs, const WriteOptions& options, Hold hold)
      : outputs_(std::move(outputs)), options_(options), hold_(std::move(hold)) {}

  std::vector<WriteReport> write() {
    share_ordered(
        {.n = outputs_[0]->squares(),
         .in_flight = squares_in_flight(options_, outputs_.size() + (hold_ ? 1 : 0), outputs_[0]->tiles_of(0).size()),
         .row = outputs_[0]->squares_across(),
         .options = options_.run,
         .make = [&](std::size_t i) { return make(i); },
         .place =
             [&](std::size_t i, const std::shared_ptr<void>& result) {
               for (std::size_t k = 0; k < outputs_.size(); ++k) outputs_[k]->place(i, parts(result)[k]);
             },
         .pack = [&](const std::shared_ptr<void>& result) { return packed(result, false); },
         .unpack = [&](std::span<const std::uint8_t> bytes) { return unpacked(bytes); },
         .long_pieces = long_pieces()});
    std::vector<WriteReport> reports;
    for (const auto& o : outputs_) reports.push_back(o->finish());
    return reports;
  }

 private:
  using Parts = std::vector<std::shared_ptr<Made>>;
  static Parts& parts(const std::shared_ptr<void>& result) { return *static_cast<Parts*>(result.get()); }

  std::shared_ptr<void> make(std::size_t square) const {
    const std::vector<std::size_t> tiles = outputs_[0]->tiles_of(square);
    std::vector<std::vector<MadeTile>> made(outputs_.size(), std::vector<MadeTile>(tiles.size()));
    parallel_within(tiles.size(), [&](std::size_t t) {
      std::shared_ptr<void> held;
      if (hold_ && !std::all_of(outputs_.begin(), outputs_.end(), [&](const auto& o) { return o->has_read(tiles[t]); }))
        held = hold_(outputs_[0]->tile_window(tiles[t]));
      for (std::size_t k = 0; k < outputs_.size(); ++k) made[k][t] = outputs_[k]->make(tiles[t]);
    });
    auto all = std::make_shared<Parts>();
    for (std::size_t k = 0; k < outputs_.size(); ++k) all->push_back(outputs_[k]->joined(square, std::move(made[k])));
    return all;
  }

  std::vector<std::uint8_t> packed(const std::shared_ptr<void>& result, bool tiles_stay) const {
    Packer p;
    for (const auto& made : parts(result)) pack(*made, tiles_stay, p);
    return std::move(p.bytes);
  }
  std::shared_ptr<void> unpacked(std::span<const std::uint8_t> bytes) const {
    Unpacker from(bytes);
    auto all = std::make_shared<Parts>();
    while (all->size() < outputs_.size()) all->push_back(unpack(from));
    return all;
  }

  LongPieces long_pieces() {
    return {.files =
                [&] {
                  std::vector<SharedFile> files;
                  for (const auto& o : outputs_) o->share_files(files);
                  return files;
                },
            .pack = [&](const std::shared_ptr<void>& result) { return packed(result, true); },
            .places =
                [&] {
                  std::vector<LongPieces::Place> all;
                  for (std::size_t k = 0; k < outputs_.size(); ++k) outputs_[k]->take_places(k, all);
                  return all;
                },
            .bytes = [](const std::shared_ptr<void>& result, std::uint64_t piece) -> std::span<const std::uint8_t> {
              const std::size_t square = piece >> kTileBits, tile = piece & ((std::uint64_t{1} << kTileBits) - 1);
              return parts(result).at(square / 3)->squares()[square % 3]->tiles.at(tile).bytes;
            },
            .size =
                [](const std::shared_ptr<void>& result) {
                  std::uint64_t bytes = 0;
                  for (const auto& made : parts(result))
                    for (const TiffWriter::Square* s : made->squares())
                      for (const TiffWriter::Packed& t : s->tiles) bytes += t.size;
                  return bytes;
                }};
  }

  std::vector<std::unique_ptr<TiffOutput>> outputs_;
  WriteOptions options_;
  Hold hold_;
};

}  // namespace

// A file has one type for all its values: fractions of an uncertainty make those of whole numbers floats.
Grid with_room_for_uncertainty(const Grid& grid, const WriteOptions& options) {
  const GridInfo& info = grid.info();
  if (!options.uncertainty || !grid.carries_uncertainty() || !is_integer(info.type)) return grid;
  return relabelled(grid, [](GridInfo& i) {
    i.notes.push_back(fmt::format("{} values with their uncertainty beside them: written as float32", name_of(i.type)));
    i.type = SampleType::Float32;
    i.file_void.reset();
  });
}

WriteOptions with_tried_coding(const Grid& given, const fs::path& path, const WriteOptions& options) {
  const FormatRow* row = row_of(path, Holds::Grids, Use::Written);
  if (!row || row->write_grid != &write_tiff) return options;
  const Grid grid = with_room_for_uncertainty(given, options);
  TrialTiles tiles;
  const Coding c = tried_coding(grid, options, path.string(),
                                planes_with(options.lineage, options.uncertainty && grid.carries_uncertainty()), tiles);
  if (c.compression == tiff::kNone) return options;
  WriteOptions o = options;
  o.codec = c.compression == tiff::kZstd ? Codec::Zstd : Codec::Deflate;
  o.predictor = c.predictor == tiff::kNoPredictor  ? Predictor::None
                : c.predictor == tiff::kDifference ? Predictor::Difference
                                                   : Predictor::FloatingPoint;
  return o;
}

WriteReport write_tiff(const Grid& given, const fs::path& path, const WriteOptions& options) {
  require_possible(path, options);
  const Grid grid = with_room_for_uncertainty(given, options);
  std::vector<std::unique_ptr<TiffOutput>> one;
  one.push_back(std::make_unique<TiffOutput>(grid, path, options));
  return TiffOutputs(std::move(one), options, nullptr).write()[0];
}

// A tile of the surface is read and held while every file's tile is made of it.
std::vector<WriteReport> write_tiffs(const Grid& surface, const std::vector<GridTarget>& targets,
                                     const WriteOptions& options) {
  SharedReading shared(surface);
  std::vector<Grid> grids;
  bool uncertain = false;
  for (const GridTarget& t : targets) {
    require_possible(t.path, options);
    grids.push_back(with_room_for_uncertainty(t.make(shared.grid()), options));
    uncertain = uncertain || (options.uncertainty && grids.back().carries_uncertainty());
    if (grids.back().frame() != surface.frame())
      throw Error(ErrorCode::BadArgument, "it has other cells than the surface it is made of", t.path.string(),
                  "write it by itself");
  }
  const Planes planes = planes_with(options.lineage, uncertain);
  const std::int64_t edge = options.tile;
  const Window middle{surface.frame().cols() / 2 / edge * edge, surface.frame().rows() / 2 / edge * edge, edge, edge};
  for (const GridTarget& t : targets) shared.learn(t.make, middle);
  std::vector<std::unique_ptr<TiffOutput>> outputs;
  {
    std::vector<std::unique_ptr<SharedReading::Hold>> held;
    for (const auto& [i, w] : trial_windows(surface.frame(), options)) held.push_back(shared.hold(w, planes));
    for (std::size_t i = 0; i < targets.size(); ++i)
      outputs.push_back(
          std::make_unique<TiffOutput>(grids[i], targets[i].path, with_agreed_facts(options, grids[i].info())));
  }
  return TiffOutputs(std::move(outputs), options,
                     [&](const Window& tile) -> std::shared_ptr<void> { return shared.hold(tile, planes); })
      .write();
}

}  // namespace katoptra
