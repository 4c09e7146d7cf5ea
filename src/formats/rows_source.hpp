// What formats that hold whole rows have in common: rows are decoded in blocks through the shared cache.
#pragma once
#include <functional>
#include <memory>

#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/grid.hpp"
#include "katoptra/grid/turn.hpp"

#include "samples.hpp"

namespace katoptra {

// Samples of `rows` whole rows from `first` (counted from the north) in the machine's byte order. Called from many
// threads at once.
using DecodeRows = std::function<BlockCache::Bytes(std::int64_t first, std::int64_t rows)>;

// Blocks are `rows_per_block` high: what the format's own pieces hold, else convenient_rows().
Grid grid_of_rows(GridInfo info, const SampleRule& rule, std::int64_t rows_per_block, DecodeRows decode);
// About a mebibyte of rows.
std::int64_t convenient_rows(std::int64_t cols, SampleType type);

// The height of blocks where the file has chunks of `chunk` rows (0: none): whole chunks, while those are not too
// large.
std::int64_t rows_of_chunks(std::int64_t chunk, std::int64_t cols, SampleType type);
// Decodes blocks as a grid of rows would, to see whether that goes well: all of them while they are few, else the
// first, the middle and the last.
void try_blocks(std::int64_t cols, std::int64_t rows, SampleType type, std::int64_t rows_per_block,
                const DecodeRows& decode);

// Voids wherever `keep` is void or zero.
Grid masked(const Grid& grid, const Grid& keep);

}  // namespace katoptra
