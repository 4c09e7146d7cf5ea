// Points in tables (CSV) and as lines of x, y, z. `otherwise`: the CRS of a file that does not name one.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

Layer read_table(const std::filesystem::path& path, const Crs& otherwise);
Layer read_soundings(const std::filesystem::path& path, const Crs& otherwise);
// A table when the first line names columns.
Layer read_table_or_soundings(const std::filesystem::path& path, const Crs& otherwise);
// Unsupported when there are features other than points.
LayerReport write_table(const Layer& layer, const std::filesystem::path& path, bool overwrite);
LayerReport write_soundings(const Layer& layer, const std::filesystem::path& path, bool overwrite);

}  // namespace katoptra
