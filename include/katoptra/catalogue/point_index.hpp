// Where the chunks of a LAS or LAZ file lie: found in one pass over it and kept with the catalogue's other knowledge of
// files, so that the next question about an area decodes only the chunks that touch it.
//
//   PointCloud sheet = with_kept_index(open_points("sheet.laz"), "sheet.laz", default_cache());
#pragma once
#include <filesystem>
#include <vector>

#include "katoptra/points/points.hpp"

namespace katoptra {

// The cloud of a file with the boxes of its chunks. `cache`: the folder of kept indexes (default_cache()); empty: none
// is kept. A kept index counts while size and time of the file are those it was made from. Parts that tell their box
// already (octrees), text and remote files come back as they are.
PointCloud with_kept_index(const PointCloud& cloud, const std::filesystem::path& file,
                           const std::filesystem::path& cache, const RunOptions& run = {});

// The same cloud by fewer points, each level with about a quarter of those of the one before, down to kFewPoints: to be
// looked at from far away. Of an octree its upper nodes; of another LAS or LAZ file every fourth point, and of those
// every fourth, written into `cache` once, beside the index. None for small files, text, and where nothing can be kept.
inline constexpr std::uint64_t kFewPoints = 400'000;
std::vector<PointCloud> kept_levels(const PointCloud& cloud, const std::filesystem::path& file,
                                    const std::filesystem::path& cache, const RunOptions& run = {});

}  // namespace katoptra
