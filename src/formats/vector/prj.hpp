// What lies beside a vector file that cannot say its CRS: NAME.prj, with its text as WKT.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

// Whether this .prj tells the same horizontal system already, however it is written: then it serves as it is.
bool tells_crs(const std::filesystem::path& prj, const Crs& crs);
// Io when another .prj lies there, perhaps that of another file, and nothing may be replaced: asked before anything is
// written.
void require_prj(const std::filesystem::path& beside, const Crs& crs, bool overwrite);
LayerReport write_prj(const std::filesystem::path& beside, const Crs& crs);
// `otherwise` when there is none.
Crs read_prj(const std::filesystem::path& beside, const Crs& otherwise);

}  // namespace katoptra
