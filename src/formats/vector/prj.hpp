// What lies beside a vector file that cannot say its CRS: NAME.prj, with its text as WKT.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

LayerReport write_prj(const std::filesystem::path& beside, const Crs& crs, bool overwrite);
// `otherwise` when there is none.
Crs read_prj(const std::filesystem::path& beside, const Crs& otherwise);

}  // namespace katoptra
