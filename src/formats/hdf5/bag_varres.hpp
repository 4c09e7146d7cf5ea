// BAG of variable resolution: every cell of its overview may hold a lattice of finer nodes of its own (refinements).
#pragma once
#include <memory>
#include <optional>

#include "formats/readers.hpp"
#include "hdf5_file.hpp"

namespace katoptra {

inline constexpr const char* kVarresMetadata = "BAG_root/varres_metadata";
inline constexpr const char* kVarresRefinements = "BAG_root/varres_refinements";

// The refinements on cells as fine as the finest of them, in whole numbers to each cell of the overview, whose frame is
// `overview`: nodes as they are where they are as fine, else bilinear between the nodes of one refinement. Planes
// `metadata` and `refinements` of the file are open. Heights with their uncertainty. BadFile where refinements point
// outside the file; TooLarge for more than kMostRefined cells of the overview.
inline constexpr std::int64_t kMostRefined = 8'000'000;
Grid open_refinements(std::shared_ptr<const Hdf5File> file, std::size_t metadata, std::size_t refinements,
                      const Frame& overview, const GridInfo& info);

// For the helper: reads what opening and reading will ask for. With the lock not held.
void look_through_refinements(const std::shared_ptr<const Hdf5File>& file, std::size_t metadata,
                              std::size_t refinements);

}  // namespace katoptra
