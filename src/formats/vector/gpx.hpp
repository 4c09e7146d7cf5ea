// GPX 1.0 and 1.1: waypoints as points, routes and tracks as lines, elevations as heights. Always WGS 84.
#pragma once
#include <filesystem>
#include <string>
#include <string_view>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

// BadFile when it is not XML, holds no place, or a place is no longitude and latitude.
Layer read_gpx(const std::filesystem::path& path);
// Points as waypoints, lines as tracks, elevations in metres, properties that GPX has no place for as extensions.
// Unsupported for areas, Refused without a CRS.
LayerReport write_gpx(const Layer& layer, const std::filesystem::path& path, bool overwrite);
// The same of text; `name`: for errors.
Layer parse_gpx(std::string_view text, const std::string& name);

}  // namespace katoptra
