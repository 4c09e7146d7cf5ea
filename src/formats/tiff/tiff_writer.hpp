// A GeoTIFF under way: where its tiles belong, how they are packed, and the overviews that they become.
//
// Order in the file: header, one directory a level (full size first), their tables, then tiles, row by row, with each
// row of tiles of an overview behind those that it was made of. One maker makes a square of them: two by two tiles (of
// a large file four by four, of the largest eight by eight), and the overviews that they become; its lower rows wait
// for the end of the row of squares, or until too much waits, as of the widest surfaces. The size of the directories is
// known from the frame, so their place is kept free and filled in at the end.
#pragma once
#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "formats/samples.hpp"
#include "geokeys.hpp"
#include "tiff_codec.hpp"
#include "tiff_layout.hpp"

namespace katoptra {

// How tiles are packed.
struct TileCoding {
  int compression = tiff::kDeflate, predictor = tiff::kNoPredictor, level = 3;
};

// What the options ask for; where they leave it open, what is right without a trial.
TileCoding coding_without_trial(const WriteOptions& options, SampleType type);
std::vector<std::uint8_t> packed_tile(const float* values, std::int64_t edge, const StoredAs& as,
                                      const TileCoding& coding, const std::string& file);

// One file under way. Tiles and squares of them are made anywhere, on any thread; place() takes squares in order.
class TiffWriter {
 public:
  // `few_alone`: where there are few tiles each is a square by itself. The bytes are the same, but not those of a
  // surface with its uncertainty.
  TiffWriter(const std::filesystem::path& path, const GridInfo& info, const WriteOptions& options,
             const TileCoding& coding, bool categories, bool uncertain = false, bool few_alone = false);

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
  std::vector<std::size_t> tiles_of(std::size_t square, std::size_t which = 0) const;

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
  Square square(std::size_t index, std::vector<Tile> tiles) const;

  // `plane`: 0 for values, 1 for their uncertainty.
  void place(std::size_t plane, std::size_t index, Square s);

  std::optional<ByteSink::Meeting> meet() { return sink_->meet(); }
  // Where tiles belong that others keep, of those that were placed since this was asked last.
  struct Elsewhere {
    std::size_t square, plane, tile;
    std::uint64_t offset, size;
  };
  std::vector<Elsewhere> taken_elsewhere() { return std::exchange(elsewhere_, {}); }

  std::string compression_name() const;
  // Gives the file its name; how many bytes it has.
  std::uint64_t finish();

 private:
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

  std::int64_t edge() const { return options_.tile; }
  void make_levels(bool few_alone);
  Tile tile_of(std::size_t which, const float* values) const;
  std::vector<float> halved(const float* values) const;
  // What the tiles of a square at one level become at the next.
  std::vector<Tile> overviews_of(std::size_t square, std::size_t which, const std::vector<Tile>& tiles) const;

  // Which tile of which square it is.
  struct Piece {
    std::size_t square, tile;
  };
  void put(Level& level, std::size_t plane, std::size_t index, const Packed& packed, const Piece& piece);
  void put_held();
  // Puts the quarter that tile (col, row) of the level above became into this level; writes the row of tiles when
  // whole.
  void paste(std::size_t which, std::size_t plane, std::int64_t col, std::int64_t row, const std::vector<float>& half);

  std::string description() const;
  // The same value for each plane.
  std::vector<std::uint16_t> each(int value) const {
    return std::vector<std::uint16_t>(planes_, static_cast<std::uint16_t>(value));
  }
  std::vector<tiff::Tag> tags(std::size_t which) const;
  // The head of the file; always the same size for the same frame and options.
  std::vector<std::uint8_t> directories() const;

  TileCoding coding_, overview_coding_;
  std::filesystem::path path_;
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

}  // namespace katoptra
