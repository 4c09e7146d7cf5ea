// DXF, release 12, as text: lines and outlines of areas as polylines with their heights, points as points, properties
// as extended data. What a drawing office opens.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

// Coordinates are those of the CRS, heights in the same unit. Refused for longitudes and latitudes.
LayerReport write_dxf(const Layer& layer, const std::filesystem::path& path, bool overwrite);
// POINT, LINE, POLYLINE and LWPOLYLINE in model space; closed ones are polygons. `otherwise`: the CRS where no .prj
// lies beside it.
Layer read_dxf(const std::filesystem::path& path, const Crs& otherwise);

}  // namespace katoptra
