// The lineage beside a grid: NAME.lineage.tif with the origin codes and NAME.lineage.csv that explains them.
#pragma once
#include <filesystem>
#include <optional>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// The grid with the origin plane and sources of the files beside it; nullopt when there are none that fit.
std::optional<Grid> open_lineage_beside(const std::filesystem::path& path, const Grid& grid);
// One row for each code that can occur: code, source, how, survey, date, cell, treatment.
void write_lineage_table(const std::filesystem::path& path, const GridInfo& info, bool overwrite);

// Removes both files when they are there.
void remove_lineage_beside(const std::filesystem::path& path);

}  // namespace katoptra
