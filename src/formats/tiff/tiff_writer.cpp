#include "tiff_writer.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/version.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

using tiff::Tag, tiff::longs, tiff::shorts, tiff::text;

int compression_of(Codec codec) {
  return codec == Codec::Zstd ? tiff::kZstd : codec == Codec::None ? tiff::kNone : tiff::kDeflate;
}

// Means have all the digits that values had been rounded of, and overviews are made to be looked at: quickly, then.
TileCoding for_overviews(TileCoding c, SampleType type) {
  if (c.predictor != tiff::kNoPredictor && !is_integer(type)) c.predictor = tiff::kFloatingPoint;
  c.level = std::min(c.level, 1);
  return c;
}

float mean_of(float a, float b, float c, float d) {
  float sum = 0;
  int n = 0;
  for (float v : {a, b, c, d})
    if (!std::isnan(v)) {
      sum += v;
      ++n;
    }
  return n ? sum / static_cast<float>(n) : kVoid;
}

// Puts the quarter that tile (col, row) of the level above became where it belongs; `stride`: cells in a row.
void put_quarter(const std::vector<float>& half, std::int64_t col, std::int64_t row, float* cells, std::int64_t stride,
                 std::int64_t edge) {
  const std::int64_t h = edge / 2;
  float* to = cells + row * h * stride + col * h;
  for (std::int64_t r = 0; r < h; ++r) std::copy_n(half.data() + r * h, h, to + r * stride);
}

// "1 flat, 2 summit": commas within a name would end it.
std::string class_list(std::span<const char* const> names) {
  std::string s;
  for (std::size_t i = 0; i < names.size(); ++i) {
    std::string name = names[i];
    std::replace(name.begin(), name.end(), ',', ' ');
    s += fmt::format("{}{} {}", i ? ", " : "", i + 1, name);
  }
  return s;
}

}  // namespace

std::vector<std::uint8_t> packed_tile(const float* values, std::int64_t edge, const StoredAs& as,
                                      const TileCoding& coding, const std::string& file) {
  const auto n = static_cast<std::size_t>(edge * edge);
  const int bytes_per = bytes_per_sample(as.type);
  const std::size_t size = n * static_cast<std::size_t>(bytes_per);
  const auto raw = std::make_unique_for_overwrite<std::uint8_t[]>(size);
  floats_to_samples(values, n, as, raw.get(), file);
  if (coding.predictor == tiff::kDifference) tiff::encode_difference(raw.get(), edge, edge, bytes_per);
  if (coding.predictor == tiff::kFloatingPoint) tiff::encode_floating_point(raw.get(), edge, edge, bytes_per);
  return tiff::compress({raw.get(), size}, coding.compression, coding.level);
}

TileCoding coding_without_trial(const WriteOptions& options, SampleType type) {
  TileCoding c{.compression = compression_of(options.codec), .level = options.level};
  if (c.compression == tiff::kNone || options.predictor == Predictor::None) return c;
  c.predictor =
      is_integer(type) || options.predictor == Predictor::Difference ? tiff::kDifference : tiff::kFloatingPoint;
  return c;
}

TiffWriter::TiffWriter(const fs::path& path, const GridInfo& info, const WriteOptions& options,
                       const TileCoding& coding, bool categories, bool uncertain, bool few_alone)
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
  make_levels(few_alone);
  // Whole tiles of all levels, each at most a little larger than plain: what is packed no better must fit, too.
  double raw = 0;
  for (const Level& l : levels_) {
    const double tiles = static_cast<double>(l.across) * static_cast<double>(l.down);
    raw += planes_ * tiles * (1.01 * static_cast<double>(edge() * edge()) * bytes_per_sample(target_.type) + 64);
  }
  big_ = options.always_big || raw > 4.0e9;
  end_ = directories().size();
}

