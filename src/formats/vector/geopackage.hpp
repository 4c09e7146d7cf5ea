#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {
Layer read_geopackage(const std::filesystem::path& path);
LayerReport write_geopackage(const Layer& layer, const std::filesystem::path& path, bool overwrite);
}  // namespace katoptra
