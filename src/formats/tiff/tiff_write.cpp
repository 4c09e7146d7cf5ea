// GeoTIFF writing: our own layout of the file, so that the header stands first, tiles are coded on every core and
// overviews are made in the same pass (tiff_writer.hpp).
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "base/shared_parts.hpp"
#include "formats/format_row.hpp"
#include "formats/lineage_file.hpp"
#include "formats/writers.hpp"
#include "grid/shared_reading.hpp"
#include "tiff_made.hpp"
#include "tiff_writer.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

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
std::vector<std::pair<std::size_t, Window>> trial_windows(const Frame& frame, const WriteOptions& options) {
  constexpr std::int64_t kTiles = 4;
  const std::int64_t edge = options.tile, across = (frame.cols() + edge - 1) / edge,
                     n = across * ((frame.rows() + edge - 1) / edge);
  std::vector<std::pair<std::size_t, Window>> windows;
  for (std::int64_t k = 0; k < std::min(n, kTiles); ++k) {
    const std::int64_t i = (2 * k + 1) * n / (2 * std::min(n, kTiles));
    windows.emplace_back(static_cast<std::size_t>(i), Window{i % across * edge, i / across * edge, edge, edge});
  }
  return windows;
}

// Packs a few tiles, spread over the grid, in every way that is open and takes what comes out smallest. The choice
// depends on the grid alone, so the same bytes come out on every machine.
TileCoding tried_coding(const Grid& grid, const WriteOptions& options, const std::string& file, Planes planes,
                        TrialTiles& tiles) {
  const StoredAs as = stored_as(grid.info(), options.void_value, file);
  TileCoding best = coding_without_trial(options, as.type);
  if (options.codec == Codec::None || (options.codec != Codec::Automatic && options.predictor != Predictor::Automatic))
    return best;
  std::vector<TileCoding> ways{best};
  if (options.predictor == Predictor::Automatic)
    for (int p : {tiff::kDifference, tiff::kNoPredictor})
      if (p != best.predictor) ways.push_back({.compression = best.compression, .predictor = p, .level = best.level});
  const auto tried = trial_windows(grid.frame(), options);
  // What grids find out when they are first read, all threads and processes find out together, before each tile is read
  // by one of them.
  for (const auto& [i, w] : tried) {
    const Window inside = w.intersected(grid.frame().window());
    grid.read({inside.col + inside.cols / 2, inside.row + inside.rows / 2, 1, 1}, planes);
  }
  std::vector<std::size_t> sizes(ways.size());
  std::mutex mutex;
  RunOptions quiet = options.run;
  quiet.silent = true;
  share_parts<std::vector<std::size_t>>(
      tried.size(), quiet,
      [&](std::size_t k) {
        Block block = grid.read(tried[k].second, planes);
        std::vector<std::size_t> bytes;
        for (const TileCoding& way : ways)
          bytes.push_back(packed_tile(block.row(0), options.tile, as, way, file).size());
        std::lock_guard lock(mutex);
        tiles.try_emplace(tried[k].first, std::move(block));
        return bytes;
      },
      [&](std::size_t, const std::vector<std::size_t>& bytes) {
        for (std::size_t way = 0; way < ways.size(); ++way) sizes[way] += bytes[way];
      },
      {.at_once = static_cast<std::size_t>(thread_count(quiet))});
  const std::size_t smallest = *std::min_element(sizes.begin(), sizes.end());
  // A way that is hardly smaller is not worth leaving the usual one.
  constexpr double kWorthIt = 0.97;
  if (static_cast<double>(smallest) < kWorthIt * static_cast<double>(sizes[0]))
    best = ways[static_cast<std::size_t>(std::min_element(sizes.begin(), sizes.end()) - sizes.begin())];
  const double raw =
      static_cast<double>(tried.size()) * static_cast<double>(options.tile) * options.tile * bytes_per_sample(as.type);
  if (options.codec == Codec::Automatic && static_cast<double>(smallest) > kWorthIt * raw)
    best = {.compression = tiff::kNone, .predictor = tiff::kNoPredictor};
  return best;
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
  TiffOutput(const Grid& grid, const fs::path& path, const WriteOptions& options, bool few_alone = false)
      : grid_(grid),
        path_(path),
        options_(options),
        planes_(planes_with(options.lineage, options.uncertainty && grid.carries_uncertainty())),
        writer_(path, grid.info(), options, tried_coding(grid, options, path.string(), planes_, trial_), false,
                has_uncertainty(planes_), few_alone) {
    report_.path = path;
    report_.info = grid.info();
    if (!options.lineage) return;
    report_.lineage_path = lineage_path_for(path);
    WriteOptions o = options;
    o.void_value.reset();
    const GridInfo codes = lineage_info(grid.info());
    lineage_ = std::make_unique<TiffWriter>(report_.lineage_path, codes, o, coding_without_trial(o, codes.type), true,
                                            false, few_alone);
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
  std::shared_ptr<MadeSquare> joined(std::size_t square, std::vector<MadeTile> tiles) const {
    auto made = std::make_shared<MadeSquare>();
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

  void place(std::size_t square, const std::shared_ptr<MadeSquare>& made) {
    MadeSquare& m = *made;
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
  const double fit = static_cast<double>(options.run.memory) / 4 / bytes;
  // Where one fits a second begins while the first ends: most are packed to half of that, or less.
  return std::clamp<std::size_t>(static_cast<std::size_t>(fit), fit >= 1 ? 2 : 1,
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
  using Parts = std::vector<std::shared_ptr<MadeSquare>>;
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
    for (const auto& made : parts(result)) pack_square(*made, tiles_stay, p);
    return std::move(p.bytes);
  }
  std::shared_ptr<void> unpacked(std::span<const std::uint8_t> bytes) const {
    Unpacker from(bytes);
    auto all = std::make_shared<Parts>();
    while (all->size() < outputs_.size()) all->push_back(unpack_square(from));
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
  const TileCoding c =
      tried_coding(grid, options, path.string(),
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
  // Where several processes share a few squares, the others wait for who has the last one.
  const bool few_alone = work_is_shared() && !(options.uncertainty && grid.carries_uncertainty());
  std::vector<std::unique_ptr<TiffOutput>> one;
  one.push_back(std::make_unique<TiffOutput>(grid, path, options, few_alone));
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