void TiffWriter::make_levels(bool few_alone) {
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
  // Of what one maker leaves over, the one writer makes the rest: a sixteenth is too much where many make, a fiftieth
  // where very many do. A square is held as a whole while it is made, and of a source in strips its rows are read at
  // their whole width: large tiles stay alone, and only the largest files have squares of twice that width.
  constexpr std::int64_t kFewTiles = 64, kManyTiles = 4096, kVeryMany = 4 * kManyTiles, kMostCells = 2048;
  const std::int64_t tiles = levels_[0].across * levels_[0].down;
  deep_ = std::min<std::size_t>(levels_.size() - 1, tiles >= kVeryMany ? 3 : tiles >= kManyTiles ? 2 : 1);
  const std::int64_t most = tiles >= kVeryMany ? 2 * kMostCells : kMostCells;
  while (deep_ > 0 && edge() << deep_ > most) --deep_;
  if (few_alone && tiles <= kFewTiles) deep_ = 0;
  for (std::size_t which = deep_ + 1; which < levels_.size(); ++which) {
    Level& l = levels_[which];
    l.strips.assign(planes_, {std::vector<float>(static_cast<std::size_t>(l.across * edge() * edge()), kVoid)});
  }
}

std::vector<std::size_t> TiffWriter::tiles_of(std::size_t square, std::size_t which) const {
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

std::vector<float> TiffWriter::halved(const float* values) const {
  const std::int64_t half = edge() / 2;
  std::vector<float> out(static_cast<std::size_t>(half * half));
  for (std::int64_t r = 0; r < half; ++r)
    for (std::int64_t c = 0; c < half; ++c) {
      const float* p = values + 2 * r * edge() + 2 * c;
      out[static_cast<std::size_t>(r * half + c)] = categories_ ? p[0] : mean_of(p[0], p[1], p[edge()], p[edge() + 1]);
    }
  return out;
}

TiffWriter::Tile TiffWriter::tile_of(std::size_t which, const float* values) const {
  Tile t;
  t.packed.bytes = packed_tile(values, edge(), target_, which == 0 ? coding_ : overview_coding_, path_.string());
  t.packed.size = t.packed.bytes.size();
  if (which + 1 < levels_.size()) t.half = halved(values);
  return t;
}

std::vector<TiffWriter::Tile> TiffWriter::overviews_of(std::size_t square, std::size_t which,
                                                       const std::vector<Tile>& tiles) const {
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
        put_quarter(tiles[j].half, c % 2, r % 2, cells.data(), edge(), edge());
    out[i] = tile_of(which + 1, cells.data());
  });
  return out;
}

TiffWriter::Square TiffWriter::square(std::size_t index, std::vector<Tile> tiles) const {
  Square s;
  for (std::size_t which = 0;; ++which) {
    for (Tile& t : tiles) s.tiles.push_back(std::move(t.packed));
    if (which == deep_) break;
    tiles = overviews_of(index, which, tiles);
  }
  s.half = std::move(tiles[0].half);
  return s;
}

void TiffWriter::put(Level& level, std::size_t plane, std::size_t index, const Packed& packed, const Piece& piece) {
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

void TiffWriter::put_held() {
  for (const auto& [level_row, tiles] : held_)
    for (const Held& h : tiles) put(levels_[level_row.first], h.plane, h.tile, h.packed, h.piece);
  held_.clear();
  held_bytes_ = 0;
}

void TiffWriter::place(std::size_t plane, std::size_t index, Square s) {
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

void TiffWriter::paste(std::size_t which, std::size_t plane, std::int64_t col, std::int64_t row,
                       const std::vector<float>& half) {
  Level& l = levels_[which];
  Level::Strip& strip = l.strips[plane];
  const std::int64_t stride = l.across * edge();
  put_quarter(half, col, row % 2, strip.cells.data(), stride, edge());
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

std::string TiffWriter::compression_name() const {
  const std::string codec = coding_.compression == tiff::kZstd   ? "ZSTD"
                            : coding_.compression == tiff::kNone ? "none"
                                                                 : "deflate";
  return coding_.predictor > 1 ? fmt::format("{}, predictor {}", codec, coding_.predictor) : codec;
}

std::string TiffWriter::description() const {
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

std::vector<Tag> TiffWriter::tags(std::size_t which) const {
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

std::vector<std::uint8_t> TiffWriter::directories() const {
  std::vector<std::vector<Tag>> all;
  for (std::size_t which = 0; which < levels_.size(); ++which) all.push_back(tags(which));
  return tiff::head_of(all, big_);
}

std::uint64_t TiffWriter::finish() {
  sink_->write_at(0, directories());
  sink_->commit();
  return end_;
}

}  // namespace katoptra
