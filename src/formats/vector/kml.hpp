// KML 2.2 (OGC 07-147r2), plain or packed with nothing else as KMZ: WGS 84, heights in metres above the sea.
#pragma once
#include <filesystem>

#include "katoptra/formats/vector_file.hpp"

namespace katoptra {

// Each feature a placemark, its properties with their types. Refused without a CRS.
LayerReport write_kml(const Layer& layer, const std::filesystem::path& path, bool overwrite);
LayerReport write_kmz(const Layer& layer, const std::filesystem::path& path, bool overwrite);
// Placemarks of all folders: points, lines, areas; what else there is (pictures, links) is passed over. BadFile where
// there is none.
Layer read_kml(const std::filesystem::path& path);
// The first document of the archive.
Layer read_kmz(const std::filesystem::path& path);

}  // namespace katoptra
