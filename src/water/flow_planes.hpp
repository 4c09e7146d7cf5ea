// What a flow knows of each cell, in temporary files.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <vector>

#include "katoptra/water/flow.hpp"

#include "flood.hpp"
#include "scratch_plane.hpp"
#include "tiles.hpp"

namespace katoptra {

inline constexpr std::uint8_t kVoidCell = 0, kLeaves = 9, kEnds = 10;
// Codes 1 to 8: to the neighbour of that place in kColStep.
// Beside the code: of a cell on level ground; without a code: of the sea or a wall, from
// where no water can be missing.
inline constexpr std::uint8_t kCodeBits = 15, kLevelBit = 16;
// Of a cell whose upstream area may be larger than known.
inline constexpr std::uint8_t kCutOffBit = 32;
inline bool runs_on(std::uint8_t direction) { return direction >= 1 && direction <= 8; }

class FlowPlanes {
 public:
  using Codes = ScratchPlane<std::uint8_t>;

  FlowPlanes(const Frame& f, const std::string& name, std::int64_t edge, const RunOptions& run)
      : frame(f),
        tiling(f.cols(), f.rows(), edge),
        folder(CommonFolder::made(run, name)),
        found(codes(name, "found")),
        settled(is_seen(folder) ? codes(name, "settled") : found),
        direction(is_seen(folder) ? codes(name, "direction") : found),
        cells(f.cols(), f.rows(), name, folder, "cells"),
        area(f.cols(), f.rows(), name, folder, "area") {}

  // Codes of a window.
  std::vector<std::uint8_t> directions(const Window& w) const {
    std::vector<std::uint8_t> codes = direction->read(w, kVoidCell);
    for (std::uint8_t& c : codes) c &= kCodeBits;
    return codes;
  }
  std::int64_t number(std::int64_t col, std::int64_t row) const { return row * frame.cols() + col; }

  Frame frame;
  Tiling tiling;
  std::shared_ptr<const CommonFolder> folder;
  // As far as each tile knows; with level ground, over whatever tiles; and with all bits beside the codes. In files of
  // this process alone they are the same.
  std::shared_ptr<Codes> found, settled, direction;
  // Upstream, rounded from whole numbers: what is written is no finer.
  ScratchPlane<float> cells;
  ScratchPlane<float> area;  // square metres
  double area_step = 1;      // of areas while they are added up

 private:
  std::shared_ptr<Codes> codes(const std::string& name, const char* file) const {
    return std::make_shared<Codes>(frame.cols(), frame.rows(), name, folder, file);
  }
};

class FlowAccess {
 public:
  static const FlowPlanes& planes(const Flow& f) { return *f.planes_; }
  static std::shared_ptr<const FlowPlanes> shared(const Flow& f) { return f.planes_; }
  // flow() with tiles of another size, for tests.
  static Flow in_tiles(const Grid& surface, const DrainOptions& options, std::int64_t edge);
};

// Directions of all cells of `surface`, from which every cell has a way out or to a sink. Returns how many cells are on
// level ground. `before`, when given: the surface with the cells from which no water can be missing, for they have a
// height there and no direction, or are walls.
std::int64_t find_directions(const Grid& surface, const std::vector<Sink>& sinks, FlowPlanes& planes,
                             const RunOptions& run, const Grid* before = nullptr);
// Sums of cells and areas down the directions.
void find_sums(FlowPlanes& planes, FlowReport& report, const RunOptions& run);

// Amounts a cell, in steps, as the upstream grid of a flow.
Grid upstream_plane(const Flow& flow, std::shared_ptr<const ScratchPlane<std::int64_t>> amounts, double step,
                    const std::string& unit);

}  // namespace katoptra
