// Sheets of one surface (study/sheets.hpp) as the whole that they are parts of, by their index.
#pragma once
#include <filesystem>

#include "katoptra/formats/grid_file.hpp"

namespace katoptra {

// BadFile when the index is none, or a sheet is not what it tells. Sheets are opened when they are read, and few are
// held open at a time.
GridFile open_sheets(const std::filesystem::path& index, const OpenOptions& options);

}  // namespace katoptra
