// GeoJSON (RFC 7946): geometry from and into JSON, for files and for catalogues; layers from and into files.
#pragma once
#include <filesystem>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <string_view>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

// BadFile ("where: ...") when these are no lists of pairs of numbers, or rings of fewer than three corners.
Point position_of(const nlohmann::json& position, const std::string& where);
LineString line_of(const nlohmann::json& positions, const std::string& where);
// Polygons of a geometry, their rings closed; other geometries give none.
MultiPolygon polygons_of(const nlohmann::json& geometry, const std::string& where);
// A Polygon or MultiPolygon with all digits; outer rings run counter-clockwise, holes clockwise.
nlohmann::ordered_json geometry_json(const MultiPolygon& shape);

Layer read_geojson(const std::filesystem::path& path);
// The same of text; `name`: for errors.
Layer parse_geojson(std::string_view text, const std::string& name);
// Refused when the features have no CRS to come from: GeoJSON is in longitude and latitude.
LayerReport write_geojson(const Layer& layer, const std::filesystem::path& path, bool overwrite);
std::unique_ptr<LayerWriter> open_geojson_writer(const Layer& like, const std::filesystem::path& path, bool overwrite);

}  // namespace katoptra
