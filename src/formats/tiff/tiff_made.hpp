// What is made of a tile and of a square of tiles, apart from the file that they go into, and how it travels.
#pragma once
#include <array>
#include <cstdint>
#include <limits>
#include <memory>

#include "katoptra/grid/grid.hpp"

#include "base/packed.hpp"
#include "formats/writers.hpp"
#include "tiff_writer.hpp"

namespace katoptra {

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
struct MadeSquare : Planewise<TiffWriter::Square> {
  TileMeasure measure;
  std::array<const TiffWriter::Square*, 3> squares() const { return {&values, &uncertainty, &codes}; }
};

// Which piece of a result: of the square of so many an output, in the order of MadeSquare::squares, this tile.
inline constexpr int kTileBits = 32;
inline std::uint64_t piece_of(std::size_t square, std::size_t tile) {
  return (std::uint64_t{square} << kTileBits) | tile;
}

// Everything about one tile: measured, packed, halved; with its lineage when that is written.
MadeTile make_tile(const Block& block, const Window& inside, const TiffWriter& writer, const TiffWriter* lineage);

// As it travels; without its tiles, when they stay here.
void pack_square(const MadeSquare& m, bool tiles_stay, Packer& to);
std::shared_ptr<MadeSquare> unpack_square(Unpacker& from);

}  // namespace katoptra
