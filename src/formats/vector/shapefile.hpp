// Shapefiles: NAME.shp with NAME.shx, NAME.dbf, NAME.prj and NAME.cpg (UTF-8) beside it.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

// Features of one kind (points, lines or areas), points and lines with their heights where they have any. Names of
// properties are cut to ten letters, told apart by numbers, and the report says how. Unsupported for several kinds.
LayerReport write_shapefile(const Layer& layer, const std::filesystem::path& path, bool overwrite);
// `otherwise`: the CRS where no .prj lies beside it.
Layer read_shapefile(const std::filesystem::path& path, const Crs& otherwise);

}  // namespace katoptra
