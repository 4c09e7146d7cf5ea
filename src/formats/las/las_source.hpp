// LAS, LAZ and COPC as sources of points.
#pragma once
#include <memory>
#include <span>

#include "katoptra/formats/point_file.hpp"

#include "las_header.hpp"

namespace katoptra::las {

bool is_las(std::span<const std::uint8_t> head);
// A chunk of up to so many points and bytes is decoded in memory by whoever reads it; a larger one once, into a
// temporary file.
struct HeldChunks {
  std::uint64_t points = std::uint64_t{1} << 21, bytes = std::uint64_t{1} << 27;
};
// The file by itself; what lies beside it and what was assigned is added by the caller.
PointFile open_las(const std::shared_ptr<ByteSource>& file, const PointOpenOptions& options,
                   const HeldChunks& held = {});

// Nodes of an octree that touch a box, as parts.
struct OctreeNode {
  std::uint64_t at = 0;
  std::uint32_t bytes = 0, points = 0;
  Bounds box;
};
// BadFile when pages contradict themselves. `box`: in the file's CRS; empty: everything. `spacing` 0: all levels.
std::vector<OctreeNode> octree_nodes(const ByteSource& file, const Record& info, const Bounds& box, double spacing);

}  // namespace katoptra::las
