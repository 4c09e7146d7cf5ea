#pragma once
#include <filesystem>
#include <memory>

#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/feature.hpp"

namespace katoptra {

class Sql;

Layer read_geopackage(const std::filesystem::path& path);
LayerReport write_geopackage(const Layer& layer, const std::filesystem::path& path, bool overwrite);
std::unique_ptr<LayerWriter> open_geopackage_writer(const Layer& like, const std::filesystem::path& path,
                                                    bool overwrite);

// The tables that every GeoPackage has, with rows for WGS 84 and this CRS, and the number that the CRS has in them.
void create_geopackage(Sql& sql, const Crs& crs);
int geopackage_srs(const Crs& crs);
// The CRS of such a number; none where it is not there or says nothing.
Crs geopackage_crs(const Sql& sql, std::int64_t srs);
// A name as SQL takes it, whatever stands in it.
std::string sql_name(const std::string& name);

}  // namespace katoptra
