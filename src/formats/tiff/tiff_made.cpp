#include "tiff_made.hpp"

#include <algorithm>
#include <cmath>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

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

}  // namespace

void pack_square(const MadeSquare& m, bool tiles_stay, Packer& to) {
  to.put(tiles_stay);
  for (const TiffWriter::Square* s : m.squares()) {
    to.put(s->tiles.size());
    for (const TiffWriter::Packed& tile : s->tiles) {
      to.put(tile.size);
      if (!tiles_stay) to.put(tile.bytes);
    }
    pack_cells(s->half, to);
  }
  to.put(m.measure);
}

std::shared_ptr<MadeSquare> unpack_square(Unpacker& from) {
  auto m = std::make_shared<MadeSquare>();
  const bool tiles_stay = from.take<bool>();
  for (auto* s : {&m->values, &m->uncertainty, &m->codes}) {
    for (auto n = from.take<std::size_t>(); n > 0; --n) {
      const auto size = from.take<std::uint64_t>();
      s->tiles.push_back({tiles_stay ? std::vector<std::uint8_t>() : from.take_all<std::uint8_t>(), size});
    }
    s->half = unpacked_cells(from);
  }
  m->measure = from.take<TileMeasure>();
  return m;
}

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

}  // namespace katoptra
